"""The commit of a write that was noted before: what an error means before it, in it and behind it."""

from __future__ import annotations

import logging
from collections.abc import Callable
from dataclasses import replace
from types import TracebackType

from nimble_otter.changes.report import Intent, Report, nothing_written
from nimble_otter.errors import ChangeError, QueryError, SourceError, Stopped
from nimble_otter.sources.document_writer import DocumentWriter
from nimble_otter.sources.writer import Writer
from nimble_otter.stop import StopToken
from nimble_otter.translation import tr

log = logging.getLogger(__name__)

Note = Callable[[Intent], object]
"""Keeps what is about to be committed; what it raises ends the write before anything is written."""


class Commit:
    """Stands around a transaction. An error before its commit was sent says that nothing was written; one behind that
    is looked into by `look_up`, which gives what is to be said of it. Raises: SourceError's, Stopped (nothing written),
    ChangeError when the commit was refused, OutcomeUnknown."""

    def __init__(self, stop: StopToken, note: Note, look_up: Callable[[Intent], str]) -> None:
        self._stop, self._note, self._look_up = stop, note, look_up
        self._intent: Intent | None = None
        self._is_answered = False

    def __enter__(self) -> Commit:
        return self

    def make(self, writer: Writer | DocumentWriter, intent: Intent) -> None:
        """Note what is about to be committed, and commit it."""
        self._note(intent)
        self._stop.check()  # whoever stopped it has seen the note, or it is not committed
        self._intent = intent
        log.info("committing %d statements", len(intent.plan.statements))
        writer.commit()
        self._is_answered = True
        log.info("committed")

    def __exit__(
        self, kind: type[BaseException] | None, problem: BaseException | None, trace: TracebackType | None
    ) -> bool:
        if not isinstance(problem, (SourceError, Stopped)):
            return False
        if self._intent is None:
            raise nothing_written(problem) from problem
        if not self._is_answered and isinstance(problem, QueryError) and not self._stop.is_set():
            raise ChangeError(tr("Nothing was written: {message}", message=problem.message), problem.hint) from problem
        log.warning("the commit was not confirmed: %s", type(problem).__name__)
        return True

    def report(self) -> Report:
        """What the write came to."""
        assert self._intent is not None
        made = self._intent.report
        return made if self._is_answered else replace(made, said=self._look_up(self._intent))
