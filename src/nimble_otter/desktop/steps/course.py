"""The course: the pull as a chain of steps, and under it the band, as thick as the rows (their log) at each step."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

from PySide6.QtCore import QMimeData, QPoint, QPointF, QRect, Qt, QVariantAnimation, Signal
from PySide6.QtGui import (
    QColor,
    QContextMenuEvent,
    QDrag,
    QDragEnterEvent,
    QDragMoveEvent,
    QDropEvent,
    QFocusEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPainterPath,
    QPaintEvent,
)
from PySide6.QtWidgets import QInputDialog, QMenu, QToolTip, QWidget

from nimble_otter.desktop.kit import tokens
from nimble_otter.desktop.kit.mime_types import COLUMN_DRAG, text_in
from nimble_otter.desktop.kit.spoken_list import SpokenList, is_listened_to
from nimble_otter.desktop.kit.theme import motion_ms, theme, ui_font
from nimble_otter.desktop.kit.widgets import as_plain
from nimble_otter.desktop.pulls.open_pull import OpenPull
from nimble_otter.desktop.pulls.step_ref import ADD, CHANGES, QUERY, SEND, SOURCE, StepRef, step_at
from nimble_otter.pull import Course, Pull
from nimble_otter.pull.course import checks_of
from nimble_otter.pull.steps import STEPS, Checked, Step
from nimble_otter.pull.steps.base import step_title
from nimble_otter.pull.steps.check import stopping
from nimble_otter.table.text.show import grouped, rows_words
from nimble_otter.translation import tr, trn

STEP_MIME = "application/x-nimble-otter-step"
KINDS = {kind: step_title(kind) for kind in STEPS}
_PLUS = 30
_SIDE = 12
_BAND = 20
_MOST_COUNTED = 100_000


@dataclass(frozen=True, slots=True)
class Stop:
    """A cell of the strip; `rows` leave it."""

    ref: StepRef
    kind: str
    words: str
    under: str
    rows: int | None = None
    is_on: bool = True
    problem: str = ""
    tone: str = ""


def stops_of(open_pull: OpenPull) -> list[Stop]:
    """What the strip says of a pull."""
    pull, fetched = open_pull.pull, open_pull.fetched
    is_documents = open_pull.is_documents
    count = len(open_pull.tables)
    word = pull.source.word
    parts = ""
    if count and is_documents:
        parts = trn("{count} collection", "{count} collections", count, count=count)
    elif count:
        parts = trn("{count} table", "{count} tables", count, count=count)
    known = open_pull.hub.known(pull.source)
    word = f"{known.stage.upper()} · {word}" if known.stage else word
    text = pull.came_from or (f"{word} · {parts}" if parts else word)
    stops = [Stop(SOURCE, tr("Source"), pull.source.name, text)]
    under, rows = tr("not run yet"), None
    if fetched is not None:
        rows = fetched.table.rows
        under = rows_words(rows, is_documents) + (f" · {fetched.all_s:.2f} s" if fetched.all_s else "")
    if (told := open_pull.count_there(-1)) is not None and told.rows is not None:
        under, rows = told.words(), rows if rows is not None else told.rows
    if open_pull.error is not None:
        under = tr("failed")
    words = " ".join(pull.query.text.split()) if pull.query.language == "native" else query_words(pull.query.text)
    stops.append(Stop(QUERY, tr("Query"), words or tr("empty"), under, rows, tone="plum" if open_pull.error else ""))
    for index, step in enumerate(pull.steps):
        under, rows, problem, words, tone = "", None, "", step.words(), ""
        if open_pull.course is not None and index < len(open_pull.course.results):
            result = open_pull.course.results[index]
            rows, problem = result.shaped.rows, str(result.error or "")
            under = rows_words(rows, is_documents)
            if result.shaped.grouped is not None:
                levels = result.shaped.grouped.levels
                under = tr("{rows} groups", rows=grouped(levels[0].table.rows))
                under += tr(" · {rows} within", rows=grouped(rows)) if len(levels) > 1 else ""
            words, under, tone = _checked(step, result.shaped.checked) or (words, under, tone)
        if under and fetched is not None and (fetched.was_cut or fetched.is_part):
            under += tr(" of a part")
        if (told := open_pull.count_there(index)) is not None and told.rows is not None and step.on:
            under, rows = told.words(), rows if rows is not None else told.rows
        under = tr("off") if not step.on else (tr("left out") if problem else under)
        tone = "plum" if problem else tone if step.on else ""
        stops.append(Stop(step_at(index), KINDS[step.kind], step.name or words, under, rows, step.on, problem, tone))
    stops.append(Stop(ADD, "", "+", ""))
    pending, waits = open_pull.pending.count, open_pull.pending.waiting_count
    text = tr("{pending} pending", pending=grouped(pending)) if pending else tr("none")
    under = (
        tr("review before writing")
        if pending
        else (tr("written") if open_pull.report and open_pull.report.is_written else "")
    )
    under = tr("{waits} wait for their rows", waits=grouped(waits)) if waits else under
    if open_pull.is_writing or open_pull.in_doubt:
        under = tr("being written") if open_pull.is_writing else tr("last write not known")
    stops.append(Stop(CHANGES, tr("Changes"), text, under, tone="amber_ink" if pending else ""))
    held = open_pull.course is not None and bool(stopping(checks_of(open_pull.course)))
    text, tone = (tr("held back"), "plum") if held else (_send_words(pull), "")
    stops.append(Stop(SEND, tr("Send"), text, open_pull.last_sent, tone=tone))
    return stops


def _checked(step: Step, checked: Sequence[Checked]) -> tuple[str, str, str] | None:
    """What the strip says of a check: its words, what stands under them, and their tone."""
    if not checked or not step.on:
        return None
    failed = [each for each in checked if not each.holds]
    if not failed:
        return tr("{checked_count} of {checked_count} hold", checked_count=len(checked)), "", ""
    rows = {int(row) for each in failed if each.failing is not None for row in each.failing[:_MOST_COUNTED]}
    many = tr("over ") if any(each.failing is not None and len(each.failing) > _MOST_COUNTED for each in failed) else ""
    under = (
        trn(
            "{many}{rows_count} row fail",
            "{many}{rows_count} rows fail",
            len(rows),
            many=many,
            rows_count=grouped(len(rows)),
        )
        if rows
        else tr("fails")
    )
    words = trn(
        "{failed_count} of {checked_count} fails",
        "{failed_count} of {checked_count} fail",
        len(failed),
        failed_count=len(failed),
        checked_count=len(checked),
    )
    return words, under, "plum" if stopping(failed) else "amber_ink"


def _send_words(pull: Pull) -> str:
    if pull.send is None:
        return tr("not set")
    if pull.send.format == "source":
        return tr(
            "{table} in {source}",
            table=pull.send.options.get("table", ""),
            source=pull.send.options.get("source", "another source"),
        )
    return tr("the clipboard") if pull.send.format == "clipboard" else pull.send.path.rsplit("/", 1)[-1]


def query_words(text: str) -> str:
    """The tables a query reads, in its order: "reading + station"."""
    import re

    names = re.findall(r"\b(?:from|join)\s+(\"[^\"]+\"|[\w.]+\b(?!\s*\())", text, re.IGNORECASE)
    return " + ".join(dict.fromkeys(name.strip('"') for name in names)) or " ".join(text.split())[:60]


def counts_told(course: Course) -> str:
    """Each step with the rows that leave it, a line each."""
    lines, off = list[str](), tr("off")
    for result in course.results:
        text = tr("left out") if result.error is not None else rows_words(result.shaped.rows)
        lines.append(f"{KINDS[result.step.kind]}: {text if result.step.on else off}")
    return "\n".join(lines)


class CourseStrip(QWidget):
    """Selecting a step opens its drawer; steps can be switched, moved, renamed, removed, and asked for their rows."""

    chosen = Signal(object)
    add_wanted = Signal(QPoint)
    column_dropped = Signal(str)
    upstream_wanted = Signal(int)
    upstream_all_wanted = Signal()
    down_wanted = Signal()
    run_wanted = Signal()
    copy_wanted = Signal(int)
    keep_wanted = Signal(int, int)

    def __init__(self) -> None:
        super().__init__()
        self.setFixedHeight(tokens.COURSE)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAcceptDrops(True)
        self.setAccessibleName(tr("Course"))
        self._open_pull: OpenPull | None = None
        self.stops: list[Stop] = []
        self.selected = QUERY
        self._press: tuple[StepRef, QPoint] | None = None
        self._drop_at = -1
        self._spoken: SpokenList | None = None
        self._heights: list[float] = []
        self._motion = QVariantAnimation(self)
        self._motion.setStartValue(0.0)
        self._motion.setEndValue(1.0)
        self._motion.valueChanged.connect(lambda _: self.update())
        self._from: list[float] = []
        theme.changed.connect(self.update)

    def show_pull(self, open_pull: OpenPull | None) -> None:
        """Show the course of this pull."""
        self._open_pull = open_pull
        self.refresh()

    def refresh(self) -> None:
        """Show the steps and their counts as they are now."""
        self.stops = stops_of(self._open_pull) if self._open_pull is not None else []
        self._move_band(self._band())
        self.setAccessibleDescription(tr(" then ").join(f"{s.kind} {s.words} {s.under}" for s in self.stops if s.kind))
        self._speak()
        self.update()

    def select(self, ref: StepRef) -> None:
        """Show a step as selected."""
        self.selected = ref
        self._speak()
        self.update()

    def _speak(self) -> None:
        """The steps as a list, for those who don't see them."""
        if not is_listened_to():
            return
        if self._spoken is None:
            self._spoken = SpokenList(self, tr("Steps"))
        steps = [stop for stop in self.stops if stop.kind]
        texts = [", ".join(filter(None, (s.kind, s.words, s.under, "" if s.is_on else tr("off")))) for s in steps]
        current = next((n for n, stop in enumerate(steps) if stop.ref == self.selected), -1)
        self._spoken.show_texts(texts, current, self.hasFocus())

    # --- painting ----------------------------------------------------------------------------------------------

    def cells(self) -> list[QRect]:
        """Where each stop stands; all as wide as each other but the plus."""
        if not self.stops:
            return []
        wide = len(self.stops) - 1
        width = (self.width() - 2 * _SIDE - _PLUS) / wide
        rects, x = [], float(_SIDE)
        for stop in self.stops:
            own = _PLUS if stop.ref == ADD else width
            rects.append(QRect(round(x), 0, round(x + own) - round(x), self.height()))
            x += own
        return rects

    def rect_of(self, ref: StepRef) -> QRect:
        """Where a step is drawn; empty if it is not there."""
        return next((r for s, r in zip(self.stops, self.cells(), strict=True) if s.ref == ref), QRect())

    def paintEvent(self, event: QPaintEvent) -> None:
        """Paint the steps and the band."""
        with QPainter(self) as painter:
            painter.fillRect(self.rect(), theme["surface"])
            rects = self.cells()
            for stop, rect in zip(self.stops, rects, strict=True):
                if stop.ref == self.selected:
                    painter.fillRect(rect.adjusted(0, 0, 0, -26), theme["water4"])
                    if self.hasFocus():
                        painter.setPen(theme["water2"])
                        painter.drawRect(rect.adjusted(0, 0, -1, -27))
            self._paint_band(painter, rects)
            for index, (stop, rect) in enumerate(zip(self.stops, rects, strict=True)):
                if index and ADD not in (self.stops[index - 1].ref, stop.ref):
                    painter.setPen(theme["line"])
                    painter.drawLine(rect.left(), 11, rect.left(), 40)
                self._paint_stop(painter, stop, rect)
            if self._drop_at >= 0:
                x = rects[self._drop_at].left()
                painter.fillRect(QRect(x - 1, 6, 3, 40), theme["water1"])
            painter.setPen(theme["line"])
            painter.drawLine(0, self.height() - 1, self.width(), self.height() - 1)

    def _paint_stop(self, painter: QPainter, stop: Stop, rect: QRect) -> None:
        if stop.ref == ADD:
            painter.setFont(ui_font(16))
            painter.setPen(theme["muted"])
            painter.drawText(rect.adjusted(0, 12, 0, -30), Qt.AlignmentFlag.AlignCenter, "+")
            return
        inner = rect.adjusted(12, 0, -8, 0)
        picked = stop.ref == self.selected
        ink = theme[stop.tone] if stop.tone else (theme["ink"] if stop.is_on else theme["faint"])
        self._line(painter, inner, 11, stop.kind, tokens.SMALL_PX, picked, theme["water1" if picked else "muted"])
        self._line(painter, inner, 27, stop.words, tokens.UI_PX, True, ink, struck=not stop.is_on)
        under = theme["plum"] if stop.tone == "plum" else theme["water1"]
        self._line(
            painter, inner, self.height() - 21, stop.under, tokens.SMALL_PX, stop.rows is not None or picked, under
        )

    @staticmethod
    def _line(
        painter: QPainter, inner: QRect, top: int, text: str, px: int, bold: bool, ink: QColor, struck: bool = False
    ) -> None:
        font = ui_font(px, bold)
        font.setStrikeOut(struck)
        painter.setFont(font)
        painter.setPen(ink)
        message = painter.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, inner.width())
        painter.drawText(QRect(inner.left(), top, inner.width(), 18), Qt.AlignmentFlag.AlignVCenter, message)

    def _move_band(self, heights: list[float]) -> None:
        """The band goes to its new thickness, in a moment where the desktop wants motion."""
        same_stops = len(heights) == len(self._heights)
        self._from, self._heights = (self._shown_band() if same_stops else heights), heights
        self._motion.stop()
        if same_stops and self._from != heights and self.isVisible() and (time_ms := motion_ms()):
            self._motion.setDuration(time_ms)
            self._motion.start()

    def _shown_band(self) -> list[float]:
        part = float(self._motion.currentValue()) if self._motion.state() == QVariantAnimation.State.Running else 1.0
        return [a + (b - a) * part for a, b in zip(self._from, self._heights, strict=True)]

    def _band(self) -> list[float]:
        """The thickness follows the log of the rows there over the log of the most, squared so that a drop is seen."""
        known = [stop.rows for stop in self.stops if stop.rows is not None]
        most = max(known, default=0)
        heights, now = [], 1.0 if most else 0.35
        for stop in self.stops:
            if stop.rows is not None:
                now = math.log10(stop.rows + 1) / math.log10(most + 1) if most else 0.0
            heights.append(3 + (_BAND - 3) * now**2)
        return heights

    def _paint_band(self, painter: QPainter, rects: list[QRect]) -> None:
        heights = self._shown_band()
        bottom = float(self.height() - 1)
        path = QPainterPath(QPointF(rects[0].left() if rects else 0, bottom))
        if not rects:
            return
        path.lineTo(QPointF(rects[0].left(), bottom - heights[0]))
        for index, rect in enumerate(rects):
            y = bottom - heights[index]
            if index:
                before, x = bottom - heights[index - 1], float(rect.left())
                reach = min(26.0, rect.width() / 3)
                path.cubicTo(QPointF(x, before), QPointF(x - reach + reach, y), QPointF(x + reach, y))
            following = rects[index + 1].left() if index + 1 < len(rects) else rect.right() + 1
            reach = min(26.0, (rects[index + 1].width() / 3) if index + 1 < len(rects) else 0)
            path.lineTo(QPointF(following - (reach if index + 1 < len(rects) else 0), y))
        path.lineTo(QPointF(rects[-1].right() + 1, bottom))
        path.closeSubpath()
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme["water3"])
        painter.drawPath(path)
        painter.restore()

    # --- the mouse and the keyboard ----------------------------------------------------------------------------

    def _at(self, point: QPoint) -> StepRef | None:
        return next((s.ref for s, r in zip(self.stops, self.cells(), strict=True) if r.contains(point)), None)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Select a step, or open the list to add one."""
        ref = self._at(event.position().toPoint())
        if event.button() != Qt.MouseButton.LeftButton or ref is None:
            return
        if ref == ADD:
            self.add_wanted.emit(self.mapToGlobal(self.rect_of(ADD).bottomLeft()))
            return
        self._press = (ref, event.position().toPoint())
        self.chosen.emit(ref)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Explain what is under the mouse, or begin to drag a step."""
        point = event.position().toPoint()
        if self._press is None:
            under = self._at(point)
            stop = next((s for s in self.stops if s.ref == under), None)
            self.setToolTip(
                as_plain(
                    ""
                    if stop is None
                    else (stop.problem or f"{stop.kind} {stop.words}" if stop.kind else tr("Add a step"))
                )
            )
            return
        ref, start = self._press
        if ref.is_step and (point - start).manhattanLength() > 12:
            self._press = None
            drag, data = QDrag(self), QMimeData()
            data.setData(STEP_MIME, str(ref.at).encode())
            drag.setMimeData(data)
            drag.exec(Qt.DropAction.MoveAction)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """End a press that was not a drag."""
        self._press = None

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        """Take steps and columns that are dragged here."""
        if event.mimeData().hasFormat(STEP_MIME) or event.mimeData().hasFormat(COLUMN_DRAG):
            event.acceptProposedAction()

    def dragMoveEvent(self, event: QDragMoveEvent) -> None:
        """Show where a step would go, and with how many rows."""
        if event.mimeData().hasFormat(STEP_MIME):
            gap = self._gap(event.position().toPoint())
            if gap != self._drop_at:
                self._drop_at = gap
                self._tell_counts(*self._dropped(event.mimeData(), gap))
            self.update()
        event.acceptProposedAction()

    @staticmethod
    def _dropped(data: QMimeData, gap: int) -> tuple[int, int]:
        """Which step is dragged, and the place that it would have."""
        at = int(bytes(data.data(STEP_MIME).data()))
        return at, gap - 2 - (gap - 2 > at)

    def _tell_counts(self, at: int, to: int) -> None:
        """Say how many rows would leave each step if one stood elsewhere."""
        open_pull = self._open_pull
        if open_pull is None or open_pull.course is None or not 0 <= to < len(open_pull.pull.steps) or at == to:
            QToolTip.hideText()
            return
        moved = open_pull.pull.with_step_moved(at, to)
        point = self.mapToGlobal(self.cells()[min(self._drop_at, len(self.stops) - 1)].bottomLeft())

        def show(course: Course) -> None:
            QToolTip.showText(point, as_plain(counts_told(course)), self)

        open_pull.shaping.try_steps(moved.steps, show)

    def dragLeaveEvent(self, event: object) -> None:
        """Show that nothing would be dropped."""
        self._drop_at = -1
        self.update()

    def _gap(self, point: QPoint) -> int:
        """The stop before which a dropped step would stand."""
        rects = self.cells()
        steps = [n for n, s in enumerate(self.stops) if s.ref.is_step]
        return next((n for n in steps if point.x() < rects[n].center().x()), steps[-1] + 1 if steps else 2)

    def dropEvent(self, event: QDropEvent) -> None:
        """Move the step, or group by the column, that was dropped."""
        data, self._drop_at = event.mimeData(), -1
        if data.hasFormat(COLUMN_DRAG):
            self.column_dropped.emit(text_in(data, COLUMN_DRAG))
        elif self._open_pull is not None and data.hasFormat(STEP_MIME):
            QToolTip.hideText()
            self.move_step(*self._dropped(data, self._gap(event.position().toPoint())))
        event.acceptProposedAction()
        self.update()

    def move_step(self, at: int, to: int) -> None:
        """Move a step to another place."""
        if self._open_pull is not None and 0 <= to < len(self._open_pull.pull.steps) and at != to:
            self._open_pull.shaping.change(self._open_pull.pull.with_step_moved(at, to), tr("Move step"))
            self.chosen.emit(step_at(to))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Select, switch, move, rename or remove a step by the keyboard."""
        refs = [stop.ref for stop in self.stops if stop.ref != ADD]
        if self._open_pull is None or not refs:
            super().keyPressEvent(event)
            return
        index = refs.index(self.selected) if self.selected in refs else 0
        step = self.selected.at if self.selected.is_step else None
        key = event.key()
        if key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            way = -1 if key == Qt.Key.Key_Left else 1
            if event.modifiers() & Qt.KeyboardModifier.AltModifier and step is not None:
                self.move_step(step, step + way)
            else:
                self.chosen.emit(refs[max(0, min(len(refs) - 1, index + way))])
        elif key == Qt.Key.Key_Space and step is not None:
            self.switch(step)
        elif key == Qt.Key.Key_Delete and step is not None:
            self.remove(step)
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Insert):
            self.add_wanted.emit(self.mapToGlobal(self.rect_of(ADD).bottomLeft()))
        else:
            super().keyPressEvent(event)

    def focusInEvent(self, event: QFocusEvent) -> None:
        """Show the focus."""
        super().focusInEvent(event)
        self._speak()
        self.update()

    def focusOutEvent(self, event: QFocusEvent) -> None:
        """Show that the focus is elsewhere."""
        super().focusOutEvent(event)
        self.update()

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        """Open the menu of a step."""
        ref = self._at(event.pos())
        if ref is None or ref == ADD or self._open_pull is None:
            return
        self.chosen.emit(ref)
        menu = QMenu(self)
        for text, do in self._entries(ref):
            menu.addAction(text, do)
        if menu.actions():
            menu.exec(event.globalPos())

    def _entries(self, ref: StepRef) -> list[tuple[str, Callable[[], None]]]:
        open_pull = self._open_pull
        assert open_pull is not None
        if ref == QUERY:
            down = (tr("Move WHERE conditions to a local filter…"), self.down_wanted.emit)
            return [
                (tr("Show rows here"), lambda: open_pull.shaping.show_rows_at(-1)),
                (tr("Run"), self.run_wanted.emit),
                down,
            ]
        if not ref.is_step:
            return []
        at = ref.at
        is_on = open_pull.pull.steps[at].on
        end = open_pull.show_at is None
        return [
            (tr("Switch off") if is_on else tr("Switch on"), lambda: self.switch(at)),
            (
                tr("Show rows here") if end else tr("Show rows at the end"),
                lambda: open_pull.shaping.show_rows_at(at if end else None),
            ),
            (tr("Move upstream…"), lambda: self.upstream_wanted.emit(at)),
            (tr("Move all steps upstream…"), self.upstream_all_wanted.emit),
            (tr("Rename…"), lambda: self.rename(at)),
            (tr("Copy to another pull…"), lambda: self.copy_wanted.emit(at)),
            (tr("Keep as a piece…"), lambda: self.keep_wanted.emit(at, at)),
            (tr("Keep all steps as a piece…"), lambda: self.keep_wanted.emit(0, len(open_pull.pull.steps) - 1)),
            (tr("Move left"), lambda: self.move_step(at, at - 1)),
            (tr("Move right"), lambda: self.move_step(at, at + 1)),
            (tr("Remove"), lambda: self.remove(at)),
        ]

    def switch(self, at: int) -> None:
        """Switch a step off or on."""
        if self._open_pull is not None:
            step = self._open_pull.pull.steps[at]
            self._open_pull.shaping.set_step(at, replace(step, on=not step.on), tr("Switch step"))  # type: ignore[type-var]

    def remove(self, at: int) -> None:
        """Remove a step and select the one before."""
        if self._open_pull is not None:
            self._open_pull.shaping.change(self._open_pull.pull.without_step(at), tr("Remove step"))
            self.chosen.emit(step_at(at - 1) if at else QUERY)

    def rename(self, at: int) -> None:
        """Ask for another name of a step."""
        assert self._open_pull is not None
        step = self._open_pull.pull.steps[at]
        text, done = QInputDialog.getText(self, tr("Rename step"), tr("Name (empty: what it does):"), text=step.name)
        if done:
            self._open_pull.shaping.set_step(at, replace(step, name=text.strip()), tr("Rename step"))  # type: ignore[type-var]
