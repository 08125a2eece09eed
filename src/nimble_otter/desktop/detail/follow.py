"""Following rows along their keys: the ways out of the current rows, how many rows are there, going and coming back."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from PySide6.QtCore import QObject, QTimer, Signal
from PySide6.QtWidgets import QInputDialog, QMenu

from nimble_otter.desktop.detail.detail import RECORD
from nimble_otter.desktop.grid.model import RowsModel
from nimble_otter.desktop.kit.widgets import calling
from nimble_otter.desktop.pulls.open_pull import OpenPull
from nimble_otter.errors import OtterError
from nimble_otter.pull import Pull, Query
from nimble_otter.sources import Request, fetch
from nimble_otter.sources.catalogue import EntryKind
from nimble_otter.sources.follow import (
    MOST,
    Link,
    Reference,
    find_links,
    find_references,
    follow_query,
    reference_query,
    values_of,
)
from nimble_otter.table import MISSING
from nimble_otter.table.text.show import grouped, rows_words
from nimble_otter.translation import tr, trn

if TYPE_CHECKING:
    from collections.abc import Callable

    from nimble_otter.desktop.detail.detail import Detail
    from nimble_otter.desktop.grid.grid import Grid
    from nimble_otter.desktop.pulls.workspace import Workspace
    from nimble_otter.desktop.runtime.state_store import Layout
    from nimble_otter.stop import StopToken

PAUSE_MS = 350
"""The rows at the other end are counted when the reader has stayed on a row for so long."""


class Follower(QObject):
    """Keeps the links under the record in step with the current row. Which collection a field refers to is kept in
    `layout`. `origin_wanted` asks for a place of the catalogue: source, table, column."""

    origin_wanted = Signal(str, str, str)

    def __init__(self, workspace: Workspace, detail: Detail, grid: Grid, layout: Layout) -> None:
        super().__init__(detail)
        self._workspace, self._detail, self._grid, self._layout = workspace, detail, grid, layout
        self.links: list[Link] = []
        self.references: list[Reference] = []
        self._of: Any = None
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(PAUSE_MS)
        self._later.timeout.connect(self._count)
        detail.record.follow_wanted.connect(self.go)
        detail.record.back_wanted.connect(self.go_back)
        self._soon = QTimer(self)
        self._soon.setSingleShot(True)
        self._soon.timeout.connect(self._refresh)
        grid.current_changed.connect(lambda *_: self.refresh())
        detail.turned.connect(self.refresh)

    def refresh(self) -> None:
        """Show the ways out of the rows that are selected, once for all that is told of them in one go."""
        self._soon.start(0)

    def _refresh(self) -> None:
        """Show them; their counts come after a moment."""
        open_pull = self._workspace.pull
        before = self._before()
        self._detail.record.show_back(before.pull.name if before is not None else "")
        self.references = self._find_references() if open_pull is not None and open_pull.is_documents else []
        if self.references:
            self.links, self._of = [], None
            shown = [(self._target(r) or f"{r.targets[0]} ?", tr("by {field}", field=r.field)) for r in self.references]
            self._detail.record.show_links(shown)
            return
        if open_pull is None or open_pull.fetched is None or not open_pull.fetched.origins or open_pull.is_running:
            self.links, self._of = [], None
        elif self._of is None or self._of[0] is not open_pull.fetched or self._of[1] is not open_pull.tables:
            self._of = (open_pull.fetched, open_pull.tables)
            self.links = find_links(open_pull.fetched.origins, open_pull.tables)
        record = self._detail.record
        record.show_links([(f"{link.table}", self._words(link)) for link in self.links] if self._rows() else [])
        if self.links and self._detail.page == RECORD and self._detail.isVisible():
            self._later.start()

    def _is_of(self, open_pull: OpenPull) -> bool:
        """Whether the links are those of the rows that are shown now, and not of what stood there a moment ago."""
        return self._of is not None and self._of[0] is open_pull.fetched and not open_pull.is_running

    def _find_references(self) -> list[Reference]:
        open_pull, rows = self._workspace.pull, self._rows()
        if open_pull is None or open_pull.table is None or open_pull.is_running or not rows:
            return []
        table, own = open_pull.table, open_pull.collection
        values = [column.value(rows[0]) for column in table.columns]
        collections = [t.name for t in open_pull.tables if t.kind == EntryKind.COLLECTION]
        references = find_references([f.origin or f.name for f in table.fields], values, own, collections)
        return [r for r in references if r.targets]

    def _mark(self, reference: Reference) -> str:
        open_pull = self._workspace.pull
        assert open_pull is not None
        return f"{open_pull.rows_source.url} {open_pull.collection}.{reference.field}"

    def _target(self, reference: Reference) -> str:
        """The collection that the user said a field refers to; "" before that."""
        return self._layout.references.get(self._mark(reference), "")

    def _go_document(self, reference: Reference) -> None:
        """To the documents that a field refers to; which collection that is gets asked once."""
        open_pull = self._workspace.pull
        if open_pull is None or open_pull.table is None:
            return
        target = self._target(reference)
        if not target:
            text = tr("{field} looks like a reference. The documents with this _id are in:", field=reference.field)
            target, agreed = QInputDialog.getItem(self._detail, tr("Follow"), text, list(reference.targets), 0, False)
            if not agreed:
                return
            self._layout.references[self._mark(reference)] = target
        column = open_pull.table.columns[reference.place]
        values = dict.fromkeys(v for v in map(column.value, self._rows()) if v is not None and v is not MISSING)
        message = trn(
            "followed from {values_count} value of {field}",
            "followed from {values_count} values of {field}",
            len(values),
            values_count=len(values),
            field=reference.field,
        )
        query = Query(reference_query(list(values)), "native", target)
        pull = Pull(
            tr("{target} of {pull_name}", target=target, pull_name=open_pull.pull.name),
            open_pull.rows_source,
            query,
            came_from=message,
        )
        self._workspace.open(pull).came_from = open_pull

    @staticmethod
    def _words(link: Link) -> str:
        by = ", ".join(link.key.columns)
        return tr("by {by}", by=by) if link.is_up else tr("its {by}", by=by)

    def _rows(self) -> list[int]:
        """Row ids of the selected rows, at most as many as can be followed at once; none of rows that steps made."""
        open_pull, model, selection = self._workspace.pull, self._grid.model, self._grid.selection
        if open_pull is None or open_pull.shaped is None or not isinstance(model, RowsModel) or not selection.blocks:
            return []
        if not open_pull.shaped.own_rows:
            return []
        indices: list[int] = []
        for block in selection.blocks:
            if len(indices) > MOST:
                break
            top, bottom = max(0, block.top), min(block.bottom, len(open_pull.shaped.view) - 1)
            indices += open_pull.shaped.view.row_ids(top, min(bottom + 1, top + MOST * 4)).tolist()
        return list(dict.fromkeys(indices))

    def _count(self) -> None:
        open_pull, rows = self._workspace.pull, self._rows()
        if open_pull is None or open_pull.table is None or not rows or self._detail.page != RECORD:
            return
        if not self._is_of(open_pull):
            return
        source, table, links = open_pull.rows_source, open_pull.table, self.links

        def work(stop: StopToken, report: Callable[[object], None]) -> None:
            connection = self._workspace.hub.connection(source)
            for index, link in enumerate(links):
                stop.check()
                values = values_of(link, table, rows)
                if not values:
                    report([index, "none"])
                    continue
                text, parameters = follow_query(connection, link, values, count=True)
                count = fetch(connection, Request(text, parameters), stop).table.columns[0].value(0)
                report([index, rows_words(count)])

        def update(what: object) -> None:
            if links is self.links and isinstance(what, list):
                self._detail.record.show_count(*what)

        self._workspace.hub.jobs.submit(self._workspace.hub.lane(source), "follow counts", work, update=update)

    # --- going and coming back ---------------------------------------------------------------------------------

    def go(self, place: int) -> None:
        """Open the rows at the other end as a pull of their own."""
        open_pull, rows = self._workspace.pull, self._rows()
        if open_pull is not None and place < len(self.references):
            self._go_document(self.references[place])
            return
        if open_pull is None or open_pull.table is None or not 0 <= place < len(self.links):
            return
        if not self._is_of(open_pull):
            return
        link, source = self.links[place], open_pull.rows_source
        values = values_of(link, open_pull.table, rows)
        if not values:
            self._workspace.say(
                tr("The selected rows have no {columns} to follow.", columns=", ".join(link.key.columns)), True
            )
            return

        def done(made: tuple[str, dict[str, object]]) -> None:
            text, parameters = made
            count = tr("{rows_count} rows", rows_count=len(rows)) if len(rows) != 1 else tr("a row")
            own = link.key.table if link.is_up else link.key.target
            message = tr("followed from {count} of {own}", count=count, own=own)
            pull = Pull(
                tr("{table} of {pull_name}", table=link.table, pull_name=open_pull.pull.name),
                open_pull.rows_source,
                Query(text, parameters=dict(parameters)),
                came_from=tr("{message} in {pull_name}", message=message, pull_name=open_pull.pull.name),
            )
            opened = self._workspace.open(pull)
            opened.came_from = open_pull
            if len(values) > MOST:
                self._workspace.say(
                    tr(
                        "Only the first {most} values were followed, of {values_count}.",
                        most=MOST,
                        values_count=grouped(len(values)),
                    ),
                    True,
                )

        def failed(problem: OtterError) -> None:
            self._workspace.say(str(problem), True)

        self._workspace.hub.jobs.submit(
            self._workspace.hub.lane(source), "follow",
            lambda stop, _: follow_query(self._workspace.hub.connection(source), link, values), done, failed,
        )  # fmt: skip

    def offer(self) -> None:
        """The ways to follow the current row, in a menu at it."""
        self._refresh()
        menu, grid = QMenu(self._grid), self._grid
        ways = [(self._target(r) or r.targets[0], tr("by {field}", field=r.field)) for r in self.references]
        ways = ways or [(link.table, self._words(link)) for link in self.links if self._rows()]
        for place, (table, by) in enumerate(ways):
            menu.addAction(f"{table}, {by}", calling(self.go, place)).setEnabled(self._has_values(place))
        if not ways:
            self._workspace.say(tr("This row leads nowhere: it has no key that another table knows."), True)
            return
        menu.setActiveAction(next((a for a in menu.actions() if a.isEnabled()), menu.actions()[0]))
        menu.exec(grid.viewport().mapToGlobal(grid.cell_rect(*grid.selection.current).center()))

    def _has_values(self, place: int) -> bool:
        """Whether the rows have something to follow there."""
        table = self._workspace.pull.table if self._workspace.pull is not None else None
        return bool(self.references) or (table is not None and bool(values_of(self.links[place], table, self._rows())))

    def _before(self) -> OpenPull | None:
        """The open pull that this one was followed from."""
        came_from = self._workspace.pull.came_from if self._workspace.pull is not None else None
        return next((p for p in self._workspace.pulls if p is came_from), None)

    def go_back(self) -> None:
        """To the pull that this one was followed from."""
        before = self._before()
        if before is not None:
            self._workspace.show(before)
        else:
            self._workspace.say(tr("This pull was not followed from another open pull."), False)

    def show_origin(self) -> None:
        """Go to the place in the catalogue that the current column comes from."""
        open_pull, model = self._workspace.pull, self._grid.model
        column = self._grid.selection.current[1]
        if open_pull is None or open_pull.shaped is None or model is None or not 0 <= column < len(model.columns):
            return
        index = model.columns[column].place
        field = open_pull.shaped.view.table.fields[index] if index >= 0 else None
        table, _, name = field.origin.rpartition(".") if field is not None else ("", "", "")
        if open_pull.is_documents and field is not None:  # whose origins are paths
            table, name = open_pull.collection, field.origin or field.name
        if not table:
            self._workspace.say(tr("This column is computed by the query; it is not in the catalogue."), False)
            return
        self.origin_wanted.emit(open_pull.rows_source.name, table, name)
