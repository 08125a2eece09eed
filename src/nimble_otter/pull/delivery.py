"""Delivering a pull: what the window, the command line and a schedule do alike. From its source through its course to
files and other sources, streamed where no step needs all the rows at once."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager, suppress
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Protocol

from nimble_otter.errors import ChecksFailed, OutcomeUnknown, SendError
from nimble_otter.pull.charts.attach import wants_charts, with_charts
from nimble_otter.pull.course import Course, checks_of
from nimble_otter.pull.deliver import (
    can_stream,
    format_of,
    origin_table,
    path_for,
    rows_of_tree,
    rows_to_send,
    stream_rows,
    table_name,
)
from nimble_otter.pull.growing import asked_there, highest, later, since
from nimble_otter.pull.model import Pull, Query, SendPlan
from nimble_otter.pull.only_new import Marks, only_new
from nimble_otter.pull.others import walk
from nimble_otter.pull.profiles import (
    Beside,
    ColumnFigures,
    DeliveryProfile,
    Keyed,
    beside,
    keep_profile,
    load_keyed,
    load_profiles,
    mark_of,
    profile_of,
)
from nimble_otter.pull.send_there import write_there
from nimble_otter.pull.shaped import Shaped
from nimble_otter.pull.steps import Checked, Rule
from nimble_otter.pull.steps.check import stopping
from nimble_otter.send import Rows, Sent, needs_count, send_tables, send_to_file
from nimble_otter.send.send import place_for
from nimble_otter.send.transfer import Moved, Transfer, transfer, transfer_from
from nimble_otter.sources import Connection, Fetched, Request, Source, TableInfo, fetch
from nimble_otter.sources.dialects import Dialect
from nimble_otter.sources.names import names_in_catalogue
from nimble_otter.stop import NEVER, Progress, StopToken
from nimble_otter.table import Field, Table
from nimble_otter.translation import tr, trn

SOURCE = "source"
"""The format of a plan whose rows go to another source."""


class Surroundings(Protocol):
    """What a delivery needs of whoever runs it. `folder` is where deliveries are remembered; None: this one is not."""

    @property
    def folder(self) -> Path | None:
        """See above."""

    def connected(self, source: Source) -> AbstractContextManager[Connection]:
        """A connection for as long as it is used. Raises: SourceError's."""

    def find_source(self, name: str) -> Source:
        """A source by its name. Raises: SourceError, SendError."""

    def find_pull(self, name: str) -> Pull:
        """Another pull that a step uses. Raises: SavedError."""

    def progress(self, what: str) -> Progress:
        """What is told of how far it is; `what` is "reading" or "writing"."""

    def limited(self, pull: Pull) -> None:
        """The limit of a pull left rows at its source."""

    def written(self, rows: Rows, plan: SendPlan) -> bool:
        """Whether the rows were written by it, as no file is meant. Raises: SendError."""


@dataclass(frozen=True, slots=True)
class Delivery:
    """What came of one plan: a file that was sent, or rows that arrived elsewhere. `columns` were delivered; `checked`
    is what checks found, `beside` the delivery beside those before, where it is remembered."""

    plan: SendPlan
    made: Sent | Moved
    columns: int
    checked: tuple[Checked, ...] = ()
    beside: Beside | None = None


def request_of(pull: Pull, connection: Connection) -> Request:
    """The request that a pull's query is, with its parameters bound. Raises: SourceError's, ConditionError."""
    query = pull.query
    bound = query.bound(None, names_in_catalogue(connection.tables()) if query.parameters else None)
    return Request(bound.text, bound.values, query.limit, query.language, query.collection)


@dataclass(frozen=True, slots=True)
class Once:
    """Rows are delivered once: told apart by `key` (none: that of the pull), where asked again when they changed. What
    was delivered is kept in `folder`, for each target on its own. `grows`: only rows are asked for that are not lower
    in this column than what was read before, less the `overlap`."""

    folder: Path
    key: tuple[str, ...] = ()
    changed_too: bool = False
    grows: str = ""
    overlap: str = ""

    def marks(self, plan: SendPlan) -> Marks:
        """What was delivered by a plan."""
        options = plan.options
        target = f"{plan.format} {plan.path} {options.get('source', '')} {options.get('table', '')}"
        return Marks(self.folder, target)


