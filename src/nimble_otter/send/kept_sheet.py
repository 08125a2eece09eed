"""A sheet whose rows are replaced: what else it held is kept and adapted (ECMA-376, part 1, 18.3.1.99), or named where
it goes with its cells. And the tables of a sheet (18.5), which follow the rows that are put into them."""

from __future__ import annotations

from collections.abc import Sequence

from nimble_otter.errors import SendError
from nimble_otter.send.cells import letters, place_of
from nimble_otter.send.format import Output
from nimble_otter.send.workbook import MAIN, OFFICE, Book, tag
from nimble_otter.translation import tr
from nimble_otter.values import Element

_MARK = "rows follow here"
_ORDER = (
    "sheetPr", "dimension", "sheetViews", "sheetFormatPr", "cols", "sheetData", "sheetCalcPr", "sheetProtection",
    "protectedRanges", "scenarios", "autoFilter", "sortState", "dataConsolidate", "customSheetViews", "mergeCells",
    "phoneticPr", "conditionalFormatting", "dataValidations", "hyperlinks", "printOptions", "pageMargins", "pageSetup",
    "headerFooter", "rowBreaks", "colBreaks", "customProperties", "cellWatches", "ignoredErrors", "smartTags",
    "drawing", "legacyDrawing", "legacyDrawingHF", "drawingHF", "picture", "oleObjects", "controls", "webPublishItems",
    "tableParts", "extLst",
)  # fmt: skip
Box = tuple[int, int, int, int]


def box_of(ref: str) -> Box:
    """A range such as B2:D9 as its first row, first column, last row and last column (rows from 1, columns from 0)."""
    first, _, last = ref.partition(":")
    (top, left), (bottom, right) = place_of(first), place_of(last or first)
    return top, left, bottom, right


def ref_of(box: Box) -> str:
    """Places of cells as a sheet writes them: "B7:D9"."""
    top, left, bottom, right = box
    return f"{letters(left)}{top}:{letters(right)}{bottom}"


def in_table(head: str) -> str:
    """A header as a table's column is called."""
    return head.replace("\n", "_x000a_").replace("\r", "_x000d_")


class KeptSheet:
    """`part` is the sheet's part in the book; its cells go, `area` is where the new ones will stand."""

    def __init__(self, book: Book, part: str, out: Output) -> None:
        self._book, self._part, self._out = book, part, out
        self.tree = book.tree_of(part)
        self.relations = book.relations_of(part)
        self.tables = tables_of(book, part, self.relations)
        self._data = self.tree.find(tag("sheetData"))
        if self._data is None:
            raise SendError(tr("The sheet holds no cells: it is a chart."), tr("Choose another sheet."))
        for line in list(self._data):
            self._data.remove(line)
        for element in self.tree.findall(tag("dimension")):
            self.tree.remove(element)
        merged = self._drop("mergeCells")
        out.note(tr("merged ranges went with the cells that they joined"), merged)
        out.note(tr("links went with the cells that they stood on"), self._drop("hyperlinks"))
        if self.tree.find(tag("sheetProtection")) is not None:
            out.note(tr("the sheet is protected, and stays so with the new rows"))

    @property
    def row_start(self) -> bytes:
        """How a row begins, up to its number."""
        return b'<row r="' if self.tree.nsmap.get(None) == MAIN else f'<row xmlns="{MAIN}" r="'.encode()

    @property
    def has_columns(self) -> bool:
        """Whether the sheet says how wide its columns are."""
        return self.tree.find(tag("cols")) is not None

    def _drop(self, name: str) -> int:
        count = 0
        for element in self.tree.findall(tag(name)):
            count += len(element)
            self.tree.remove(element)
        return count

    def put(self, element: Element) -> None:
        """One more element at its place, in place of one of its name."""
        from lxml import etree

        name = etree.QName(element).localname
        for old in self.tree.findall(tag(name)):
            self.tree.remove(old)
        at = sum(1 for child in self.tree if _rank(child) < _ORDER.index(name))
        self.tree.insert(at, element)

    def table_at(self, row: int, column: int) -> SheetTable | None:
        """The table that a cell lies in."""
        return next((t for t in self.tables if t.box[:2] == (row, column)), None)

    def settle_tables(self, kept: SheetTable | None) -> None:
        """All tables but one go, as their cells are gone."""
        for table in self.tables:
            if table is kept:
                continue
            self._out.note(tr("the table {table_name} went with its cells", table_name=table.name))
            self._book.drop_part(table.part)
            self.relations.remove(table.relation)
            wanted = table.relation.get("Id")
            for parts in self.tree.findall(tag("tableParts")):
                for one in list(parts):
                    if one.get(tag("id", OFFICE)) == wanted:
                        parts.remove(one)
                parts.set("count", str(len(parts)))
                if not len(parts):
                    self.tree.remove(parts)

    def halves(self) -> tuple[bytes, bytes]:
        """The part before its rows and behind them."""
        from lxml import etree

        self._data.append(etree.Comment(_MARK))
        before, _, after = bytes(etree.tostring(self.tree)).partition(f"<!--{_MARK}-->".encode())
        return before, after


