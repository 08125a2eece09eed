"""ClickHouse (documentation, "SQL Reference"): statements are done at once, keys allow any row twice and there are no
transactions; what a type has no room for is wrapped, cut or moved to its bounds without an error."""

from __future__ import annotations

import copy
import datetime as dt
import math
import re
from collections.abc import Sequence
from decimal import Decimal
from typing import TypeVar
from zoneinfo import ZoneInfo

from nimble_otter.errors import ValueRefused
from nimble_otter.sources.catalogue import ColumnInfo
from nimble_otter.sources.dialects.dialect import Dialect, Floats
from nimble_otter.sources.dialects.general import WrittenDialect
from nimble_otter.table.core.columns import Column, Field, Kind
from nimble_otter.translation import tr
from nimble_otter.values import Value

Day = TypeVar("Day", bound=dt.date)
_NESTED = re.compile(r"(?:Array|Tuple|Map|Nested|JSON|Variant|Dynamic|Object)\b")
_WHOLE = re.compile(r"(U)?Int(\d+)$", re.I)
_DAYS = {
    "DATE": (dt.date(1970, 1, 1), dt.date(2149, 6, 6)), "DATETIME": (dt.date(1970, 1, 1), dt.date(2106, 2, 6)),
}  # fmt: skip
_BOUND = ((float, "Float64"), (dt.date, "Date32"))
_FIRST, _LAST = dt.date(1900, 1, 1), dt.date(2299, 12, 31)
"""Days that each type of dates holds, whole ones; the wider two hold those of four centuries."""


