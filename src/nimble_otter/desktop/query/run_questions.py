"""What is asked before statements that write are run: always on a source marked "take care", else where something
would be destroyed, with what it would hit, or where it can't be told what a statement does."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, QTimer, Signal
from PySide6.QtWidgets import QMessageBox, QWidget

from nimble_otter.desktop.kit.widgets import as_plain
from nimble_otter.errors import QueryError
from nimble_otter.query.sql.destroying import Way
from nimble_otter.query.sql.effects import Effect, of_transaction, parse
from nimble_otter.sources import Connection, Request, Source
from nimble_otter.sources.hits import Hit, find_hits
from nimble_otter.table.text.show import grouped, rows_words
from nimble_otter.translation import tr, trn

if TYPE_CHECKING:
    from nimble_otter.desktop.pulls.pull_state import PullState
    from nimble_otter.desktop.pulls.run_controller import ReadStatement
    from nimble_otter.stop import StopToken

PATIENCE_MS = 5000
"""How long counting may take before the question is asked without its counts."""
_SHOWN = 8


class AskBeforeRun(QObject):
    """The questions of a window. On an engine of more than one machine `whole_offered` comes in place of the first run
    of a course: with the pull, and what runs the query as it is."""

    whole_offered = Signal(object, object)

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self._parent = parent
        self._offered = set[str]()

    def ask(self, open_pull: PullState, statements: Sequence[ReadStatement], go: Callable[[], None]) -> None:
        """Call `go` once nothing has to be asked, or it was agreed to. Counting runs beside the window; the pull may
        have been closed by then."""
        source, dialect = open_pull.hub.known(open_pull.pull.source), open_pull.dialect
        may_write = [s for s in statements if not s.verdict.reads and not of_transaction(s.text)]
        writing = [s.text for s in may_write]
        if source.is_read_only or not writing:  # what writes there is refused by the connection
            go()
            return
        unread = [s.text for s in may_write if s.verdict.effect is Effect.UNKNOWN]
        harmful = [s.text for s in may_write if s.destroys]
        if not harmful and not unread:
            if not source.care or self._agreed(source, writing, [], []):
                go()
            return
        open_pull.hub.reach(source)  # which Run was pressed for
        request = Request("", dict(open_pull.pull.query.parameters))
        key = f"{open_pull.key} hits"

        def done(found: tuple[list[Hit], list[str]]) -> None:
            hits, odd = found
            shown = [hit for hit in hits if hit.is_every]
            asked = list(dict.fromkeys([*(h.text for h in shown), *odd]))
            if source.care and len(writing) > len(unread) - len(odd):  # else there are only slips of the keyboard
                asked = writing
            if not asked or self._agreed(source, asked, shown, odd):
                go()

        def work(stop: StopToken, report: Callable[[object], None]) -> tuple[list[Hit], list[str]]:
            connection = open_pull.hub.connection(source)
            doubtful = [t for t in dict.fromkeys([*unread, *harmful]) if parse(t, dialect) is None]
            wrong = {t for t in doubtful if not _is_understood(connection, replace(request, text=t))}
            hits = find_hits(connection, [t for t in harmful if t not in wrong], request, stop)
            return hits, [t for t in unread if t not in wrong]

        def uncounted(*_: object) -> None:
            done(([Hit(s.text, what) for s in may_write for what in s.destroys], unread))

        open_pull.jobs.submit(
            open_pull.hub.lane(source),
            key,
            work,
            done,
            uncounted,
            stopped=uncounted,
            title=tr("Counting the affected rows"),
        )
        jobs = open_pull.jobs
        QTimer.singleShot(PATIENCE_MS, jobs, lambda: jobs.stop(key))

    def before_rows(self, open_pull: PullState, go: Callable[[], None]) -> None:
        """Call `go` to fetch the rows of a query that only reads, unless its engine is to work out the course first;
        that is offered once for a pull, before it has rows."""
        dialect = open_pull.hub.known(open_pull.pull.source).dialect
        has_course = open_pull.fetched is None and any(step.on for step in open_pull.pull.steps)
        if dialect.is_engine and has_course and open_pull.uid not in self._offered:
            self._offered.add(open_pull.uid)
            self.whole_offered.emit(open_pull, go)
        else:
            go()

    def _agreed(self, source: Source, asked: Sequence[str], hits: Sequence[Hit], unread: Sequence[str]) -> bool:
        box = QMessageBox(
            QMessageBox.Icon.Warning if hits else QMessageBox.Icon.Question, tr("Run"), "", parent=self._parent
        )
        count, name = len(asked), source.name + (f" ({source.stage})" if source.stage else "")
        destroys = trn(
            "Run one statement that destroys data on {source}?",
            "Run {count} statements that destroy data on {source}?",
            count,
            count=count,
            source=name,
        )
        writes = trn(
            "Run one statement that writes on {source}?",
            "Run {count} statements that write on {source}?",
            count,
            count=count,
            source=name,
        )
        box.setText(as_plain(destroys if hits else writes))
        lines = [_said(hit) for hit in hits[:_SHOWN]]
        if source.care:
            lines.append(tr("{source_name} is marked “take care”.", source_name=source.name))
        lines += [tr("The effect of this can’t be determined: {short}", short=_short(t)) for t in unread[:_SHOWN]]
        lines += ["", *(_short(t) for t in asked[:_SHOWN])]
        if len(asked) > _SHOWN:
            lines.append(tr("… and {asked_count} more", asked_count=len(asked) - _SHOWN))
        box.setInformativeText(as_plain("\n".join(lines)))
        go = box.addButton(tr("Run"), QMessageBox.ButtonRole.AcceptRole)
        leave = box.addButton(tr("Don't run"), QMessageBox.ButtonRole.RejectRole)
        box.setDefaultButton(leave)
        box.exec()
        return box.clickedButton() is go


def _is_understood(connection: Connection, request: Request) -> bool:
    """Whether the server can read a statement that we can't; one that it can't does nothing, and its error is shown."""
    try:
        connection.parse(request)
    except QueryError:
        return False
    return True


def _short(text: str) -> str:
    return text if len(text) < 300 else f"{text[:300]} …"


def _said(hit: Hit) -> str:
    """What a statement would hit, with figures."""
    what, rows, total = hit.what, hit.rows, hit.total
    verb = what.way.upper()
    if what.way in (Way.DROP, Way.TRUNCATE):
        return f"{verb} {what.what}" + (
            tr(", which holds {rows}.", rows=rows_words(total)) if total is not None else "."
        )
    if what.way is Way.ALTER:
        return f"{verb}: {what.what}" + (
            tr("; {rows} values go with it.", rows=grouped(rows)) if rows is not None else "."
        )
    if rows is None or total is None:
        return tr("{verb} on {what}; how many could not be counted.", verb=verb, what=what.what)
    if what.where is None:
        return tr(
            "{verb} on all {rows} of {table}: there is no WHERE clause.",
            verb=verb,
            rows=rows_words(total),
            table=what.table,
        )
    return tr(
        "{verb} on all {rows} of {table}: the WHERE clause matches every row.",
        verb=verb,
        rows=rows_words(total),
        table=what.table,
    )
