"""Settings: each on a line with what it does, at once and kept; every one can be set back."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial

from PySide6.QtCore import QSize, Qt, QTimer, QUrl, Signal
from PySide6.QtGui import QDesktopServices, QKeySequence
from PySide6.QtWidgets import (
    QComboBox,
    QHeaderView,
    QKeySequenceEdit,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QStackedWidget,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)  # fmt: skip

from nimble_otter.desktop.changes.changes_side import GUARDS
from nimble_otter.desktop.kit.commands import Commands, shown_keys
from nimble_otter.desktop.kit.widgets import button, clear, column, combo, label, row
from nimble_otter.desktop.runtime.settings import (
    CODE_SIZES,
    IDLE_MINUTES,
    LINES_MOST,
    MEMORIES,
    MOST_DAYS,
    MOST_ROWS,
    NULL_MARKS,
    ROW_HEIGHTS,
    TEAM_WIDE,
    TEXT_SIZES,
    USUAL,
    WAITED_S,
    SettingsStore,
    Value,
    team_file,
    trouble_with,
)  # fmt: skip
from nimble_otter.desktop.shell.shortcuts import FORMER
from nimble_otter.table.text.show import grouped
from nimble_otter.translation import NAMES, languages, tr

KEYBOARD = tr("Keyboard")
_NAMES, _FIELDS = 160, 196
_KEY = Qt.ItemDataRole.UserRole


@dataclass(frozen=True, slots=True)
class Line:
    """A setting: its part of the page, its name, what it does, and its choices (none: a number up to `most`, or a
    text, for which `hint` stands while there is none)."""

    key: str
    part: str
    name: str
    effect: str
    choices: tuple[tuple[str, str], ...] = ()
    most: int = 0
    hint: str = ""


_ON_OFF = (("True", tr("on")), ("False", tr("off")))
LINES = (
    Line(
        "theme",
        tr("Look"),
        tr("Light or dark"),
        tr("at once"),
        (("", tr("as the desktop is")), ("light", tr("light")), ("dark", tr("dark"))),
    ),
    Line(
        "language",
        tr("Look"),
        tr("Language"),
        tr("from the next start on; what is delivered stays as it is"),
        (("", tr("as the desktop is")), *((code, NAMES.get(code, code)) for code in languages())),
    ),
    Line(
        "text_percent",
        tr("Look"),
        tr("Size of text"),
        tr("from the next start on; of what the desktop has"),
        tuple((str(size), f"{size} %") for size in TEXT_SIZES),
    ),
    Line(
        "row_height",
        tr("Rows"),
        tr("Height of rows"),
        tr("Ctrl++ and Ctrl+- change it too"),
        tuple((str(height), tr("{height} px", height=height)) for height in ROW_HEIGHTS),
    ),
    Line("stripes", tr("Rows"), tr("Stripes"), tr("every second row shaded"), _ON_OFF),
    Line(
        "null_mark",
        tr("Rows"),
        tr("NULL shown as"),
        tr("the mark in cells; NULL in Record and in messages"),
        tuple((mark, mark or tr("nothing")) for mark in NULL_MARKS),
    ),
    Line(
        "thousands",
        tr("Rows"),
        tr("Group thousands"),
        tr("1\u2009204 or 1204; never of keys, years and codes"),
        _ON_OFF,
    ),
    Line(
        "date_form",
        tr("Rows"),
        tr("Dates"),
        tr("such as dd.MM.yyyy; a column's own pattern comes first"),
        hint="yyyy-MM-dd",
    ),
    Line(
        "time_form",
        tr("Rows"),
        tr("Times"),
        tr("such as dd.MM.yyyy HH:mm; what is sent stays as it is"),
        hint="yyyy-MM-dd HH:mm:ss",
    ),
    Line("time_zone", tr("Rows"), tr("Time zone"), tr("for times that have one, such as Europe/Vienna"), hint="UTC"),
    Line("row_limit", tr("Query"), tr("Stop a new pull after"), tr("rows; each pull can have its own"), most=MOST_ROWS),
    Line("history_days", tr("Query"), tr("Keep what was run for"), tr("days"), most=MOST_DAYS),
    Line(
        "code_size",
        tr("Query"),
        tr("Letters of the text"),
        tr("in pixels"),
        tuple((str(px), tr("{px} px", px=px)) for px in CODE_SIZES),
    ),
    Line("wrap_lines", tr("Query"), tr("Fold long lines"), tr("at the edge of the editor"), _ON_OFF),
    Line(
        "offer_names",
        tr("Query"),
        tr("Offer names"),
        tr("tables, columns and functions; Ctrl+Space always offers them"),
        (("True", tr("while typing")), ("False", tr("when asked for"))),
    ),
    Line(
        "guard",
        tr("Changes"),
        tr("Match rows by"),
        tr("in new pulls; what a row must still hold to be changed"),
        GUARDS,
    ),
    Line(
        "memory_mb",
        tr("Program"),
        tr("Memory limit"),
        tr("a pull that would need more stops there, and says so"),
        tuple(
            (str(mb), f"{mb // 1024} GB" if mb >= 1024 else f"{mb} MB" if mb else tr("three quarters of the machine's"))
            for mb in MEMORIES
        ),
    ),
    Line(
        "connect_s",
        tr("Network"),
        tr("Wait for a connection"),
        tr("before a server counts as not there"),
        tuple((str(s), tr("{s} seconds", s=s)) for s in WAITED_S),
    ),
    Line(
        "answer_s",
        tr("Network"),
        tr("Wait for a web service"),
        tr("while it says nothing; a query may take as long as it takes"),
        tuple((str(s), tr("{s} seconds", s=s)) for s in WAITED_S),
    ),
    Line(
        "idle_min",
        tr("Network"),
        tr("Close unused connections after"),
        tr("the next question opens them again"),
        tuple((str(m), tr("{m} minutes", m=m) if m else tr("never")) for m in IDLE_MINUTES),
    ),
    Line(
        "most_lines",
        tr("Network"),
        tr("Connections to a source"),
        tr("at most; from the next time that it is opened"),
        tuple((str(n), str(n)) for n in LINES_MOST),
    ),
    Line(
        "send_folder",
        tr("Send"),
        tr("Folder of new deliveries"),
        tr("for their files, unless a pull says otherwise"),
        hint="~",
    ),
    Line(
        "team_folder",
        tr("Team"),
        tr("Folder of the team"),
        tr("on a share or in git; what is in it stands beside yours"),
        hint=tr("none"),
    ),
)
PARTS = (*dict.fromkeys(line.part for line in LINES), KEYBOARD)


class SettingsPage(QWidget):
    """`closed` when it is left."""

    closed = Signal()

    def __init__(self, store: SettingsStore, commands: Commands) -> None:
        super().__init__()
        self.setObjectName("surface")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._store, self._commands = store, commands
        self.words, self.list = QLineEdit(), QListWidget()
        self.words.setPlaceholderText(tr("Find a setting"))
        self.words.setAccessibleName(tr("Find a setting"))
        self.words.setClearButtonEnabled(True)
        self.words.setFixedWidth(300)
        self.words.textChanged.connect(lambda _: self._show())
        for part in PARTS:
            item = QListWidgetItem(part)
            item.setSizeHint(QSize(0, 27))
            self.list.addItem(item)
        self.list.setFixedWidth(150)
        self.list.setAccessibleName(tr("Parts of the settings"))
        self.list.currentRowChanged.connect(lambda _: self._show())
        self.fields: dict[str, QComboBox | QLineEdit] = {}
        self.problem = label("", "plum", wrap=True)
        self._lines, self._stack = QVBoxLayout(), QStackedWidget()
        plain = QWidget()
        plain.setLayout(column(self._lines, None))
        self.keys = _Keys(store, commands)
        self._stack.addWidget(plain)
        self._stack.addWidget(self.keys)
        open_file = button(tr("Open the file"), self._open_file, "", str(store.path))
        layout = column(
            row(
                label(tr("Settings"), px=18, bold=True),
                None,
                self.words,
                open_file,
                button(tr("Close"), self.closed.emit),
            ),
            6,
            row(self.list, 22, self._stack),
            self.problem,
            space=9,
            margins=(28, 22, 28, 18),
        )
        layout.setStretch(2, 1)
        self.setLayout(layout)
        store.changed.connect(self._show)

    def open(self, name: str = "") -> None:
        """Show the settings, at one of them where it is named."""
        self.words.clear()
        line = next((line for line in LINES if line.name == name), None)
        self.list.setCurrentRow(PARTS.index(line.part) if line is not None else max(0, self.list.currentRow()))
        self._show()
        wanted = self.fields[line.key] if line is not None else self.list
        QTimer.singleShot(0, wanted, wanted.setFocus)  # once it stands there

    def _open_file(self) -> None:
        if not self._store.path.exists():
            self._store.write()
        QDesktopServices.openUrl(QUrl.fromLocalFile(str(self._store.path)))

    def _show(self) -> None:
        wanted = self.words.text().casefold().split()
        part = PARTS[max(0, self.list.currentRow())]
        is_keys = part == KEYBOARD
        self._stack.setCurrentIndex(int(is_keys))
        self.problem.setText("")
        if is_keys:
            self.keys.fill(wanted)
            return
        clear(self._lines)
        self.fields.clear()
        shown = [line for line in LINES
                 if (all(word in f"{line.part} {line.name} {line.effect}".casefold() for word in wanted)
                     if wanted else line.part == part)]  # fmt: skip
        for line in shown:
            self._lines.addLayout(self._line(line))
        if not shown:
            self._lines.addWidget(
                label(tr("No setting has these words; shortcuts are under Keyboard."), "muted", wrap=True)
            )

    def _line(self, line: Line) -> QVBoxLayout:
        value = getattr(self._store.now, line.key)
        name = label(line.name)
        name.setFixedWidth(_NAMES - 6)
        made: QComboBox | QLineEdit
        if line.choices:
            made = combo(line.choices, str(value), line.name)
            made.activated.connect(lambda _, box=made: self._set(line, str(box.currentData())))
        else:
            made = QLineEdit(grouped(value) if isinstance(value, int) else str(value))
            made.setPlaceholderText(line.hint)
            made.setAccessibleName(line.name)
            made.editingFinished.connect(lambda box=made: self._set(line, box.text()))
        made.setFixedWidth(_FIELDS)
        self.fields[line.key] = made
        usual = getattr(self._store.usual, line.key)
        back = button(tr("Set back"), lambda: self._set(line, str(usual)), "link")
        back.setVisible(value != usual)
        give = button(tr("For the team"), lambda: self._store.give_to_team(line.key), "link",
                      tr("Let it hold for everybody who has not set another value"))  # fmt: skip
        give.setVisible(value != usual and line.key in TEAM_WIDE and team_file() is not None)
        is_theirs = value == usual != getattr(USUAL, line.key)
        whose = label(tr("the team's") if is_theirs else "", "muted", 12)
        effect = label(line.effect, "muted", 12, wrap=True)
        effect.setContentsMargins(_NAMES + 2, 0, 0, 0)
        return column(row(name, made, back, give, whose, None), effect, 7, space=1)

    def _set(self, line: Line, text: str) -> None:
        usual = getattr(USUAL, line.key)
        value: Value = text
        if isinstance(usual, bool):
            value = text == "True"
        elif isinstance(usual, int):
            digits = "".join(c for c in text if not c.isspace())
            if not digits.isdecimal() or not 1 <= int(digits) <= (line.most or MOST_ROWS):
                self.problem.setText(
                    tr(
                        "{line_name}: {text!r} is not a whole number from 1 to {most}.",
                        line_name=line.name,
                        text=text,
                        most=grouped(line.most),
                    )
                )
                return
            value = int(digits)
        if trouble := trouble_with(line.key, value):
            self.problem.setText(f"{line.name}: {text!r} {trouble}.")
            return
        self._store.set(line.key, value)


class _Keys(QWidget):
    """The shortcut of every command."""

    def __init__(self, store: SettingsStore, commands: Commands) -> None:
        super().__init__()
        self._store, self._commands = store, commands
        self.tree, self.edit = QTreeWidget(), QKeySequenceEdit()
        self.tree.setHeaderLabels([tr("Command"), tr("Keys"), ""])
        self.tree.setRootIsDecorated(False)
        self.tree.setUniformRowHeights(True)
        self.tree.setObjectName("rows")
        self.tree.setAccessibleName(tr("Commands and their keys"))
        self.tree.header().setStretchLastSection(False)
        self.tree.header().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        self.tree.currentItemChanged.connect(lambda *_: self._show_one())
        self.edit.setMaximumSequenceLength(2)
        self.edit.setAccessibleName(tr("New keys of the command"))
        self.edit.setFixedWidth(170)
        self.said = label("", "plum", 12, wrap=True)
        self.use = button(tr("Use these keys"), self._use, "primary")
        self.none = button(tr("No keys"), lambda: self._put(""))
        self.back = button(tr("Set back"), self._set_back, "link")
        self.edit.keySequenceChanged.connect(lambda _: self._look())
        layout = column(self.tree, row(self.edit, self.use, self.none, self.back, None), self.said, space=8)
        layout.setStretch(0, 1)
        self.setLayout(layout)

    def fill(self, words: Sequence[str] = ()) -> None:
        """Show the commands that have these words, and what keys they have now."""
        before = self._key
        self.tree.blockSignals(True)
        self.tree.clear()
        for command in sorted(self._commands.all(), key=lambda each: each.name.casefold()):
            keys = shown_keys(command.shortcut)
            known = f"{command.name} {keys} {FORMER.get(command.key, '')}".casefold()
            if not command.anywhere or not all(word in known for word in words):
                continue
            is_own = command.key in self._store.now.keys
            former = tr("was {former}", former=shown_keys(FORMER[command.key])) if command.key in FORMER else ""
            item = QTreeWidgetItem([command.name, keys, tr("own") if is_own else former])
            item.setData(0, _KEY, command.key)
            self.tree.addTopLevelItem(item)
            if command.key == before or self.tree.currentItem() is None:
                self.tree.setCurrentItem(item)
        self.tree.setColumnWidth(1, 150)
        self.tree.setColumnWidth(2, 140)
        self.tree.blockSignals(False)
        self._show_one()

    def choose(self, key: str) -> None:
        """Go to a command."""
        for at in range(self.tree.topLevelItemCount()):
            item = self.tree.topLevelItem(at)
            if item is not None and item.data(0, _KEY) == key:
                self.tree.setCurrentItem(item)

    @property
    def _key(self) -> str:
        item = self.tree.currentItem()
        return str(item.data(0, _KEY)) if item is not None else ""

    def _show_one(self) -> None:
        item = self.tree.currentItem()
        self.edit.blockSignals(True)
        self.edit.setKeySequence(QKeySequence(item.text(1) if item is not None else ""))
        self.edit.blockSignals(False)
        self.back.setVisible(self._key in self._store.now.keys)
        self._look()

    def _look(self) -> None:
        """Whether another command has these keys."""
        wanted = self.edit.keySequence().toString()
        others = [each.name for each in self._commands.with_shortcut(wanted) if each.key != self._key]
        self.said.setText(tr("“{others}” has these keys; give it others first.", others=others[0]) if others else "")
        self.use.setEnabled(bool(wanted) and not others)

    def _use(self) -> None:
        self._put(self.edit.keySequence().toString())

    def _set_back(self) -> None:
        if not self._key:
            return
        usual = self._commands.usual(self._key)
        others = [each.name for each in self._commands.with_shortcut(usual) if each.key != self._key]
        if others:
            self.said.setText(tr("“{others}” has {usual} now; give it others first.", others=others[0], usual=usual))
            return
        self._store.set("keys", {key: own for key, own in self._store.now.keys.items() if key != self._key})

    def _put(self, shortcut: str) -> None:
        if not self._key:
            return
        keys = {**self._store.now.keys, self._key: shortcut}
        if QKeySequence(shortcut) == QKeySequence(self._commands.usual(self._key)):
            keys.pop(self._key)
        self._store.set("keys", keys)


def settings_found(open_at: Callable[[str], object]) -> list[tuple[str, str, Callable[[], object]]]:
    """Every setting by its name and part, and what opens the page there."""
    return [(line.name, line.part, partial(open_at, line.name)) for line in LINES]
