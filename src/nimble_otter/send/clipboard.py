"""What a copy of cells puts on the clipboard: texts for every receiver, and a table for those that take HTML.

Blocks go one below the other in the order in which they were chosen. A text that a spreadsheet would run as a formula
is guarded as in a CSV file; numbers and dates are written for the receiving locale when that is set.
"""

from __future__ import annotations

import html
import io
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from nimble_otter.send.ddl import quoter
from nimble_otter.send.format import Option, Output, Rows
from nimble_otter.send.literals import Literals
from nimble_otter.send.send import format_for, send_text
from nimble_otter.send.texts import GUARD, Spelling, put_empty, spelled
from nimble_otter.sources.dialects import Dialect
from nimble_otter.sources.dialects.sqlite import SQLITE
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.translation import tr

FORMS = (
    ("cells", tr("Cells")),
    ("header", tr("Cells with header")),
    ("names", tr("Names of the columns")),
    ("list", tr("List of values for IN (…)")),
    ("csv", "CSV"),
    ("json", "JSON"),
    ("markdown", "Markdown"),
    ("sql", tr("SQL inserts")),
)
MOST_HTML_CELLS = 200_000
"""More cells go as text alone: a table of them would keep the receiver busy for minutes."""
OPTIONS = (
    Option("form", tr("Form"), "choice", "header", FORMS),
    Option("decimal", tr("Decimal mark"), "choice", "point", (("point", "point"), ("comma", "comma"))),
    Option("date", tr("Dates"), "text", "", hint="yyyy-MM-dd"),
    Option("time", tr("Times"), "text", "", hint="yyyy-MM-dd HH:mm:ss"),
    GUARD,
)


@dataclass(frozen=True, slots=True)
class Copied:
    """What goes on the clipboard; `html` is "" where there is none, `exact` what our own grid takes where `text` has
    guards against formulas."""

    text: str
    html: str
    cells: int
    exact: str = ""


def copied(
    blocks: Sequence[Rows],
    form: str = "cells",
    options: Mapping[str, object] | None = None,
    dialect: Dialect = SQLITE,
    stop: StopToken = NEVER,
) -> Copied:
    """The blocks in a form. `options` say the receiving locale: decimal, date, time, guard. Raises: SendError,
    Stopped."""
    given = {option.name: option.default for option in OPTIONS} | dict(options or {})
    locale = {name: given[name] for name in ("decimal", "date", "time")}
    cells = sum((rows.count or 0) * len(rows.fields) for rows in blocks)
    if form == "names":
        quote = quoter(dialect)
        names = [name for rows in blocks for name in rows.names]
        return Copied(", ".join(map(quote, dict.fromkeys(names))), "", len(names))
    if form == "list":
        return Copied(_list(blocks, dialect, stop), "", cells)
    if form in ("csv", "json", "markdown", "sql"):
        own = {**(locale if form in ("csv", "markdown") else {}), "line_end": "LF", "guard": given["guard"]}
        if form == "sql":
            own["dialect"] = dialect.family
        texts = [send_text(rows, format_for(form), own, stop) for rows in blocks]
        return Copied("\n".join(text.rstrip("\n") for text in texts), "", cells)
    own = {**locale, "delimiter": "tab", "line_end": "LF", "header": form == "header", "guard": given["guard"]}
    texts = [send_text(rows, format_for("csv"), own, stop) for rows in blocks]
    exact = ""
    if given["guard"] and any("'" in text for text in texts):
        exact = "".join(send_text(rows, format_for("csv"), {**own, "guard": False}, stop) for rows in blocks)
    spell = Spelling(given["decimal"] == "comma", given["date"], given["time"])
    page = _table(blocks, form == "header", spell, stop) if cells <= MOST_HTML_CELLS else ""
    return Copied("".join(texts).removesuffix("\n"), page, cells, exact.removesuffix("\n"))


def _list(blocks: Sequence[Rows], dialect: Dialect, stop: StopToken) -> str:
    """Every different value once, as the dialect writes it, in the order in which they come, without the empty ones."""
    writer, found = Literals(dialect, Output(io.BytesIO(), {}, stop)), dict[bytes, None]()
    for rows in blocks:
        for block in rows.blocks(stop):
            for field, column in zip(rows.fields, block, strict=True):
                found.update(dict.fromkeys(writer.of(field, column)))
    found.pop(b"null", None)
    return b", ".join(found).decode("utf-8", "surrogateescape")


def _table(blocks: Sequence[Rows], header: bool, spell: Spelling, stop: StopToken) -> str:
    parts = ['<meta charset="utf-8"><table>']
    for rows in blocks:
        if header:
            parts.append("<tr>" + "".join(f"<th>{html.escape(name)}</th>" for name in rows.names) + "</tr>")
        for block in rows.blocks(stop):
            columns = []
            for field, column in zip(rows.fields, block, strict=True):
                texts = put_empty(spelled(column, field, spell), column, b"")
                is_text = not field.kind.is_number
                columns.append([_cell(text.decode("utf-8", "replace"), is_text) for text in texts])
            parts += [f"<tr>{''.join(cells)}</tr>" for cells in zip(*columns, strict=True)]
    return "".join([*parts, "</table>"])


def _cell(text: str, is_text: bool) -> str:
    markup = html.escape(text, quote=False).replace("\n", "<br>")
    # what is text stays text in a spreadsheet, whatever it looks like
    is_odd = is_text and text[:1] in tuple("=+-@0")
    return f"<td style=\"mso-number-format:'\\@'\">{markup}</td>" if is_odd else f"<td>{markup}</td>"
