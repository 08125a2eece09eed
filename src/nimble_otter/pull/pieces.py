"""Steps kept under a name, to be used in any pull: each a pull file with steps alone, in a folder of the home or of the
team."""

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
from nimble_otter.team_changes import noting
from nimble_otter.translation import tr

_NOT_IN_NAMES = '/\\:*?"<>|\0'
_NOWHERE = Source("none", "sqlite:")
"""In place of a source, which steps have none of."""


@dataclass(frozen=True, slots=True)
class Piece:
    """`steps` in their order; the team's are `is_shared`."""

    name: str
    steps: tuple[Step, ...]
    is_shared: bool = False


def keep_piece(name: str, steps: Sequence[Step], for_team: bool = False) -> Path:
    """Keep steps under a name, in place of those that had it. Returns their file. Raises: SavedError, also where the
    team has others of this name."""
    plain = "".join("-" if sign in _NOT_IN_NAMES else sign for sign in name).strip().strip(".")
    if not plain or not steps:
        raise SavedError(tr("A piece needs a name and a step.") if steps else tr("There is no step to keep."))
    path = places.pieces_folders()[-1 if for_team else 0] / f"{plain}{SUFFIX}"
    if for_team and path.exists():
        raise SavedError(
            tr("The team has a piece {plain}.", plain=plain), tr("Choose another name, or remove that one first.")
        )
    try:
        path.parent.mkdir(mode=0o777 if for_team else 0o700, parents=True, exist_ok=True)
    except OSError as problem:
        raise SavedError(
            tr("{parent} can't be made: {strerror}.", parent=path.parent, strerror=problem.strerror)
        ) from problem
    save_pull(Pull(plain, _NOWHERE, Query(""), tuple(steps)), path)
    return path


def load_pieces() -> tuple[list[Piece], list[str]]:
    """Those that are kept, by name, one's own in the place of the team's; and what is wrong with files that can't be
    read, which are left as they are."""
    pieces, problems = dict[str, Piece](), []
    for number, folder in enumerate(places.pieces_folders()):
        for path in folder.glob(f"*{SUFFIX}"):
            try:
                pieces.setdefault(path.stem, Piece(path.stem, load_pull(path).steps, is_shared=number > 0))
            except SavedError as problem:
                problems.append(str(problem))
    return sorted(pieces.values(), key=lambda piece: piece.name.casefold()), sorted(problems)


def drop_piece(piece: Piece) -> None:
    """Forget one; the team's for everybody. Raises: SavedError."""
    path = places.pieces_folders()[-1 if piece.is_shared else 0] / f"{piece.name}{SUFFIX}"
    try:
        with noting(places.team_folder(), path, piece.name):
            path.unlink(missing_ok=True)
    except OSError as problem:
        raise SavedError(
            tr("{piece_name} can't be removed: {strerror}.", piece_name=piece.name, strerror=problem.strerror)
        ) from problem
