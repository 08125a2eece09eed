"""The list of rows that would change, with what they were and what they become; past writes when nothing is pending."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from PySide6.QtCore import QAbstractListModel, QModelIndex, QPersistentModelIndex, QRect, QSize, Qt
from PySide6.QtGui import QPainter
from PySide6.QtWidgets import QAbstractItemView, QListView, QStyle, QStyledItemDelegate, QStyleOptionViewItem

from nimble_otter.changes import Outcome, Statement
from nimble_otter.changes.plan import StatementKind
from nimble_otter.desktop.kit.theme import theme, ui_font
from nimble_otter.desktop.kit.widgets import as_plain
from nimble_otter.pull.drafts import EditDraft
from nimble_otter.pull.writes import Written
from nimble_otter.table.text.show import plain, rows_words
from nimble_otter.translation import tr

_MARKS = {"update": ("±", "amber_ink"), "insert": ("+", "sea"), "delete": ("−", "plum")}
_HEIGHT = 42
_LONGEST = 40

Index = QModelIndex | QPersistentModelIndex


@dataclass(frozen=True, slots=True)
class Entry:
    """One line of the list: a mark with its colour, a title, what it says, and a word at the right."""

    mark: str
    tone: str
    title: str
    text: str
    end: str = ""
    is_bad: bool = False


def entry_of(statement: Statement, outcome: Outcome | None) -> Entry:
    """A statement in words: which row, and each value before and after."""
    mark, tone = _MARKS[statement.kind]
    title = ", ".join(f"{name} {short(value)}" for name, value in statement.key[:3]) or tr("new row")
    if statement.kind == StatementKind.UPDATE:
        old = dict(statement.old)
        text = ", ".join(f"{name} {short(old.get(name))} → {short(value)}" for name, value in statement.values)
    elif statement.kind == StatementKind.INSERT:
        text = ", ".join(f"{name} {short(value)}" for name, value in statement.values) or tr("defaults alone")
    else:
        text = ", ".join(short(value) for name, value in statement.old if (name, value) not in statement.key)
    if outcome is None:
        return Entry(mark, tone, title, text)
    if outcome.is_good:
        return Entry(mark, tone, title, text, tr("1 row"))
    return Entry("!", "plum", title, outcome.problem, tr("in conflict") if outcome.is_conflict else tr("refused"), True)


@dataclass(frozen=True, slots=True)
class Waiting:
    """A change whose row is not among the rows fetched: its kind, its key in words, new values and those seen."""

    kind: str
    title: str = tr("new row")
    new: Mapping[str, Any] | None = None
    old: Mapping[str, Any] | None = None


def waiting_of(edits: EditDraft | None, names: Sequence[str]) -> list[Waiting]:
    """`names` are those of the key's columns, where they are known."""
    if edits is None:
        return []

    def title(key: Sequence[object]) -> str:
        if len(names) != len(key):
            return ", ".join(map(short, key[:3]))
        return ", ".join(f"{name} {short(value)}" for name, value in zip(names[:3], key[:3], strict=True))

    return [
        *(Waiting("delete", title(key)) for key in edits.deleted),
        *(Waiting("update", title(key), new, old) for key, new, old in edits.cells),
        *(Waiting("insert", new=new) for new in edits.added),
    ]


def entry_of_waiting(item: Waiting) -> Entry:
    """The line of a change that waits for its row to be in the result."""
    new, old = item.new or {}, item.old or {}
    text = ", ".join(
        f"{name} {short(old[name])} → {short(value)}" if name in old else f"{name} {short(value)}"
        for name, value in new.items()
    )
    return Entry(_MARKS[item.kind][0], "muted", item.title, text or tr("to delete"), tr("waits for its row"))


def entry_of_write(made: Written) -> Entry:
    """The line of a write that was done, and of what is kept to reverse it."""
    rows = rows_words(made.statements)
    what = tr("Restored") if made.was_reversal else tr("Wrote")
    kept = tr("reversal kept in part") if made.lasting else tr("reversal kept")
    return Entry(
        "✓",
        "water1",
        tr("{moment:%a %d %b %H:%M:%S}", moment=made.at),
        tr("{what} {rows} of {table}", what=what, rows=rows, table=made.table),
        kept,
    )


