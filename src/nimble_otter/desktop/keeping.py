"""What outlives the window: open pulls and their drafts, the layout, recent pulls."""

from __future__ import annotations

import json
import threading
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from nimble_otter.desktop.jobs import LOCAL
from nimble_otter.desktop.session import OpenPull
from nimble_otter.errors import OtterError, SavedError
from nimble_otter.files import clear_parts, read_text, set_aside, write_text
from nimble_otter.pull import places, pull_from_text, pull_to_text
from nimble_otter.pull.drafts import Draft, EditDraft, detach, drop_draft, load_draft, save_draft
from nimble_otter.pull.model import Pull
from nimble_otter.pull.seats import Seat

VERSION = 1
MOST_RECENT = 12
_MANY = 2000
"""Changes from which on a draft is written in the background."""


@dataclass
class Layout:
    """Sizes and what is open; everything has a value to begin with."""

    size: tuple[int, int] = (1280, 800)
    is_maximized: bool = False
    left: int = 226
    right: int = 285
    drawer: int = 222
    shown: dict[str, bool] = field(default_factory=lambda: {"left": True, "right": True, "drawer": True})
    page: int = 1
    row: int = 25
    order: list[str] = field(default_factory=list)
    current: int = 0
    recent: list[str] = field(default_factory=list)
    used: dict[str, int] = field(default_factory=dict)
    references: dict[str, str] = field(default_factory=dict)
    copying: dict[str, str | bool] = field(default_factory=dict)


