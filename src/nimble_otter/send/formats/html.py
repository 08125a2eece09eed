"""HTML: one clean page whose table is sorted by a click on its headers; it needs nothing from anywhere else."""

from __future__ import annotations

import base64
import html
import re
from collections.abc import Iterator
from pathlib import Path

from nimble_otter.errors import ConditionError
from nimble_otter.send.format import Attached, Option, Output, Rows
from nimble_otter.send.texts import (
    CHARTS,
    GUARD,
    SPELLING,
    Spelling,
    can_be_formula,
    guarded,
    joined,
    put_empty,
    spelled,
    spelling,
)
from nimble_otter.table import Column, Field
from nimble_otter.table.core.columns import TEXT_BYTES, is_utf8
from nimble_otter.translation import tr

_STYLE = """
body { font: 14px/1.45 system-ui, sans-serif; color: #1d2b2f; background: #fff; margin: 24px; }
h1 { font-size: 18px; font-weight: 600; margin: 0 0 12px; }
table { border-collapse: collapse; font-variant-numeric: tabular-nums; }
th { position: sticky; top: 0; background: #f4f2ec; text-align: left; font-weight: 600; cursor: pointer; }
th, td { padding: 3px 12px; border-bottom: 1px solid #d9d5c9; white-space: pre-wrap; vertical-align: top; }
th[aria-sort=ascending]::after { content: " \\2193"; } th[aria-sort=descending]::after { content: " \\2191"; }
th.n, td.n { text-align: right; } td.e { color: #98a19f; }
.chart { margin: 0 0 20px; } .chart img { max-width: 100%; background: #fff; }
th:focus-visible { outline: 2px solid #17636c; outline-offset: -2px; }
@media (prefers-color-scheme: dark) {
  body { color: #e7e5dc; background: #1c2827; } th { background: #16201f; } th, td { border-color: #2e3c3a; }
}
@media print { th { position: static; } }
"""
_SCRIPT = """
const body = document.querySelector("tbody"), heads = [...document.querySelectorAll("th")];
function sort(place) {
  const head = heads[place], up = head.getAttribute("aria-sort") !== "ascending", even = head.className === "n";
  const key = row => row.cells[place].textContent, empty = row => row.cells[place].className.includes("e");
  const rows = [...body.rows].sort((a, b) => {
    if (empty(a) || empty(b)) return empty(a) - empty(b);
    const order = even ? parseFloat(key(a).replace(",", ".")) - parseFloat(key(b).replace(",", "."))
                       : key(a).localeCompare(key(b));
    return up ? order : -order;
  });
  heads.forEach(h => h.removeAttribute("aria-sort"));
  head.setAttribute("aria-sort", up ? "ascending" : "descending");
  body.append(...rows);
}
heads.forEach((head, place) => {
  head.tabIndex = 0;
  head.addEventListener("click", () => sort(place));
  head.addEventListener("keydown", event => { if (event.key === "Enter") sort(place); });
});
"""
_NUMERIC = ' class="n"'
_ILLEGAL = re.compile(b"[\x00-\x08\x0b\x0c\x0e-\x1f]")


class _Html:
    key = "html"
    word = tr("HTML page")
    suffix = ".html"
    place = 8
    is_text = True
    many = False
    changes = ()
    options = (
        Option("title", tr("Title"), "text", "", hint=tr("the pull's name")),
        Option("empty", tr("Empty values"), "text", ""),
        Option("bare", tr("The table alone"), "yes/no", False),
        CHARTS,
        GUARD,
        *SPELLING,
    )

    def write(self, rows: Rows, out: Output) -> Iterator[int]:
        options, put, spell = out.options, out.stream.write, spelling(out)
        title = html.escape(str(options["title"]) or rows.table)
        if not options["bare"]:
            put(f'<!DOCTYPE html>\n<html lang="en">\n<head>\n<meta charset="utf-8">\n<title>{title}</title>'.encode())
            put(f"\n<style>{_STYLE}</style>\n</head>\n<body>\n<h1>{title}</h1>\n".encode())
            for chart in rows.charts if options["charts"] else ():
                put(_picture(chart, out))
        numeric = [field.is_number for field in rows.fields]
        heads = "".join(
            f"<th{_NUMERIC if n else ''}>{html.escape(name, quote=False)}</th>"
            for name, n in zip(rows.names, numeric, strict=True)
        )
        put(f"<table>\n<thead>\n<tr>{heads}</tr>\n</thead>\n<tbody>\n".encode("utf-8", "replace"))
        empty, done = html.escape(str(options["empty"])).encode(), 0
        for block in rows.blocks(out.stop):
            cells = []
            for field, column, is_number in zip(rows.fields, block, numeric, strict=True):
                start = b'<td class="n">' if is_number else b"<td>"
                texts = [start + text for text in _harmless(column, field, spell, out)]
                mark = b'<td class="n e">' if is_number else b'<td class="e">'
                cells.append(put_empty(texts, column, mark + empty))
            count = len(cells[0]) if cells else 0
            put(joined(cells, count, b"<tr>", b"</td>", b"</td></tr>\n"))
            done += count
            yield done
        put(b"</tbody>\n</table>\n")
        if not options["bare"]:
            put(f"<script>{_SCRIPT}</script>\n</body>\n</html>\n".encode())
        yield done

    def count(self, path: Path, out: Output) -> int:
        with path.open("rb") as stream:
            return sum(line.startswith(b"<tr><td") for line in stream)


def _picture(chart: Attached, out: Output) -> bytes:
    """A chart within the page; one that can't be drawn is left out, which is noted."""
    out.stop.check()
    try:
        data = base64.b64encode(chart.picture("svg")).decode()
    except ConditionError as problem:
        out.note(tr("the chart {chart_title} was left out: {problem}", chart_title=chart.title, problem=problem), 1)
        return b""
    text = html.escape(out.whole(chart.title))
    return f'<div class="chart"><img alt="{text}" src="data:image/svg+xml;base64,{data}"></div>\n'.encode()


def _harmless(column: Column, field: Field, spell: Spelling, out: Output) -> list[bytes]:
    """The text of each cell; before one that a spreadsheet would take for a formula an apostrophe stands, which only
    spreadsheets see."""
    plain = spelled(column, field, spell)
    texts = _escaped([out.whole(t.decode(*TEXT_BYTES)).encode() for t in plain] if _is_odd(plain) else plain)
    if not out.options["guard"] or not can_be_formula(column):
        return texts
    for index, (text, kept) in enumerate(zip(guarded(plain, out, column.empty), plain, strict=True)):
        if text is not kept:
            texts[index] = b"<span hidden>'</span>" + texts[index]
    return texts


def _escaped(texts: list[bytes]) -> list[bytes]:
    block = b"\0".join(texts)
    if block.count(b"\0") != len(texts) - 1 or _ILLEGAL.search(block.replace(b"\0", b"")) or not is_utf8(block):
        wrong = "\ufffd".encode()
        texts = [_ILLEGAL.sub(wrong, text).decode("utf-8", "replace").encode() for text in texts]
        block = b"\0".join(texts)
    if not any(mark in block for mark in (b"&", b"<", b">")):
        return texts
    return block.replace(b"&", b"&amp;").replace(b"<", b"&lt;").replace(b">", b"&gt;").split(b"\0") if texts else []


def _is_odd(texts: list[bytes]) -> bool:
    return not is_utf8(b"".join(texts))


FORMAT = _Html()
