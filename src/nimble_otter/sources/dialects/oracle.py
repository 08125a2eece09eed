"""Oracle Database (SQL language reference, 19c and later): empty texts are NULL, no BEGIN, literals have a limit."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence

from nimble_otter.errors import ValueRefused
from nimble_otter.sources.dialects.dialect import KEY_LENGTH, Dialect
from nimble_otter.sources.dialects.general import GeneralDialect
from nimble_otter.table.core.columns import Column, Field, Kind
from nimble_otter.table.text.show import plain
from nimble_otter.translation import tr
from nimble_otter.values import Value

_LONGEST_LITERAL = 4000
"""Bytes between the quotes of a text."""
_PIECE = 900
"""Letters of a piece of a longer one, whatever their bytes are."""


class _Oracle(GeneralDialect):
    key = family = compiler = parser = "oracle"
    keys = ("oracle",)
    display_name = "Oracle"
    marker = ":{}"
    begin = ""
    script_head = "set define off\nwhenever sqlerror exit failure rollback"
    savepoint, release_savepoint, rollback_to_savepoint = "savepoint {}", "", "rollback to savepoint {}"
    takes_many_rows = False
    empties_are_null = True
    truth = ("1", "0")
    fraction_digits = 6
    text_type, bytes_type, nested_type = "varchar2(4000)", "blob", "clob"
    byte_length = "lengthb"
    bytes_form = "hextoraw('{}')"
    time_prefix = {Kind.TIME: b"timestamp ", Kind.ZONED: b"timestamp ", Kind.DATE: b"date "}
    types = {
        Kind.INT: "number(19)", Kind.FLOAT: "binary_double", Kind.BOOL: "number(1)", Kind.TIME: "timestamp(6)",
        Kind.DATE: "date", Kind.DECIMAL: "number(38, 10)", Kind.TEXT: "clob", Kind.ZONED: "timestamp(6) with time zone",
        Kind.CLOCK: "varchar2(18)", Kind.SPAN: "varchar2(40)", Kind.UUID: "char(36)",
    }  # fmt: skip

    def check(self, value: object, name: str) -> Value:
        if value == "":
            raise ValueRefused(
                tr("{name} can't hold an empty text: Oracle stores it as NULL.", name=name), tr("Set NULL instead.")
            )
        return super().check(value, name)

    def parameter(self, value: object, between: str = "") -> Value:
        if value == "":
            raise ValueRefused(
                tr("A text is empty, which Oracle stores as NULL."), tr("Filter such rows out, or set NULL.")
            )
        given = super().parameter(value, between)
        return plain(given) if isinstance(given, dt.time) else given

    def _moment(self, value: dt.date | dt.time) -> str:
        if isinstance(value, dt.time):
            return f"'{plain(value)}'"
        word = "timestamp" if isinstance(value, dt.datetime) else "date"
        return f"{word} '{plain(value)}'"

    def _float_literal(self, value: float, declared: str) -> str:
        return f"{super()._float_literal(value, declared)}d"

    def bytes_literal(self, value: bytes) -> str:
        if len(value) * 2 > _LONGEST_LITERAL:
            message = f"{len(value)} bytes are more than a statement for Oracle can write out."
            raise ValueRefused(message, tr("Send the rows to the server itself, or leave the column out."))
        return super().bytes_literal(value)

    def needs_care(self, block: bytes, texts: Sequence[bytes]) -> bool:
        return super().needs_care(block, texts) or any(len(t) > _LONGEST_LITERAL for t in texts)

    def text_literal(self, text: bytes) -> bytes:
        whole = super().text_literal(text)
        if len(text) <= _LONGEST_LITERAL:
            return whole
        letters = text.decode()
        pieces = (letters[at : at + _PIECE].encode() for at in range(0, len(letters), _PIECE))
        return b" || ".join(b"to_clob(" + super(_Oracle, self).text_literal(piece) + b")" for piece in pieces)

    def text_column(self, in_key: bool) -> str:
        return f"varchar2({KEY_LENGTH} char)" if in_key else "clob"

    def decimal_type(self, field: Field, column: Column | None) -> str:
        return f"number(38, {max(column.scale if column else 4, 4)})"

    def drop_table(self, table: str) -> str:
        """See `Dialect.drop_table`: one that is not there is an error of number 942."""
        told = table.replace("'", "''")
        return (
            f"begin\n  execute immediate 'drop table {told}';\nexception\n  when others then\n"
            "    if sqlcode != -942 then raise; end if;\nend;\n/\n"
        )


ORACLE: Dialect = _Oracle()
