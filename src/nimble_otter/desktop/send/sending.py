"""Sending rows of a pull: to files, the clipboard, another source; and tables straight from the catalogue."""

from __future__ import annotations

import atexit
import datetime as dt
from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import cache, partial
from pathlib import Path
from typing import Any

from PySide6.QtCore import QMimeData
from PySide6.QtWidgets import QApplication, QWidget

from nimble_otter.desktop.grid.clipboard_cells import EXACT
from nimble_otter.desktop.kit.confirm_dialogs import ask_exists, ask_name
from nimble_otter.desktop.pulls.aspect import Aspect
from nimble_otter.desktop.pulls.open_pull import OpenPull
from nimble_otter.desktop.runtime.connections import ConnectionManager
from nimble_otter.desktop.runtime.jobs import CHARTS, LOCAL, Jobs
from nimble_otter.desktop.send.send_tables import SendTables
from nimble_otter.errors import ChecksFailed, OtterError, SendError
from nimble_otter.pull import Pull, Query
from nimble_otter.pull.account import Outcome, delivered, deliveries, keep_delivery
from nimble_otter.pull.charts.attach import wants_charts, with_charts
from nimble_otter.pull.course import checks_of
from nimble_otter.pull.deliver import (
    format_of,
    path_for,
    rows_as_pulled,
    rows_of_tree,
    rows_to_send,
    stream_rows,
    table_name,
)
from nimble_otter.pull.delivery import (
    SOURCE,
    checks_words,
    deliver_tables,
    hold_back,
    refuse_elsewhere,
    remembered,
    send_rows,
    transfer_for,
    transfer_to,
)
from nimble_otter.pull.model import SendPlan
from nimble_otter.pull.profiles import Beside, keep_profile
from nimble_otter.pull.schedules import load_schedules, target_words
from nimble_otter.pull.send_there import asked_of, write_there
from nimble_otter.pull.steps import Checked
from nimble_otter.pull.whole_course import move_all
from nimble_otter.send import Rows, Sent, first_rows, format_for, send_text
from nimble_otter.send.clipboard import Copied, copied
from nimble_otter.send.on_server import statements
from nimble_otter.send.transfer import Moved, Transfer, preview
from nimble_otter.sources import Request, Source, TableInfo
from nimble_otter.sources.dialects import Dialect
from nimble_otter.sources.dialects.sqlite import SQLITE
from nimble_otter.stop import StopToken
from nimble_otter.table.text.show import grouped
from nimble_otter.translation import tr, trn

CLIPBOARD = "clipboard"
PREVIEW_ROWS = 12
_WITHOUT_COURSE = ("all", "query", "server")
"""Scopes that do not send what the course made of the rows here."""
_AT_ONCE = 20_000
"""Cells that are copied before the next key is heard."""
MOST_TO_CLIPBOARD = 1_000_000
"""Cells that are copied; more belong in a file."""


