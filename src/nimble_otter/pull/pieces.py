"""Steps kept under a name, to be used in any pull: each a pull file with steps alone, in a folder of the home."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from nimble_otter.errors import SavedError
from nimble_otter.pull import places
from nimble_otter.pull.file import SUFFIX, load_pull, save_pull
from nimble_otter.pull.model import Pull, Query
from nimble_otter.pull.steps import Step
from nimble_otter.sources.source import Source

_NOT_IN_NAMES = '/\\:*?"<>|\0'
_NOWHERE = Source("none", "sqlite:")
"""In place of a source, which steps have none of."""


@dataclass(frozen=True, slots=True)
class Piece:
    """`steps` in their order."""

    name: str
    steps: tuple[Step, ...]


def pieces_folder() -> Path:
    """Where they are kept."""
    return places.shelf_folder().parent / "pieces"


def keep_piece(name: str, steps: Sequence[Step]) -> Path:
    """Keep steps under a name, in place of those that had it. Returns their file. Raises: SavedError."""
    plain = "".join("-" if sign in _NOT_IN_NAMES else sign for sign in name).strip().strip(".")
    if not plain or not steps:
        raise SavedError("A piece needs a name and a step." if steps else "There is no step to keep.")
    path = pieces_folder() / f"{plain}{SUFFIX}"
    try:
        path.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
    except OSError as problem:
        raise SavedError(f"{path.parent} can't be made: {problem.strerror}.") from problem
    save_pull(Pull(plain, _NOWHERE, Query(""), tuple(steps)), path)
    return path


def load_pieces() -> tuple[list[Piece], list[str]]:
    """Those that are kept, by name; and what is wrong with files that can't be read, which are left as they are."""
    pieces, problems = [], []
    for path in sorted(pieces_folder().glob(f"*{SUFFIX}"), key=lambda path: path.name.casefold()):
        try:
            pieces.append(Piece(path.stem, load_pull(path).steps))
        except SavedError as problem:
            problems.append(str(problem))
    return pieces, problems


def drop_piece(name: str) -> None:
    """Forget one. Raises: SavedError."""
    try:
        (pieces_folder() / f"{name}{SUFFIX}").unlink(missing_ok=True)
    except OSError as problem:
        raise SavedError(f"{name} can't be removed: {problem.strerror}.") from problem