class Keeper:
    """Writes drafts and the layout to the state folder. `problems` are said once the window is up. Each window of a
    home has a seat of its own there; see pull.seats."""

    def __init__(self) -> None:
        self.folder = places.state_folder()
        self.seat = Seat(self.folder)
        clear_parts(self.folder)
        clear_parts(self.folder / "drafts")
        self.drafts = self.folder / "drafts"
        self.problems: list[str] = []
        self._written: dict[str, str] = {}
        self._numbers: dict[str, int] = {}
        self._lock = threading.Lock()

    @property
    def _file(self) -> Path:
        return self.folder / ("layout.json" if self.seat.number == 1 else f"layout-{self.seat.number}.json")

    def load_layout(self) -> Layout:
        """The layout of last time; the first one when there is none. A damaged file is set aside and named."""
        layout = Layout()
        if not self._file.exists():
            return layout
        try:
            whole = json.loads(read_text(self._file))
            if whole["version"] > VERSION:
                raise ValueError("newer")
            for name, value in whole.items():
                if name in Layout.__dataclass_fields__:
                    setattr(layout, name, _fitting(value, getattr(layout, name)))
        except (OSError, ValueError, KeyError, TypeError, AttributeError, RecursionError) as problem:
            self._set_aside(self._file, "The layout file", problem)
            return Layout()
        return layout

    def _set_aside(self, path: Path, what: str, problem: Exception) -> None:
        try:
            self.problems.append(f"{what} was damaged; it is kept as {set_aside(path).name}.")
        except OSError:
            self.problems.append(f"{what} can't be read ({problem}), and can't be set aside: {path}.")

    def save_layout(self, layout: Layout) -> None:
        whole = {"version": VERSION, **layout.__dict__}
        try:
            write_text(self._file, json.dumps(whole, indent=1))
        except OSError as problem:
            self.problems.append(f"The layout can't be kept: {problem.strerror}.")

    def load_drafts(self, order: list[str]) -> list[tuple[str, Pull, Draft]]:
        """Drafts of last time, in the order of the tabs; damaged ones are set aside and named."""
        found = []
        names = {path.stem: path for path in sorted(self.drafts.glob("*.json"))} if self.drafts.is_dir() else {}
        for name in [*(n for n in order if n in names), *(n for n in names if n not in order)]:
            own = self._own_name(name)
            if own is None:
                continue
            try:
                draft = load_draft(self.drafts / f"{own}.json")
                found.append((own, pull_from_text(draft.pull_text), draft))
            except OtterError as problem:
                self.problems.append(str(problem))
            except OSError as problem:
                self.problems.append(f"A draft can't be read: {problem}.")
        return found

    def _own_name(self, name: str) -> str | None:
        """The name of a draft once it is this window's; None for one of a window that runs."""
        digits = name.rpartition("-")[2]
        number = int(digits) if digits.isdigit() and len(digits) < 9 else 0
        if not number or self.seat.owns(number):
            return name
        with self.seat.taking_over(number) as is_free:
            if not is_free:
                return None
            free = self.seat.first_number
            while (self.drafts / f"pull-{free}.json").exists():
                free += 1
            try:
                (self.drafts / f"{name}.json").rename(self.drafts / f"pull-{free}.json")
            except OSError as problem:
                self.problems.append(f"A draft can't be taken over: {problem.strerror}.")
                return None
            return f"pull-{free}"

    def keep_later(self, session: OpenPull) -> None:
        """As `keep`, but of very many changes in the background: the window goes on meanwhile."""
        if session.edits.count < _MANY or session.table is None:
            self.keep(session)
            return
        name, edits, table, target = f"pull-{session.number}", session.edits.copied(), session.table, session.target
        waiting, path = session.pending.waiting, str(session.path or "")
        text, saved, uid = pull_to_text(session.pull), session.saved_text, session.uid
        self._written.pop(name, None)
        number = self._numbers[name] = self._numbers.get(name, 0) + 1

        def work(*_: object) -> None:
            shown = detach(edits, table, target)
            with self._lock:
                if self._numbers.get(name) == number:  # else a newer one is on its way, or on disk
                    try:
                        save_draft(self.drafts, name, Draft(text, path, saved, shown.over(waiting), uid))
                    except OSError as problem:
                        raise SavedError(f"{problem.strerror}.") from None

        def failed(problem: OtterError) -> None:
            self.problems.append(f"The draft of {session.pull.name} can't be kept: {problem}.")

        session.jobs.submit(LOCAL, f"{session.key} draft", work, lambda _: None, failed)

    def keep(self, session: OpenPull) -> bool:
        """Write a pull's draft when it changed; returns whether it is on disk."""
        name = f"pull-{session.number}"
        with self._lock:
            self._numbers[name] = self._numbers.get(name, 0) + 1
        try:
            edits = session.pending.by_key(session.table, session.target) or EditDraft()
            draft = Draft(pull_to_text(session.pull), str(session.path or ""), session.saved_text, edits, session.uid)
            mark = repr(draft)
            if self._written.get(name) != mark:
                save_draft(self.drafts, name, draft)
                self._written[name] = mark
        except (OSError, OtterError) as problem:
            self.problems.append(f"The draft of {session.pull.name} can't be kept: {problem}.")
            return False
        return True

    def forget(self, session: OpenPull) -> None:
        name = f"pull-{session.number}"
        with self._lock:
            self._numbers[name] = self._numbers.get(name, 0) + 1
        self._written.pop(name, None)
        drop_draft(self.drafts, name)

    @property
    def reversals(self) -> Path:
        """Where what was written is kept, and how it is put back."""
        return self.folder / "reversals"


def _fitting(value: Any, known: Any) -> Any:
    """A value of the layout file, where it is of the kind of the one that is known and in bounds; else that one."""
    if isinstance(known, bool) or isinstance(value, bool):
        return value if type(value) is type(known) else known
    if isinstance(known, int):
        return value if isinstance(value, int) and 0 <= value <= 20_000 else known
    if isinstance(known, tuple):
        is_size = isinstance(value, list) and len(value) == 2 and all(type(n) is int and 0 < n < 20_000 for n in value)
        return tuple(value) if is_size else known
    if isinstance(known, list):
        return [item for item in value if isinstance(item, str)][:1000] if isinstance(value, list) else known
    if isinstance(known, dict) and isinstance(value, dict):
        return {k: v for k, v in value.items() if isinstance(v, (str, bool, int)) and not isinstance(v, float)}
    return known


def remember_recent(layout: Layout, path: Path) -> None:
    text = str(path)
    layout.recent = [text, *(p for p in layout.recent if p != text)][:MOST_RECENT]


def recent_paths(layout: Layout) -> list[Path]:
    return [Path(text) for text in layout.recent if Path(text).is_file()]