def deliver(
    pull: Pull,
    plans: Sequence[SendPlan],
    around: Surroundings,
    stop: StopToken = NEVER,
    anyway: bool = False,
    once: Once | None = None,
) -> Iterator[Delivery]:
    """Run a pull and send its rows by each of the plans, one after the other. What a step can't do ends it, and so does
    a check that fails, unless they go `anyway`. With `once`, a plan for which there is nothing new gives none. Raises:
    SourceError's, ChecksFailed, SendError, ConditionError, Stopped."""
    there = [plan for plan in plans if plan.format == SOURCE and plan.scope == "server"]
    if there and once is not None:
        raise SendError(
            tr("What is written on the server is always the whole result."), tr("Let the rows pass through here.")
        )
    for plan in there:
        yield _there(pull, plan, around, stop)
    plans = [plan for plan in plans if plan not in there]
    if not plans:
        return
    is_alone = len(plans) == 1 and can_stream(pull.steps) and once is None
    if is_alone and not _must_count(plans[0]) and not wants_charts(pull, plans[0]):
        yield from _streamed(pull, plans[0], around, stop)
        return
    fetched, course, mark = _shaped(pull if once is None else _since(pull, plans, once, around, stop), around, stop)
    checked = tuple(checks_of(course))
    if not anyway:
        hold_back(checked)
    found: Beside | None = None
    if around.folder is not None:
        found, keyed = remembered(course, fetched.tables, around.folder, mark, dt.datetime.now(), stop)
    for plan in plans:
        make = rows_of_tree if plan.scope == "tree" else rows_to_send
        name = origin_table(fetched.table.fields) or table_name(pull)
        if once is not None:
            arrived = _new_rows(pull, course, fetched, name, plan, around, stop, once)
        else:
            rows = with_charts(make(course.end, name), pull, course.end, plan, stop)
            arrived = _delivered(pull, rows, plan, around, stop)
        for delivery in arrived:
            yield replace(delivery, checked=checked, beside=found)
    if around.folder is not None and found is not None:
        with suppress(OSError):  # the delivery itself stands
            keep_profile(around.folder, mark, found.now, keyed)
    if fetched.was_cut:
        around.limited(pull)


def shaped_rows(pull: Pull, around: Surroundings, stop: StopToken = NEVER) -> Shaped:
    """The rows of a pull at the end of its course. Raises: SourceError's, ConditionError, Stopped."""
    return pulled(pull, around, stop)[1].end


def pulled(pull: Pull, around: Surroundings, stop: StopToken = NEVER) -> tuple[Fetched, Course]:
    """What a pull's source gives, and what its course makes of it. Raises: SourceError's, ConditionError, Stopped."""
    fetched, course, _ = _shaped(pull, around, stop)
    if fetched.was_cut:
        around.limited(pull)
    return fetched, course


def deliver_shaped(
    pull: Pull, shaped: Shaped, plans: Sequence[SendPlan], around: Surroundings, stop: StopToken = NEVER
) -> Iterator[Delivery]:
    """Send rows that are there already, under the name of a pull. Raises: SendError, SourceError's, Stopped."""
    for plan in plans:
        make = rows_of_tree if plan.scope == "tree" else rows_to_send
        yield from _delivered(pull, make(shaped, table_name(pull)), plan, around, stop)


def _shaped(pull: Pull, around: Surroundings, stop: StopToken) -> tuple[Fetched, Course, str]:
    """The rows of a pull along its course, beside its last delivery, and the mark under which that is remembered."""
    fetched = _fetched(pull, around, stop)

    def rows_of(other: Pull) -> Table:
        fetched = _fetched(other, around, stop)
        if fetched.was_cut:
            around.limited(other)
        return fetched.table

    mark = mark_of(pull.name, pull.source.url)
    before = load_profiles(around.folder, mark) if around.folder is not None else []
    course = walk(pull, fetched.table, around.find_pull, rows_of, stop, last=before[0] if before else None)
    return fetched, course.whole(), mark


def _new_rows(
    pull: Pull,
    course: Course,
    fetched: Fetched,
    name: str,
    plan: SendPlan,
    around: Surroundings,
    stop: StopToken,
    once: Once,
) -> Iterator[Delivery]:
    """Only what the target does not have yet. A run that ends in the middle moves no mark, unless its file is there."""
    shaped, at = course.end, dt.datetime.now()
    marks = once.marks(plan)
    key = once.key or key_of(course, shaped.shown_fields(), fetched.tables)
    fresh, after = only_new(shaped, key, marks.load(), once.changed_too, stop)
    high = highest(fetched.table, once.grows) if once.grows and not fetched.was_cut else None  # what was cut is unseen
    if not len(fresh.view):
        return
    rows = with_charts(rows_to_send(fresh, name), pull, fresh, plan, stop)
    path = None
    if plan.format != SOURCE:
        path = place_for(path_for(pull, plan, at, rows.count, rows.table), plan.exists)
    marks.intend(after, path, later(high, marks.high()))
    try:
        yield from _delivered(pull, rows, plan, around, stop, at)
    except (OutcomeUnknown, GeneratorExit):
        raise  # it may have arrived: the next run looks
    except BaseException:
        marks.failed()
        raise
    marks.arrived()


