"""Rows put into a sheet that is kept: over the cells from a first one on, or below the last that is used.

What stands elsewhere in the sheet stays; a cell that is written over keeps its style where it has one. A formula that
several cells share goes on in the others (18.3.1.40); a part of an array formula can't be written over.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from typing import Any, BinaryIO, cast

from nimble_otter.errors import SendError
from nimble_otter.send.cells import letters, place_of
from nimble_otter.send.format import Output
from nimble_otter.send.kept_sheet import Box, box_of, ref_of
from nimble_otter.send.workbook import HEAD, MAIN, tag
from nimble_otter.translation import tr
from nimble_otter.values import Element

_MARK = "rows follow here"
_MOST_ROWS = 1_048_576


class Merge:
    """`tree` is the sheet's part; the block begins at (`row`, `column`) and is so many columns wide."""

    def __init__(self, tree: Element, row: int, column: int, width: int, out: Output) -> None:
        self._tree, self._row, self._column, self._width, self._out = tree, row, column, width, out
        self.first, self.last = row, row - 1
        self._data = tree.find(tag("sheetData"))
        if self._data is None:
            raise SendError(tr("The sheet holds no cells: it is a chart."), tr("Choose another sheet."))
        self._rows: dict[int, Any] = {}
        number = 0
        for line in self._data:
            number = int(line.get("r", number + 1))
            line.set("r", str(number))
            self._rows[number] = line
            index = -1
            for cell in line:
                index = place_of(cell.get("r"))[1] if cell.get("r") else index + 1
                cell.set("r", f"{letters(index)}{number}")
        for dimension in tree.findall(tag("dimension")):
            tree.remove(dimension)
        self._shared: dict[str, list[Any]] = {}
        self._arrays: list[tuple[Box, str]] = []
        for line in self._data:
            for cell in line:
                self._note_formula(cell)
        self._merged = [(box_of(m.get("ref")), m) for joined in tree.findall(tag("mergeCells")) for m in joined]
        if tree.find(tag("sheetProtection")) is not None:
            out.note(tr("the sheet is protected; the rows were written into it all the same"))
        self._last_used = max((n for n in self._rows if n >= row and self._used(n)), default=row - 1)
        self.is_blank = self._last_used < row
        self.emptied = 0

    def _note_formula(self, cell: Element) -> None:
        """Formulas are told without the values that they had: what they rest on may change."""
        formula = cell.find(tag("f"))
        if formula is None:
            return
        for value in cell.findall(tag("v")):
            cell.remove(value)
        if formula.get("t") == "shared":
            self._shared.setdefault(formula.get("si"), []).append(cell)
        elif formula.get("t") in ("array", "dataTable") and formula.get("ref"):
            self._arrays.append((box_of(formula.get("ref")), cell.get("r")))

    def _claim(self, number: int) -> None:
        """What stands in the cells of a row that the block takes, and reaches beyond them. Raises: SendError."""
        first, last = self._column, self._column + self._width - 1
        for (top, left, bottom, right), at in self._arrays:
            if top <= number <= bottom and left <= last and right >= first and (top, left) != (bottom, right):
                ref = ref_of((top, left, bottom, right))
                raise SendError(
                    tr(
                        "Row {number} of the sheet is in the range {ref} of the array formula in {at}.",
                        number=number,
                        ref=ref,
                        at=at,
                    ),
                    tr("Choose another first cell, or clear that formula."),
                )
        for (top, left, bottom, right), element in list(self._merged):
            if top <= number <= bottom and left <= last and right >= first:
                joined = element.getparent()
                joined.remove(element)
                joined.set("count", str(len(joined)))
                if not len(joined):
                    self._tree.remove(joined)
                self._merged = [m for m in self._merged if m[1] is not element]
                self._out.note(tr("merged ranges that the rows go into were split"))

    def _release(self, cell: Element) -> None:
        """A shared formula goes on in the next of its cells when the one that says it is taken."""
        formula = cell.find(tag("f"))
        if formula is None or formula.get("t") != "shared":
            return
        left = self._shared[formula.get("si")] = [c for c in self._shared[formula.get("si")] if c is not cell]
        if not formula.text or not left:
            return
        from openpyxl.formula.translate import Translator

        heir = left[0].find(tag("f"))
        moved = Translator("=" + formula.text, origin=cell.get("r"))
        heir.text = moved.translate_formula(left[0].get("r"))[1:]
        places = [place_of(c.get("r")) for c in left]
        rows, columns = [r for r, _ in places], [c for _, c in places]
        heir.set("ref", ref_of((min(rows), min(columns), max(rows), max(columns))))

    def _cells(self, number: int) -> list[tuple[int, Element]]:
        results = [(place_of(cell.get("r"))[1], cell) for cell in self._rows[number]]
        return [(p, cell) for p, cell in results if self._column <= p < self._column + self._width]

    def _used(self, number: int) -> bool:
        return any(len(cell) for _, cell in self._cells(number))

    def _reckons(self, number: int) -> bool:
        has_own = bool(self._out.options.get("formulas"))
        return not has_own and any(cell.find(tag("f")) is not None for _, cell in self._cells(number))

    def write(self, lines: Iterable[Sequence[bytes]], stream: object, below: bool) -> Iterator[int]:
        """Put the lines (a cell a column) in and write the part; yields how many lines are in by now. Raises:
        SendError where the sheet has no room."""
        from lxml import etree

        number = self.first = self._last_used + 1 if below else self._row
        last, done, rest = max(self._rows, default=0), 0, iter(lines)
        waiting: Sequence[bytes] | None = None
        for line in rest:
            if number > last:
                waiting = line
                break
            self._put(number, line)
            number, done = number + 1, done + 1
        if waiting is None:
            self._empty_from(number)
        self._data.append(etree.Comment(_MARK))
        before, _, after = bytes(etree.tostring(self._tree)).partition(f"<!--{_MARK}-->".encode())
        out = cast(BinaryIO, stream)
        out.write(HEAD + before)
        columns = [letters(self._column + n).encode() for n in range(self._width)]
        while waiting is not None:
            if number > _MOST_ROWS:
                raise SendError(
                    tr("The sheet has no room: it ends with row {most_rows}.", most_rows=_MOST_ROWS),
                    tr("Choose another sheet."),
                )
            row = str(number).encode()
            cells = [b'<c r="' + c + row + b'"' + cell for c, cell in zip(columns, waiting, strict=True)]
            out.write(f'<row xmlns="{MAIN}" r="{number}">'.encode() + b"".join(cells) + b"</row>")
            number, done = number + 1, done + 1
            if done % 4096 == 0:
                yield done
            waiting = next(rest, None)
        self.last = self.first + done - 1
        out.write(after)
        yield done

    def _put(self, number: int, line: Sequence[bytes]) -> None:
        from lxml import etree

        if number not in self._rows:
            made = etree.Element(tag("row"), r=str(number))
            above = max((n for n in self._rows if n < number), default=0)
            index = list(self._data).index(self._rows[above]) + 1 if above else 0
            self._data.insert(index, made)
            self._rows[number] = made
        row = self._rows[number]
        self._claim(number)
        styles = {index: cell.get("s") for index, cell in self._cells(number)}
        for _, cell in self._cells(number):
            self._release(cell)
            row.remove(cell)
        at = sum(1 for cell in row if place_of(cell.get("r"))[1] < self._column)
        made = etree.fromstring(f'<row xmlns="{MAIN}">'.encode() + b"".join(b"<c" + cell for cell in line) + b"</row>")
        for offset, cell in enumerate(list(made)):
            index = self._column + offset
            cell.set("r", f"{letters(index)}{number}")
            kept = styles.get(index)
            if kept not in (None, "0"):
                cell.set("s", kept)
            row.insert(at + offset, cell)
        row.attrib.pop("spans", None)

    def _empty_from(self, number: int) -> None:
        """What is left of a longer block that stood there goes, down to the first row without any of it, or with a
        formula, which no delivery wrote."""
        while number in self._rows and self._used(number) and not self._reckons(number):
            self._claim(number)
            for _, cell in self._cells(number):
                self._release(cell)
                for child in list(cell):
                    cell.remove(child)
                cell.attrib.pop("t", None)
            number, self.emptied = number + 1, self.emptied + 1
