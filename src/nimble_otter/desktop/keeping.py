"""What outlives the window: open pulls and their drafts, the layout, recent pulls."""

from __future__ import annotations

import json
import threading
from dataclasses import dataclass, field
from pathlib import Path

from nimble_otter.desktop.jobs import LOCAL
from nimble_otter.desktop.session import OpenPull
from nimble_otter.errors import OtterError, SavedError
from nimble_otter.files import set_aside, write_text
from nimble_otter.pull import places, pull_from_text, pull_to_text
from nimble_otter.pull.drafts import Draft, detach, drop_draft, load_draft, save_draft
from nimble_otter.pull.model import Pull

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
    """Writes drafts and the layout to the state folder. `problems` are said once the window is up."""

    def __init__(self) -> None:
        self.folder = places.state_folder()
        self.drafts = self.folder / "drafts"
        self.problems: list[str] = []
        self._written: dict[str, str] = {}
        self._numbers: dict[str, int] = {}
        self._lock = threading.Lock()

    @property
    def _file(self) -> Path:
        return self.folder / "layout.json"

    def load_layout(self) -> Layout:
        """The layout of last time; the first one when there is none. A damaged file is set aside and named."""
        layout = Layout()
        if not self._file.exists():
            return layout
        try:
            whole = json.loads(self._file.read_text("utf-8"))
            if whole["version"] > VERSION:
                raise ValueError("newer")
            for name, value in whole.items():
                if name in Layout.__dataclass_fields__ and type(value) is type(getattr(layout, name)):
                    setattr(layout, name, value)
            layout.size = tuple(whole.get("size", layout.size))[:2]
        except (OSError, ValueError, KeyError, TypeError):
            self.problems.append(f"The layout file was damaged; it is kept as {set_aside(self._file).name}.")
        return layout

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
            try:
                draft = load_draft(names[name])
                found.append((name, pull_from_text(draft.pull_text), draft))
            except OtterError as problem:
                self.problems.append(str(problem))
        return found

    def keep_later(self, session: OpenPull) -> None:
        """As `keep`, but of very many changes in the background: the window goes on meanwhile."""
        if session.edits.count < _MANY or session.table is None:
            self.keep(session)
            return
        name, edits, table, target = f"pull-{session.number}", session.edits.copied(), session.table, session.target
        text, path, saved, waiting = (
            pull_to_text(session.pull),
            str(session.path or ""),
            session.saved_text,
            session.waiting,
        )
        self._written.pop(name, None)
        number = self._numbers[name] = self._numbers.get(name, 0) + 1

        def work(*_: object) -> None:
            shown = detach(edits, table, target)
            with self._lock:
                if self._numbers.get(name) == number:  # else a newer one is on its way, or on disk
                    whole = shown if waiting is None else shown + waiting
                    try:
                        save_draft(self.drafts, name, Draft(text, path, saved, whole))
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
        edits = session.waiting
        if session.table is not None and session.edits.count:
            shown = detach(session.edits, session.table, session.target)
            edits = shown if edits is None else shown + edits
        try:
            draft = Draft(
                pull_to_text(session.pull), str(session.path or ""), session.saved_text, *([edits] if edits else [])
            )
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


def remember_recent(layout: Layout, path: Path) -> None:
    text = str(path)
    layout.recent = [text, *(p for p in layout.recent if p != text)][:MOST_RECENT]


def recent_paths(layout: Layout) -> list[Path]:
    return [Path(text) for text in layout.recent if Path(text).is_file()]