def _since(pull: Pull, plans: Sequence[SendPlan], once: Once, around: Surroundings, stop: StopToken) -> Pull:
    """The pull for rows from where all its targets have been, where a column grows."""
    if not once.grows:
        return pull
    lows = [once.marks(plan).high() for plan in plans]
    known = [low for low in lows if low is not None]
    if not known or len(known) < len(lows) or len({low.kind for low in known}) > 1:
        return pull
    lowest = min(known, key=lambda low: low.value())
    with around.connected(pull.source) as connection:
        return asked_there(since(pull, once.grows, lowest, once.overlap), connection, stop)


def _streamed(pull: Pull, plan: SendPlan, around: Surroundings, stop: StopToken) -> Iterator[Delivery]:
    """Rows that no step needs all of: they are not held, so of them only their number is remembered."""
    with around.connected(pull.source) as connection:
        streamed = stream_rows(connection, request_of(pull, connection), pull, stop)
        try:
            for delivery in _delivered(pull, streamed.rows, plan, around, stop):
                rows = delivery.made.rows if isinstance(delivery.made, Sent) else delivery.made.sent
                columns = tuple(ColumnFigures(field.name, field.kind.value) for field in streamed.rows.fields)
                now = DeliveryProfile(dt.datetime.now().isoformat(timespec="seconds"), rows, columns)
                if around.folder is None:
                    yield delivery
                    continue
                mark = mark_of(pull.name, pull.source.url)
                yield replace(delivery, beside=beside(now, None, load_profiles(around.folder, mark), None))
                with suppress(OSError):  # the delivery itself stands
                    keep_profile(around.folder, mark, now, None)
        finally:
            streamed.close()
    if streamed.cut:
        around.limited(pull)


def _there(pull: Pull, plan: SendPlan, around: Surroundings, stop: StopToken) -> Delivery:
    """The rows at the end of the course, worked out and written by the server itself."""
    source = around.find_source(str(plan.options.get("source", "")))
    refuse_elsewhere(pull, source)
    with around.connected(source) as connection:
        wanted, _ = transfer_for(plan, connection.dialect, connection.tables())
        moved, columns = write_there(pull, connection, wanted, stop)
    return Delivery(plan, moved, columns)


def refuse_elsewhere(pull: Pull, source: Source) -> None:
    """Raises: SendError, where a pull's own server can't write to a source."""
    if source.url != pull.source.url:
        raise SendError(
            tr(
                "{source_name} is not the source of the query, whose server can write to its own tables only.",
                source_name=source.name,
            ),
            tr("Choose the pull's own source, or let the rows pass through here."),
        )


def hold_back(checked: Sequence[Checked]) -> None:
    """Raises: ChecksFailed, where a line that stops fails."""
    failed = stopping(checked)
    if not failed:
        return
    text = "; ".join(each.words() for each in failed[:3])
    more = tr(" and {failed_count} more", failed_count=len(failed) - 3) if len(failed) > 3 else ""
    raise ChecksFailed(
        trn(
            "{failed_count} of {checked_count} checks fails: {text}{more}. Nothing was delivered.",
            "{failed_count} of {checked_count} checks fail: {text}{more}. Nothing was delivered.",
            len(failed),
            failed_count=len(failed),
            checked_count=len(checked),
            text=text,
            more=more,
        ),
        tr("Correct the rows, or send them all the same."),
    )


def checks_words(checked: Sequence[Checked]) -> str:
    """What became of checks, for the account."""
    failed = [each for each in checked if not each.holds]
    if not checked:
        return ""
    if not failed:
        return trn(
            "{checked_count} check held", "{checked_count} checks held", len(checked), checked_count=len(checked)
        )
    text = "; ".join(each.words() for each in failed)
    return tr(
        "{failed_count} of {checked_count} checks failed: {text}",
        failed_count=len(failed),
        checked_count=len(checked),
        text=text,
    )


def remembered(
    course: Course,
    tables: Sequence[TableInfo],
    folder: Path,
    mark: str,
    at: dt.datetime,
    stop: StopToken = NEVER,
) -> tuple[Beside, Keyed | None]:
    """The rows at the end of a course beside those of the deliveries before, and their digests. Raises: Stopped."""
    shaped = course.end
    fields = shaped.shown_fields()
    profile, keyed = profile_of(shaped.as_shown(), fields, key_of(course, fields, tables), at, stop)
    return beside(profile, keyed, load_profiles(folder, mark), load_keyed(folder, mark)), keyed


