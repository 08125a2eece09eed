"""The one guard for reading: what may be sent to a source that is only asked.

Every way of running a text comes through `Connection.run` or `Connection.explain`, and both ask here first. The
server is held to reading as well (see the drivers); this is what keeps back what a server's read-only mode lets pass.
"""

from __future__ import annotations

from collections.abc import Sequence

from nimble_otter.errors import NotReading, Place, place_of
from nimble_otter.query.sql.effects import Effect, Verdict, stages_that_write
from nimble_otter.translation import tr


def refuse_writing(verdict: Verdict, text: str, is_read_only: bool) -> None:
    """Raises: NotReading, with where in the text and why, unless the text only reads."""
    if verdict.reads:
        return
    message = (
        tr("This statement may write")
        if verdict.effect is not Effect.UNKNOWN
        else tr("It can't be told what this statement does")
    )
    if is_read_only:
        hint = tr("The source is marked read-only, so it was not run.")
    else:
        hint = tr("It was not run. In the window, Run sends statements that write, and asks first.")
    raise NotReading(f"{message}: {verdict.why}.", hint, _place(text))


def refuse_stages(pipeline: Sequence[object], text: str) -> None:
    """Raises: NotReading, where a pipeline has a stage, at any depth, that is not known to only read."""
    value = next(stages_that_write(pipeline), "")
    if not value:
        return
    at = text.find(f'"{value}"')
    place = place_of(text, at, at + len(value) + 2) if at >= 0 else None
    raise NotReading(
        tr("The pipeline holds {value}, which is not known to only read.", value=value),
        tr("It was not run. Take the stage out; rows are delivered to a collection through Send."),
        place,
    )


def _place(text: str) -> Place:
    start = len(text) - len(text.lstrip())
    word = text[start:].split(None, 1)
    return place_of(text, start, start + len(word[0]) if word else start + 1)
