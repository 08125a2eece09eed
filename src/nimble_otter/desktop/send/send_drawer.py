"""Send: where rows go and how, the first of them as they will be written, and the columns in their order."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import QSize, Qt, QTimer, Signal
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import (
    QApplication,
    QListWidget,
    QListWidgetItem,
    QPlainTextEdit,
    QScrollArea,
    QSizePolicy,
    QSplitter,
    QWidget,
)

from nimble_otter.desktop.kit.theme import code_font
from nimble_otter.desktop.kit.widgets import (
    ElidedLabel,
    Line,
    Segments,
    as_plain,
    boxed,
    button,
    column,
    label,
    row,
    set_tone,
)
from nimble_otter.desktop.pulls.drawer import Drawer
from nimble_otter.desktop.send.send_columns import SendColumns
from nimble_otter.desktop.send.send_form import SendForm
from nimble_otter.errors import OtterError
from nimble_otter.pull.model import SendPlan
from nimble_otter.pull.steps.check import stopping
from nimble_otter.send import all_formats, format_for
from nimble_otter.table.text.show import grouped
from nimble_otter.translation import tr, trn

if TYPE_CHECKING:
    from nimble_otter.desktop.runtime.connections import ConnectionManager
    from nimble_otter.desktop.send.sending import Sending

_OTHERS = (("clipboard", tr("Clipboard")), ("source", tr("Another source")))
_WIDE, _FORM, _SIDE = 740, 400, 186
"""Pixels from which on the preview stands beside the options, and how wide these and the columns are."""
_PREVIEW_MS = 150


class SendDrawer(Drawer):
    """The drawer of deliveries: which rows, in which format, where to, and how it would look."""

    title = tr("Send")
    write_wanted = Signal()
    anyway_wanted = Signal()
    repeat_wanted = Signal()
    locale_set = Signal(dict)

    def __init__(self, sending: Sending, hub: ConnectionManager, receiver: Callable[[], Mapping[str, Any]]) -> None:
        """`receiver` gives how copies are written for whoever gets them."""
        super().__init__()
        self.sending, self._receiver = sending, receiver
        self.write = button(tr("Write file"), self.write_wanted.emit, "primary")
        self.anyway = button(
            tr("Send all the same"), self.anyway_wanted.emit, "", tr("Send the rows although checks fail")
        )
        self.anyway.hide()
        self.head.right.addWidget(self.anyway)
        self.head.right.addWidget(
            button(tr("Repeat…"), self.repeat_wanted.emit, "", tr("Deliver this by itself, every day or week"))
        )
        self.head.right.addWidget(self.write)
        self.formats = QListWidget()
        self.formats.setObjectName("formats")
        self.formats.setAccessibleName(tr("Where to"))
        self.formats.setFixedWidth(146)
        for key, word in (*((f.key, f.word) for f in all_formats()), *_OTHERS):
            item = QListWidgetItem(word)
            item.setData(Qt.ItemDataRole.UserRole, key)
            item.setSizeHint(QSize(0, 23))
            self.formats.addItem(item)
        self.formats.currentItemChanged.connect(lambda item, _: self._choose(item))
        self.form = SendForm(lambda: hub.sources, lambda name: hub.tables.get(name, []))
        self.form.changed.connect(self._put)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setWidget(self.form)
        self.preview = QPlainTextEdit()
        self.preview.setObjectName("sunk")
        self.preview.setReadOnly(True)
        self.preview.setLineWrapMode(QPlainTextEdit.LineWrapMode.NoWrap)
        self.preview.setFont(code_font())
        self.preview.setAccessibleName(tr("The first rows as they will be written"))
        self.preview.setTabStopDistance(48)
        self._said = ElidedLabel("", "muted")
        shown = boxed(column(self._said, self.preview, space=4, margins=(12, 8, 12, 8)))
        self._options, self._shown = scroll, shown
        self._parts = QSplitter(Qt.Orientation.Horizontal)
        self._parts.setChildrenCollapsible(False)
        self._parts.addWidget(scroll)
        self._parts.addWidget(shown)
        self._parts.setSizes([_FORM, _WIDE - _FORM])
        self._parts.setStretchFactor(1, 1)
        self.views = Segments([tr("Options"), tr("Preview")], lambda _: self._arrange())
        self.views.setFixedWidth(160)
        self.head.left.addWidget(self.views)
        self.report = self._make_report()
        self.columns = SendColumns()
        self.columns.changed.connect(self._columns_changed)
        side = boxed(column(label(tr("Columns, in order"), "muted", 12), self.columns, margins=(12, 9, 8, 6)), "raised")
        side.setFixedWidth(_SIDE)
        parts = column(self._parts, self.report, space=0)
        parts.setStretch(0, 1)
        middle = boxed(parts)
        self.set_body(self.formats, middle, Line(True, "grid_line"), side, stretch=(0, 1, 0, 0))
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(_PREVIEW_MS)
        self._later.timeout.connect(self._show_preview)

    # --- what was sent -----------------------------------------------------------------------------------------

    def _make_report(self) -> QWidget:
        """A line under the options: what was sent, and what can be done with it."""
        self._sent = ElidedLabel("")
        self._again = button(tr("Send again"), self.write_wanted.emit)
        deeds = row(
            button(tr("Open"), lambda: self._with_path(False)),
            button(tr("Show in folder"), lambda: self._with_path(True)),
            button(tr("Copy path"), self._copy_path),
            self._again,
            None,
            space=6,
        )
        widget = boxed(column(self._sent, deeds, space=3, margins=(14, 4, 12, 5)), "raised")
        widget.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Maximum)
        widget.hide()
        return widget

    def _with_path(self, folder: bool) -> None:
        from nimble_otter.desktop.send.sending import open_path

        if self.open_pull is None or self.open_pull.sent is None:
            return
        path = self.open_pull.sent.path
        if not path.exists():
            self._sent.setText(tr("{path} no longer exists.", path=path))
            return
        if not open_path(path.parent if folder else path):
            self._sent.setText(tr("No application is set to open {path_name}.", path_name=path.name))

    def _copy_path(self) -> None:
        if self.open_pull is not None and self.open_pull.sent is not None:
            QApplication.clipboard().setText(str(self.open_pull.sent.path))

    def _show_report(self) -> None:
        from nimble_otter.desktop.send.sending import size_words

        sent = self.open_pull.sent if self.open_pull is not None else None
        self.report.setVisible(sent is not None)
        if sent is None:
            return
        counted = tr("counted by reading back") if sent.checked else tr("counted while writing")
        parts = [
            tr(
                "Sent {rows} rows to {path_name}, {size_words} in {seconds:.1f} s",
                rows=grouped(sent.rows),
                path_name=sent.path.name,
                size_words=size_words(sent.bytes),
                seconds=sent.seconds,
            )
        ]
        parts += [counted]
        parts += (
            [tr("{count} files in {folder}", count=grouped(sent.beside[1]), folder=sent.beside[0].name)]
            if sent.beside is not None
            else []
        )
        self._sent.setText("; ".join([*parts, *sent.notes]))
        self._sent.setToolTip(as_plain("\n".join([str(sent.path), *parts, *sent.notes])))

    # --- the plan ----------------------------------------------------------------------------------------------

    @property
    def plan(self) -> SendPlan:
        """The pull's plan, or the one it would begin with."""
        assert self.open_pull is not None
        return self.open_pull.pull.send or SendPlan("csv", f"{self.sending.target()}/{{pull}}-{{date}}.csv")

    def focus_first(self) -> None:
        """Put the keyboard on what sends the rows."""
        self.write.setFocus()

    def refresh(self) -> None:
        """Show what would be sent now."""
        open_pull = self.open_pull
        assert open_pull is not None
        shaped, plan = open_pull.shaped, self.plan
        if plan.scope == "query":
            self.head.words.setText(tr("all rows of the query, without showing them"))
        elif plan.scope == "server":
            self.head.words.setText(tr("the whole course, computed on the server"))
        elif shaped is None:
            self.head.words.setText(tr("no rows yet: run the query first"))
        else:
            self.head.words.setText(self._words(plan))
        self.write.setText({"clipboard": tr("Copy"), "source": tr("Send rows")}.get(plan.format, tr("Write file")))
        failed = stopping(self.sending.checked(open_pull, plan))
        self.anyway.setVisible(bool(failed))
        if failed:
            count = trn(
                "{failed_count} check fails", "{failed_count} checks fail", len(failed), failed_count=len(failed)
            )
            self.head.words.setText(tr("held back: {count}", count=count))
        elif open_pull.failing is not None:
            self.head.words.setText(tr("{text}, those that fail a check", text=self.head.words.text()))
        is_ready = (shaped is not None or plan.scope in ("query", "server")) and not open_pull.is_running
        self.write.setEnabled(is_ready and not failed)
        self.anyway.setEnabled(is_ready)
        self._again.setEnabled(is_ready)
        self.formats.blockSignals(True)
        for index in range(self.formats.count()):
            if self.formats.item(index).data(Qt.ItemDataRole.UserRole) == plan.format:
                self.formats.setCurrentRow(index)
        self.formats.blockSignals(False)
        self.form.has_groups = shaped is not None and shaped.grouped is not None
        self.form.own_source = open_pull.pull.source.name
        self.form.show_plan(plan)
        self.columns.show_rows(shaped)
        self.columns.setEnabled(plan.scope in ("shown", "tree"))
        self.sending.recall_last(open_pull)
        self._show_report()
        self._later.start()

    def _words(self, plan: SendPlan) -> str:
        open_pull = self.open_pull
        assert open_pull is not None
        shaped = open_pull.shaped
        assert shaped is not None
        if plan.scope == "all" and open_pull.table is not None:
            words = tr(
                "{rows} rows × {fields_count} columns, as pulled",
                rows=grouped(open_pull.table.rows),
                fields_count=len(open_pull.table.fields),
            )
        elif plan.scope == "tree" and shaped.grouped is not None:
            words = tr(
                "{tree_lines_count} lines of groups, as they are open",
                tree_lines_count=grouped(len(open_pull.shaping.tree_lines() or ())),
            )
        else:
            noun = tr("groups (the deepest level)") if shaped.grouped is not None else tr("rows")
            words = tr(
                "{rows} {noun} × {shown_count} columns, as shown",
                rows=grouped(shaped.rows),
                noun=noun,
                shown_count=len(shaped.shown()),
            )
        if open_pull.edits.count:
            words += tr(" · pending changes are not sent until written")
        return words

    def _show_preview(self) -> None:
        """The first rows as they will be written; what is wrong with the options in their place."""
        if self.open_pull is None or not self.isVisible():
            return
        plan = self.plan
        is_text = plan.format in ("clipboard", "source") or format_for(plan.format).is_text
        message = (
            tr("First rows, as they will be written") if is_text else tr("First rows; the file holds them as values")
        )
        if plan.format == "source":
            message = tr("What will be done")
        try:
            text, tone = self.sending.preview(self.open_pull, plan), "muted"
        except OtterError as problem:
            text, message, tone = "", str(problem), "plum"
        if not text and tone == "muted":
            is_there = plan.scope == "server"
            message = (
                tr("What will be done is shown once there are rows")
                if is_there
                else tr("no rows yet: run the query first")
            )
        self._said.setText(message)
        set_tone(self._said, tone)
        if self.preview.toPlainText() != text:
            self.preview.setPlainText(text)

    def showEvent(self, event: Any) -> None:
        """Work out the preview soon after it is shown."""
        super().showEvent(event)
        self._later.start()

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Arrange its parts for the width there is."""
        super().resizeEvent(event)
        self._arrange()

    def _arrange(self) -> None:
        """Options and preview beside each other where there is room, else one of them."""
        is_wide = self.width() - self.formats.width() - _SIDE >= _WIDE
        self.views.setVisible(not is_wide)
        self._options.setVisible(is_wide or self.views.chosen == 0)
        self._shown.setVisible(is_wide or self.views.chosen == 1)
        self._later.start()

    def _put(self, plan: SendPlan) -> None:
        assert self.open_pull is not None
        if plan != self.open_pull.pull.send:
            if plan.format == "clipboard":  # copies from the grid are for the same receiver
                self.locale_set.emit({name: value for name, value in plan.options.items() if name != "form"})
            self.open_pull.shaping.change(replace(self.open_pull.pull, send=plan), tr("Change delivery"))

    def _choose(self, item: QListWidgetItem | None) -> None:
        if item is None or self.open_pull is None:
            return
        key, plan = str(item.data(Qt.ItemDataRole.UserRole)), self.plan
        if key == plan.format:
            return
        path = plan.path
        for format_ in all_formats():
            if path.lower().endswith(format_.suffix):
                path = path[: -len(format_.suffix)]
                break
        if key in dict(_OTHERS):
            options = dict(self._receiver()) if key == "clipboard" else {}
            self._put(SendPlan(key, path, options, plan.exists, "all" if plan.scope == "all" else "shown"))
            return
        ways = {"ask", "number", "replace", *(way for way, _ in format_for(key).changes)}
        exists = plan.exists if plan.exists in ways else "ask"
        known = {option.name for option in format_for(key).options}
        kept = {name: value for name, value in plan.options.items() if name in known & _SHARED}
        scope = "shown" if plan.scope == "server" else plan.scope
        self._put(SendPlan(key, path + format_for(key).suffix, kept, exists, scope))

    def _columns_changed(self, what: str) -> None:
        """The list is the Columns step: one place for what is shown and sent."""
        open_pull = self.open_pull
        assert open_pull is not None
        if not self.columns.ticked:
            self.columns.forget()
            self.refresh()
            return
        at, step = self.columns.step(open_pull.pull)
        if at is not None:
            open_pull.shaping.set_step(at, step, what)
        else:
            open_pull.shaping.add_step(step, what)


_SHARED = {"header", "case", "empty", "values", "decimal", "date", "time", "words", "table"}
"""Options that mean the same from one format to the next."""
