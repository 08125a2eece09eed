"""CSV and its relatives after RFC 4180, column by column: an empty value is nothing between the delimiters, an empty
text is \"\".

A text that a spreadsheet would run as a formula (it begins with = + - @, a tab or a line end) gets an apostrophe before
it unless told otherwise; texts that are plain numbers are left alone.
"""

from __future__ import annotations

import csv
import re
import shutil
import sys
from collections.abc import Iterator
from itertools import islice
from pathlib import Path

import numpy as np

from nimble_otter.errors import SendError
from nimble_otter.send.format import Option, Output, Rows
from nimble_otter.send.texts import GUARD, SPELLING, can_be_formula, guarded, joined, put_empty, spelled, spelling
from nimble_otter.table import Column
from nimble_otter.table.core.columns import TEXT_BYTES, CodedText
from nimble_otter.table.text.column_texts import by_code
from nimble_otter.translation import tr

_DELIMITERS = {"comma": b",", "semicolon": b";", "tab": b"\t", "pipe": b"|", "space": b" "}
_ENDS = {"CRLF": b"\r\n", "LF": b"\n", "CR": b"\r"}
_QUOTES = {"double": b'"', "single": b"'"}
_MARKS = {"utf-8-sig": b"\xef\xbb\xbf", "utf-16": b"\xff\xfe"}
_CODECS = {"utf-8-sig": "utf-8", "utf-16": "utf-16-le"}


class _Csv:
    key = "csv"
    word = "CSV"
    suffix = ".csv"
    place = 1
    is_text = True
    many = False
    changes = (("append", tr("add the rows below")),)
    options = (
        Option(
            "delimiter",
            tr("Delimiter"),
            "choice",
            "comma",
            tuple((name, name) for name in _DELIMITERS),
        ),
        Option("header", tr("Header row"), "yes/no", True),
        Option(
            "case",
            tr("Names in"),
            "choice",
            "as is",
            (("as is", tr("their own case")), ("lower", tr("lower case")), ("upper", tr("upper case"))),
            needs="header",
        ),
        Option("empty", tr("Empty values"), "text", "", hint=tr("leave blank")),
        GUARD,
        Option(
            "quote",
            tr("Quotes"),
            "choice",
            "needed",
            (("needed", tr("where needed")), ("text", tr("around texts")), ("all", tr("around all"))),
        ),
        Option(
            "quote_mark", tr("Quote mark"), "choice", "double", (("double", tr('double "')), ("single", tr("single '")))
        ),
        Option(
            "line_end",
            tr("Line end"),
            "choice",
            "CRLF",
            (("CRLF", tr("CR LF (RFC 4180)")), ("LF", "LF"), ("CR", "CR")),
        ),
        Option(
            "encoding",
            tr("Encoding"),
            "choice",
            "utf-8",
            (
                ("utf-8", "UTF-8"),
                ("utf-8-sig", tr("UTF-8 with mark")),
                ("utf-16", tr("UTF-16 with mark")),
                ("cp1252", tr("Windows-1252")),
                ("iso-8859-15", tr("ISO 8859-15")),
            ),
        ),
        *SPELLING,
    )

    def write(self, rows: Rows, out: Output) -> Iterator[int]:
        options, put = out.options, _Writer(out)
        names = [_cased(name, options["case"]).encode("utf-8", "surrogateescape") for name in rows.names]
        if out.existing is not None:
            _follow(out, names)
        elif options["encoding"] in _MARKS:
            out.stream.write(_MARKS[options["encoding"]])
        if options["header"] and out.existing is None:
            put.lines([[name] for name in put.names(names)], 1)
        done, spell = 0, spelling(out)
        for block in rows.blocks(out.stop):
            count = len(block[0]) if block else 0
            cells = [
                put.cells(column, [] if isinstance(column, CodedText) else spelled(column, field, spell))
                for field, column in zip(rows.fields, block, strict=True)
            ]
            put.lines(cells, count)
            done += count
            yield done
        yield done

    def count(self, path: Path, out: Output) -> int:
        csv.field_size_limit(sys.maxsize)
        with path.open(newline="", encoding=str(out.options["encoding"]), errors="surrogateescape") as stream:
            lines = csv.reader(
                stream,
                delimiter=_DELIMITERS[out.options["delimiter"]].decode(),
                quotechar=_QUOTES[out.options["quote_mark"]].decode(),
                strict=True,
            )
            try:
                number = 0
                while count := sum(1 for _ in islice(lines, _AT_ONCE)):
                    out.stop.check()
                    number += count
                return number - bool(out.options["header"])
            except csv.Error as problem:
                raise SendError(
                    tr("The file can't be read back: {problem}.", problem=problem), tr("Nothing was kept.")
                ) from problem


_AT_ONCE = 1000
"""Rows read back between two looks at the stop token."""


