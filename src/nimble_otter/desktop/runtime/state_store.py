"""What outlives the window but for the pulls: the state folder, the layout, recent pulls."""

from __future__ import annotations

import json
from dataclasses import dataclass, field
from pathlib import Path

from nimble_otter.files import clear_parts, read_text, set_aside, write_text
from nimble_otter.pull import places
from nimble_otter.pull.seats import Seat
from nimble_otter.translation import tr
from nimble_otter.values import Value

VERSION = 1
MOST_RECENT = 12


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
    order: list[str] = field(default_factory=list)
    current: int = 0
    recent: list[str] = field(default_factory=list)
    used: dict[str, int] = field(default_factory=dict)
    references: dict[str, str] = field(default_factory=dict)
    copying: dict[str, str | bool] = field(default_factory=dict)


class StateStore:
    """The state folder of this home, with the layout in it. `problems` are said once the window is up. Each window of a
    home has a seat of its own there; see pull.seats."""

    def __init__(self) -> None:
        self.folder = places.state_folder()
        self.seat = Seat(self.folder)
        clear_parts(self.folder)
        clear_parts(self.folder / "drafts")
        self.problems: list[str] = []

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
            self._set_aside(self._file, tr("The layout file"), problem)
            return Layout()
        return layout

    def _set_aside(self, path: Path, what: str, problem: Exception) -> None:
        try:
            self.problems.append(
                tr(
                    "{what} was damaged; it is kept as {set_aside_name}.",
                    what=what,
                    set_aside_name=set_aside(path).name,
                )
            )
        except OSError:
            self.problems.append(
                tr(
                    "{what} can't be read ({problem}), and can't be set aside: {path}.",
                    what=what,
                    problem=problem,
                    path=path,
                )
            )

    def save_layout(self, layout: Layout) -> None:
        """Write the layout to its file; what fails is among the problems."""
        whole = {"version": VERSION, **layout.__dict__}
        try:
            write_text(self._file, json.dumps(whole, indent=1))
        except OSError as problem:
            self.problems.append(tr("The layout can't be kept: {strerror}.", strerror=problem.strerror))

    @property
    def reversals(self) -> Path:
        """Where what was written is kept, and how it is put back."""
        return self.folder / "reversals"


def _fitting(value: Value, known: Value) -> object:
    """A value of the layout file, where it is of the kind of the one that is known and in bounds; else that one."""
    if isinstance(known, bool) or isinstance(value, bool):
        return value if type(value) is type(known) else known
    if isinstance(known, str):
        return value if isinstance(value, str) else known
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
    """Put a pull's path first among the recent ones."""
    text = str(path)
    layout.recent = [text, *(p for p in layout.recent if p != text)][:MOST_RECENT]


def recent_paths(layout: Layout) -> list[Path]:
    """The recent pulls that are still there."""
    return [Path(text) for text in layout.recent if Path(text).is_file()]
