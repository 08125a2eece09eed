"""XML 1.0: one element a row, one a value, named by the columns; what is no name in XML becomes one with a note."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path

from nimble_otter.send.format import Option, Output, Rows
from nimble_otter.send.texts import SPELLING, put_empty, spelled, spelling, woven
from nimble_otter.translation import tr

_ILLEGAL = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\ud800-\udfff\ufffe\uffff]")
_NOT_IN_NAME = re.compile(r"[^\w.-]+")


class _Xml:
    key = "xml"
    word = "XML"
    suffix = ".xml"
    place = 11
    is_text = True
    many = False
    changes = ()
    options = (
        Option("root", tr("Outer element"), "text", "rows"),
        Option("row", tr("Element of a row"), "text", "row"),
        Option(
            "missing", tr("Empty values"), "choice", "leave out", (("leave out", tr("leave out")), ("nil", "xsi:nil"))
        ),
        *SPELLING,
    )

    def write(self, rows: Rows, out: Output) -> Iterator[int]:
        spell, put = spelling(out), out.stream.write
        root, row = _name(out.options["root"]).encode(), _name(out.options["row"]).encode()
        names = _names(rows.names, out)
        nil = out.options["missing"] == "nil"
        space = b' xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance"' if nil else b""
        put(b'<?xml version="1.0" encoding="UTF-8"?>\n<' + root + space + b">\n")
        done = 0
        for block in rows.blocks(out.stop):
            count = len(block[0]) if block else 0
            pieces: list[list[bytes] | bytes] = [b"<" + row + b">"]
            for name, field, column in zip(names, rows.fields, block, strict=True):
                texts = _escaped(spelled(column, field, spell), out)
                start, end = b"<" + name + b">", b"</" + name + b">"
                found = [start + text + end for text in texts]
                pieces.append(put_empty(found, column, b"<" + name + b' xsi:nil="true"/>' if nil else b"", b""))
            put(woven([*pieces, b"</" + row + b">\n"], count))
            done += count
            yield done
        put(b"</" + root + b">\n")
        yield done

    def count(self, path: Path, out: Output) -> int:
        from lxml import etree

        number = 0
        for _, row in etree.iterparse(str(path), tag=_name(out.options["row"]), resolve_entities=False, huge_tree=True):
            above = row.getparent()
            if above is not None and above.getparent() is None:  # a column may be called as rows are
                number += 1
                row.clear()
                while row.getprevious() is not None:
                    del above[0]
        return number


def _name(text: str) -> str:
    name = _NOT_IN_NAME.sub("_", text.strip()) or "value"
    return name if re.match(r"[^\W\d]", name) and not name.lower().startswith("xml") else f"_{name}"


def _names(names: list[str], out: Output) -> list[bytes]:
    texts: list[str] = []
    for name in names:
        text, number = _name(name), 1
        while text in texts:
            number += 1
            text = f"{_name(name)}_{number}"
        texts.append(text)
        out.note(tr("columns have another name, as theirs is not valid in XML"), text != name)
    return [name.encode() for name in texts]


def _escaped(texts: list[bytes], out: Output) -> list[bytes]:
    block = b"\x1f".join(texts)
    is_odd = block.count(b"\x1f") != len(texts) - 1 or not block.isascii()
    if is_odd or _ILLEGAL.search(block.replace(b"\x1f", b"").decode()):
        results = []
        for text in texts:
            decoded = text.decode("utf-8", "surrogateescape")
            clean = _ILLEGAL.sub("\ufffd", decoded)
            out.note(tr("texts with characters that XML can't hold have \ufffd there"), clean != decoded)
            results.append(clean.encode())
        texts, block = results, b"\x1f".join(results)
    if not any(mark in block for mark in (b"&", b"<", b">", b"\r")):
        return texts
    block = block.replace(b"&", b"&amp;").replace(b"<", b"&lt;").replace(b">", b"&gt;").replace(b"\r", b"&#13;")
    return block.split(b"\x1f") if texts else texts


FORMAT = _Xml()
