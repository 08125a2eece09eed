"""What the status strip says of the pull that is shown."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING

from nimble_otter.desktop.kit.widgets import as_plain
from nimble_otter.table.text.show import grouped
from nimble_otter.translation import tr

if TYPE_CHECKING:
    from nimble_otter.desktop.pulls.open_pull import OpenPull
    from nimble_otter.desktop.runtime.jobs import Jobs
    from nimble_otter.desktop.shell.status import StatusStrip
    from nimble_otter.table import Table

_RATE_S = 1.0
"""Seconds after which a rate says something."""


def work_words(jobs: Jobs) -> str:
    """What is under way: how far, how fast, and how long it will take by that."""
    job = jobs.shown()
    if job is None or job.number not in jobs.progress:
        return job.title if job is not None else ""
    done, total = jobs.progress[job.number]
    words = f"{job.title} {grouped(done)}" + (tr(" of {total}", total=grouped(total)) if total else "")
    spent = time.monotonic() - job.began
    if spent < _RATE_S or not done:
        return words
    rate = done / spent
    left = tr(", {span_words} left", span_words=_span_words((total - done) / rate)) if total and done < total else ""
    return tr("{words}, {rate} a second{left}", words=words, rate=grouped(round(rate)), left=left)


def _span_words(seconds: float) -> str:
    return tr("{seconds:.0f} min", seconds=seconds / 60) if seconds >= 90 else f"{max(1, round(seconds))} s"


def show_status(status: StatusStrip, open_pull: OpenPull | None) -> None:
    """Rows shown of rows fetched, what is pending, when and how they were fetched, whether writes are reviewed."""
    shaped = open_pull.shaped if open_pull is not None else None
    status.more.setVisible(False)
    if open_pull is None or shaped is None or open_pull.table is None:
        status.show_rows(
            "", "" if open_pull is None else (tr("Running") if open_pull.is_running else tr("No rows yet"))
        )
        status.show_right(
            "",
            tr("{source_name}: read-only", source_name=open_pull.pull.source.name)
            if open_pull and not open_pull.can_write
            else "",
        )
        return
    noun = tr("documents") if open_pull.is_documents else tr("rows")
    shown = len(shaped.view) if shaped.grouped is not None else shaped.rows
    strong, rest = grouped(shown), tr("of {rows} {noun} shown", rows=grouped(open_pull.table.rows), noun=noun)
    if open_pull.failing is not None and open_pull.course is not None and open_pull.failing_of is not None:
        whole = open_pull.course.results[open_pull.failing_of[0]].shaped.rows
        rest = tr("of {whole} {noun} fail", whole=grouped(whole), noun=noun)
    elif shaped.grouped is not None:
        rest = tr(
            "of {rows} {noun}, in {groups} groups",
            rows=grouped(open_pull.table.rows),
            noun=noun,
            groups=grouped(shaped.grouped.levels[0].table.rows),
        )
    if open_pull.edits.count:
        parts = ((open_pull.edits.edited_count, tr("± {} edited")), (len(open_pull.edits.added), tr("+ {} new")))
        lines = [text.format(n) for n, text in (*parts, (len(open_pull.edits.deleted), tr("− {} to delete"))) if n]
        rest += "   " + "   ".join(lines)
    if open_pull.pending.waiting_count:
        rest += tr("   {waiting_count} wait for their rows", waiting_count=grouped(open_pull.pending.waiting_count))
    status.show_rows(strong, rest)
    when = ""
    if open_pull.fetched_at is not None:
        by = tr("an earlier query") if open_pull.error is not None else tr("query above")
        when = tr("Fetched {fetched_at:%H:%M:%S} by {by}", fetched_at=open_pull.fetched_at, by=by)
    if open_pull.watch.every_s:
        when = tr("Watched: {words}", words=open_pull.watch.words or tr("the first look is to come"))
    status.fetched.setToolTip(as_plain(open_pull.told()))
    text, is_grave = _writes_of(open_pull, open_pull.table, noun)
    status.more.setVisible(open_pull.was_cut and not open_pull.is_running)
    status.show_right("" if open_pull.is_running else when, text, "plum" if is_grave else "muted")


def _writes_of(open_pull: OpenPull, table: Table, noun: str) -> tuple[str, bool]:
    """What is said at the right, and whether it is said in the colour of warnings."""
    name = open_pull.pull.source.name
    if open_pull.was_cut and open_pull.fetched is not None and open_pull.fetched.is_full:
        return tr("Cut at {rows} {noun}: memory limit", rows=grouped(table.rows), noun=noun), True
    if open_pull.was_cut:
        return tr("Cut at {limit} {noun}", limit=grouped(open_pull.pull.query.limit or table.rows), noun=noun), True
    if open_pull.held is not None:
        return tr("{name}: transaction open", name=name), True
    return (
        tr("{name}: writes are reviewed", name=name) if open_pull.can_write else tr("{name}: read-only", name=name)
    ), False
