"""Drafts of open pulls: on disk soon after each change, with what is pending, and there at the next start."""

from __future__ import annotations

import threading

from nimble_otter.desktop.pulls.open_pull import OpenPull
from nimble_otter.desktop.runtime.jobs import LOCAL
from nimble_otter.desktop.runtime.state_store import StateStore
from nimble_otter.errors import OtterError, SavedError
from nimble_otter.pull import pull_from_text, pull_to_text
from nimble_otter.pull.drafts import Draft, EditDraft, detach, drop_draft, load_draft, save_draft
from nimble_otter.pull.model import Pull

_MANY = 2000
"""Changes from which on a draft is written in the background."""


class DraftStore:
    """What can't be written is told among the `problems` of the store."""

    def __init__(self, store: StateStore) -> None:
        self._seat, self._problems, self._folder = store.seat, store.problems, store.folder / "drafts"
        self._written: dict[str, str] = {}
        self._numbers: dict[str, int] = {}
        self._lock = threading.Lock()

    def load(self, order: list[str]) -> list[tuple[str, Pull, Draft]]:
        """Drafts of last time, in the order of the tabs; damaged ones are set aside and named."""
        results = []
        names = {path.stem: path for path in sorted(self._folder.glob("*.json"))} if self._folder.is_dir() else {}
        for name in [*(n for n in order if n in names), *(n for n in names if n not in order)]:
            own = self._own_name(name)
            if own is None:
                continue
            try:
                draft = load_draft(self._folder / f"{own}.json")
                results.append((own, pull_from_text(draft.pull_text), draft))
            except OtterError as problem:
                self._problems.append(str(problem))
            except OSError as problem:
                self._problems.append(f"A draft can't be read: {problem}.")
        return results

    def _own_name(self, name: str) -> str | None:
        """The name of a draft once it is this window's; None for one of a window that runs."""
        digits = name.rpartition("-")[2]
        number = int(digits) if digits.isdigit() and len(digits) < 9 else 0
        if not number or self._seat.owns(number):
            return name
        with self._seat.taking_over(number) as is_free:
            if not is_free:
                return None
            free = self._seat.first_number
            while (self._folder / f"pull-{free}.json").exists():
                free += 1
            try:
                (self._folder / f"{name}.json").rename(self._folder / f"pull-{free}.json")
            except OSError as problem:
                self._problems.append(f"A draft can't be taken over: {problem.strerror}.")
                return None
            return f"pull-{free}"

    def keep_later(self, open_pull: OpenPull) -> None:
        """As `keep`, but of very many changes in the background: the window goes on meanwhile."""
        if open_pull.edits.count < _MANY or open_pull.table is None:
            self.keep(open_pull)
            return
        name, edits, table, target = (
            f"pull-{open_pull.number}",
            open_pull.edits.copied(),
            open_pull.table,
            open_pull.target,
        )
        waiting, path = open_pull.pending.waiting, str(open_pull.path or "")
        text, saved, uid = pull_to_text(open_pull.pull), open_pull.saved_text, open_pull.uid
        self._written.pop(name, None)
        number = self._numbers[name] = self._numbers.get(name, 0) + 1

        def work(*_: object) -> None:
            shown = detach(edits, table, target)
            with self._lock:
                if self._numbers.get(name) == number:  # else a newer one is on its way, or on disk
                    try:
                        save_draft(self._folder, name, Draft(text, path, saved, shown.over(waiting), uid))
                    except OSError as problem:
                        raise SavedError(f"{problem.strerror}.") from problem

        def failed(problem: OtterError) -> None:
            self._problems.append(f"The draft of {open_pull.pull.name} can't be kept: {problem}.")

        open_pull.jobs.submit(LOCAL, f"{open_pull.key} draft", work, lambda _: None, failed)

    def keep(self, open_pull: OpenPull) -> bool:
        """Write a pull's draft when it changed; returns whether it is on disk."""
        name = f"pull-{open_pull.number}"
        with self._lock:
            self._numbers[name] = self._numbers.get(name, 0) + 1
        try:
            edits = open_pull.pending.by_key(open_pull.table, open_pull.target) or EditDraft()
            draft = Draft(
                pull_to_text(open_pull.pull), str(open_pull.path or ""), open_pull.saved_text, edits, open_pull.uid
            )
            mark = repr(draft)
            if self._written.get(name) != mark:
                save_draft(self._folder, name, draft)
                self._written[name] = mark
        except (OSError, OtterError) as problem:
            self._problems.append(f"The draft of {open_pull.pull.name} can't be kept: {problem}.")
            return False
        return True

    def forget(self, open_pull: OpenPull) -> None:
        """Remove the draft of a pull that is closed or saved."""
        name = f"pull-{open_pull.number}"
        with self._lock:
            self._numbers[name] = self._numbers.get(name, 0) + 1
        self._written.pop(name, None)
        drop_draft(self._folder, name)