class _Writer:
    """Quoting and encoding by the options of one delivery."""

    def __init__(self, out: Output) -> None:
        options = out.options
        self._out, self._stream = out, out.stream
        self.empty = str(options["empty"]).encode()
        self._between, self._end = _DELIMITERS[options["delimiter"]], _ENDS[options["line_end"]]
        self._mark, self._rule = _QUOTES[options["quote_mark"]], options["quote"]
        self._guard, self._encoding = options["guard"], options["encoding"]
        self._codec = _CODECS.get(self._encoding, self._encoding)
        self._special = (self._between, self._mark, b"\n", b"\r")
        self._needs = re.compile(b"[%s\n\r]|^ | \\Z" % re.escape(self._between + self._mark))
        if any(mark in self.empty for mark in self._special):
            raise SendError(tr("What stands for an empty value can't hold the delimiter, a quote or a line end."))

    def names(self, names: list[bytes]) -> list[bytes]:
        return self.quoted(list(names), True)

    def lines(self, columns: list[list[bytes]], count: int) -> None:
        if len(columns) == 1:  # a row of one empty value would be a blank line, which readers skip
            columns = [[text or self._mark * 2 for text in columns[0]]]
        data = joined(columns, count, b"", self._between, self._end)
        if self._codec != "utf-8":
            try:
                data = data.decode("utf-8", "surrogateescape").encode(self._codec)
            except UnicodeEncodeError as problem:
                raise SendError(
                    tr(
                        "{encoding} has no character {character!r}, which a value holds.",
                        encoding=self._encoding,
                        character=problem.object[problem.start],
                    ),
                    tr("Choose UTF-8, or hide that column."),
                ) from problem
        self._stream.write(data)

    def cells(self, column: Column, texts: list[bytes]) -> list[bytes]:
        """A column's cells as they stand in the file, with what stands for no value."""
        is_text = can_be_formula(column)
        if not isinstance(column, CodedText):
            return put_empty(self.quoted(texts, is_text, column.empty), column, self.empty)
        words = [word.encode(*TEXT_BYTES) for word in column.words] or [b""]
        times = np.bincount(column.data if column.empty is None else column.data[~column.empty], minlength=len(words))
        pieces = self.quoted(words, True, None, times)
        return put_empty(by_code(pieces, column.data), column, self.empty)

    def quoted(self, texts: list[bytes], is_text: bool, empty: object = None, times: object = None) -> list[bytes]:
        """Cells as they stand in the file; what is at places that are `empty` does not matter. `times` is how often
        each stands there."""
        if is_text and self._guard:
            texts = guarded(texts, self._out, empty, times)
        block, mark = b"\0".join(texts), self._mark
        if self._rule == "all" or (self._rule == "text" and is_text):
            if mark in block:
                return [mark + text.replace(mark, mark + mark) + mark for text in texts]
            return [mark + text + mark for text in texts]
        pieces = [part for part in self._special if part in block]
        has_blanks = is_text and (b"\0 " in block or b" \0" in block or block[:1] == b" " or block[-1:] == b" ")
        if len(pieces) == 1 and pieces != [mark] and not has_blanks:
            (part,) = pieces
            texts = [mark + t + mark if part in t else t for t in texts]
        elif pieces or has_blanks:
            needs, double = self._needs.search, mark + mark
            texts = [mark + t.replace(mark, double) + mark if needs(t) else t for t in texts]
        if is_text:  # tell "no value" from a text that looks the same
            alike = {b"", self.empty}
            if not alike.isdisjoint(texts):
                texts = [mark + t + mark if t in alike else t for t in texts]
        return texts


def _cased(name: str, case: str) -> str:
    return name.lower() if case == "lower" else name.upper() if case == "upper" else name


def _follow(out: Output, names: list[bytes]) -> None:
    """Copy what is there, so that rows come below it. Raises: SendError where its columns are others."""
    assert out.existing is not None
    options, put = out.options, _DELIMITERS[out.options["delimiter"]].decode()
    if not out.existing.stat().st_size:
        return
    with out.existing.open(newline="", encoding=options["encoding"], errors="surrogateescape") as stream:
        first = next(csv.reader(stream, delimiter=put, quotechar=_QUOTES[options["quote_mark"]].decode()), [])
    wanted = [name.decode("utf-8", "surrogateescape") for name in names]
    if first != wanted if options["header"] else len(first) != len(wanted):
        raise SendError(
            tr(
                "{existing_name} has other columns: {first}.",
                existing_name=out.existing.name,
                first=", ".join(first[:12]),
            ),
            tr("Choose the same columns in the same order, or replace the file."),
        )
    with out.existing.open("rb") as old:
        shutil.copyfileobj(old, out.stream, 1 << 20)
    end = _ENDS[options["line_end"]].decode().encode(_CODECS.get(options["encoding"], options["encoding"]))
    with out.existing.open("rb") as old:
        old.seek(-min(len(end), old.seek(0, 2)), 2)
        if old.read() != end:
            out.stream.write(end)


FORMAT = _Csv()
