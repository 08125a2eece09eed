"""What a course can be given next: each kind of step with a line of what it does, by mouse, arrows or first letters."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QEvent, QObject, QPoint, QSize, Qt, Signal
from PySide6.QtGui import QEnterEvent, QKeyEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import QAbstractButton, QFrame, QGridLayout, QLabel, QLayout, QLineEdit, QVBoxLayout, QWidget

from nimble_otter.desktop.kit import tokens
from nimble_otter.desktop.kit.theme import theme, ui_font
from nimble_otter.desktop.kit.widgets import calling, clear, column, label
from nimble_otter.pull.steps.base import step_title
from nimble_otter.translation import tr

GROUPS = (
    (
        (
            tr("Keep rows"),
            (
                ("filter", tr("by values, comparison or SQL")),
                ("top", tr("the first n, of all or per group")),
                ("distinct", tr("each combination once")),
                ("sample", tr("rows at random")),
            ),
        ),
        (tr("Order"), (("sort", tr("by any columns")),)),
    ),
    (
        (tr("Make columns"), (("compute", tr("an SQL expression")), ("columns", tr("order, hide, title, format")))),
        (
            tr("Assure"),
            (("check", tr("what must hold before sending")), ("compare", tr("what differs from another pull or file"))),
        ),
    ),
    (
        (
            tr("Turn"),
            (
                ("group", tr("with aggregates and totals")),
                ("pivot", tr("values become columns")),
                ("unpivot", tr("columns become rows")),
                ("transpose", tr("rows become columns")),
            ),
        ),
        (tr("Bring in"), (("join", tr("columns of another pull")), ("append", tr("rows of another pull")))),
    ),
)
"""Columns of groups: the title, and kinds of steps with what they do."""
_ENTRY = QSize(208, 42)
_TITLES = sum(map(len, GROUPS))
_MOST_PIECES = 9
_USED = "used "
TEAM = tr(" · team")
"""At the end of the line of a piece that is everybody's."""


class _Entry(QAbstractButton):
    def __init__(self, kind: str, line: str, palette: StepPalette, is_piece: bool = False, title: str = "") -> None:
        super().__init__()
        self.kind, self.line, self._palette, self.is_piece = kind, line, palette, is_piece
        self.title = title or (kind if is_piece else step_title(kind))
        self.setAccessibleName(f"{self.title}: {line}")
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.setFixedSize(_ENTRY)

    def enterEvent(self, event: QEnterEvent) -> None:
        self._palette.mark(self)
        super().enterEvent(event)

    def paintEvent(self, event: QPaintEvent) -> None:
        with QPainter(self) as painter:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            if self._palette.current is self:
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(theme["water4"])
                painter.drawRoundedRect(self.rect().adjusted(0, 1, 0, -1), 5, 5)
            painter.setFont(ui_font(bold=True))
            painter.setPen(theme["ink"])
            painter.drawText(
                self.rect().adjusted(8, 4, -6, -20), Qt.AlignmentFlag.AlignVCenter, self._cut(painter, self.title)
            )
            painter.setFont(ui_font(tokens.SMALL_PX))
            painter.setPen(theme["muted"])
            painter.drawText(
                self.rect().adjusted(8, 21, -6, -3), Qt.AlignmentFlag.AlignVCenter, self._cut(painter, self.line)
            )

    def _cut(self, painter: QPainter, text: str) -> str:
        return painter.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, self.width() - 14)


