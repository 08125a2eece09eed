"""What a kind of server speaks and how it holds values. The base is what the standard says (ISO 9075); a driver's own
dialect says what is otherwise there. Nothing outside asks which server it is, only what it does.

Values are "as the source stores them": numbers, bytes, truth values, and everything else as the text that the server
itself writes. Comparing must never call two values equal that a person would call different: collations that ignore
case, trailing blanks, single precision and times are compared by what the server would write for them.
"""

from __future__ import annotations

import datetime as dt
import math
import re
from collections.abc import Callable, Mapping, Sequence
from decimal import Decimal
from typing import TYPE_CHECKING, Any, ClassVar

import numpy as np

from nimble_otter.errors import ValueRefused
from nimble_otter.sources.catalogue import ColumnInfo
from nimble_otter.table.core.columns import TEXT_BYTES, Column, Field, Kind, is_utf8
from nimble_otter.table.text.show import is_endless, plain
from nimble_otter.translation import tr
from nimble_otter.values import Value

if TYPE_CHECKING:
    from sqlalchemy import ColumnElement
    from sqlalchemy.engine import Dialect as Spoken

    Clause = ColumnElement[Any]

Floats = np.ndarray[Any, np.dtype[np.float64]]
BROKEN = re.compile("[\ud800-\udfff]")
NUMBERS = re.compile(r"INT|DEC|NUM|DOUBLE|YEAR|BOOL", re.I)
KEY_LENGTH = 255
"""Characters of a text that is part of a key where the server must know how many (MySQL protocol)."""
_SIZED_NUMBER = re.compile(r"(?:numeric|decimal)\((\d+)(?:, ?(\d+))?\)(?: unsigned)?", re.I)
_BITS = {"TINYINT": 8, "SMALLINT": 16, "INT2": 16, "MEDIUMINT": 24, "INTEGER": 32, "INT4": 32, "INT": 32}
"""Of whole numbers by their declared type; 64 for every other (SQL:2016 leaves it to the server: these are PostgreSQL's
and MariaDB's)."""


