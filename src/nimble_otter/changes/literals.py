"""How each dialect holds a value: given to the driver, compared with what is stored, and written in a script.

Values are "as the source stores them": numbers, bytes, truth values, and everything else as the text that the server
itself writes. Comparing must never call two values equal that a person would call different: collations that ignore
case, trailing blanks, single precision and times are compared by what the server would write for them.
"""

from __future__ import annotations

import datetime as dt
import math
import re
from decimal import Decimal
from typing import TYPE_CHECKING, Any

from nimble_otter.changes.edits import DEFAULT
from nimble_otter.errors import ValueRefused
from nimble_otter.sources.catalogue import ColumnInfo
from nimble_otter.sources.texts import postgresql_text
from nimble_otter.table.doubles import exact_literal, loses_precision
from nimble_otter.table.show import plain

if TYPE_CHECKING:
    from sqlalchemy import ColumnElement

MARIADB = ("mariadb", "mysql")
_CONTROL = re.compile("[\x00-\x08\x0b-\x1f\x7f]")
_BROKEN = re.compile("[\ud800-\udfff]")
_OWN_EQUALITY = re.compile(
    r"(SMALLINT|INTEGER|BIGINT|INT\d|(SMALL|BIG)?SERIAL|NUMERIC|DECIMAL|REAL|DOUBLE|FLOAT|BOOL|TEXT|(N?VAR)?CHAR|UUID|"
    r"BYTEA|DATE$|TIME|INTERVAL|OID$|BIT)", re.I
)  # fmt: skip
"""PostgreSQL's types that are compared by the server's own equality; others have none, or one that takes different
values for equal: they are compared by their texts."""
_NUMBERS = re.compile(r"INT|DEC|NUM|DOUBLE|YEAR|BOOL", re.I)
_TEXTS = re.compile(r"CHAR|TEXT|ENUM|SET|JSON", re.I)
_BYTES = re.compile(r"BLOB|BINARY|BYTEA", re.I)


def check(value: Any, name: str, dialect: str) -> Any:
    """The value, when the server can hold it at all. Raises: ValueRefused."""
    if isinstance(value, str):
        if dialect == "postgresql" and "\x00" in value:
            raise ValueRefused(f"{name} can't hold the character NUL.", "PostgreSQL texts can't contain it.")
        if dialect != "sqlite" and _BROKEN.search(value):
            raise ValueRefused(f"{name} can't hold an incomplete character (a lone surrogate).", "Type the text again.")
    if dialect == "sqlite" and isinstance(value, int) and not -(1 << 63) <= value < 1 << 63:
        raise ValueRefused(f"{name} can't hold {value}: it is too large.", "It holds 64-bit integers.")
    if isinstance(value, float) and not math.isfinite(value) and dialect in MARIADB:
        raise ValueRefused(f"{name} holds finite numbers.")
    return value


def shape(value: Any) -> str:
    """What of a value decides the text of its statement."""
    if isinstance(value, str):
        return "broken" if _BROKEN.search(value) else "text"
    if value is DEFAULT:
        return "default"
    return "none" if value is None else ("bytes" if isinstance(value, bytes) else "plain")


def given(value: Any, bound: Any, dialect: str) -> Any:
    """The expression that stores a value; `bound` is its place."""
    from sqlalchemy import Text, cast

    return cast(bound, Text()) if dialect == "sqlite" and shape(value) == "broken" else bound


def same(held: ColumnElement[Any], info: ColumnInfo | None, value: Any, bound: Any, dialect: str) -> Any:
    """The condition that a column holds exactly this value."""
    from sqlalchemy import CHAR, cast, func, literal_column, null

    if value is None:
        return held.is_(null())
    declared = info.declared if info is not None else ""
    bound = given(value, bound, dialect)
    if dialect == "sqlite":
        folds = info is not None and info.folds and isinstance(value, str)
        return held == (bound.collate("binary") if folds else bound)
    if dialect == "postgresql":
        if is_list(declared):  # which may have no equality, and counts from where it likes
            kind: Any = literal_column(_list_type(declared))
            return func.to_jsonb(held) == func.to_jsonb(bound.op("::", precedence=20)(kind))
        if _OWN_EQUALITY.match(declared):
            return held == bound
        return func.format(literal_column("'%s'"), held) == bound  # as the server shows it; a cast may say more
    if isinstance(value, bytes) or declared.upper().startswith("BIT"):
        return held == bound
    if _TEXTS.search(declared):
        return held == bound.op("collate", precedence=20)(
            literal_column("utf8mb4_nopad_bin" if dialect == "mariadb" else "utf8mb4_bin")
        )
    if isinstance(value, float) and not _NUMBERS.search(declared):  # FLOAT holds less than it shows
        return cast(held, CHAR()).op("+")(literal_column("0e0")) == bound
    return (held if _NUMBERS.search(declared) else cast(held, CHAR())) == bound


