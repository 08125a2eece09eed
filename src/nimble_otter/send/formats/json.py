"""JSON (RFC 8259): one array of objects, or one object a line. Integers and decimals keep every digit."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from decimal import Decimal
from typing import Any, BinaryIO

import orjson

from nimble_otter.send.format import Option, Rows
from nimble_otter.stop import StopToken
from nimble_otter.table import MISSING
from nimble_otter.table.show import jsonable

_SURROGATES = re.compile("[\ud800-\udfff]")


class _Json:
    key = "json"
    word = "JSON"
    suffix = ".json"
    is_text = True
    options = (
        Option("layout", "Layout", "choice", "array", (("array", "one array"), ("lines", "one object a line"))),
        Option("missing", "Missing fields", "choice", "leave out", (("leave out", "leave out"), ("null", "null"))),
    )

    def write(self, rows: Rows, stream: BinaryIO, options: Mapping[str, Any], stop: StopToken) -> Iterator[int]:
        array = options["layout"] == "array"
        absent = options["missing"] == "null"
        names = rows.names
        stream.write(b"[\n" if array else b"")
        done = 0
        for batch in rows.batches(stop):
            parts = []
            for values in zip(*batch, strict=True):
                row = {n: _exact(v) for n, v in zip(names, values, strict=True) if absent or v is not MISSING}
                parts.append(_dump(row))
            if array:
                stream.write((b",\n" if done else b"") + b",\n".join(parts))
            else:
                stream.write(b"\n".join(parts) + b"\n")
            done += len(parts)
            yield done
        stream.write(b"\n]\n" if array else b"")
        yield done


def _exact(value: Any) -> Any:
    """Values that orjson would refuse or round, as fragments of their own; NaN and infinities become null."""
    if isinstance(value, Decimal):
        return orjson.Fragment(format(value, "f"))
    if type(value) is int and not -(1 << 63) <= value < 1 << 63:
        return orjson.Fragment(str(value))
    if type(value) is str and not value.isascii():
        return _SURROGATES.sub("\ufffd", value)
    if isinstance(value, dict):
        return {str(k): _exact(v) for k, v in value.items()}
    if isinstance(value, list):
        return [_exact(v) for v in value]
    return jsonable(value)


def _dump(row: dict[str, Any]) -> bytes:
    return orjson.dumps({_SURROGATES.sub("\ufffd", name): value for name, value in row.items()})


FORMAT = _Json()
