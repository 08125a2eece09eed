"""Beside a query: its parameters, the row limit, what runs cost, what is sent; or its plan, outcomes, a proposal."""

from __future__ import annotations

import json
from dataclasses import replace
from functools import partial
from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QLineEdit, QPlainTextEdit, QScrollArea, QStackedWidget, QVBoxLayout, QWidget

from nimble_otter.desktop.kit.theme import code_font
from nimble_otter.desktop.kit.widgets import as_plain, boxed, button, clear, column, label, row
from nimble_otter.desktop.pulls.open_pull import OpenPull
from nimble_otter.desktop.query.parameter_fields import ParameterFields
from nimble_otter.desktop.query.proposal import ProposalView
from nimble_otter.desktop.query.query_host import QueryHost
from nimble_otter.desktop.query.run_trees import OutcomesList, PlanTree
from nimble_otter.errors import OtterError
from nimble_otter.pull.model import Query
from nimble_otter.query import translate_select
from nimble_otter.sources import Fetched
from nimble_otter.sources.dialects.documents import Documents
from nimble_otter.table.text.show import grouped
from nimble_otter.translation import tr

_NARROW, _WIDE = 250, 430


class QuerySide(QWidget):
    """Belongs to the query drawer; `fill` brings it up to date with the drawer's pull."""

    def __init__(self, drawer: QueryHost) -> None:
        super().__init__()
        self.setObjectName("raised")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._drawer = drawer
        self.plan, self.outcomes = PlanTree(), OutcomesList()
        self.parameters, self._runs = ParameterFields(), QVBoxLayout()
        self._runs.setSpacing(7)
        self.limit = QLineEdit()
        self.limit.setAccessibleName(tr("Row limit"))
        self.limit.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.limit.editingFinished.connect(self._limit_typed)
        self.sent = QPlainTextEdit()
        self.sent.setReadOnly(True)
        self.sent.setFont(code_font(11))
        self.sent.setAccessibleName(tr("What is sent to the server"))
        self.limit.setFixedWidth(126)
        self.sent_title = label(tr("sent to the server as"), "muted", 11)
        self._parameters_place = column(self.parameters)
        inside = column(
            self._parameters_place,
            row(label(tr("Stop after"), "muted"), None, self.limit),
            self._runs,
            self.sent_title,
            self.sent,
            None,
            space=7,
            margins=(12, 10, 12, 8),
        )
        inside.setStretch(4, 10)
        scrolled = QScrollArea()
        scrolled.setWidgetResizable(True)
        scrolled.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scrolled.setWidget(boxed(inside))
        self._sides = QStackedWidget()
        self._sides.addWidget(scrolled)
        self._sides.addWidget(self.plan)
        self.goes_on = QCheckBox(tr("Continue after an error"))
        self._sides.addWidget(
            boxed(column(self.outcomes, row(self.goes_on, None, margins=(12, 0, 12, 6)), space=4), "raised")
        )
        self.proposal = ProposalView()
        self._sides.addWidget(self.proposal)
        self.setLayout(row(self._sides))
        self.setFixedWidth(_NARROW)
        self._side_shape: Any = None
        self._fields_shape: Any = None

    @property
    def open_pull(self) -> OpenPull | None:
        """The pull that the drawer shows."""
        return self._drawer.open_pull

    def forget(self) -> None:
        """Another pull is shown: make everything anew."""
        self._side_shape = self._fields_shape = None

    def turn(self, page: int, is_shown: bool) -> None:
        """Show parameters (0), the plan (1), outcomes (2) or a proposal (3)."""
        self._sides.setCurrentIndex(page)
        self.setFixedWidth(_WIDE if page else _NARROW)
        self.setVisible(is_shown)

    def take_parameters(self) -> None:
        """Have the fields of parameters here again."""
        self._parameters_place.addWidget(self.parameters)

    def fill(self) -> None:
        """Parameters, the limit, times of runs; made anew only when what is asked for changed."""
        open_pull = self.open_pull
        assert open_pull is not None
        query = open_pull.pull.query
        names = open_pull.pull.parameters()
        costs = (
            open_pull.hub.costs.of(open_pull.pull.source.url, open_pull.asked.text)
            if open_pull.asked is not None
            else ()
        )
        shape = (id(open_pull), tuple(names), open_pull.is_documents, tuple(costs), _stages(query))
        fields = (id(open_pull), tuple(names))
        self.parameters.fill(open_pull, fields == self._fields_shape)
        self._fields_shape = fields
        if shape != self._side_shape:
            self._side_shape = shape
            clear(self._runs)
            if costs:
                last = costs[-1]
                self._pair(tr("First rows"), f"{last.first_s:.2f} s")
                self._pair(tr("All rows"), f"{last.all_s:.2f} s")
                self._pair(tr("Size here"), f"{grouped(-(-last.bytes // 1024))} kB")
                if len(costs) > 1:
                    earlier = [
                        tr("{at}: {all_s:.2f} s, {rows} rows", at=c.at, all_s=c.all_s, rows=grouped(c.rows))
                        for c in reversed(costs)
                    ]
                    spent = " ".join(f"{cost.all_s:.2f}".lstrip("0") for cost in costs[-5:])
                    self._pair(tr("Last runs"), spent, "\n".join(earlier))
            tells = open_pull.is_documents or bool(_requests_of(open_pull.fetched))
            self.sent_title.setVisible(tells)
            self.sent.setVisible(tells)
            self._offer_stages(query)
        if not self.limit.hasFocus():
            self.limit.setText(
                tr("no limit") if query.limit is None else tr("{limit} rows", limit=grouped(query.limit))
            )
        self._show_sent()

    def _offer_stages(self, query: Query) -> None:
        """A pipeline's rows after each of its stages."""
        names = _stages(query)
        if not names:
            return
        self._runs.addWidget(label(tr("Rows after the stage"), "muted", 11))
        for number, name in enumerate(names):
            made = button(
                f"{number + 1}  {name}",
                partial(self._run_stages, number + 1),
                "link",
                tr("Run up to {name}", name=name),
            )
            self._runs.addWidget(made)

    def _run_stages(self, count: int) -> None:
        if self.open_pull is not None and not self.open_pull.is_running:
            self.open_pull.runs.run_stages(count)

    def _pair(self, name: str, value: str, tip: str = "") -> None:
        said = label(value)
        said.setToolTip(as_plain(tip))
        self._runs.addLayout(row(label(name, "muted"), None, said))

    def _show_sent(self) -> None:
        open_pull = self.open_pull
        if open_pull is not None and not open_pull.is_documents:
            self.sent.setPlainText(_requests_of(open_pull.fetched))
        if open_pull is None or not open_pull.is_documents:
            return
        query = open_pull.pull.query
        if query.language == "native":
            self.sent.setPlainText(tr("{collection}: as typed", collection=query.collection))
            return
        known = open_pull.hub.known(open_pull.pull.source).name
        try:
            bound = query.bound(None, open_pull.names)

            def types_of(collection: str) -> dict[str, set[str]]:
                shapes = open_pull.hub.shapes.get((known, collection))
                if shapes is not None:
                    return shapes.type_words()
                is_there = any(t.name == collection for t in open_pull.hub.tables.get(known, []))
                if is_there and not open_pull.waits:
                    open_pull.hub.sample(
                        open_pull.hub.known(open_pull.pull.source), collection
                    )  # it tells times from texts
                return {}

            spoken = open_pull.pull.source.dialect
            assert isinstance(spoken, Documents)
            text = spoken.shown(translate_select(bound.text, types_of, bound.values))
        except OtterError as problem:
            text = str(problem)
        if self.sent.toPlainText() != text:
            self.sent.setPlainText(text)

    def _limit_typed(self) -> None:
        assert self.open_pull is not None
        digits = "".join(c for c in self.limit.text() if c.isdigit())
        query = replace(self.open_pull.pull.query, limit=int(digits) if digits and int(digits) else None)
        if query != self.open_pull.pull.query:
            self.open_pull.shaping.put(replace(self.open_pull.pull, query=query))
        self.limit.setText(tr("no limit") if query.limit is None else tr("{limit} rows", limit=grouped(query.limit)))


def _requests_of(fetched: Fetched | None) -> str:
    """What a service was asked for these rows; "" where a server got the text as it is."""
    return fetched.sent if fetched is not None and fetched.sent.startswith("GET ") else ""


def _stages(query: Query) -> tuple[str, ...]:
    """The names of a native pipeline's stages; none where it is a filter, or not JSON yet."""
    if query.language != "native" or not query.text.lstrip().startswith("["):
        return ()
    try:
        found = json.loads(query.text)
    except ValueError:
        return ()
    return tuple(next(iter(stage), "") for stage in found if isinstance(stage, dict))
