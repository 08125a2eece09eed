"""CSV after RFC 4180, column by column: an empty value is nothing between the delimiters, an empty text is \"\"."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any, BinaryIO

from nimble_otter.send.format import Option, Rows
from nimble_otter.stop import StopToken
from nimble_otter.table import MISSING, Kind
from nimble_otter.table.show import plain

_DELIMITERS = {"comma": ",", "semicolon": ";", "tab": "\t"}
_ENDS = {"CRLF": "\r\n", "LF": "\n"}


class _Csv:
    key = "csv"
    word = "CSV"
    suffix = ".csv"
    is_text = True
    options = (
        Option(
            "delimiter",
            "Delimiter",
            "choice",
            "comma",
            (("comma", "comma"), ("semicolon", "semicolon"), ("tab", "tab")),
        ),
        Option("header", "Header row", "yes/no", True),
        Option("empty", "Empty values", "text", ""),
        Option("line_end", "Line end", "choice", "CRLF", (("CRLF", "CR LF (RFC 4180)"), ("LF", "LF"))),
        Option("encoding", "Encoding", "choice", "utf-8", (("utf-8", "UTF-8"), ("utf-8-sig", "UTF-8 with mark"))),
    )

    def write(self, rows: Rows, stream: BinaryIO, options: Mapping[str, Any], stop: StopToken) -> Iterator[int]:
        delimiter, end = _DELIMITERS[options["delimiter"]], _ENDS[options["line_end"]]
        if options["encoding"] == "utf-8-sig":
            stream.write(b"\xef\xbb\xbf")

        def put(lines: list[str]) -> None:
            stream.write((end.join(lines) + end).encode("utf-8", "surrogateescape"))

        if options["header"]:
            put([delimiter.join(_quoted_all(rows.names, delimiter))])
        done = 0
        lonely = len(rows.columns) == 1
        for batch in rows.batches(stop):
            columns = []
            for field, values in zip(rows.fields, batch, strict=True):
                columns.append(_cells(values, field.kind, str(options["empty"]), delimiter))
            # a row of one empty value would be a blank line, which readers skip
            lines = list(map(delimiter.join, zip(*columns, strict=True)))
            put([line or '""' for line in lines] if lonely else lines)
            done += len(batch[0]) if batch else 0
            yield done
        yield done


def _cells(values: list[Any], kind: Kind, empty: str, delimiter: str) -> list[str]:
    if kind in (Kind.INT, Kind.FLOAT):
        return [empty if v is None or v is MISSING else repr(v) for v in values]
    texts = [empty if v is None or v is MISSING else (v if type(v) is str else plain(v)) for v in values]
    quoted = _quoted_all(texts, delimiter)
    if "" in texts or (empty and empty in texts):  # tell "no value" from a text that looks the same
        return [
            q if v is None or v is MISSING or (t not in ("", empty)) else f'"{t}"'
            for q, t, v in zip(quoted, texts, values, strict=True)
        ]
    return quoted


def _quoted_all(texts: list[str], delimiter: str) -> list[str]:
    """Quoted where RFC 4180 asks for it, and around leading or trailing blanks."""
    joined = "\0".join(texts)
    special = (delimiter, '"', "\n", "\r")
    if not any(mark in joined for mark in special) and "\0 " not in f"\0{joined}" and " \0" not in f"{joined}\0":
        return texts
    return ['"' + t.replace('"', '""') + '"' if any(m in t for m in special) or t != t.strip(" ") else t for t in texts]


FORMAT = _Csv()