def is_list(declared: str) -> bool:
    return declared.rstrip().endswith("[]")


def _list_type(declared: str) -> str:
    """A list's type as the server reads it; what is in it counts by its text where the type is not known here."""
    base = declared.rstrip().rstrip("[]")
    return f"{base}[]" if re.fullmatch(r"[\w ]+(\([\d, ]+\))?[\w ]*", base) and base.upper() != "NULL" else "text[]"


def exactly(held: Any, info: ColumnInfo | None, dialect: str) -> Any:
    """The expression that reads a column so that the value can be put back as it is; None where the plain one does."""
    from sqlalchemy import Text, cast, literal_column

    declared = info.declared if info is not None else ""
    if dialect == "postgresql" and is_list(declared):
        return cast(held, Text())
    if dialect in MARIADB and re.match(r"FLOAT", declared, re.I):
        return held.op("+")(literal_column("0e0"))
    return None


def for_driver(value: Any, info: ColumnInfo | None, dialect: str) -> Any:
    """The value as the driver's library takes it."""
    if dialect == "postgresql":
        if isinstance(value, list) and info is not None and info.declared.upper().startswith("BOX"):
            return postgresql_text(value, ";")  # the one type with another mark between (pg_type.typdelim)
        return value if value is None or isinstance(value, bytes) else postgresql_text(value)
    if isinstance(value, bool):
        return int(value)
    if isinstance(value, (dt.date, dt.time, dt.timedelta)):  # of a column that had no value, and so no form, before
        return plain(value)
    if dialect == "sqlite":
        if isinstance(value, str) and _BROKEN.search(value):
            return value.encode("utf-8", "surrogateescape")
        return str(value) if isinstance(value, Decimal) else value
    if isinstance(value, bytes) and info is not None and info.declared.upper().startswith("BIT"):
        return int.from_bytes(value)
    return value


def literal(value: Any, info: ColumnInfo | None, dialect: str) -> str:
    """The value as a script writes it, right under every setting of the server that changes how texts are read."""
    if value is None:
        return "NULL"
    value = for_driver(value, info, dialect) if not isinstance(value, (float, bool)) else value
    declared = info.declared if info is not None else ""
    if isinstance(value, bool):
        return str(value).lower() if dialect == "postgresql" else str(int(value))
    if isinstance(value, bytes):
        return f"E'\\\\x{value.hex()}'" if dialect == "postgresql" else f"X'{value.hex()}'"
    if isinstance(value, float):
        return _float(value, declared, dialect)
    if isinstance(value, (int, Decimal)):
        return str(value)
    if dialect == "postgresql" and _NUMBERS.search(declared) and re.fullmatch(r"-?\d+(\.\d+)?", value):
        return str(value)
    quoted = value.replace("'", "''")
    if dialect == "postgresql":
        return f" E'{quoted.replace(chr(92), chr(92) * 2)}'".lstrip() if "\\" in value else f"'{quoted}'"
    if dialect == "sqlite":
        return f"CAST(X'{value.encode().hex()}' AS TEXT)" if "\x00" in value else f"'{quoted}'"
    if "\\" in value or _CONTROL.search(value):  # what a backslash means is a setting there
        return f"CONVERT(X'{value.encode().hex()}' USING utf8mb4)"
    return f"'{quoted}'"


def _float(value: float, declared: str, dialect: str) -> str:
    if not math.isfinite(value):
        if dialect == "sqlite":
            return "9e999" if value > 0 else "-9e999"
        return f"'{postgresql_text(value)}'"
    if dialect == "sqlite" and loses_precision([repr(value)], [value]):
        return exact_literal(value)
    if dialect == "postgresql" and not _NUMBERS.search(declared):
        return f"'{value!r}'"  # REAL is not compared with what a longer number rounds to
    return repr(value)


def is_binary(info: ColumnInfo) -> bool:
    """Whether a column holds bytes."""
    return bool(_BYTES.search(info.declared)) or info.word == "binary"
