"""JSON (RFC 8259): one array of objects, or of lists of values."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path

import orjson

from nimble_otter.send.format import Output, Rows
from nimble_otter.send.json_texts import OPTIONS, json_blocks


class _Json:
    key = "json"
    word = "JSON"
    suffix = ".json"
    place = 3
    is_text = True
    many = False
    changes = ()
    options = OPTIONS

    def write(self, rows: Rows, out: Output) -> Iterator[int]:
        write = out.stream.write
        write(b"[\n")
        done = 0
        if out.options["rows"] == "lists":
            write(orjson.dumps([name.encode("utf-8", "replace").decode() for name in rows.names]))
            done = 1
        for lines, whole, count in json_blocks(rows, out):
            if count:
                write(b",\n" if done else b"")
                write(b",\n".join(lines) if lines else whole[:-1].replace(b"\n", b",\n"))
                done += count
            yield done - (out.options["rows"] == "lists")
        write(b"\n]\n")
        yield done - (out.options["rows"] == "lists")

    def count(self, path: Path, out: Output) -> int:
        """Each row is a line; they are read one by one, as the whole would keep others waiting."""
        number = 0
        with path.open("rb") as stream:
            for line in stream:
                row = line.rstrip(b",\n")
                if row not in (b"[", b"]", b""):
                    _check(row)
                    number += 1
        return number - int(out.options["rows"] == "lists")


def _check(row: bytes) -> None:
    """Raises: ValueError for what is no JSON. Numbers beyond doubles are; orjson takes none."""
    try:
        orjson.loads(row)
    except orjson.JSONDecodeError:
        json.loads(row, parse_float=str, parse_int=str)


FORMAT = _Json()
