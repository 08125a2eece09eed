"""What the status strip says of the pull that is shown."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING

from nimble_otter.desktop.kit.widgets import as_plain
from nimble_otter.table.show import grouped

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
    words = f"{job.title} {grouped(done)}" + (f" of {grouped(total)}" if total else "")
    spent = time.monotonic() - job.began
    if spent < _RATE_S or not done:
        return words
    rate = done / spent
    left = f", {_span_words((total - done) / rate)} left" if total and done < total else ""
    return f"{words}, {grouped(round(rate))} a second{left}"


def _span_words(seconds: float) -> str:
    return f"{seconds / 60:.0f} min" if seconds >= 90 else f"{max(1, round(seconds))} s"


def show_status(status: StatusStrip, session: OpenPull | None) -> None:
    """Rows shown of rows fetched, what is pending, when and how they were fetched, whether writes are reviewed."""
    shaped = session.shaped if session is not None else None
    if session is None or shaped is None or session.table is None:
        status.show_rows("", "" if session is None else ("Running" if session.is_running else "No rows yet"))
        status.show_right("", f"{session.pull.source.name}: read-only" if session and not session.can_write else "")
        return
    noun = "documents" if session.is_documents else "rows"
    shown = len(shaped.view) if shaped.grouped is not None else shaped.rows
    strong, rest = grouped(shown), f"of {grouped(session.table.rows)} {noun} shown"
    if shaped.grouped is not None:
        rest = f"of {grouped(session.table.rows)} {noun}, in {grouped(shaped.grouped.levels[0].table.rows)} groups"
    if session.edits.count:
        parts = ((session.edits.edited_count, "± {} edited"), (len(session.edits.added), "+ {} new"))
        said = [text.format(n) for n, text in (*parts, (len(session.edits.deleted), "− {} to delete")) if n]
        rest += "   " + "   ".join(said)
    if session.pending.waiting_count:
        rest += f"   {grouped(session.pending.waiting_count)} wait for their rows"
    status.show_rows(strong, rest)
    when = ""
    if session.fetched_at is not None:
        by = "an earlier query" if session.error is not None else "query above"
        when = f"Fetched {session.fetched_at:%H:%M:%S} by {by}"
    status.fetched.setToolTip(as_plain(session.told()))
    text, is_grave = _writes_of(session, session.table, noun)
    status.show_right("" if session.is_running else when, text, "plum" if is_grave else "muted")


def _writes_of(session: OpenPull, table: Table, noun: str) -> tuple[str, bool]:
    """What is said at the right, and whether it is said in the colour of warnings."""
    name = session.pull.source.name
    if session.fetched is not None and session.fetched.was_cut and not session.is_preview:
        return f"Cut at {grouped(session.pull.query.limit or table.rows)} {noun}", True
    if session.held is not None:
        return f"{name}: transaction open", True
    return (f"{name}: writes are reviewed" if session.can_write else f"{name}: read-only"), False