def key_of(course: Course, fields: Sequence[Field], tables: Sequence[TableInfo]) -> tuple[str, ...]:
    """The columns that tell delivered rows apart: those that a check calls unique, else the key of the one table that
    they come from."""
    for each in checks_of(course):
        if each.line.rule is Rule.UNIQUE and each.holds:
            return each.line.columns
    if course.end.grouped is not None:
        return tuple(course.end.table.fields[place].name for place in range(len(course.end.grouped.keys)))
    name = origin_table(fields)
    info = next((table for table in tables if table.bare == name), None)
    by_origin = {field.origin.rpartition(".")[2]: field.name for field in fields if field.origin}
    key = info.key if info is not None else ()
    return tuple(by_origin[column] for column in key) if key and set(key) <= by_origin.keys() else ()


def _must_count(plan: SendPlan) -> bool:
    return plan.format != SOURCE and needs_count(plan.path)


def _fetched(pull: Pull, around: Surroundings, stop: StopToken) -> Fetched:
    progress = around.progress(tr("reading"))
    with around.connected(pull.source) as connection:
        fetched = fetch(connection, request_of(pull, connection), stop, lambda table: progress(table.rows, None))
    stop.check()
    fetched.refuse_part()
    return fetched


def _delivered(
    pull: Pull, rows: Rows, plan: SendPlan, around: Surroundings, stop: StopToken, at: dt.datetime | None = None
) -> Iterator[Delivery]:
    if around.written(rows, plan):
        return
    if plan.format == SOURCE:
        source = around.find_source(str(plan.options.get("source", "")))
        with around.connected(source) as connection:
            moved = transfer_to(rows, plan, connection, stop, around.progress(tr("writing")))
        yield Delivery(plan, moved, len(rows.fields))
    else:
        sent = send_rows(pull, rows, plan, at or dt.datetime.now(), stop, around.progress(tr("writing")), rows.table)
        yield Delivery(plan, sent, len(rows.fields))


def send_rows(
    pull: Pull,
    rows: Rows,
    plan: SendPlan,
    at: dt.datetime,
    stop: StopToken = NEVER,
    progress: Progress | None = None,
    table: str = "",
    exists: str = "",
) -> Sent:
    """Rows to the file that a plan means at a time; `exists` answers what the plan says of a file that is there.
    Raises: SendError, Stopped."""
    path = path_for(pull, plan, at, rows.count, table)
    return send_to_file(rows, format_of(plan), path, plan.options, stop, progress, exists or plan.exists)


def transfer_for(plan: SendPlan, dialect: Dialect, tables: Sequence[TableInfo]) -> tuple[Transfer, TableInfo | None]:
    """What a plan means where these tables are: a new one where there is none of its name.
    Raises: SendError."""
    wanted = transfer_from(plan.options)
    info = next((table for table in tables if table.name.casefold() == wanted.table.casefold()), None)
    return replace(wanted, is_new=info is None and not dialect.is_documents), info


def transfer_to(
    rows: Rows, plan: SendPlan, connection: Connection, stop: StopToken = NEVER, progress: Progress | None = None
) -> Moved:
    """Rows to the table of an open source that a plan means. Raises: as `transfer`."""
    wanted, _ = transfer_for(plan, connection.dialect, connection.tables())
    return transfer(rows, connection, wanted, stop, progress)


def deliver_tables(
    source: Source,
    connection: Connection,
    tables: Sequence[TableInfo],
    plan: SendPlan,
    stop: StopToken = NEVER,
    progress: Progress | None = None,
    exists: str = "",
) -> Iterator[tuple[Sent, int]]:
    """Whole tables: each to a file of its own where the file's name has {table}, else all to one. Nothing of them is
    held. Gives what was sent, and of how many columns (tables, where they are one file). Raises: SendError,
    SourceError's, Stopped."""
    whole, now, opened = Pull(source.name, source, Query("")), dt.datetime.now(), list[Callable[[], None]]()

    def rows_of(table: TableInfo) -> Rows:
        request = Request(connection.select_all(table.name))
        streamed = stream_rows(connection, request, whole, stop, table.bare, table)
        opened.append(streamed.close)
        return streamed.rows

    try:
        if "{table}" in plan.path or len(tables) == 1:
            for table in tables:
                rows = rows_of(table)
                yield send_rows(whole, rows, plan, now, stop, progress, table.bare, exists), len(rows.fields)
        else:  # asked for when their turn comes, as a connection gives those of one query at a time
            parts = [(table.bare, lambda table=table: rows_of(table)) for table in tables]
            path = path_for(whole, plan, now, None)
            yield send_tables(parts, format_of(plan), path, plan.options, stop, progress, exists or plan.exists), 0
    finally:
        for close in opened:
            with suppress(Exception):
                close()