class Sending:
    """`say(text, is_problem)` tells the user; results go to the pull that asked, whatever is shown by then."""

    def __init__(
        self, jobs: Jobs, hub: ConnectionManager, folder: Path, say: Callable[[str, bool], None],
        target: Callable[[], str] = lambda: "~",
    ) -> None:  # fmt: skip
        self._jobs, self._hub, self._folder, self._say = jobs, hub, folder, say
        self.target = target
        """The folder of files of which nothing else is said."""
        self._looked_up = set[str]()

    def send(self, open_pull: OpenPull, plan: SendPlan, anyway: bool = False) -> None:
        """Do what the plan says, in the background; rows that fail a check only `anyway`."""
        checked = self.checked(open_pull, plan)
        if not anyway:
            try:
                hold_back(checked)
            except ChecksFailed as problem:
                self._keep(open_pull.pull, plan.format, None, problem.message, plan.path)
                self._say(str(problem), True)
                return
        if plan.format == SOURCE and plan.scope == "server":
            self._on_server(open_pull, plan)
        elif plan.format == SOURCE:
            self._to_source(open_pull, plan, anyway)
        elif plan.format == CLIPBOARD:
            self._to_clipboard(open_pull, plan, anyway)
        else:
            self._to_file(open_pull, plan, anyway)

    @staticmethod
    def checked(open_pull: OpenPull, plan: SendPlan) -> list[Checked]:
        """What checks found of the rows that the plan sends; nothing where they go without the steps, or are only those
        that fail one."""
        if open_pull.course is None or plan.scope in _WITHOUT_COURSE or open_pull.failing is not None:
            return []
        return checks_of(open_pull.course)

    # --- what goes ---------------------------------------------------------------------------------------------

    @staticmethod
    def rows(open_pull: OpenPull, scope: str) -> Rows | None:
        """The rows as shown, or all as they were pulled; None before there are any."""
        target = open_pull.target.table
        name = target.bare if target is not None else table_name(open_pull.pull)
        if scope in ("all", "query"):
            table = open_pull.table
            return None if table is None else rows_as_pulled(table, name, target)
        shaped = open_pull.shaped
        if shaped is None:
            return None
        if scope == "tree":
            return rows_of_tree(shaped, name, open_pull.opened)
        return rows_to_send(shaped, name, target if shaped.own_rows and shaped.grouped is None else None)

    def _ready(self, open_pull: OpenPull, plan: SendPlan, anyway: bool) -> Rows | None:
        """The rows, once values that the source cut are there whole; None while that is not so."""
        if open_pull.wait_for_whole(lambda open_pull: self.send(open_pull, plan, anyway), True):
            return None
        rows = self.rows(open_pull, plan.scope)
        if rows is None:
            self._say(tr("There are no rows to send; run the query first."), True)
        return rows

    def preview(self, open_pull: OpenPull, plan: SendPlan) -> str:
        """The first rows as they will be written; of formats that are no text, the values that they will hold. Raises:
        OtterError."""
        if plan.format == SOURCE and plan.scope == "server":
            return self._statements(open_pull, plan)
        rows = self.rows(open_pull, plan.scope)
        if rows is None:
            return ""
        few = first_rows(rows, PREVIEW_ROWS)
        if plan.format == SOURCE:
            return preview(few, *self._transfer_of(plan))
        if plan.format == CLIPBOARD:
            return copied([few], str(plan.options.get("form", "header")), plan.options, self._dialect(open_pull)).text
        format_ = format_for(plan.format)
        if format_.is_text:
            return send_text(few, format_, plan.options)
        shared = {option.name for option in format_for("text").options} & plan.options.keys()
        return send_text(few, format_for("text"), {name: plan.options[name] for name in shared})

    def recall_last(self, open_pull: OpenPull) -> None:
        """When the pull's rows were sent last, for the course: read from the account once for each open pull. When its
        schedule sends them next comes before that."""
        if open_pull.path is not None and (following := _next_run(open_pull.path)) is not None:
            text = tr("next {moment:%a %H:%M}", moment=following.astimezone())
            if open_pull.last_sent != text:
                open_pull.last_sent = text
                open_pull.tell(Aspect.PULL)
            return
        if open_pull.last_sent or open_pull.uid in self._looked_up:
            return
        self._looked_up.add(open_pull.uid)
        if found := deliveries(self._folder, open_pull.pull.name, 1):
            open_pull.last_sent = tr("last sent {moment:%a %H:%M}", moment=found[0].moment)
            open_pull.tell(Aspect.PULL)

    # --- files -------------------------------------------------------------------------------------------------

    def _to_file(self, open_pull: OpenPull, plan: SendPlan, anyway: bool) -> None:
        is_straight = plan.scope == "query"
        rows = None if is_straight else self._ready(open_pull, plan, anyway)
        if rows is None and not is_straight:
            return
        try:
            format_, now, query = format_of(plan), dt.datetime.now(), open_pull.pull.query
            bound = query.bound(None, open_pull.names) if is_straight else None
            request = Request(bound.text, bound.values, None, query.language, query.collection) if bound else None
            path = path_for(open_pull.pull, plan, now, rows.count if rows is not None else None)
        except OtterError as problem:
            self._say(str(problem), True)
            return
        exists = plan.exists
        if exists == "ask":
            exists = ask_exists(path, format_) if path.exists() else "replace"
            if not exists:
                self._say(tr("Nothing was sent."), False)
                return

        shaped = open_pull.shaped if plan.scope != "query" else None

        def work(stop: StopToken, report: Callable[[object], None]) -> Sent:
            tell = lambda n, m: report((n, m))  # noqa: E731

            def send(found: Rows) -> Sent:
                return send_rows(open_pull.pull, found, plan, now, stop, tell, exists=exists)

            if rows is None:
                return self._straight(open_pull, request, send, stop)
            return send(rows if shaped is None else with_charts(rows, open_pull.pull, shaped, plan, stop))

        def done(sent: Sent) -> None:
            self._keep(open_pull.pull, plan.format, sent, checks_words(self.checked(open_pull, plan)))
            self._remember(open_pull, plan, now)
            open_pull.last_sent, open_pull.sent = tr("last sent {now:%a %H:%M}", now=now), sent
            counted = tr(", counted by reading them back") if sent.checked else ""
            self._say(
                tr(
                    "Sent {rows} rows to {path} ({size_words}{counted}).",
                    rows=grouped(sent.rows),
                    path=sent.path,
                    size_words=size_words(sent.bytes),
                    counted=counted,
                ),
                False,
            )
            open_pull.tell(Aspect.PULL)

        lane = CHARTS if shaped is not None and wants_charts(open_pull.pull, plan) else LOCAL
        lane = self._hub.lane(self._hub.known(open_pull.pull.source)) if is_straight else lane
        self._submit(
            open_pull,
            lane,
            work,
            done,
            tr("Sending {path_name}", path_name=path.name),
            tr("Stopped; no file was left behind."),
        )

    def _straight(self, open_pull: OpenPull, request: Any, send: Callable[[Rows], Sent], stop: StopToken) -> Sent:
        """From the query to the file, without holding the rows and without steps; runs in the source's lane."""
        connection = self._hub.connection(self._hub.known(open_pull.pull.source))
        streamed = stream_rows(connection, request, replace(open_pull.pull, steps=()), stop, table_name(open_pull.pull))
        try:
            return send(streamed.rows)
        finally:
            streamed.close()

    def _keep(self, pull: Pull, format_: str, sent: Sent | Moved | None, said: str = "", path: str = "") -> None:
        """Put a delivery into the account, or that it was held back, in the background."""
        now, outcome = dt.datetime.now(), Outcome.SENT if sent is not None else Outcome.HELD

        def keep() -> None:
            keep_delivery(self._folder, delivered(pull, format_, sent, now, outcome=outcome, said=said, path=path))

        self._hub.keep(f"account {now.isoformat()}", keep, tr("The account of deliveries"))

    def _remember(self, open_pull: OpenPull, plan: SendPlan, now: dt.datetime) -> None:
        """Keep what this delivery is to be laid beside the next time, in the background."""
        course = open_pull.course
        if course is None or plan.scope in _WITHOUT_COURSE or open_pull.failing is not None:
            return
        mark, tables = open_pull.remembered_as, open_pull.tables_asked

        def work(stop: StopToken, _: object) -> Beside:
            found, keyed = remembered(course, tables, self._folder, mark, now, stop)
            keep_profile(self._folder, mark, found.now, keyed)
            return found

        def done(found: Beside) -> None:
            open_pull.last_profile, open_pull.beside = found.now, found
            open_pull.tell(Aspect.PULL)

        self._jobs.submit(LOCAL, f"{open_pull.key} remember", work, done)

    def _submit(
        self, open_pull: OpenPull, lane: str, work: Any, done: Any, title: str, stopped: str = tr("Stopped.")
    ) -> None:
        def failed(problem: OtterError) -> None:
            self._say(str(problem), True)
            open_pull.tell(Aspect.RUN)

        self._jobs.submit(
            lane, f"{open_pull.key} send", work, done, failed, stopped=lambda: self._say(stopped, False), title=title
        )
        open_pull.tell(Aspect.RUN)

    # --- the clipboard -----------------------------------------------------------------------------------------

    def _dialect(self, open_pull: OpenPull) -> Dialect:
        """In which what is copied is written; SQLite's is nearest to the standard."""
        own = self._hub.known(open_pull.pull.source).dialect
        return own if own.writes and not own.is_documents else SQLITE

    def _to_clipboard(self, open_pull: OpenPull, plan: SendPlan, anyway: bool) -> None:
        rows = self._ready(open_pull, plan, anyway)
        if rows is not None:
            self.copy(open_pull, [rows], str(plan.options.get("form", "header")), plan.options)

    def copy(
        self, open_pull: OpenPull, blocks: Sequence[Rows], form: str, options: Any = None, exact: bytes | None = None
    ) -> None:
        """Put blocks of rows on the clipboard, as text and as a table, in the background."""
        cells = sum((rows.count or 0) * len(rows.fields) for rows in blocks)
        if cells > MOST_TO_CLIPBOARD and form != "names":
            most = grouped(MOST_TO_CLIPBOARD)
            self._say(
                tr("That is {cells} cells; more than {most} belong in a file.", cells=grouped(cells), most=most), True
            )
            return
        dialect = self._dialect(open_pull)

        def done(made: Copied) -> None:
            _put(made, exact)
            if form == "names":
                self._say(
                    trn(
                        "Copied the names of {cells} column.",
                        "Copied the names of {cells} columns.",
                        made.cells,
                        cells=made.cells,
                    ),
                    False,
                )
                return
            text = (
                ""
                if form == "cells"
                else tr(" with header")
                if form == "header"
                else tr(" as {form_words}", form_words=_FORM_WORDS[form])
            )
            self._say(
                trn(
                    "Copied {cells} cell{text}",
                    "Copied {cells} cells{text}",
                    made.cells,
                    cells=grouped(made.cells),
                    text=text,
                ),
                False,
            )

        if cells <= _AT_ONCE:
            try:
                done(copied(blocks, form, options, dialect))
            except OtterError as problem:
                self._say(str(problem), True)
            return
        self._jobs.submit(
            LOCAL, "copy", lambda stop, _: copied(blocks, form, options, dialect, stop), done,
            lambda problem: self._say(str(problem), True), title=tr("Copying"),
        )  # fmt: skip

    # --- another source ----------------------------------------------------------------------------------------

    def _transfer_of(self, plan: SendPlan) -> tuple[Transfer, Dialect, TableInfo | None]:
        """What the plan means for its source: the transfer, the dialect, the table that is there. Raises: SendError."""
        options = plan.options
        source = self._hub.find(str(options.get("source", "")))
        if source is None:
            raise SendError(tr("No source is chosen for the rows."), tr("Choose one."))
        wanted, info = transfer_for(plan, source.dialect, self._hub.tables.get(source.name, ()))
        return wanted, source.dialect, info

    def _to_source(self, open_pull: OpenPull, plan: SendPlan, anyway: bool) -> None:
        rows = self._ready(open_pull, plan, anyway)
        if rows is None:
            return
        try:
            wanted, _, _ = self._transfer_of(plan)
        except OtterError as problem:
            self._say(str(problem), True)
            return
        source = self._hub.find(str(plan.options["source"]))
        assert source is not None
        text = tr("{count} rows would be written to {table}.", count=grouped(rows.count or 0), table=wanted.table)

        def work(stop: StopToken, report: Callable[[object], None]) -> Moved:
            return transfer_to(rows, plan, self._hub.connection(source), stop, lambda n, m: report((n, m)))

        self._write(open_pull, plan, source, wanted.table, text, work)

    def _on_server(self, open_pull: OpenPull, plan: SendPlan) -> None:
        """Have the pull's own server work out its course and write the rows."""
        try:
            wanted, _, _ = self._transfer_of(plan)
            source = self._hub.find(str(plan.options["source"]))
            assert source is not None
            refuse_elsewhere(open_pull.pull, source)
        except OtterError as problem:
            self._say(str(problem), True)
            return
        pull = open_pull.pull

        def work(stop: StopToken, report: Callable[[object], None]) -> Moved:
            return write_there(pull, self._hub.connection(source), wanted, stop)[0]

        text = tr(
            "All rows of the query, shaped by {source_name} itself, would be written to {table}.",
            source_name=source.name,
            table=wanted.table,
        )
        self._write(open_pull, plan, source, wanted.table, text, work)

    def _statements(self, open_pull: OpenPull, plan: SendPlan) -> str:
        """What the pull's server would be asked to write; "" without the rows that tell the columns. Raises:
        OtterError."""
        wanted, dialect, info = self._transfer_of(plan)
        source = self._hub.find(str(plan.options["source"]))
        assert source is not None
        refuse_elsewhere(open_pull.pull, source)
        if open_pull.table is None:
            return ""
        quoted = partial(self._hub.quoted, source)
        whole = move_all(open_pull.pull, open_pull.table, open_pull.dialect, quoted)
        lines = [f"{dialect.comment} {note}" for note in whole.moved.notes]
        return "\n".join([*lines, *(f"{text};" for text in statements(asked_of(whole), wanted, info, dialect))])

    def _write(self, open_pull: OpenPull, plan: SendPlan, source: Source, table: str, text: str, work: Any) -> None:
        """Write to a table of a source, once that was confirmed where the source asks for it."""
        if source.care and not ask_name(source, text):
            self._say(tr("Nothing was sent."), False)
            return

        def done(moved: Moved) -> None:
            parts = [
                tr(
                    "{added} rows are new in {table} of {source_name}",
                    added=grouped(moved.added),
                    table=moved.table,
                    source_name=source.name,
                )
            ]
            parts += [tr("{updated} were updated", updated=grouped(moved.updated))] if moved.updated else []
            parts += (
                [tr("{skipped} skipped (key already exists)", skipped=grouped(moved.skipped))] if moved.skipped else []
            )
            self._say(tr("{parts}; counted there.", parts=", ".join(parts)), False)
            open_pull.last_sent = tr("last sent {now:%a %H:%M}", now=dt.datetime.now())
            checks = checks_words(self.checked(open_pull, plan))
            self._keep(open_pull.pull, plan.format, moved, checks, target_words(plan))
            self._hub.open(source, again=True)
            open_pull.tell(Aspect.PULL)

        title = tr("Sending to {table}", table=table)
        self._submit(open_pull, self._hub.lane(source), work, done, title, tr("Stopped; nothing was written."))

    # --- tables of the catalogue -------------------------------------------------------------------------------

    def ask_tables(self, parent: QWidget, source: Source, ticked: Sequence[TableInfo] = ()) -> None:
        """Ask which tables of a source go where, and send them."""
        names = [table.name for table in ticked]
        asked = SendTables(parent, source, self._hub.tables.get(source.name, []), names, self.target())
        if asked.exec():
            self.send_catalogue(source, asked.chosen, asked.plan)

    def send_catalogue(self, source: Source, tables: Sequence[TableInfo], plan: SendPlan) -> None:
        """Whole tables: each to its own file where the name has {table}, else all to one. Nothing of them is held."""
        whole = Pull(source.name, source, Query(""))

        def work(stop: StopToken, report: Callable[[object], None]) -> list[Sent]:
            connection = self._hub.connection(source)
            exists = "replace" if plan.exists == "ask" else plan.exists
            tell = lambda n, m: report((n, m))  # noqa: E731
            return [sent for sent, _ in deliver_tables(source, connection, tables, plan, stop, tell, exists)]

        def done(made: list[Sent]) -> None:
            for sent in made:
                self._keep(whole, plan.format, sent)
            rows, size = sum(sent.rows for sent in made), sum(sent.bytes for sent in made)
            where = (
                made[0].path
                if len(made) == 1
                else tr("{made_count} files in {parent}", made_count=len(made), parent=made[0].path.parent)
            )
            self._say(
                tr(
                    "Sent {rows} rows of {tables_count} tables to {where} ({size_words}).",
                    rows=grouped(rows),
                    tables_count=len(tables),
                    where=where,
                    size_words=size_words(size),
                ),
                False,
            )

        self._jobs.submit(
            self._hub.lane(source), f"tables of {source.name}", work, done,
            lambda problem: self._say(str(problem), True), title=tr("Sending tables"),
            stopped=lambda: self._say(tr("Stopped. Files already completed were kept."), False),
        )  # fmt: skip