class StepPalette(QFrame):
    """`chosen` with the kind of step, `piece_chosen` with the name of steps that were kept, `piece_dropped` where they
    are to be forgotten; `used_chosen` with the number of a step that was used elsewhere."""

    chosen = Signal(str)
    piece_chosen = Signal(str)
    piece_dropped = Signal(str)
    used_chosen = Signal(int)

    def __init__(self) -> None:
        super().__init__(None, Qt.WindowType.Popup)
        self.setObjectName("palette")
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.field = QLineEdit()
        self.field.setAccessibleName(tr("Step to add"))
        self.field.textEdited.connect(self._narrow)
        self.field.installEventFilter(self)
        self.nothing = label(tr("No step of that name."), "muted")
        self.nothing.hide()
        grid, self.columns = QGridLayout(), list[list[_Entry]]()
        self._titles = list[tuple[QLabel, list[_Entry]]]()
        grid.setHorizontalSpacing(10)
        for at, groups in enumerate(GROUPS):
            entries, parts = list[_Entry](), list[QWidget | QLayout | int | None]()
            for title, kinds in groups:
                own = [_Entry(kind, line, self) for kind, line in kinds]
                entries += own
                self._titles.append((label(title, "muted", tokens.SMALL_PX, bold=True), own))
                parts += [*((8,) if parts else ()), self._titles[-1][0], *own]
            for entry in entries:
                entry.clicked.connect(calling(self._choose, entry))
            self.columns.append(entries)
            grid.addLayout(column(*parts, None, space=2), 0, at)
        self._pieces = QVBoxLayout()
        self._pieces.setSpacing(2)
        grid.addLayout(column(self._pieces, None), 0, len(GROUPS))
        whole = QVBoxLayout(self)
        whole.setContentsMargins(12, 12, 12, 12)
        whole.setSpacing(10)
        whole.addWidget(self.field)
        whole.addWidget(self.nothing)
        whole.addLayout(grid)
        self.current: _Entry | None = None

    def offer(self, pieces: Sequence[tuple[str, str]], used: Sequence[tuple[str, str]] = ()) -> None:
        """Steps that were kept: their names, and what they are; and steps used elsewhere: their words, and where."""
        del self.columns[len(GROUPS) :]
        del self._titles[_TITLES:]
        clear(self._pieces)
        kept = [_Entry(name, line, self, is_piece=True) for name, line in pieces[:_MOST_PIECES]]
        room = _MOST_PIECES - len(kept)
        others = [_Entry(f"{_USED}{n}", line, self, title=words) for n, (words, line) in enumerate(used[:room])]
        for title, own in ((tr("Pieces"), kept), (tr("Used elsewhere"), others)):
            if not own:
                continue
            self._titles.append((label(title, "muted", tokens.SMALL_PX, bold=True), own))
            for part in (self._titles[-1][0], *own):
                self._pieces.addWidget(part)
        for entry in (*kept, *others):
            entry.clicked.connect(calling(self._choose, entry))
        if kept or others:
            self.columns.append([*kept, *others])

    def open(self, at: QPoint, after: str) -> None:
        """Show it under a place, all steps in sight."""
        self.field.clear()
        self.field.setPlaceholderText(tr("Add a step after {after}", after=after))
        self._narrow("")
        self.adjustSize()
        room = (self.screen() or self.window().screen()).availableGeometry()
        left = max(room.left(), min(at.x(), room.right() - self.width() - 10))
        self.move(left, max(room.top(), min(at.y(), room.bottom() - self.height())))
        self.show()
        self.field.setFocus()

    @property
    def entries(self) -> list[_Entry]:
        """Those in sight."""
        return [entry for own in self.columns for entry in own if not entry.isHidden()]

    def mark(self, entry: _Entry | None) -> None:
        """Make one the one that Enter takes."""
        self.current = entry
        for each in self.entries:
            each.update()

    def _narrow(self, text: str) -> None:
        wanted = text.strip().casefold()
        for own in self.columns:
            for entry in own:
                words = f"{entry.title} {entry.line}".casefold().split()
                entry.setVisible(any(word.startswith(wanted) for word in words))
        for title, own in self._titles:
            title.setVisible(any(not entry.isHidden() for entry in own))
        named = [entry for entry in self.entries if entry.title.casefold().startswith(wanted)]
        self.nothing.setVisible(not self.entries)
        self.mark(next(iter([*named, *self.entries]), None))

    def _choose(self, entry: _Entry) -> None:
        self.close()
        if entry.kind.startswith(_USED):
            self.used_chosen.emit(int(entry.kind.removeprefix(_USED)))
        else:
            (self.piece_chosen if entry.is_piece else self.chosen).emit(entry.kind)

    def _drop(self, entry: _Entry) -> None:
        """Forget a piece; one of the team's is asked about, in the palette's place."""
        if entry.line.endswith(TEAM):
            self.close()
        self.piece_dropped.emit(entry.kind)
        left = [each for each in self.columns[-1] if each is not entry]
        kept = [(each.kind, each.line) for each in left if each.is_piece]
        self.offer(kept, [(each.title, each.line) for each in left if not each.is_piece])
        self._narrow(self.field.text())
        self.adjustSize()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Move by arrows, take by Enter."""
        if not isinstance(event, QKeyEvent) or event.type() != QEvent.Type.KeyPress or self.current is None:
            return False
        key, shown = event.key(), self.entries
        if key in (Qt.Key.Key_Down, Qt.Key.Key_Up):
            step = 1 if key == Qt.Key.Key_Down else -1
            self.mark(shown[(shown.index(self.current) + step) % len(shown)])
            return True
        if key in (Qt.Key.Key_Left, Qt.Key.Key_Right) and not self.field.text():
            at = next(n for n, own in enumerate(self.columns) if self.current in own)
            other = self.columns[(at + (1 if key == Qt.Key.Key_Right else -1)) % len(self.columns)]
            self.mark(other[min(self.columns[at].index(self.current), len(other) - 1)])
            return True
        if key == Qt.Key.Key_Delete and self.current.is_piece:
            self._drop(self.current)
            return True
        if key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._choose(self.current)
            return True
        return False
