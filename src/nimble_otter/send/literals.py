"""SQL literals of whole columns, in each dialect (ISO 9075-2, 5.3): they mean the same under every setting of the
server that changes how texts are read."""

from __future__ import annotations

import re
from decimal import Decimal

import numpy as np

from nimble_otter.errors import SendError, ValueRefused
from nimble_otter.send.format import Output
from nimble_otter.send.texts import even_times, put_empty
from nimble_otter.sources.dialects import Dialect
from nimble_otter.table import MISSING, Column, Field, Kind
from nimble_otter.table.core.columns import TEXT_BYTES, CodedText
from nimble_otter.table.text.column_texts import by_code, moments, numbers, spans, utf8
from nimble_otter.table.text.show import is_endless, plain
from nimble_otter.table.text.text_format import render
from nimble_otter.translation import tr

_DIGITS = 6
"""Of a second, that times here have."""


class Literals:
    """Those of one delivery or copy."""

    def __init__(self, dialect: Dialect, out: Output) -> None:
        self._dialect, self._out = dialect, out

    def of(self, field: Field, column: Column) -> list[bytes]:
        """The literal of each row of a column. Raises: SendError where the dialect has none."""
        try:
            return put_empty(self._quickly(field, column), column, b"null")
        except ValueRefused as refused:
            raise SendError(refused.message, refused.hint) from refused

    def _quickly(self, field: Field, column: Column) -> list[bytes]:
        dialect = self._dialect
        if between := dialect.list_mark(field):
            return [
                dialect.text_literal(str(dialect.parameter(v, between)).encode(*TEXT_BYTES)) if isinstance(v, list)
                else self._literal(v, field.form) for v in column.values()
            ]  # fmt: skip
        pieces = numbers(column)
        if pieces is not None and column.kind is Kind.FLOAT:
            self._keep_signs(column, pieces)
            dialect.double_literals(pieces, column.data)
        if pieces is not None:
            return pieces
        if column.kind is Kind.BOOL:
            yes, no = dialect.truth
            return by_code([no.encode(), yes.encode()], column.data)
        if dialect.empties_are_null and column.kind is Kind.TEXT:
            self._note_empty(column)
        if isinstance(column, CodedText):
            words = [dialect.text_literal(word.encode(*TEXT_BYTES)) for word in column.words] or [b"null"]
            return by_code(words, column.data)
        if column.kind in (Kind.TEXT, Kind.UUID):
            return self._texts(utf8(column))
        if not (dialect.times_are_texts and field.form):
            if column.kind is Kind.ZONED and not dialect.zones_are_kept:
                self._out.note(tr("times with a zone are written in UTC, which the server does not keep"), len(column))
                column = Column(Kind.TIME, column.data, column.empty)
            uneven = self._is_uneven(column)
            texts = spans(column) if column.kind is Kind.SPAN else None if uneven else moments(column)
            if texts is not None:
                lead = dialect.time_prefix.get(column.kind, b"") + b"'"
                block = lead + (b"'\0" + lead).join(texts) + b"'"
                if dialect.literal_digits < _DIGITS:
                    block = self._with_fewer_digits(block, column)
                return block.split(b"\0") if texts else []
        is_even = dialect.times_are_texts and not field.form
        return [self._literal(v, field.form) for v in (even_times(column) if is_even else column.values())]

    def _keep_signs(self, column: Column, found: list[bytes]) -> None:
        """Zeros with a minus, which servers take for a whole or decimal one unless it is written so."""
        places = np.flatnonzero((column.data == 0) & np.signbit(column.data)).tolist()
        for index in places:
            found[index] = self._dialect.negative_zero.encode()
        if not self._dialect.keeps_negative_zero:
            self._out.note(tr("zeros with a minus are zeros there"), len(places))

    def _with_fewer_digits(self, block: bytes, column: Column) -> bytes:
        """Times without the digits that the server does not read."""
        kept = self._dialect.literal_digits
        lost = int(np.count_nonzero(column.data % 10 ** (_DIGITS - kept))) if column.kind is not Kind.DATE else 0
        self._out.note(
            tr(
                "times are cut to {kept} digits of a second, as {display_name} keeps them",
                kept=kept,
                display_name=self._dialect.display_name,
            ),
            lost,
        )
        return re.sub(rb"(\.\d{%d})\d+" % kept, rb"\1", block)

    def _note_empty(self, column: Column) -> None:
        texts = utf8(column)
        number = texts.count(b"") - (0 if column.empty is None else int(column.empty.sum()))
        self._out.note(tr("empty texts are NULL in {display_name}", display_name=self._dialect.display_name), number)

    def _is_uneven(self, column: Column) -> bool:
        has_clock = column.kind in (Kind.TIME, Kind.ZONED, Kind.CLOCK)
        return self._dialect.times_are_texts and has_clock and bool((column.data % 1_000_000).any())

    def _texts(self, texts: list[bytes]) -> list[bytes]:
        block = b"'\0'".join(texts)
        if not texts or block.count(b"\0") != len(texts) - 1 or self._dialect.needs_care(block, texts):
            return list(map(self._dialect.text_literal, texts))
        if b"'" in block.replace(b"'\0'", b""):
            texts = b"\0".join(texts).replace(b"'", b"''").split(b"\0")
            block = b"'\0'".join(texts)
        if lead := self._dialect.text_prefix:
            block = block.replace(b"\0", b"\0" + lead)
        return (lead + b"'" + block + b"'").split(b"\0")

    def _literal(self, value: object, form: str) -> bytes:
        dialect = self._dialect
        if value is None or value is MISSING:
            return b"null"
        if isinstance(value, bool):
            return dialect.truth[not value].encode()
        if isinstance(value, int):
            return str(value).encode()
        if isinstance(value, (float, Decimal)) and is_endless(value):
            return dialect.endless_literal(float(value)).encode()
        if isinstance(value, float):
            return repr(value).encode()
        if isinstance(value, Decimal):
            most = dialect.rounds_decimals_after
            if most is not None and int(value.as_tuple().exponent) < -most:
                self._out.note(
                    tr("decimals of more than {most} digits behind the point are rounded by the server", most=most)
                )
            return format(value, "f").encode()
        if isinstance(value, bytes):
            return dialect.bytes_literal(value).encode()
        return dialect.text_literal(
            plain(render(value, form) if dialect.times_are_texts else value).encode(*TEXT_BYTES)
        )