def _next_run(path: Path) -> dt.datetime | None:
    """When a schedule delivers a pull's file next; None where none does."""
    try:
        known = load_schedules()
    except OtterError:  # which the page of deliveries tells
        return None
    now = dt.datetime.now(dt.UTC)
    own = [each for each in known if each.is_on and Path(each.pull) == path]
    return min((moment for each in own if (moment := each.table.next_run(now)) is not None), default=None)


_FORM_WORDS = {
    "list": tr("a list of values"),
    "csv": "CSV",
    "json": "JSON",
    "markdown": tr("Markdown"),
    "sql": tr("SQL inserts"),
}


def _put(made: Copied, exact: bytes | None = None) -> None:
    """Text, table and exact cells at once."""
    data = QMimeData()
    data.setText(made.text)
    data.setData(EXACT, exact or b"{}")
    if made.html:
        data.setHtml(made.html)
    QApplication.clipboard().setMimeData(data)
    _let_go_at_exit()


@cache
def _let_go_at_exit() -> None:
    """What Python made must not be on the clipboard when Qt is taken down: that ends in a crash. The text stays."""
    app = QApplication.instance()  # held until then

    def let_go() -> None:
        held = QApplication.clipboard().mimeData() if app is not None else None
        if held is not None and held.hasFormat(EXACT):
            QApplication.clipboard().setText(QApplication.clipboard().text())

    atexit.register(let_go)


def size_words(size: int) -> str:
    """Bytes as people say them."""
    return f"{size / 1e6:.1f} MB" if size >= 1e6 else f"{grouped(-(-size // 1000))} kB"


def open_path(path: Path) -> bool:
    """Open a file or folder with the desktop's program; False where there is none."""
    from PySide6.QtCore import QUrl
    from PySide6.QtGui import QDesktopServices

    return QDesktopServices.openUrl(QUrl.fromLocalFile(str(path)))
