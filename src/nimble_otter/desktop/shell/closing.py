"""Closing tabs and the window: what is pending is asked about, a write under way is waited for, and a pull closed last
can be had back with all that was pending on it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtWidgets import QWidget

from nimble_otter.desktop.kit.confirm_dialogs import ask_drop, ask_while_writing
from nimble_otter.desktop.pulls.drafts import DraftStore
from nimble_otter.desktop.pulls.open_pull import OpenPull
from nimble_otter.desktop.pulls.workspace import Workspace
from nimble_otter.desktop.query.transaction_strip import ask_to_end
from nimble_otter.pull import Pull
from nimble_otter.pull.drafts import EditDraft
from nimble_otter.translation import tr, trn


class Closing:
    """One for a window."""

    def __init__(
        self, window: QWidget, workspace: Workspace, drafts: DraftStore, keep_drafts: Callable[[], object]
    ) -> None:
        self._window, self._workspace, self._drafts, self._keep_drafts = window, workspace, drafts, keep_drafts
        self._closed: list[tuple[Pull, Path | None, str, EditDraft, str]] = []

    def may_close(self) -> bool:
        """Whether the window may close now; asks where a write is under way."""
        writing = [open_pull.pull.name for open_pull in self._workspace.pulls if open_pull.is_writing]
        return not writing or ask_while_writing(writing)

    def close(self, at: int, ask: bool = True) -> None:
        """Close a tab; pending changes are asked about, everything else can be had back with "Reopen"."""
        workspace = self._workspace
        hub, open_pull = workspace.hub, workspace.pulls[at]
        if open_pull.is_writing:
            workspace.say(
                tr(
                    "A write of {pull_name} is under way. Wait for it or stop it, then close.",
                    pull_name=open_pull.pull.name,
                ),
                True,
            )
            return
        if ask and not self._is_dropped(open_pull):
            return
        source = hub.known(open_pull.pull.source)
        others = [s for s in workspace.pulls if s is not open_pull and hub.known(s.pull.source).url == source.url]
        if ask and not others and open_pull.held is not None:
            ask_to_end(self._window, hub, [source], lambda: self.close(workspace.pulls.index(open_pull)))
            return
        open_pull.runs.stop()
        edits = open_pull.pending.by_key(open_pull.table, open_pull.target) or EditDraft()
        self._closed.append((open_pull.pull, open_pull.path, open_pull.saved_text, edits, open_pull.uid))
        self._drafts.forget(open_pull)
        workspace.close(open_pull)
        self._keep_drafts()

    def _is_dropped(self, open_pull: OpenPull) -> bool:
        """Whether nothing is pending, or may be dropped."""
        count, name = open_pull.pending.count, open_pull.pull.name
        if open_pull.in_doubt:
            return ask_drop(tr("The outcome of the last write of {name} is not known yet.", name=name), self._window)
        if not count:
            return True
        text = trn(
            "{name} has {count} pending change that was not written.",
            "{name} has {count} pending changes that were not written.",
            count,
            name=name,
            count=count,
        )
        return ask_drop(text, self._window)

    def reopen(self) -> None:
        """The pull closed last, with where it was saved and what was pending on it."""
        if not self._closed:
            return
        pull, path, saved, edits, uid = self._closed.pop()
        open_pull = self._workspace.open_quietly(pull, path)
        open_pull.saved_text, open_pull.uid = saved, uid
        open_pull.pending.wait(edits)
        self._workspace.show(open_pull)
