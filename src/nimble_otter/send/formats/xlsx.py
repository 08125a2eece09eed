"""XLSX workbooks (ECMA-376): the sheet's part is a stream of our own, written as rows come, whatever their number.

Into a new file, or into one that is there: a sheet of its own, over the cells from a first one on, or below what a
sheet holds. See `workbook.py` for the package around the sheets and `cells.py` for what becomes of a value.
"""

from __future__ import annotations

import re
import zipfile
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from dataclasses import field as made_by
from pathlib import Path
from xml.sax.saxutils import quoteattr

import numpy as np

from nimble_otter.errors import SendError
from nimble_otter.send.cells import Cells, header_cell, letters, place_of
from nimble_otter.send.chart_sheet import Area, put_charts
from nimble_otter.send.format import Option, Output, Rows
from nimble_otter.send.kept_sheet import KeptSheet, follow_rows, in_table, ref_of, tables_of
from nimble_otter.send.pictures import put_pictures, row_heights
from nimble_otter.send.sheet_merge import Merge
from nimble_otter.send.texts import BINARY_NAME, CHARTS, woven
from nimble_otter.send.workbook import HEAD, MAIN, OFFICE, SHEET_ML, Book, odd_book, parse, sheet_name, tag
from nimble_otter.table import Column, Kind
from nimble_otter.table.core.columns import BufferText, CodedText
from nimble_otter.translation import tr
from nimble_otter.values import Value

MOST_ROWS, MOST_COLUMNS, MOST_LINKS = 1_048_576, 16_384, 65_530
_ROW = re.compile(rb"<(?:\w+:)?row[ >/]")


