"""SQL literals of whole columns, in each dialect (ISO 9075-2, 5.3): they mean the same under every setting of the
server that changes how texts are read."""

from __future__ import annotations

import re
from decimal import Decimal
from typing import Any

import numpy as np

from nimble_otter.errors import SendError
from nimble_otter.send.ddl import DIALECTS, list_mark
from nimble_otter.send.format import Output
from nimble_otter.send.texts import by_code, even_times, moments, numbers, put_empty, utf8
from nimble_otter.sources.texts import postgresql_text
from nimble_otter.table import MISSING, Column, Field, Kind
from nimble_otter.table.columns import TEXT_BYTES, CodedText
from nimble_otter.table.doubles import exact_literal, loses_precision
from nimble_otter.table.show import plain
from nimble_otter.table.text_format import render

_CONTROL = re.compile(rb"[\x00-\x08\x0b-\x1f\x7f\\]")


class Literals:
    """Those of one delivery or copy."""

    def __init__(self, dialect: str, out: Output) -> None:
        self._dialect, self._out = dialect, out

    def of(self, field: Field, column: Column) -> list[bytes]:
        """The literal of each row of a column. Raises: SendError where the dialect has none."""
        return put_empty(self._quickly(field, column), column, b"null")

    def _quickly(self, field: Field, column: Column) -> list[bytes]:
        if between := list_mark(field, self._dialect):
            return [
                self._text(postgresql_text(v, between).encode(*TEXT_BYTES)) if isinstance(v, list)
                else self._literal(v, field.form) for v in column.values()
            ]  # fmt: skip
        found = numbers(column)
        if found is not None and column.kind is Kind.FLOAT:
            self._keep_signs(column, found)
        if found is not None and column.kind is Kind.FLOAT and self._dialect == "sqlite":
            values = column.data.tolist()
            long = [place for place, text in enumerate(found) if len(text) > 15]
            for place in loses_precision([found[p].decode() for p in long], [values[p] for p in long]):
                found[long[place]] = exact_literal(values[long[place]]).encode()
        if found is not None:
            return found
        if column.kind is Kind.BOOL:
            yes, no = (b"1", b"0") if self._dialect == "sqlite" else (b"true", b"false")
            return by_code([no, yes], column.data)
        if isinstance(column, CodedText):
            words = [self._text(word.encode(*TEXT_BYTES)) for word in column.words] or [b"null"]
            return by_code(words, column.data)
        if column.kind in (Kind.TEXT, Kind.UUID):
            return self._texts(utf8(column))
        if not (self._dialect == "sqlite" and field.form):
            if column.kind is Kind.ZONED and self._dialect == "mysql":
                self._out.note("times with a zone are written in UTC, which the server does not keep", len(column))
                column = Column(Kind.TIME, column.data, column.empty)
            texts = None if self._is_uneven(column) else moments(column)
            if texts is not None:
                return (b"'" + b"'\0'".join(texts) + b"'").split(b"\0") if texts else []
        is_even = self._dialect == "sqlite" and not field.form
        return [self._literal(v, field.form) for v in (even_times(column) if is_even else column.values())]

    def _keep_signs(self, column: Column, found: list[bytes]) -> None:
        """Zeros with a minus, which servers take for a whole or decimal one unless it is written so."""
        places = np.flatnonzero((column.data == 0) & np.signbit(column.data)).tolist()
        for place in places:
            found[place] = {"postgresql": b"'-0'", "mysql": b"-0e0"}.get(self._dialect, b"-0.0")
        if self._dialect == "sqlite":
            self._out.note("zeros with a minus are zeros there", len(places))

    def _is_uneven(self, column: Column) -> bool:
        has_clock = column.kind in (Kind.TIME, Kind.ZONED, Kind.CLOCK)
        return self._dialect == "sqlite" and has_clock and bool((column.data % 1_000_000).any())

    def _texts(self, texts: list[bytes]) -> list[bytes]:
        block = b"'\0'".join(texts)
        if not texts or block.count(b"\0") != len(texts) - 1 or b"\\" in block or not self._is_plain(block, texts):
            return list(map(self._text, texts))
        if b"'" in block.replace(b"'\0'", b""):
            texts = b"\0".join(texts).replace(b"'", b"''").split(b"\0")
            block = b"'\0'".join(texts)
        return (b"'" + block + b"'").split(b"\0")

    def _is_plain(self, block: bytes, texts: list[bytes]) -> bool:
        if self._dialect == "mysql" and any(map(_CONTROL.search, texts)):
            return False
        try:
            return block.isascii() or bool(block.decode())
        except UnicodeDecodeError:
            return False

    def _literal(self, value: Any, form: str) -> bytes:
        if value is None or value is MISSING:
            return b"null"
        if isinstance(value, bool):
            return str(int(value) if self._dialect == "sqlite" else value).lower().encode()
        if isinstance(value, int):
            return str(value).encode()
        if isinstance(value, float):
            return self._float(value).encode()
        if isinstance(value, Decimal):
            if self._dialect == "mysql" and value.is_finite() and int(value.as_tuple().exponent) < -30:
                self._out.note("decimals of more than 30 digits behind the point are rounded by the server")
            return format(value, "f").encode() if value.is_finite() else self._float(float(value)).encode()
        if isinstance(value, bytes):
            return f"'\\x{value.hex()}'".encode() if self._dialect == "postgresql" else f"x'{value.hex()}'".encode()
        return self._text(plain(render(value, form) if self._dialect == "sqlite" else value).encode(*TEXT_BYTES))

    def _float(self, value: float) -> str:
        if np.isfinite(value):
            return repr(value)
        word = "NaN" if value != value else ("Infinity" if value > 0 else "-Infinity")
        if self._dialect == "postgresql":
            return f"'{word}'"
        if self._dialect == "sqlite" and value == value:
            return "9e999" if value > 0 else "-9e999"
        raise SendError(
            f"{dict(DIALECTS)[self._dialect]} has no {word}.", "Filter such rows out, or change the format."
        )

    def _text(self, text: bytes) -> bytes:
        quoted = text.replace(b"'", b"''")
        if self._dialect == "sqlite":
            if b"\0" not in text and _is_utf8(text):
                return b"'" + quoted + b"'"
            return b"cast(x'" + text.hex().encode() + b"' as text)"
        if not _is_utf8(text):
            raise SendError("A text holds bytes that are not UTF-8, which the server can't store.", "Filter it out.")
        if self._dialect == "mysql":
            if _CONTROL.search(text):  # what a backslash means is a setting there
                return b"convert(x'" + text.hex().encode() + b"' using utf8mb4)"
            return b"'" + quoted + b"'"
        if b"\0" in text:
            raise SendError("PostgreSQL can't store a text with a NUL character.", "Filter such rows out.")
        return b"E'" + quoted.replace(b"\\", b"\\\\") + b"'" if b"\\" in text else b"'" + quoted + b"'"


def _is_utf8(text: bytes) -> bool:
    try:
        return text.isascii() or bool(text.decode())
    except UnicodeDecodeError:
        return False
