"""JSON texts (RFC 8259) of columns, for the formats that hold JSON. Integers and decimals keep every digit."""

from __future__ import annotations

from collections.abc import Iterator
from decimal import Decimal
from typing import Any

import orjson

from nimble_otter.send.format import Option, Output, Rows
from nimble_otter.send.texts import BINARY, BINARY_NAME, bytes_writer, put_empty, woven
from nimble_otter.table import MISSING, Column, Kind
from nimble_otter.table.core.columns import BufferText, CodedText
from nimble_otter.table.text.column_texts import by_code, moments, numbers, spans, utf8
from nimble_otter.table.text.show import is_endless, jsonable
from nimble_otter.translation import tr
from nimble_otter.values import Value

OPTIONS = (
    Option("rows", tr("Rows as"), "choice", "objects", (("objects", "objects"), ("lists", tr("lists of values")))),
    Option("missing", tr("Missing fields"), "choice", "leave out", (("leave out", tr("leave out")), ("null", "null"))),
    Option(
        "numbers",
        tr("Large and exact numbers"),
        "choice",
        "numbers",
        (("numbers", tr("as numbers")), ("text", tr("as text"))),
    ),
    BINARY,
    BINARY_NAME,
)


def json_blocks(rows: Rows, out: Output) -> Iterator[tuple[list[bytes], bytes, int]]:
    """For each block of rows: (texts, the whole, count): either the texts of its rows or the whole of it with a line
    end behind each. Raises: Stopped."""
    as_lists = out.options["rows"] == "lists"
    leave_out = out.options["missing"] == "leave out" and not as_lists
    names = [_dump(out.whole(name)) for name in rows.names]
    writer = _Writer(out)
    for block in rows.blocks(out.stop):
        count = len(block[0]) if block else 0
        texts = [writer.texts(column) for column in block]
        if leave_out and any(column.missing is not None and column.missing.any() for column in block):
            absent = [None if c.missing is None else c.missing.tolist() for c in block]
            lines = []
            for row, values in enumerate(zip(*texts, strict=True)):
                parts = [
                    name + b":" + value
                    for name, value, gone in zip(names, values, absent, strict=True)
                    if gone is None or not gone[row]
                ]
                lines.append(b"{" + b",".join(parts) + b"}")
            yield lines, b"", count
            continue
        pieces: list[Any] = []
        for index, (name, column) in enumerate(zip(names, texts, strict=True)):
            lead = b"," if index else (b"[" if as_lists else b"{")
            pieces += [lead if as_lists else lead + name + b":", column]
        pieces.append(b"]\n" if as_lists else b"}\n")
        yield [], woven(pieces, count), count


class _Writer:
    def __init__(self, out: Output) -> None:
        self._bytes_as = bytes_writer(out.options)
        self._as_text = out.options["numbers"] == "text"
        self._out = out

    def texts(self, column: Column) -> list[bytes]:
        """The JSON text of each value; null where there is none."""
        pieces = self._quickly(column)
        if pieces is None:
            pieces = [_dump(self._exact(value)) for value in column.values()]
        return put_empty(pieces, column, b"null")

    def _quickly(self, column: Column) -> list[bytes] | None:
        kind = column.kind
        if kind.is_number:
            pieces = numbers(column)
            if pieces is None or not self._as_text or kind is Kind.FLOAT:
                return pieces
            if kind is Kind.INT and not ((column.data > 1 << 53) | (column.data < -(1 << 53))).any():
                return pieces
            return [b'"' + text + b'"' for text in pieces]
        if kind is Kind.BOOL:
            return by_code([b"false", b"true"], column.data)
        if kind.is_moment or kind is Kind.CLOCK:
            pieces = moments(column, b"T")
            return None if pieces is None else _in_quotes(pieces)
        if kind is Kind.SPAN:
            return _in_quotes(spans(column))
        if isinstance(column, CodedText):
            words = [_dump(self._out.whole(word)) for word in column.words] or [b'""']
            return by_code(words, column.data)
        if kind is Kind.UUID:
            return _in_quotes(utf8(column))
        if isinstance(column, BufferText):
            return self._quoted(utf8(column))
        return None

    def _quoted(self, texts: list[bytes]) -> list[bytes]:
        """Texts as JSON strings, written all at once where none could be taken for the mark between two."""
        if not texts:
            return []
        try:
            words = b"\0".join(texts).decode("utf-8").split("\0")
        except UnicodeDecodeError:
            words = []
        if len(words) != len(texts):
            return [_dump(self._out.whole(text.decode("utf-8", "surrogateescape"))) for text in texts]
        block = orjson.dumps(words)[1:-1]
        if b'\\",' in block:  # a text ends with a quote, or holds one before a comma
            return list(map(_dump, words))
        return _in_quotes(block[1:-1].split(b'","'))

    def _exact(self, value: object) -> Value:
        """Values that orjson would refuse or round, as fragments of their own; NaN and infinities become null."""
        if is_endless(value):
            self._out.note(tr("numbers that are NaN or infinite are null: JSON has none"))
            return None
        if isinstance(value, Decimal):
            text = format(value, "f")
            return text if self._as_text else orjson.Fragment(text)
        if type(value) is int and not -(1 << 63) <= value < 1 << 63:
            return str(value) if self._as_text else orjson.Fragment(str(value))
        if type(value) is str:
            return self._out.whole(value)
        if isinstance(value, bytes):
            return self._bytes_as(value)
        if isinstance(value, dict):
            return {self._out.whole(str(k)): self._exact(v) for k, v in value.items()}
        if isinstance(value, (list, tuple)):
            return [self._exact(v) for v in value]
        return None if value is None or value is MISSING else jsonable(value)


def _dump(value: object) -> bytes:
    return orjson.dumps(value)


def _in_quotes(texts: list[bytes]) -> list[bytes]:
    return (b'"' + b'"\0"'.join(texts) + b'"').split(b"\0") if texts else []
