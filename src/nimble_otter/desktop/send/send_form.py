"""The options of a delivery: where it goes, what happens to a file that is there, and what its format leaves open."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QCheckBox, QComboBox, QCompleter, QFileDialog, QLineEdit, QVBoxLayout, QWidget

from nimble_otter.desktop.kit.widgets import as_plain, button, clear, column, combo, label, row
from nimble_otter.pull.model import SendPlan
from nimble_otter.send import EXISTS, Option, format_for
from nimble_otter.send.clipboard import OPTIONS as CLIPBOARD_OPTIONS
from nimble_otter.send.transfer import DUPLICATES
from nimble_otter.sources.catalogue import EntryKind
from nimble_otter.translation import tr

NAME_WIDTH = 128
_FIELD = 170
_PLACES = tr("Filled in: {pull} {source} {table} {count} {date} {time} {date:%Y-%m} {param.name}")
_SCOPES = (
    ("shown", tr("as shown")),
    ("tree", tr("groups as they are open")),
    ("all", tr("all rows and columns pulled")),
    ("query", tr("straight from the query")),
    ("server", tr("written by the server itself")),
)
_NOT_FOR = {"clipboard": ("query", "server"), "source": ("query",)}


class SendForm(QWidget):
    """`changed` with a plan whenever the user changed something."""

    changed = Signal(object)

    def __init__(self, sources: Callable[[], Sequence[Any]], tables: Callable[[str], Sequence[Any]]) -> None:
        super().__init__()
        self.sources, self.tables = sources, tables
        self.has_groups = False
        """Whether the rows that are shown are grouped."""
        self.own_source = ""
        """The source of the pull, which can write to itself."""
        self._plan = SendPlan()
        self._shape: Any = None
        self.path = QLineEdit()
        self.path.setAccessibleName(tr("File"))
        self.path.setToolTip(as_plain(_PLACES))
        self.path.editingFinished.connect(self._path_typed)
        self._body = QVBoxLayout()
        self._body.setSpacing(5)
        self.setLayout(column(self._body, None, space=0, margins=(14, 10, 14, 8)))

    def show_plan(self, plan: SendPlan) -> None:
        """Show a plan; fields are made anew only when its format, or what others depend on, changed."""
        self._plan = plan
        fields = tuple(option.name for option in self._in_use())
        source = plan.options.get("source")
        shape = (plan.format, self.has_groups, fields, source, self.own_source, len(self.tables(str(source or ""))))
        if shape != self._shape:
            self._shape = shape
            self._build()
        if not self.path.hasFocus() and self.path.text() != plan.path:
            self.path.setText(plan.path)
            self.path.setCursorPosition(0)

    @staticmethod
    def _options(plan: SendPlan) -> Sequence[Option]:
        if plan.format == "clipboard":
            return CLIPBOARD_OPTIONS
        return () if plan.format == "source" else format_for(plan.format).options

    def _build(self) -> None:
        clear(self._body, self.path)
        plan = self._plan
        if plan.format == "source":
            self._build_source()
            return
        if plan.format != "clipboard":
            self._line(
                tr("File"), row(self.path, button("…", self._browse, tip=tr("Choose a file")), space=6), stretch=True
            )
            self.path.show()
            ways = (*EXISTS[:3], *format_for(plan.format).changes)
            self._line(tr("If it exists"), self._choice("exists", tr("If it exists"), ways, plan.exists))
        self._line_of_rows()
        self.path.setText(plan.path)
        for option in self._in_use():
            self._line(option.label, self._field(option))

    def _in_use(self) -> list[Option]:
        """The options that have a field: those that others need not, or do."""
        options = [o for o in self._options(self._plan) if not o.needs or self._value(o.needs)]
        has_files = any(o.name == "binary" for o in options) and self._value("binary") in ("files", "both")
        return [o for o in options if o.name != "binary_name" or has_files]

    def _line_of_rows(self) -> None:
        plan = self._plan
        scopes = [s for s in _SCOPES if s[0] not in _NOT_FOR.get(plan.format, ())]
        if not self.has_groups and plan.scope != "tree":
            scopes = [s for s in scopes if s[0] != "tree"]
        if plan.scope != "server" and (plan.format != "source" or plan.options.get("source") != self.own_source):
            scopes = [s for s in scopes if s[0] != "server"]
        self._line(tr("Rows"), self._choice("scope", tr("Rows"), scopes, plan.scope))

    def _value(self, name: str) -> object:
        option = next(o for o in self._options(self._plan) if o.name == name)
        return self._plan.options.get(name, option.default)

    def _line(self, name: str, part: Any, stretch: bool = False) -> None:
        said = label(name, "muted", wrap=True)
        said.setFixedWidth(NAME_WIDTH)
        line = row(said, part, space=8) if stretch else row(said, part, None, space=8)
        self._body.addLayout(line)

    def _choice(self, name: str, title: str, choices: Any, value: str) -> QComboBox:
        combo_box: QComboBox = combo(choices, value, title)
        combo_box.setFixedWidth(_FIELD + 30)
        combo_box.activated.connect(lambda _: self._put(**{name: combo_box.currentData()}))
        return combo_box

    def _field(self, option: Option) -> QWidget:
        value = self._plan.options.get(option.name, option.default)
        if option.kind == "choice":
            choice: QComboBox = combo(option.choices, str(value), option.label)
            choice.setFixedWidth(_FIELD + 30)
            choice.activated.connect(lambda _: self._set(option.name, choice.currentData()))
            return choice
        if option.kind == "yes/no":
            tick = QCheckBox(tr("yes"))
            tick.setAccessibleName(option.label)
            tick.setChecked(bool(value))
            tick.toggled.connect(lambda on: self._set(option.name, on))
            return tick
        return self._text(option.name, option.label, str(value), option.hint)

    def _text(self, name: str, title: str, value: str, hint: str) -> QLineEdit:
        text = QLineEdit(value)
        text.setAccessibleName(title)
        text.setFixedWidth(_FIELD + 30)
        text.setPlaceholderText(hint)
        text.editingFinished.connect(lambda: self._set(name, text.text()))
        return text

    # --- another source ----------------------------------------------------------------------------------------

    def _build_source(self) -> None:
        options = self._plan.options
        known = [source for source in self.sources() if not source.is_read_only]
        chosen = str(options.get("source", ""))
        choices = [("", tr("choose a source")), *((source.name, source.name) for source in known)]
        source: QComboBox = combo(choices, chosen, tr("Source"))
        source.setFixedWidth(_FIELD + 30)
        source.activated.connect(lambda _: self._set("source", source.currentData()))
        self._line(tr("Source"), source)
        names = [t.name for t in self.tables(chosen) if t.kind in (EntryKind.TABLE, EntryKind.COLLECTION)]
        table = self._text("table", tr("Table"), str(options.get("table", "")), tr("an existing one, or a new one"))
        table.setCompleter(QCompleter(names, table))
        self._line(tr("Table"), table)
        is_there = str(options.get("table", "")).casefold() in {name.casefold() for name in names}
        if not is_there:
            self._line(
                tr("Primary key"),
                self._text("key", tr("Primary key"), str(options.get("key", "")), tr("column, column")),
            )
        duplicates: QComboBox = combo(DUPLICATES, str(options.get("duplicates", "stop")), tr("Rows that already exist"))
        duplicates.setFixedWidth(_FIELD + 30)
        duplicates.activated.connect(lambda _: self._set("duplicates", duplicates.currentData()))
        self._line(tr("Existing rows"), duplicates)
        self._line(
            tr("Columns go to"),
            self._text("map", tr("Columns go to"), str(options.get("map", "")), tr("ours = theirs, …")),
        )
        self._line_of_rows()

    # --- changes -----------------------------------------------------------------------------------------------

    def _put(self, **values: Any) -> None:
        from dataclasses import replace

        self.changed.emit(replace(self._plan, **values))

    def _set(self, name: str, value: object) -> None:
        options: Mapping[str, Any] = self._plan.options
        if options.get(name, "") != value:
            self._put(options={**options, name: value})

    def _path_typed(self) -> None:
        typed = self.path.text().strip()
        if typed and typed != self._plan.path:
            self._put(path=typed)

    def _browse(self) -> None:
        format_ = format_for(self._plan.format)
        path, _ = QFileDialog.getSaveFileName(
            self, tr("Send to"), self._plan.path, f"{format_.word} (*{format_.suffix})",
            options=QFileDialog.Option.DontConfirmOverwrite,
        )  # fmt: skip
        if path:
            self._put(path=path)