class _Clickhouse(WrittenDialect):
    key = family = compiler = "clickhouse"
    parser = "clickhouse"
    own_package = "nimble_otter.sources.clickhouse_catalogue:ClickhouseDialect"
    keys = ("clickhouse",)
    display_name = "ClickHouse"
    has_truth = has_endless = alters_what_has_no_room = True
    types = {
        **Dialect.types, Kind.INT: "Nullable(Int64)", Kind.FLOAT: "Nullable(Float64)", Kind.BOOL: "Nullable(Bool)",
        Kind.DECIMAL: "Nullable(Decimal(76, 10))", Kind.TEXT: "Nullable(String)", Kind.DATE: "Nullable(Date32)",
        Kind.TIME: "Nullable(DateTime64(6))", Kind.ZONED: "Nullable(DateTime64(6, 'UTC'))",
        Kind.CLOCK: "Nullable(String)", Kind.SPAN: "Nullable(String)", Kind.UUID: "Nullable(UUID)",
    }  # fmt: skip
    bytes_type = nested_type = text_type = "Nullable(String)"
    byte_length = "length"
    casts_to_search = True
    most_digits = 76
    zone: str | None = None
    fraction_digits = 0

    # --- literals ------------------------------------------------------------------------------------------------

    def bytes_literal(self, value: bytes) -> str:
        return f"unhex('{value.hex()}')"

    def _float_literal(self, value: float, declared: str) -> str:
        return self.endless_literal(value) if not math.isfinite(value) else f"toFloat64('{value!r}')"

    def endless_literal(self, value: float) -> str:
        word = "nan" if math.isnan(value) else ("inf" if value > 0 else "-inf")
        return f"toFloat64('{word}')"

    def double_literals(self, texts: list[bytes], values: Floats) -> None:
        for place, value in enumerate(values.tolist()):
            if math.isfinite(value):
                texts[place] = f"toFloat64('{value!r}')".encode()

    def literal(self, value: object, info: ColumnInfo | None) -> str:
        if isinstance(value, Decimal) and value.is_finite():
            digits = max(0, -int(value.as_tuple().exponent))
            return f"toDecimal256('{value:f}', {digits})"  # a bare one is a double
        if isinstance(value, int) and not isinstance(value, bool) and not -(1 << 63) <= value < 1 << 63:
            return f"toInt256('{value}')"
        return super().literal(value, info)

    def _moment(self, value: dt.date | dt.time) -> str:
        if isinstance(value, dt.datetime):
            zone = "" if value.tzinfo is None else ", 'UTC'"
            utc = value.astimezone(dt.UTC).replace(tzinfo=None) if value.tzinfo is not None else value
            return f"toDateTime64('{self._held(utc).isoformat(' ')}', 6{zone})"
        return (
            f"toDate32('{self._held(value).isoformat()}')" if isinstance(value, dt.date) else f"'{value.isoformat()}'"
        )

    def _held(self, value: Day) -> Day:
        if not _FIRST <= dt.date(value.year, value.month, value.day) <= _LAST:
            raise ValueRefused(
                tr(
                    "ClickHouse has no {value}: it holds dates from {first} to {last}.",
                    value=value.isoformat(),
                    first=_FIRST,
                    last=_LAST,
                ),
                tr("Filter such rows out, or send them as texts."),
            )
        return value

    def in_zone(self, name: str) -> _Clickhouse:
        """The same for a server that takes times without a zone for those of its own."""
        made = copy.copy(self)
        made.zone = None if name in ("UTC", "Etc/UTC", "GMT") else name
        return made

    def parameter(self, value: object, between: str = "") -> Value:
        # written as a literal of its own kind, wherever it goes
        if isinstance(value, dt.datetime) and value.tzinfo is None and self.zone is not None:
            there = value.replace(tzinfo=ZoneInfo(self.zone))
            if there.astimezone(dt.UTC).astimezone(there.tzinfo).replace(tzinfo=None) != value:
                raise ValueRefused(
                    tr(
                        "{value} is skipped by the clocks of {zone}, in which the server keeps times.",
                        value=value.isoformat(" "),
                        zone=self.zone,
                    ),
                    tr("Give the column a zone (AT TIME ZONE), or filter such rows out."),
                )
        if isinstance(value, dt.date):
            return self._held(value)
        if isinstance(value, (int, dt.time)):
            return value
        return super().parameter(value, between)

    # --- parameters ----------------------------------------------------------------------------------------------

    def bound_type(self, value: object) -> str:
        """The type of a parameter's place."""
        if isinstance(value, bool):
            return "Bool"
        if isinstance(value, int):
            return "Int64" if -(1 << 63) <= value < 1 << 63 else "Int256"
        if isinstance(value, Decimal):
            return f"Decimal(76, {max(0, -int(value.as_tuple().exponent)) if value.is_finite() else 0})"
        if isinstance(value, dt.datetime):
            return "DateTime64(6)" if value.tzinfo is None else "DateTime64(6, 'UTC')"
        word = next((word for kind, word in _BOUND if isinstance(value, kind)), "String")
        return f"Nullable({word})" if value is None else word

    def bound(self, value: object) -> object:
        """A parameter's value as the client takes it."""
        if isinstance(value, dt.datetime):
            utc = value.astimezone(dt.UTC).replace(tzinfo=None) if value.tzinfo is not None else value
            return self._held(utc).isoformat(" ")
        if isinstance(value, dt.date):
            return self._held(value).isoformat()
        return value if value is None or isinstance(value, (bool, int, float, str)) else str(value)

    # --- columns -------------------------------------------------------------------------------------------------

    def is_single(self, declared: str) -> bool:
        return declared == "FLOAT32"

    def bits(self, declared: str) -> int:
        whole = _WHOLE.match(declared)
        return int(whole[2]) if whole else 64

    def bounds(self, declared: str) -> tuple[int, int]:
        whole, bits = _WHOLE.match(declared), self.bits(declared)
        return (0, (1 << bits) - 1) if whole and whole[1] else (-(1 << (bits - 1)), (1 << (bits - 1)) - 1)

    def days(self, declared: str) -> tuple[dt.date, dt.date]:
        word = re.match(r"\w+", declared)
        return _DAYS.get(word[0].upper() if word else "", (_FIRST, _LAST))

    def own_type(self, exact: str, in_key: bool) -> str:
        return exact if in_key or _NESTED.match(exact) else f"Nullable({exact})"

    def text_column(self, in_key: bool) -> str:
        return "String" if in_key else "Nullable(String)"

    def decimal_type(self, field: Field, column: Column | None) -> str:
        return f"Nullable(Decimal(76, {max(column.scale if column else 4, 4)}))"

    def mixed_type(self, field: Field, types: set[type]) -> str:
        return "Nullable(Float64)" if types and types <= {int, float} else "Nullable(String)"

    def key_type(self, declared: str) -> str:
        """A key's column is never NULL."""
        inside = re.fullmatch(r"Nullable\((.*)\)", declared)
        return inside[1] if inside else declared

    def table_end(self, keys: Sequence[str]) -> str:
        return "\nengine = MergeTree" + ("" if keys else "\norder by tuple()")

    def contains(self, text: str, sought: str) -> str:
        return f"position({text}, {sought}) > 0"

    def contains_folded(self, text: str, sought: str) -> str:
        return f"position(lowerUTF8({text}), {sought}) > 0"

    def folded(self, sought: str) -> str:
        return sought.lower()


CLICKHOUSE = _Clickhouse()