class Dialect:
    """One object for each kind of server, never changed. Attributes are what its subclasses say:

    names: `key` in files, `family` in options and texts of inserts, `keys` of all that read the same texts, `parser`
    that of the SQL parser ("" for its own middle way), `compiler` that of the package that compiles statements,
    `own_package` where ours for it is ("module:class"),
    `display_name` for people; `writes`: rows there can be changed and added; `has_channels`: it tells who listens;
    statements: `marker` stands for a value ({} is its number), `begin` opens a transaction, `script_head` a script;
    `lock_suffix` ends a SELECT that keeps others from its rows ("" where there is none); `savepoint`,
    `release_savepoint` and `rollback_to_savepoint` have the name in braces ("" where there is none); `returns_keys`
    (INSERT ... RETURNING), `tells_rows_beside` (a statement tells of rows that triggers changed),
    `takes_default_in_update`, `overrides_identity` (what an insert says to give a number that the server would give),
    `defining_commits` (CREATE TABLE ends the transaction, or has to), `takes_many_rows` (an INSERT does),
    `has_transactions`, `is_engine` (more than one machine works at a query), `makes_tables_of_queries` (CREATE
    TABLE AS), `adds_keys` (ALTER TABLE ADD PRIMARY KEY), `alters_what_has_no_room` (a value beyond its type is
    kept as another one, without an error);
    values: `is_loose` (declared types don't bind), `times_are_texts`, `has_lists`, `has_intervals`, `has_truth` (a type
    for yes and no), `has_endless` (NaN and infinity), `fraction_digits` (of a time whose type says none),
    `literal_digits` (of a time, that are read), `clocks_span_days`, `empties_are_null` (an empty text is NULL),
    `folds_texts` (texts that differ may be equal), `null_numbers_keys` (NULL in a numeric key means the next number),
    `bare_numeric_keeps_all` (NUMERIC without digits), `zones_are_kept`, `rounds_decimals_after` so many digits, `truth`
    (words for yes and no), `text_prefix` and
    `time_prefix` (what stands in front of the quotes of texts and of times);
    rows: `row_hash` gives 64 bits for some columns, the same on every server of the kind, to be added up;
    ordering: `text_order` is an expression that orders texts by code points, whatever their collation;
    searching: `text_type` that CAST knows, `casts_to_search`, `byte_length`, `regex_operator`, `word_edge`;
    routines: `passes_outputs` (CALL takes a place for OUT), `selects_from_functions`.
    """

    key: str = ""
    family: str = ""
    keys: tuple[str, ...] = ()
    display_name: str = ""
    parser: str = ""
    compiler: str = ""
    own_package: str = ""
    is_documents = False
    writes = False
    has_channels = False

    marker = "%s"
    comment = "--"
    script_suffix = ".sql"
    begin = "begin"
    script_head = "begin;"
    lock_suffix = " FOR UPDATE"
    savepoint = "savepoint {}"
    release_savepoint = "release savepoint {}"
    rollback_to_savepoint = "rollback to savepoint {}"
    returns_keys = True
    takes_many_rows = True
    has_transactions = True
    is_engine = False
    makes_tables_of_queries = False
    adds_keys = False
    alters_what_has_no_room = False
    tells_rows_beside = False
    takes_default_in_update = True
    overrides_identity = ""
    defining_commits = False

    is_loose = False
    times_are_texts = False
    has_lists = False
    has_intervals = False
    has_endless = False
    has_truth = False
    fraction_digits = 6
    literal_digits = 6
    clocks_span_days = False
    empties_are_null = False
    folds_texts = False
    null_numbers_keys = False
    bare_numeric_keeps_all = False
    zones_are_kept = True
    rounds_decimals_after: int | None = None
    truth = ("true", "false")
    negative_zero: str = "-0.0"
    text_prefix = b""
    time_prefix: ClassVar[Mapping[Kind, bytes]] = {}
    keeps_negative_zero = True

    types: ClassVar[Mapping[Kind, str]] = {
        Kind.INT: "bigint", Kind.FLOAT: "double precision", Kind.BOOL: "boolean", Kind.TIME: "timestamp",
        Kind.DATE: "date", Kind.DECIMAL: "numeric", Kind.TEXT: "text", Kind.ZONED: "timestamp with time zone",
        Kind.CLOCK: "time", Kind.SPAN: "interval", Kind.UUID: "char(36)",
    }  # fmt: skip
    bytes_type = "blob"
    nested_type = "text"
    kept_text_types: re.Pattern[str] | None = None

    text_type = "text"
    byte_length = "octet_length"
    regex_operator = "regexp"
    word_edge = r"\b"
    text_order = "{}"
    row_hash = ""
    casts_to_search = False
    passes_outputs = False
    selects_from_functions = False

    def __repr__(self) -> str:
        return f"<{self.key or 'any other dialect'}>"

    def spoken(self) -> type[Spoken]:
        """SQLAlchemy's class for it, which quotes names and compiles statements."""
        from sqlalchemy.dialects import registry

        if self.own_package:
            registry.register(self.compiler, *self.own_package.split(":"))
        return registry.load(self.family)  # type: ignore[no-any-return]

    # --- values given to the driver ------------------------------------------------------------------------------

    def check(self, value: object, name: str) -> Value:
        """The value, when the server can hold it at all. Raises: ValueRefused."""
        if isinstance(value, str) and BROKEN.search(value):
            raise ValueRefused(
                tr("{name} can't hold an incomplete character (a lone surrogate).", name=name),
                tr("Type the text again."),
            )
        if isinstance(value, float) and not math.isfinite(value) and not self.has_endless:
            raise ValueRefused(tr("{name} holds finite numbers.", name=name))
        return value

    def for_driver(self, value: object, info: ColumnInfo | None) -> Value:
        """A value as stored, as the driver's library takes it."""
        return value

    def parameter(self, value: object, between: str = "") -> Value:
        """A value of ours (not None) as the driver's library takes it; `between` stands between the items of a list
        that stays one. Raises: ValueRefused."""
        if is_endless(value) and not self.has_endless:  # it would become NULL
            raise ValueRefused(
                tr("A number is {value}, which the server can't hold.", value=value), tr("Filter such rows out.")
            )
        if isinstance(value, int) and not -(1 << 63) <= value < 1 << 63:
            return Decimal(value)
        # 24:00 is a time there
        return value if isinstance(value, (str, bytes, float, bool, int, dt.date, dt.time, Decimal)) else plain(value)

    def place(self, value: object, bound: object) -> Value:
        """The expression that stores a value; `bound` is its place."""
        return bound

    def equals(self, held: Clause, info: ColumnInfo | None, value: object, bound: object) -> Clause:
        """The condition that a column holds exactly this value; `bound` is its place."""
        from sqlalchemy import null

        return held.is_(null()) if value is None else self._equals(held, info, value, self.place(value, bound))

    def _equals(self, held: Clause, info: ColumnInfo | None, value: object, bound: object) -> Clause:
        return held == bound

    def exactly(self, held: Clause, info: ColumnInfo | None) -> Clause | None:
        """The expression that reads a column so that the value can be put back as it is; None where the plain one
        does."""
        return None

    def compares_here(self, info: ColumnInfo) -> bool:
        """Whether the server has no equality for a column's values, so that they are compared once they are read."""
        return False

    def joined(self, pieces: Sequence[str], start: int = 0) -> str:
        """A statement from the pieces of text around its values; `start` values stand before them."""
        marked = [self.mark(piece) for piece in pieces]
        if "{}" not in self.marker:
            return self.marker.join(marked)
        return marked[0] + "".join(self.marker.format(start + n) + part for n, part in enumerate(marked[1:], 1))

    def mark(self, text: str) -> str:
        """A text in which the driver looks for places of values, with its own signs in it."""
        return text.replace("%", "%%") if "%" in self.marker else text

    # --- literals ------------------------------------------------------------------------------------------------

    def literal(self, value: object, info: ColumnInfo | None) -> str:
        """A value as stored, as a script writes it, right under every setting of the server that changes how texts are
        read."""
        if value is None:
            return "NULL"
        declared = info.declared if info is not None else ""
        if isinstance(value, bool):
            return self._truth_literal(value)
        value = value if isinstance(value, float) else self.for_driver(value, info)
        if isinstance(value, bytes):
            return self.bytes_literal(value)
        if isinstance(value, float):
            return self._float_literal(value, declared)
        if isinstance(value, (int, Decimal)):
            return str(value)
        return self._stored_text(value, declared)

    def _truth_literal(self, value: bool) -> str:
        return self.truth[not value]

    def _stored_text(self, value: str, declared: str) -> str:
        return self.text_literal(value.encode(*TEXT_BYTES)).decode(*TEXT_BYTES)

    def _float_literal(self, value: float, declared: str) -> str:
        return self.endless_literal(value) if not math.isfinite(value) else repr(value)

    def endless_literal(self, value: float) -> str:
        """NaN or an infinity. Raises: ValueRefused, where there is none."""
        word = "NaN" if value != value else ("Infinity" if value > 0 else "-Infinity")
        raise ValueRefused(
            tr("{display_name} has no {word}.", display_name=self.display_name, word=word),
            tr("Filter such rows out, or change the format."),
        )

    def bytes_literal(self, value: bytes) -> str:
        """Bytes as a script writes them."""
        return f"x'{value.hex()}'"

    def text_literal(self, text: bytes) -> bytes:
        """A text by its bytes. Raises: ValueRefused, where the server can't hold it."""
        if not is_utf8(text):
            message = tr("A text holds bytes that are not UTF-8, which the server can't store.")
            raise ValueRefused(message, tr("Filter such rows out, or send them to a file."))
        return b"'" + text.replace(b"'", b"''") + b"'"

    def needs_care(self, block: bytes, texts: Sequence[bytes]) -> bool:
        """Whether one of many texts, joined in `block`, can't stand in quotes as it is."""
        return b"\\" in block or not is_utf8(block)

    def double_literals(self, texts: list[bytes], values: Floats) -> None:
        """Mend, in place, the shortest digits of doubles that the server would read as another number."""

    # --- columns -------------------------------------------------------------------------------------------------

    def bits(self, declared: str) -> int:
        """Of the whole numbers that a declared type holds."""
        return next((n for word, n in _BITS.items() if declared.startswith(word)), 64)

    def bounds(self, declared: str) -> tuple[int, int]:
        """The least and the largest whole number that a declared type holds."""
        bits = self.bits(declared)
        return (0, (1 << bits) - 1) if "UNSIGNED" in declared else (-(1 << (bits - 1)), (1 << (bits - 1)) - 1)

    def is_single(self, declared: str) -> bool:
        """Whether a declared type holds single precision (ISO 9075-2, 6.1; upper case)."""
        return re.match(r"REAL|FLOAT4|FLOAT(?!\((?:2[5-9]|[3-5]\d)\))", declared) is not None

    def own_type(self, exact: str, in_key: bool) -> str:
        """A type that a server of this kind wrote, for a new column there."""
        return exact or self.types[Kind.TEXT]  # a type of that database's own, which another may not have

    def text_column(self, in_key: bool) -> str:
        """The type of texts of any length."""
        return self.types[Kind.TEXT]

    def cast_type(self, there: ColumnInfo) -> str:
        """The type to which a value is cast to see whether a column has room for all of it; "" where the server itself
        refuses what it has not."""
        declared = there.exact or there.declared
        return "" if self.is_loose or there.word not in ("number", "time", "date") else declared

    def decimal_type(self, field: Field, column: Column | None) -> str:
        """The type of decimals; `column` are the first of them."""
        return "numeric"

    def mixed_type(self, field: Field, types: set[type]) -> str:
        """The type of a column with values of several `types`, none of them bytes. "" stands for any."""
        if types and types <= {int, float, Decimal}:
            return "numeric"
        return self.types[Kind.TEXT]

    def days(self, declared: str) -> tuple[dt.date, dt.date]:
        """The first and the last day that a declared type of dates or times holds."""
        return dt.date.min, dt.date.max

    def key_type(self, declared: str) -> str:
        """The type of a column of a new table's key."""
        return declared

    def table_end(self, keys: Sequence[str]) -> str:
        """What stands behind the columns of a new table with such a key."""
        return ""

    def list_mark(self, field: Field) -> str:
        """What stands between the items of a column of lists that stays one; "" where it does not."""
        return ""

    def drop_table(self, table: str) -> str:
        """The statement, with its end, that drops a table (quoted) where it is there."""
        return f"drop table if exists {table};\n"

    def insert_tail(self, mode: str, keys: Sequence[str], others: Sequence[str], quote: Callable[[str], str]) -> str:
        """What an insert says of rows whose key is there: `mode` is skip or update (SQL of PostgreSQL and SQLite)."""
        target = f" on conflict ({', '.join(map(quote, keys))}) do "
        if mode == "skip" or not others:
            return target + "nothing"
        return target + "update set " + ", ".join(f"{quote(n)} = excluded.{quote(n)}" for n in others)

    # --- searching -----------------------------------------------------------------------------------------------

    def contains(self, text: str, sought: str) -> str:
        """The condition that a text holds another one, letter by letter."""
        return f"instr({text}, {sought}) > 0"

    def contains_folded(self, text: str, sought: str) -> str:
        """The condition that a text holds another one, whatever their case; `sought` is the place of what `folded`
        gives."""
        return f"lower({text}) like {sought} escape '!'"

    def folded(self, sought: str) -> str:
        """What is looked for whatever its case, as `contains_folded` takes it."""
        pattern = re.sub(r"([!%_])", r"!\1", sought.lower())
        return f"%{pattern}%"

    def regex(self, pattern: str, is_cased: bool) -> str:
        """A regular expression as the server's engine takes it."""
        return pattern if is_cased else f"(?i){pattern}"


def sized_number(field: Field) -> tuple[int, int] | None:
    """The digits of a decimal, and those behind its point, that its source declares, where MariaDB has them."""
    match = _SIZED_NUMBER.fullmatch(field.exact or field.declared)
    size, scale = (int(match[1]), int(match[2] or 0)) if match else (0, 0)
    return (size, scale) if 0 < size <= 65 and 0 <= scale <= min(30, size) else None
