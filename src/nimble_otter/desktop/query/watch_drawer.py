"""Watch: how often a pull is asked again, what is told of it, and the list of what changed."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import QColor
from PySide6.QtWidgets import QApplication, QCheckBox, QHeaderView, QLineEdit, QTreeWidget, QTreeWidgetItem

from nimble_otter.desktop.kit.theme import theme
from nimble_otter.desktop.kit.widgets import as_plain, boxed, button, column, combo, label, row
from nimble_otter.desktop.pulls.drawer import Drawer
from nimble_otter.errors import ConditionError
from nimble_otter.pull.watching import INTERVALS_S, Seen, What
from nimble_otter.query.local.conditions import parse_condition
from nimble_otter.translation import tr, tr_value

_WORDS = {
    5: tr("5 seconds"),
    10: tr("10 seconds"),
    30: tr("30 seconds"),
    60: "minute",
    300: tr("5 minutes"),
    900: tr("15 minutes"),
    3600: "hour",
}
_SHOWN = 2000
"""Changes that are listed; more are kept and copied."""
_TONES = {What.NEW: "water1", What.GONE: "plum", What.CHANGED: "amber_ink"}


class WatchDrawer(Drawer):
    """Everything of it goes to the pull's `watch`."""

    title = tr("Watch")

    def __init__(self) -> None:
        super().__init__()
        self.every = combo(
            [("0", tr("not watched")), *((str(s), tr("every {words}", words=_WORDS[s])) for s in INTERVALS_S)],
            "0",
            tr("Every"),
        )
        self.every.activated.connect(lambda _: self._set_every())
        self.condition = QLineEdit()
        self.condition.setAccessibleName(tr("Tell of rows where"))
        self.condition.setPlaceholderText("level_m > 3.2")
        self.condition.editingFinished.connect(self._set_condition)
        self.channel = QLineEdit()
        self.channel.setAccessibleName(tr("Channel"))
        self.channel.setPlaceholderText(tr("a channel of NOTIFY"))
        self.channel.editingFinished.connect(self._set_channel)
        self.channel_line = boxed(row(label(tr("and when told on"), "muted"), self.channel, space=6))
        self.hidden = QCheckBox(tr("rest while the window is hidden"))
        self.hidden.toggled.connect(lambda on: self._set("rests_hidden", on))
        self.checks = QCheckBox(tr("tell of a check that begins to fail"))
        self.checks.toggled.connect(lambda on: self._set("tells_checks", on))
        self.problem = label("", "plum", wrap=True)
        self.list = QTreeWidget()
        self.list.setObjectName("rows")
        self.list.setAccessibleName(tr("Changes"))
        self.list.setRootIsDecorated(False)
        self.list.setUniformRowHeights(True)
        self.list.setHeaderLabels([tr("When"), tr("What"), tr("Row"), tr("Column"), tr("Before"), tr("After")])
        header = self.list.header()
        header.setStretchLastSection(True)
        for index, width in enumerate((66, 64, 96, 88, 84)):
            header.setSectionResizeMode(index, QHeaderView.ResizeMode.Interactive)
            self.list.setColumnWidth(index, width)
        self.nothing = label(tr("Nothing changed yet."), "faint")
        self.copy = button(tr("Copy"), self._copy, "", tr("Copy the list of changes"))
        self.clear = button(tr("Clear"), self._clear)
        for each in (self.copy, self.clear):
            self.head.right.addWidget(each)
        side = boxed(column(
            row(label(tr("Ask again"), "muted"), self.every, None), self.channel_line,
            label(tr("Tell of new and changed rows where"), "muted"),
            self.condition, self.checks, self.hidden, self.problem, None, space=7, margins=(14, 10, 12, 8),
        ))  # fmt: skip
        side.setFixedWidth(270)
        self.set_body(side, boxed(column(self.nothing, self.list, margins=(6, 8, 10, 8))), stretch=(0, 1))
        self._listed: tuple[object, ...] = ()

    def refresh(self) -> None:
        """Show how the pull is watched, and what changed."""
        if self.open_pull is None:
            return
        watch = self.open_pull.watch
        self.every.setCurrentIndex(max(0, self.every.findData(str(watch.every_s))))
        for box, value in ((self.hidden, watch.rests_hidden), (self.checks, watch.tells_checks)):
            box.blockSignals(True)
            box.setChecked(value)
            box.blockSignals(False)
        self.channel_line.setVisible(self.open_pull.pull.source.dialect.has_channels)
        if not self.channel.hasFocus():
            self.channel.setText(watch.channel)
        if not self.condition.hasFocus():
            self.condition.setText(watch.condition)
        self.head.words.setText(watch.words or (tr("watching") if watch.every_s else ""))
        self.problem.setText(watch.problem)
        self.problem.setVisible(bool(watch.problem))
        listed = (self.open_pull.uid, watch.looks, len(watch.seen))
        if listed != self._listed:
            self._listed = listed
            self.list.clear()
            self.list.addTopLevelItems([_item(seen) for seen, _ in zip(watch.seen, range(_SHOWN), strict=False)])
        has_some = bool(watch.seen)
        self.nothing.setVisible(not has_some)
        self.list.setVisible(has_some)
        for each in (self.copy, self.clear):
            each.setEnabled(has_some)

    def focus_first(self) -> None:
        """How often."""
        self.every.setFocus()

    def _set_every(self) -> None:
        if self.open_pull is not None:
            self.open_pull.watch.set_every(int(str(self.every.currentData())))

    def _set_condition(self) -> None:
        if self.open_pull is None:
            return
        text, table = self.condition.text().strip(), self.open_pull.table
        self.problem.setText("")
        if text and table is not None:
            try:
                parse_condition(text, table)
            except ConditionError as problem:
                self.problem.setText(str(problem))
                self.problem.setVisible(True)
                return
        self.open_pull.watch.condition = text
        self.problem.setVisible(False)

    def _set_channel(self) -> None:
        if self.open_pull is not None and self.channel.text().strip() != self.open_pull.watch.channel:
            self.open_pull.watch.set_channel(self.channel.text())

    def _set(self, name: str, on: bool) -> None:
        if self.open_pull is not None:
            setattr(self.open_pull.watch, name, on)

    def _copy(self) -> None:
        if self.open_pull is not None:
            lines = ["\t".join(("when", "what", "row", "column", "before", "after"))]
            lines += ["\t".join(_texts(seen, True)) for seen in self.open_pull.watch.seen]
            QApplication.clipboard().setText("\n".join(lines))

    def _clear(self) -> None:
        if self.open_pull is not None:
            self.open_pull.watch.clear()


def _texts(seen: Seen, with_day: bool = False) -> list[str]:
    at = f"{seen.at:%Y-%m-%d %H:%M:%S}" if with_day else f"{seen.at:%H:%M:%S}"
    return [
        " ".join(text.split()) for text in (at, tr_value(seen.what), seen.row, seen.column, seen.before, seen.after)
    ]


def _item(seen: Seen) -> QTreeWidgetItem:
    texts = _texts(seen)
    item = QTreeWidgetItem(texts)
    item.setForeground(1, QColor(theme[_TONES[seen.what]]))
    for place in (2, 4, 5):
        item.setToolTip(place, as_plain(texts[place]))
    item.setData(0, Qt.ItemDataRole.AccessibleTextRole, ", ".join(filter(None, texts)))
    return item
