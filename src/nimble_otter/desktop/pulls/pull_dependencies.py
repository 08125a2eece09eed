"""Rows of other pulls for the steps that take them: from those that are open, else from the shelf, fetched unseen."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from weakref import WeakKeyDictionary

from nimble_otter.desktop.pulls.aspect import Aspect
from nimble_otter.desktop.pulls.open_pull import OpenPull
from nimble_otter.desktop.pulls.pull_state import PullState
from nimble_otter.desktop.runtime.connections import ConnectionManager
from nimble_otter.errors import OtterError
from nimble_otter.pull import Pull, Query, load_pull, places
from nimble_otter.pull.course import Course
from nimble_otter.pull.file import SUFFIX
from nimble_otter.pull.others import path_among
from nimble_otter.pull.steps import TakesRows
from nimble_otter.table import View
from nimble_otter.translation import tr


class PullDependencies:
    """One for a workspace, whose `pulls` are all open ones. A pull that is open under a name comes before a saved
    one."""

    def __init__(self, hub: ConnectionManager, pulls: Sequence[OpenPull], say: Callable[[str, bool], object]) -> None:
        self._hub, self._pulls, self._say = hub, pulls, say
        self._unseen: dict[Path, OpenPull] = {}
        self._views: WeakKeyDictionary[OpenPull, tuple[Course, View]] = WeakKeyDictionary()

    def names_for(self, open_pull: OpenPull) -> list[str]:
        """What a pull could take rows of: its pinned results, and all pulls that don't take its own."""
        names = [*reversed(open_pull.pinned), *(s.pull.name for s in self._pulls if s is not open_pull)]
        for shelf in places.shelf_folders():
            names += [path.stem for path in sorted(shelf.rglob(f"*{SUFFIX}"))]
        return [
            name for name in dict.fromkeys(names) if name != open_pull.pull.name and not self._takes(name, open_pull)
        ]

    def _takes(self, name: str, open_pull: PullState, deep: int = 0) -> bool:
        """Whether the pull of a name takes rows of `open_pull`, itself or through others."""
        found = self._open(name, open_pull)
        if found is None or deep > 20:
            return deep > 20
        return any(n == open_pull.pull.name or self._takes(n, open_pull, deep + 1) for n in found.shaping.needs)

    def _open(self, name: str, but: PullState) -> OpenPull | None:
        every = [*self._pulls, *self._unseen.values()]
        return next((s for s in every if s.pull.name == name and s is not but), None)

    def rows_for(self, open_pull: PullState, name: str, fresh: bool) -> View | None:
        """The rows at the end of a pull; None while there are none, and then they are asked for. `fresh` asks again for
        those of a pull that is not open."""
        if name in open_pull.pinned:
            return open_pull.pinned[name]
        if name == open_pull.pull.name or self._takes(name, open_pull):
            self._say(
                tr(
                    "{name} takes rows of {pull_name} itself; it can't be joined to it.",
                    name=name,
                    pull_name=open_pull.pull.name,
                ),
                True,
            )
            return None
        found = self._open(name, open_pull)
        if found is None:
            found, fresh = self._from_shelf(name) or self._from_table(name), False
        if found is None:
            return None
        is_unseen = found not in self._pulls
        if found.course is None or found.is_running or (fresh and is_unseen):
            if found.waits:
                self._say(tr("{name} was not run here before; open it and run it once.", name=name), True)
            elif not found.is_running and found.error is None and (found.table is None or fresh):
                found.runs.run_again()
            return None
        kept = self._views.get(found)
        if kept is None or kept[0] is not found.course:
            kept = self._views[found] = (found.course, found.course.end.as_shown())
            if found.fetched is not None and (found.fetched.was_cut or found.fetched.is_part):
                self._say(tr("{name} holds only part of its rows, so the result is partial too.", name=name), True)
        return kept[1]

    def _from_shelf(self, name: str) -> OpenPull | None:
        path = path_among(name, places.shelf_folders())
        if path is None:
            return None
        if path not in self._unseen:
            try:
                pull = load_pull(path)
            except OtterError as problem:
                self._say(str(problem), True)
                return None
            self._unseen[path] = open_pull = OpenPull(pull, self._hub, path, 0, self.rows_for)
            open_pull.waits = not self._hub.known_pulls.has(pull)
            open_pull.changed.connect(lambda what: self._told(open_pull, what))
        return self._unseen[path]

    def _from_table(self, text: str) -> OpenPull | None:
        """The pull of a whole table, by "SOURCE#TABLE"."""
        named, mark, table = text.rpartition("#")
        source = next((each for each in self._hub.sources if each.name == named), None)
        if not mark or source is None:
            return None
        if Path(text) not in self._unseen:
            pull = Pull(text, source, Query(f"select *\nfrom {self._hub.quoted(source, table)}\n"))
            self._unseen[Path(text)] = open_pull = OpenPull(pull, self._hub, None, 0, self.rows_for)
            open_pull.changed.connect(lambda what: self._told(open_pull, what))
        return self._unseen[Path(text)]

    def changed(self, open_pull: OpenPull) -> None:
        """Rows of a pull are others now: those that take them are told."""
        name, kept = open_pull.pull.name, self._views.get(open_pull)
        if open_pull.course is None or (kept is not None and kept[0] is open_pull.course):
            return
        for other in [*self._pulls, *self._unseen.values()]:
            takes = other is not open_pull and name in other.shaping.needs and other.table is not None
            if takes and not self._takes(name, other):
                other.shaping.take_others()

    def renamed(self, open_pull: OpenPull, before: str) -> None:
        """A pull has another name: those that took its rows take them by that."""
        after = open_pull.pull.name
        for other in self._pulls:
            if other is open_pull or before not in other.shaping.needs or self._open(before, other) is not None:
                continue
            steps = tuple(
                step.renamed(before, after) if isinstance(step, TakesRows) else step for step in other.pull.steps
            )
            other.shaping.change(replace(other.pull, steps=steps), tr("Take rows of {after}", after=after), quiet=True)

    def _told(self, open_pull: OpenPull, what: Aspect) -> None:
        if what & Aspect.ROWS:
            self.changed(open_pull)
        if what & Aspect.RUN and open_pull.error is not None:
            self._say(f"{open_pull.pull.name}: {open_pull.error}", True)