class _Xlsx:
    key = "xlsx"
    word = tr("XLSX workbook")
    suffix = ".xlsx"
    place = 2
    is_text = False
    many = True
    changes = (
        ("within", tr("replace this sheet only")),
        ("over", tr("write over the cells")),
        ("append", tr("add the rows below")),
    )
    options = (
        Option("sheet", tr("Sheet"), "text", "Rows"),
        Option("first", tr("First cell"), "text", "A1"),
        Option("header", tr("Header row"), "yes/no", True),
        Option(
            "case", tr("Names in"), "choice", "as is",
            (("as is", tr("their own case")), ("lower", tr("lower case")), ("upper", tr("upper case"))), needs="header",
        ),
        Option("freeze", tr("Freeze the header"), "yes/no", True, needs="header"),
        Option("buttons", tr("Filter buttons"), "yes/no", False, needs="header"),
        Option("as_table", tr("As a table with a name"), "text", "", needs="header", hint=tr("no table")),
        Option("date", tr("Dates"), "text", "", hint="yyyy-MM-dd"),
        Option("time", tr("Times"), "text", "", hint="yyyy-MM-dd HH:mm:ss"),
        Option(
            "zones", tr("Times with a zone"), "choice", "text",
            (("text", tr("as text with the zone")), ("utc", tr("as times in UTC"))),
        ),
        Option("links", tr("Web addresses are links"), "yes/no", True),
        Option("formulas", tr("Texts with = are formulas"), "yes/no", False),
        Option(
            "long", tr("Texts too long for a cell"), "choice", "refuse",
            (("refuse", tr("stop there")), ("cut", tr("cut them, with a note"))),
        ),
        Option(
            "binary", tr("Binary values"), "choice", "hex",
            (("hex", tr("as hex")), ("base64", tr("as base64")), ("embed", tr("pictures in their cells")),
             ("files", tr("in files beside, linked")), ("both", tr("in their cells and in files"))),
        ),
        BINARY_NAME,
        CHARTS,
    )  # fmt: skip

    def write(self, rows: Rows, out: Output) -> Iterator[int]:
        first_row, first_column = place_of(out.options["first"])
        if first_column + len(rows.fields) > MOST_COLUMNS:
            raise SendError(
                tr(
                    "A sheet holds {most_columns} columns; this is {fields_count}.",
                    most_columns=MOST_COLUMNS,
                    fields_count=len(rows.fields),
                ),
                tr("Hide some first."),
            )
        if first_row + bool(out.options["header"]) > MOST_ROWS:
            raise SendError(
                tr("A sheet ends with row {most_rows}; there is no room below the first cell.", most_rows=MOST_ROWS),
                tr("Choose another."),
            )
        with odd_book(out.existing):
            book = Book(out.existing)
        try:
            with (
                odd_book(out.existing),
                zipfile.ZipFile(out.stream, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as zipped,
            ):
                delivery = _Delivery(rows, out, book, zipped, first_row, first_column)
                yield from delivery.write()
                if rows.charts and out.options["charts"]:
                    delivery.put_charts()
                book.finish(zipped, delivery.written, out.stop.check)
        finally:
            book.close()

    def count(self, path: Path, out: Output) -> int | None:
        """Rows of the sheets that were written; None for rows put into a sheet that is kept."""
        if not out.parts:
            return None
        number = 0
        with zipfile.ZipFile(path) as zipped:
            for part in set(out.parts) & set(zipped.namelist()):
                with zipped.open(part) as stream:
                    rest = b""
                    while block := stream.read(1 << 20):
                        whole = rest + block
                        rest = whole[-64:]
                        number += len(_ROW.findall(whole)) - len(_ROW.findall(rest))
                    number += len(_ROW.findall(rest)) - bool(out.options["header"])
        return number


@dataclass(slots=True)
class _Delivery:
    rows: Rows
    out: Output
    book: Book
    zipped: zipfile.ZipFile
    first_row: int
    first_column: int
    written: set[str] = made_by(default_factory=set)
    area: Area | None = None
    """Where the rows are, as long as one sheet holds them."""

    def put_charts(self) -> None:
        """On a sheet of their own, in new files."""
        if self.out.existing is not None:
            self.out.note(tr("the pull's charts go into new files only"), 1)
            return
        put_charts(self.book, self.rows.charts, self.area, self.out)

    def write(self) -> Iterator[int]:
        options = self.out.options
        wanted = sheet_name(str(options["sheet"]))
        part = self.book.part_of(wanted)
        mode = self.out.mode if self.out.existing is not None else "replace"
        cells = Cells(
            self.book, self.out, self.rows.linked, options["formulas"], options["links"], options["long"],
            options["zones"], options["binary"] in ("embed", "both"),
        )  # fmt: skip
        if part and mode in ("over", "append"):
            yield from self._merge(part, mode, cells)
            return
        kept = KeptSheet(self.book, part, self.out) if part else None
        part = part or self.book.add_sheet(wanted)
        blocks, done, name = self._blocks(), 0, wanted
        rest: list[Column] | None = next(blocks, None)
        while True:
            sheet = _Sheet(self, part, cells, done, kept)
            kept = None
            before = done
            for done, left in sheet.write(rest, blocks):
                rest = left
                yield done
            top = self.first_row + bool(options["header"])
            self.area = (
                Area(name, top, top + done - 1, self.first_column, bool(options["header"])) if not before else None
            )
            if rest is None:
                break
            name, self.area = self.book.free_name(wanted), None
            self.out.note(tr("a sheet holds {most_rows} rows: further sheets hold the rest", most_rows=MOST_ROWS), 1)
            part = self.book.add_sheet(name)
        yield done

    def _blocks(self) -> Iterator[list[Column]]:
        for block in self.rows.blocks(self.out.stop):
            if block:
                yield list(block)

    def _merge(self, part: str, mode: str, cells: Cells) -> Iterator[int]:
        cells.links_wanted = cells.pictures_wanted = False
        merge = Merge(parse(self.book.read(part)), self.first_row, self.first_column, len(self.rows.fields), self.out)
        names = self.head() if self.out.options["header"] and (mode == "over" or merge.is_blank) else []
        style = self.book.style(bold=True)

        def lines() -> Iterator[Sequence[bytes]]:
            if names:
                yield [header_cell(name, style) for name in names]
            started = False
            for block in self._blocks():
                if not started:
                    cells.set_styles(list(self.rows.fields), block, self.out.options["date"], self.out.options["time"])
                    started = True
                columns = [cells.column(n, f, c) for n, (f, c) in enumerate(zip(self.rows.fields, block, strict=True))]
                yield from zip(*columns, strict=True)

        with self.zipped.open(part, "w", force_zip64=True) as stream:
            for done in merge.write(lines(), stream, mode == "append"):
                yield max(0, done - bool(names))
        self.written.add(part)
        if merge.last >= merge.first:
            area = (merge.first, self.first_column, merge.last, self.first_column + len(self.rows.fields) - 1)
            follow_rows(tables_of(self.book, part, self.book.relations_of(part)), area, names, self.out)
        self.out.note(tr("rows that stood below from an earlier delivery are emptied"), merge.emptied)

    def head(self) -> list[str]:
        case = self.out.options["case"]
        return [n.lower() if case == "lower" else n.upper() if case == "upper" else n for n in self.rows.names]


class _Sheet:
    """One sheet's part, from where the one before it ended."""

    def __init__(self, delivery: _Delivery, part: str, cells: Cells, done: int, kept: KeptSheet | None) -> None:
        self._delivery, self._part, self._cells, self._done = delivery, part, cells, done
        self._kept = kept
        self._options, self._book = delivery.out.options, delivery.book
        self._header = bool(self._options["header"])

    def write(self, rest: list[Column] | None, blocks: Iterator[list[Column]]) -> Iterator[tuple[int, Value]]:
        delivery, fields = self._delivery, list(self._delivery.rows.fields)
        start, left = delivery.first_row, delivery.first_column
        room = MOST_ROWS - start + 1 - self._header
        cells, heights = self._cells, self._cells.pictures_wanted
        links: list[tuple[int, int, str]] = []
        pictures: list[tuple[int, int, bytes]] = []
        top = start + self._header
        row_start = self._kept.row_start if self._kept is not None else b'<row r="'
        places = [b'<c r="' + letters(left + n).encode() for n in range(len(fields))]
        with delivery.zipped.open(self._part, "w", force_zip64=True) as stream:
            stream.write(self._start(rest))
            if self._header:
                style = self._book.style(bold=True)
                number = f'{start}"'.encode()
                heads = [p + number + header_cell(n, style) for p, n in zip(places, delivery.head(), strict=True)]
                stream.write(row_start + number + b">" + b"".join(heads) + b"</row>")
            if rest is not None and not self._cells.styles:
                cells.set_styles(fields, rest, self._options["date"], self._options["time"])
            count = 0
            while rest is not None:
                size = min(len(rest[0]), room - count)
                block, rest = (rest, None) if size == len(rest[0]) else _split(rest, size)
                columns = [cells.column(n, f, c) for n, (f, c) in enumerate(zip(fields, block, strict=True))]
                at = top + count
                numbers = [b'%d"' % n for n in range(at, at + size)]
                pieces: list[list[bytes] | bytes] = [row_start, numbers, b">"]
                if heights and cells.pictures:
                    pieces[2] = row_heights(size, cells.pictures)
                for place, column in zip(places, columns, strict=True):
                    pieces += [place, numbers, column]
                stream.write(woven([*pieces, b"</row>"], size))
                links += [(at + row, left + place, text) for row, place, text in cells.links]
                pictures += [(at + row, left + place, data) for row, place, data in cells.pictures]
                cells.links, cells.pictures = [], []
                count += size
                if rest is None:
                    rest = next(blocks, None)
                yield self._done + count, rest
                if count >= room:
                    break
            stream.write(self._end(top + count - 1, links, pictures))
        delivery.written.add(self._part)
        delivery.out.parts.append(self._part)
        yield self._done + count, rest

    def _start(self, block: list[Column] | None) -> bytes:
        if self._kept is not None:
            if not self._kept.has_columns:
                self._kept.put(parse(self._columns(block).encode()))
            return HEAD + self._kept.halves()[0]
        pane = ""
        row = self._delivery.first_row
        if self._header and self._options["freeze"]:
            pane = f'<pane ySplit="{row}" topLeftCell="A{row + 1}" activePane="bottomLeft" state="frozen"/>'
        parts = [f'<sheetViews><sheetView workbookViewId="0">{pane}</sheetView></sheetViews>']
        text = f'<worksheet xmlns="{MAIN}" xmlns:r="{OFFICE}">{"".join(parts)}{self._columns(block)}<sheetData>'
        return HEAD + text.encode()

    def _columns(self, block: list[Column] | None) -> str:
        cols = []
        for index, field in enumerate(self._delivery.rows.fields):
            column = block[index] if block is not None else None
            wide = _width(field.name, field.kind, column, bool(self._options["buttons"] or self._options["as_table"]))
            at = self._delivery.first_column + index + 1
            cols.append(f'<col min="{at}" max="{at}" width="{wide}" customWidth="1"/>')
        return f'<cols xmlns="{MAIN}">{"".join(cols)}</cols>' if cols else ""

    def _end(self, last: int, links: list[Value], pictures: list[Value]) -> bytes:
        """All that stands behind the rows: what is new, among what was kept."""
        delivery, kept = self._delivery, self._kept
        relations = self._book.new_relations() if kept is None else kept.relations
        left = delivery.first_column
        box = (delivery.first_row, left, last, left + len(delivery.rows.fields) - 1)
        table = str(self._options["as_table"]).strip()
        has_rows = self._header and last > delivery.first_row
        old = kept.table_at(*box[:2]) if kept is not None and has_rows else None
        parts = []
        if self._options["buttons"] and has_rows and not table and old is None:
            parts.append(f'<autoFilter xmlns="{MAIN}" ref="{ref_of(box)}"/>')
        if links:
            parts.append(self._hyperlinks(links, relations))
        if pictures:
            parts.append(put_pictures(self._book, relations, pictures))
        if kept is not None:
            kept.settle_tables(old)
        if old is not None:
            old.without_totals()
            old.rename(delivery.head())
            old.grow(box)
        elif table and has_rows:
            parts.append(self._table(table, ref_of(box), relations))
        self._book.put_relations(self._part, relations)
        if kept is None:
            return b"</sheetData>" + "".join(parts).encode() + b"</worksheet>"
        for part in parts:
            kept.put(parse(part.encode()))
        for buttons in kept.tree.findall(tag("autoFilter")):
            buttons.set("ref", ref_of(box))
        return kept.halves()[1]

    def _hyperlinks(self, links: list[Value], relations: object) -> str:
        self._delivery.out.note(
            tr("a sheet holds {most_links} links: the rest are plain text", most_links=MOST_LINKS),
            len(links) > MOST_LINKS,
        )
        known: dict[str, str] = {}
        results = []
        for row, place, text in links[:MOST_LINKS]:
            if text not in known:
                known[text] = self._book.relate(relations, "hyperlink", _target(text), True)
            results.append(f'<hyperlink ref="{letters(place)}{row}" r:id="{known[text]}"/>')
        return f'<hyperlinks xmlns="{MAIN}" xmlns:r="{OFFICE}">{"".join(results)}</hyperlinks>'

    def _table(self, name: str, area: str, relations: object) -> str:
        """A table over the rows (18.5): its names must differ and none may be empty."""
        heads = self._delivery.head()
        if len({head.casefold() for head in heads}) != len(heads) or not all(heads):
            raise SendError(
                tr("A table needs a name of its own for each column."), tr("Rename some, or choose no table.")
            )
        name = re.sub(r"\W", "_", name)
        name = name if re.match(r"[^\W\d]", name) else f"_{name}"
        taken, number, free = self._book.table_names(), 1, name
        while free.casefold() in taken:
            number += 1
            free = f"{name}_{number}"
        self._delivery.out.note(
            tr("the table is called {free}, as {name} is taken", free=free, name=name), int(free != name)
        )
        part = self._book.free_part("xl/tables/table{}.xml")
        number = int(re.findall(r"\d+", part)[-1])
        columns = "".join(
            f"<tableColumn id={quoteattr(str(n))} name={quoteattr(in_table(head))}/>" for n, head in enumerate(heads, 1)
        )
        text = (
            f'<table xmlns="{MAIN}" id="{number + 1000}" name="{free}" displayName="{free}" ref="{area}">'
            f'<autoFilter ref="{area}"/><tableColumns count="{len(heads)}">{columns}</tableColumns>'
            '<tableStyleInfo name="TableStyleLight1" showRowStripes="1"/></table>'
        )
        self._book.put(part, HEAD + text.encode(), f"{SHEET_ML}.table+xml")
        relation = self._book.relate(relations, "table", f"/{part}")
        return f'<tableParts xmlns="{MAIN}" xmlns:r="{OFFICE}" count="1"><tablePart r:id="{relation}"/></tableParts>'


def _target(text: str) -> str:
    from urllib.parse import quote

    return text if "://" in text or text.startswith("mailto:") else quote(text)


def _split(block: list[Column], size: int) -> tuple[list[Column], list[Column]]:
    ids = np.arange(len(block[0]))
    return [c.take(ids[:size]) for c in block], [c.take(ids[size:]) for c in block]


def _width(name: str, kind: Kind, column: Column | None, has_button: bool) -> int:
    """A width in characters that fits the name and what the first rows hold."""
    least = {Kind.TIME: 19, Kind.DATE: 11, Kind.ZONED: 25, Kind.TEXT: 8, Kind.UUID: 37}.get(kind, 9)
    if isinstance(column, BufferText) and len(column):
        least = max(least, int(np.quantile(column.ends - column.data, 0.95)) + 2)
    elif isinstance(column, CodedText) and column.words:
        least = max(least, max(map(len, column.words)) + 2)
    return min(60, max(least, len(name) + 2 + 2 * has_button))


FORMAT = _Xlsx()
