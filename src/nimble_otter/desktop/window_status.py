"""What the status strip says of the pull that is shown."""

from __future__ import annotations

from typing import TYPE_CHECKING

from nimble_otter.table.show import grouped

if TYPE_CHECKING:
    from nimble_otter.desktop.window import Window


def show_status(window: Window) -> None:
    """Rows shown of rows fetched, what is pending, when and how they were fetched, whether writes need review."""
    session = window.pull
    shaped = session.shaped if session is not None else None
    if session is None or shaped is None or session.table is None:
        window.status.show_rows("", "" if session is None else ("Running" if session.is_running else "No rows yet"))
        window.status.show_right(
            "", f"{session.pull.source.name}: reads only" if session and not session.can_write else ""
        )
        return
    noun = "documents" if session.is_documents else "rows"
    shown = len(shaped.view) if shaped.grouped is not None else shaped.rows
    strong, rest = grouped(shown), f"of {grouped(session.table.rows)} {noun} shown"
    if shaped.grouped is not None:
        rest = f"of {grouped(session.table.rows)} {noun}, in {grouped(shaped.grouped.levels[0].table.rows)} groups"
    if session.edits.count:
        parts = ((len(session.edits.edited_rows), "± {} edited"), (len(session.edits.added), "+ {} new"))
        said = [text.format(n) for n, text in (*parts, (len(session.edits.deleted), "− {} to delete")) if n]
        rest += "   " + "   ".join(said)
    window.status.show_rows(strong, rest)
    when = ""
    if session.fetched_at is not None:
        by = "an earlier query" if session.error is not None else "query above"
        when = f"Fetched {session.fetched_at:%H:%M:%S} by {by}"
    window.status.fetched.setToolTip(session.told())
    cut = session.fetched is not None and session.fetched.was_cut
    name = session.pull.source.name
    limit = grouped(session.pull.query.limit or session.table.rows)
    writes = (
        f"Cut at {limit} {noun}"
        if cut and not session.is_preview
        else f"{name}: transaction open"
        if session.held is not None
        else (f"{name}: writes need review" if session.can_write else f"{name}: reads only")
    )
    window.status.show_right(
        "" if session.is_running else when,
        writes,
        "plum" if writes.startswith("Cut") or writes.endswith("open") else "muted",
    )