def short(value: object) -> str:
    """A value as one short line of text."""
    if value is None:
        return "∅"
    text = plain(value[: 2 * _LONGEST] if isinstance(value, (str, bytes)) else value).replace("\n", " ")
    return f"“{text}”" if not text.strip() else text if len(text) <= _LONGEST else text[: _LONGEST - 1] + "…"


class Entries(QAbstractListModel):
    """Makes each entry when it is looked at: there may be a hundred thousand."""

    def __init__(self) -> None:
        super().__init__()
        self._items: Sequence[Any] = ()
        self._outcomes: dict[int, Outcome] = {}

    def fill(self, items: Sequence[object], outcomes: dict[int, Outcome]) -> None:
        """Show these changes, with the outcome of each row that was rehearsed or written."""
        self.beginResetModel()
        self._items, self._outcomes = items, outcomes
        self.endResetModel()

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008 - the toolkit's own way
        """How many changes there are (toolkit)."""
        return 0 if parent.isValid() else len(self._items)

    def entry(self, at: int) -> Entry:
        """What the line at a place shows."""
        item = self._items[at]
        if isinstance(item, Waiting):
            return entry_of_waiting(item)
        return entry_of_write(item) if isinstance(item, Written) else entry_of(item, self._outcomes.get(item.row_id))

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        """What the toolkit asks of a line: its text, tooltip or entry."""
        if not index.isValid():
            return None
        entry = self.entry(index.row())
        if role == Qt.ItemDataRole.UserRole:
            return entry
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.AccessibleTextRole, Qt.ItemDataRole.ToolTipRole):
            text = f"{entry.title}: {entry.text}" + (f" ({entry.end})" if entry.end else "")
            return as_plain(text) if role == Qt.ItemDataRole.ToolTipRole else text
        return None


class _Painter(QStyledItemDelegate):
    def sizeHint(self, option: QStyleOptionViewItem, index: Index) -> QSize:
        return QSize(120, _HEIGHT)

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: Index) -> None:
        entry: Entry = index.data(Qt.ItemDataRole.UserRole)
        rect = QRect(option.rect)
        chosen = bool(option.state & QStyle.StateFlag.State_Selected)
        painter.save()
        painter.fillRect(rect, theme["water4" if chosen else "surface"])
        if chosen:
            painter.fillRect(QRect(rect.left(), rect.top(), 3, rect.height()), theme["water1"])
        painter.setPen(theme["grid_line"])
        painter.drawLine(rect.left(), rect.bottom(), rect.right(), rect.bottom())
        inner = rect.adjusted(12, 4, -10, -4)
        half = inner.height() // 2
        top, below = QRect(inner.left() + 18, inner.top(), inner.width() - 18, half), inner.adjusted(18, half, 0, 0)
        painter.setFont(ui_font(13, True))
        painter.setPen(theme[entry.tone])
        painter.drawText(QRect(inner.left(), inner.top(), 18, half), Qt.AlignmentFlag.AlignVCenter, entry.mark)
        painter.setFont(ui_font(11))
        width = painter.fontMetrics().horizontalAdvance(entry.end) + 8 if entry.end else 0
        painter.setPen(theme["plum" if entry.is_bad else "muted"])
        painter.drawText(top, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, entry.end)
        self._line(painter, top.adjusted(0, 0, -width, 0), entry.title, 12, "ink", True)
        self._line(painter, below, entry.text, 12, "plum" if entry.is_bad else "muted")
        painter.restore()

    @staticmethod
    def _line(painter: QPainter, rect: QRect, text: str, px: int, tone: str, bold: bool = False) -> None:
        painter.setFont(ui_font(px, bold))
        painter.setPen(theme[tone])
        cut = painter.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, rect.width())
        painter.drawText(rect, Qt.AlignmentFlag.AlignVCenter, cut)


class ChangesList(QListView):
    """Up and Down go from row to row."""

    def __init__(self) -> None:
        super().__init__()
        self.entries = Entries()
        self.setModel(self.entries)
        self.setItemDelegate(_Painter(self))
        self.setUniformItemSizes(True)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setAccessibleName(tr("Rows that would change"))
        self.setFrameShape(QListView.Shape.NoFrame)

    @property
    def at(self) -> int:
        """The line that is current; -1 if none is."""
        return self.currentIndex().row()

    def choose(self, at: int) -> None:
        """Choose an entry and bring it into sight."""
        index = self.entries.index(at, 0)
        self.setCurrentIndex(index)
        self.scrollTo(index)
