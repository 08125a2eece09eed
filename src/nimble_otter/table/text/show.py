"""Values as text: for the screen (short, thin-space groups) and plain (exact, for exports and the clipboard)."""

from __future__ import annotations

import datetime as dt
import json
import math
import re
from collections.abc import Mapping
from dataclasses import replace
from decimal import Decimal

from nimble_otter.table.core.columns import MISSING, Field, Kind
from nimble_otter.table.text.column_format import ColumnFormat, in_zone, number_text, time_text
from nimble_otter.table.text.text_format import span_text
from nimble_otter.translation import tr, trn
from nimble_otter.values import Value

THIN = "\u2009"
LONGEST = 1 << 16
"""Characters or bytes of a value that are fetched at first, where the rest can be fetched later."""
_NAMING = re.compile(
    r"(?i:year|(?:^|[_\W])(?:ids?|keys?|codes?|no|nr|zip|plz|postcode|phone|port|ean|isbn|gtin|oid|version)$)|[a-z]Id$"
)
"""Names of columns whose whole numbers name something."""
LONG = 300
"""Characters of a text that a cell shows; the whole is in Detail."""


def grouped(number: int) -> str:
    """A whole number with thin spaces between groups of three digits."""
    return f"{number:,}".replace(",", THIN)


def moment_words(moment: dt.datetime) -> str:
    """A moment as lists show it."""
    return tr("{moment:%a %d %b %H:%M}", moment=moment)


def rows_words(count: int, is_documents: bool = False) -> str:
    """So many rows, or documents."""
    if is_documents:
        return trn("{count} document", "{count} documents", count, count=grouped(count))
    return trn("{count} row", "{count} rows", count, count=grouped(count))


def shown(value: object, field: Field | None = None) -> str:  # noqa: C901 - a branch for each type
    """What a grid cell says. None, MISSING and "" have marks of their own and give "" here."""
    if value is None or value is MISSING:
        return ""
    if field is not None and field.look is not None:
        text = _looked(value, field, field.look)
        if text is not None:
            return text
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, int):
        return str(value) if field is not None and _is_number_of_things(field) else grouped(value)
    if isinstance(value, float):
        return shown_float(value)
    if isinstance(value, str):
        return " ".join(value[:LONG].split("\n")) if "\n" in value[:LONG] else value[:LONG]
    if isinstance(value, dt.datetime) and value.tzinfo is not None:
        return value.astimezone(dt.UTC).replace(tzinfo=None).isoformat(" ") + "Z"
    if isinstance(value, dt.datetime):
        minutes = field is not None and field.form.endswith("%H:%M")
        return value.isoformat(" ", "minutes" if minutes else "auto")
    if isinstance(value, bytes):
        return f"{grouped(len(value))} bytes" if len(value) != LONGEST + 1 else f"over {grouped(LONGEST)} bytes"
    if isinstance(value, Mapping):
        inner = ", ".join(f"{k} {shown(v) or '∅'}" for k, v in list(value.items())[:6])
        return f"{{ {len(value)} }} {inner}"[:LONG]
    if isinstance(value, list):
        return f"[ {len(value)} ] {_list_word(value)}"[:LONG]
    return plain(value)[:LONG]


def _looked(value: object, field: Field, look: ColumnFormat) -> str | None:
    """A value by the look of its column; None where that says nothing of it."""
    if isinstance(value, bool):
        return look.words[not value] if look.words else None
    if isinstance(value, (int, float, Decimal)):
        is_plain = look.decimals is None and look.groups is None and not look.style
        if is_plain or is_endless(value):
            return None
        groups = look.groups if look.groups is not None or look.style else not _is_number_of_things(field)
        return number_text(value, replace(look, groups=groups), THIN)
    if isinstance(value, dt.datetime) and (look.pattern or look.zone):
        value = in_zone(value, look.zone)
        return time_text(value, look.pattern) if look.pattern else value.isoformat(" ", "seconds")
    if isinstance(value, (dt.date, dt.time)) and look.pattern:
        return time_text(value, look.pattern)
    return None


def _is_number_of_things(field: Field) -> bool:
    """Whether whole numbers of a column are names rather than amounts: by its key, or by its own name."""
    return field.kind is Kind.INT and (field.is_key or _NAMING.search(field.name) is not None)


def _list_word(value: list[object]) -> str:
    if value and not any(isinstance(item, (Mapping, list)) for item in value):
        return ", ".join(shown(item) for item in value[:8])
    return "items" if len(value) != 1 else "item"


def shown_float(value: float) -> str:
    """The shortest digits that give the same number back, grouped before the point."""
    text = repr(value)
    whole, dot, rest = text.partition(".")
    if "e" in text or "n" in text or len(whole) < 4:
        return text
    return grouped(int(whole)) + dot + rest


def is_endless(value: object) -> bool:
    """Whether a value is NaN or an infinity (a decimal beyond what doubles hold is none)."""
    if isinstance(value, Decimal):
        return not value.is_finite()
    return isinstance(value, float) and not math.isfinite(value)


def plain(value: object) -> str:
    """The exact value as text: ISO 8601 times, full digits, JSON for nested values, hex for bytes; "" for none."""
    if value is None or value is MISSING:
        return ""
    if isinstance(value, str):
        return value
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, float):
        return repr(value)
    if isinstance(value, Decimal):
        return format(value, "f")
    if isinstance(value, dt.datetime):
        return value.isoformat(" ")
    if isinstance(value, (dt.date, dt.time)):
        return value.isoformat()
    if isinstance(value, dt.timedelta):
        return span_text(value)
    if isinstance(value, bytes):
        return value.hex()
    if isinstance(value, (Mapping, list, tuple)):
        return json.dumps(jsonable(value), ensure_ascii=False)
    return str(value)


def jsonable(value: object) -> Value:
    """A value that JSON can hold: times as ISO 8601 text, bytes as hex, NaN and infinities as text; else as is."""
    if isinstance(value, float) and is_endless(value):
        return "NaN" if value != value else "Infinity" if value > 0 else "-Infinity"
    if value is None or isinstance(value, (bool, int, float, str)):
        return value
    if isinstance(value, Mapping):
        return {str(k): jsonable(v) for k, v in value.items()}
    if isinstance(value, (list, tuple)):
        return [jsonable(v) for v in value]
    if isinstance(value, dt.datetime):
        return value.isoformat()
    return None if value is MISSING else plain(value)
