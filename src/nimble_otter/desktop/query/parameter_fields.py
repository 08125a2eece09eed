"""The parameters of a query beside its text: a field each, what the value means, and a menu of values and kinds."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QInputDialog, QLabel, QLineEdit, QMenu, QVBoxLayout, QWidget

from nimble_otter.desktop.kit.widgets import ElidedLabel, button, calling, clear, column, label, row, set_tone
from nimble_otter.desktop.pulls.open_pull import OpenPull
from nimble_otter.errors import OtterError, QueryError
from nimble_otter.pull.model import Query
from nimble_otter.query.sql.names import names_of
from nimble_otter.query.sql.parameters import KINDS, PHRASES, Ask, Use, find_uses, last_values, shown, typed, value_of
from nimble_otter.sources import Request, fetch
from nimble_otter.table.text.show import plain
from nimble_otter.translation import tr

if TYPE_CHECKING:
    from nimble_otter.stop import StopToken

_MOST_CHOICES = 40


class ParameterFields(QWidget):
    """`run_wanted` by Enter in a field; what is typed goes to the pull at once."""

    run_wanted = Signal()

    def __init__(self) -> None:
        super().__init__()
        self._rows = QVBoxLayout(self)
        self._rows.setContentsMargins(0, 0, 0, 0)
        self._rows.setSpacing(5)
        self.fields: dict[str, QLineEdit] = {}
        self.notes: dict[str, QLabel] = {}
        self._open_pull: OpenPull | None = None
        self._uses: dict[str, Use] = {}
        self._choices: dict[tuple[str, str], list[Any]] = {}

    def fill(self, open_pull: OpenPull, is_same: bool) -> None:
        """Fields for the names in the text; made anew unless `is_same` as before."""
        query, self._open_pull = open_pull.pull.query, open_pull
        if not is_same:
            clear(self._rows)
            self.fields, self.notes = {}, {}
            for name in open_pull.pull.parameters():
                self._add(name, query)
            self.setVisible(bool(self.fields))
        self.look()

    def _add(self, name: str, query: Query) -> None:
        field = self.fields[name] = QLineEdit(shown(query.parameters.get(name)))
        field.setAccessibleName(tr("Parameter {name}", name=name))
        field.setPlaceholderText(tr("value"))
        field.setFixedWidth(150)
        field.setAlignment(Qt.AlignmentFlag.AlignRight)
        field.textEdited.connect(lambda text: self._typed(name, text))
        field.returnPressed.connect(self.run_wanted)
        more = button("▾", None, "plain", tr("Values and kind of {name}", name=name))
        more.clicked.connect(lambda: self._offer(name, more.mapToGlobal(more.rect().bottomLeft())))
        note = self.notes[name] = label("", "faint", 11)
        note.setAlignment(Qt.AlignmentFlag.AlignRight)
        more.setFixedWidth(30)
        line = row(ElidedLabel(f":{name}", "muted"), field, more, space=3)
        line.setStretch(0, 1)
        self._rows.addLayout(column(line, note, space=1))

    # --- what a value means ------------------------------------------------------------------------------------

    def look(self) -> None:
        """Say of each value what it is taken for."""
        open_pull = self._open_pull
        if open_pull is None or not self.fields:
            return
        query = open_pull.pull.query
        self._uses = find_uses(query.text, open_pull.names or names_of(()))
        for name, note in self.notes.items():
            value, ask = query.parameters.get(name), query.asks.get(name, Ask())
            kind = self._kind(name)
            tone, text = "faint", kind
            try:
                each = value if isinstance(value, list) else [value]
                items = [value_of(name, v, kind, bool(ask.kind), dt.date.today()) for v in each if v not in (None, "")]
                if items and items != each:
                    text = f"{kind}: {', '.join(plain(v) for v in items)}"
                elif isinstance(value, list):
                    of_kind = f", {kind}" if kind else ""
                    text = tr("{value_count} values{kind}", value_count=len(value), kind=of_kind)
                elif self._many(name):
                    text = tr("{kind}separate several with commas", kind=kind + ", " if kind else "")
            except QueryError as problem:
                tone, text = "plum", problem.message
            note.setText(text)
            set_tone(note, tone)
            note.setVisible(bool(text))

    def _kind(self, name: str) -> str:
        assert self._open_pull is not None
        ask = self._open_pull.pull.query.asks.get(name)
        return ask.kind if ask is not None and ask.kind else self._uses.get(name, Use()).kind

    def _many(self, name: str) -> bool:
        return self._uses.get(name, Use()).many

    def _typed(self, name: str, text: str) -> None:
        open_pull = self._open_pull
        assert open_pull is not None
        kind = self._kind(name)
        value = typed(text, "" if kind in ("number", "") else kind, self._many(name))
        query = open_pull.pull.query
        open_pull.shaping.put(
            replace(open_pull.pull, query=replace(query, parameters={**query.parameters, name: value}))
        )
        self.look()

    def _set(self, name: str, value: object) -> None:
        self.fields[name].setText(shown(value))
        self._typed(name, shown(value))

    # --- the menu ----------------------------------------------------------------------------------------------

    def _offer(self, name: str, at: Any) -> None:
        menu = self.menu(name)
        menu.popup(at)

    def menu(self, name: str) -> QMenu:
        """Values used before, days, values from a query, and the kind."""
        open_pull = self._open_pull
        assert open_pull is not None
        query, menu = open_pull.pull.query, QMenu(self)
        ask = query.asks.get(name, Ask())
        url = open_pull.hub.known(open_pull.pull.source).url
        runs = [ran.parameters for ran in open_pull.hub.history.runs() if ran.url == url]
        for value in last_values(runs, name):
            menu.addAction(shown(value), calling(self._set, name, value))
        if self._kind(name) in ("date", "time"):
            days = menu.addMenu(tr("Days from today"))
            for phrase in PHRASES:
                days.addAction(phrase, calling(self._set, name, phrase))
        choices = self._choices.get((url, ask.choices), []) if ask.choices else []
        if choices:
            menu.addSeparator()
            for value in choices[:_MOST_CHOICES]:
                menu.addAction(plain(value), calling(self._pick, name, value))
        menu.addSeparator()
        kinds = menu.addMenu(tr("Kind"))
        for kind, word in (("", tr("as the query tells ({kind})", kind=self._uses.get(name, Use()).kind or 'any')),
                           *((k, k) for k in KINDS)):  # fmt: skip
            entry = kinds.addAction(word, calling(self._ask, name, replace(ask, kind=kind)))
            entry.setCheckable(True)
            entry.setChecked(ask.kind == kind)
        menu.addAction(tr("Values from a query…"), lambda: self._ask_choices(name, ask))
        return menu

    def _pick(self, name: str, value: object) -> None:
        """A value chosen from the list; where several may be given it is added to those there are."""
        open_pull = self._open_pull
        assert open_pull is not None
        now = open_pull.pull.query.parameters.get(name)
        if self._many(name) and now not in (None, ""):
            there = list(now) if isinstance(now, list) else [now]
            self._set(name, [v for v in there if v != value] if value in there else [*there, value])
        else:
            self._set(name, value)

    def _ask(self, name: str, ask: Ask) -> None:
        open_pull = self._open_pull
        assert open_pull is not None
        query = open_pull.pull.query
        asks = {**query.asks, name: ask}
        if ask == Ask():
            del asks[name]
        open_pull.shaping.change(
            replace(open_pull.pull, query=replace(query, asks=asks)), tr("Kind of :{name}", name=name)
        )
        self._typed(name, self.fields[name].text())

    def _ask_choices(self, name: str, ask: Ask) -> None:
        use = self._uses.get(name, Use())
        likely = f"select distinct {use.column} from {use.table} order by 1" if use.column else "select "
        text, is_done = QInputDialog.getMultiLineText(
            self,
            tr("Values of :{name}", name=name),
            tr("A query whose first column gives the values (empty: none):"),
            ask.choices or likely,
        )
        if is_done:
            self._ask(name, replace(ask, choices=text.strip()))
            if text.strip():
                self.fetch_choices(name, lambda: None)

    def fetch_choices(self, name: str, then: Callable[[], object]) -> None:
        """Run the query of a parameter's values in the background."""
        open_pull = self._open_pull
        assert open_pull is not None
        if open_pull.waits:  # the text of the values came with the pull
            self.notes[name].setText(tr("Values are fetched once the pull has been run here."))
            self.notes[name].setVisible(True)
            return
        ask, source = open_pull.pull.query.asks.get(name, Ask()), open_pull.hub.known(open_pull.pull.source)

        def work(stop: StopToken, report: Callable[[object], None]) -> list[Any]:
            fetched = fetch(open_pull.hub.connection(source), Request(ask.choices, limit=500), stop)
            return (
                [value for value in fetched.table.columns[0].values() if value is not None]
                if fetched.table.columns
                else []
            )

        def done(values: list[object]) -> None:
            self._choices[(source.url, ask.choices)] = values
            then()

        def failed(problem: OtterError) -> None:
            self.notes[name].setText(tr("Values: {problem}", problem=problem))
            set_tone(self.notes[name], "plum")
            self.notes[name].setVisible(True)

        open_pull.jobs.submit(
            open_pull.hub.lane(source), f"choices {name}", work, done, failed, title=tr("Values of :{name}", name=name)
        )