def _rank(child: Element) -> int:
    from lxml import etree

    name = etree.QName(child).localname if isinstance(child.tag, str) else ""
    return _ORDER.index(name) if name in _ORDER else len(_ORDER)


class SheetTable:
    """A table of a sheet: its part as a tree, and the relation that leads to it."""

    def __init__(self, book: Book, part: str, relation: Element) -> None:
        self._book, self.part, self.relation = book, part, relation
        self.tree = book.tree_of(part)
        self.name = str(self.tree.get("displayName") or self.tree.get("name"))

    @property
    def box(self) -> Box:
        """Its first and last cells."""
        return box_of(self.tree.get("ref"))

    @property
    def has_totals(self) -> bool:
        """Whether it ends with a line of totals."""
        return int(self.tree.get("totalsRowCount", "0")) > 0

    def grow(self, box: Box) -> None:
        """Let it span other cells, with the buttons of its filter."""
        self.tree.set("ref", ref_of(box))
        for buttons in self.tree.findall(tag("autoFilter")):
            buttons.set("ref", ref_of(box))
        self._book.put_tree(self.part, self.tree)

    def rename(self, heads: Sequence[str]) -> None:
        """Its columns by the new header; those that keep their name keep all else. Raises: SendError where two are
        alike or one is empty."""
        from lxml import etree

        if len({head.casefold() for head in heads}) != len(heads) or not all(heads):
            raise SendError(
                tr("The table {name} needs a name of its own for each column.", name=self.name), tr("Rename some.")
            )
        columns = self.tree.find(tag("tableColumns"))
        known = {column.get("name", "").casefold(): column for column in columns}
        highest = max((int(column.get("id", "0")) for column in columns), default=0)
        for column in list(columns):
            columns.remove(column)
        for head in map(in_table, heads):
            column = known.pop(head.casefold(), None)
            if column is None:
                highest += 1
                column = etree.Element(tag("tableColumn"), id=str(highest))
            column.set("name", head)
            columns.append(column)
        columns.set("count", str(len(columns)))
        for old in self.tree.findall(tag("sortState")):
            self.tree.remove(old)
        self._book.put_tree(self.part, self.tree)

    def without_totals(self) -> None:
        """Take its line of totals off."""
        self.tree.attrib.pop("totalsRowCount", None)


def tables_of(book: Book, part: str, relations: Element) -> list[SheetTable]:
    """The tables that a sheet holds."""
    results = []
    for relation in relations:
        if relation.get("Type", "").endswith("/table"):
            results.append(SheetTable(book, book.resolved(part, relation.get("Target")), relation))
    return results


def follow_rows(tables: Sequence[SheetTable], block: Box, heads: Sequence[str], out: Output) -> None:
    """Tables that rows were put into, or right below, take them in; `heads` are names written in the first row."""
    top, left, bottom, right = block
    for table in tables:
        first, begin, last, end = table.box
        if right < begin or left > end or top > last + 1 or bottom < first:
            continue
        if heads and top == first:
            names = [c.get("name", "") for c in table.tree.find(tag("tableColumns"))]
            for index, head in enumerate(heads):
                if begin <= left + index <= end:
                    names[left + index - begin] = head
            table.rename(names)
        if bottom <= last:
            continue
        if table.has_totals:
            out.note(
                tr(
                    "the table {table_name} ends with its totals: rows below them are not part of it",
                    table_name=table.name,
                )
            )
        elif left >= begin and right <= end:
            table.grow((first, begin, bottom, end))
        else:
            out.note(
                tr("the table {table_name} is narrower than the rows, which reach beyond it", table_name=table.name)
            )
