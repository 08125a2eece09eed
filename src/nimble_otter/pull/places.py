"""Where pulls, pieces and what a team shares are, in the folders of our own."""

from __future__ import annotations

import os
from pathlib import Path

from nimble_otter.home import config_folder as config_folder
from nimble_otter.home import data_folder, text_setting
from nimble_otter.home import state_folder as state_folder


def is_ours(path: Path) -> bool:
    """Whether a path is in one of our own folders."""
    own = (demo_folder().parent, config_folder(), state_folder())
    return any(Path(os.path.realpath(folder)) in Path(os.path.realpath(path)).parents for folder in own)


def demo_folder() -> Path:
    """Where the demo's database lies."""
    return data_folder() / "demo"


def shelf_folder() -> Path:
    """Saved pulls."""
    return data_folder() / "shelf"


def team_folder() -> Path | None:
    """What a team shares: NIMBLE_OTTER_TEAM, or the setting; None where there is no such folder."""
    named = os.environ.get("NIMBLE_OTTER_TEAM") or text_setting("team_folder")
    return Path(named).expanduser() if named else None


def shelf_folders() -> tuple[Path, ...]:
    """Where saved pulls are looked for: one's own, then the team's."""
    team = team_folder()
    return (shelf_folder(),) if team is None else (shelf_folder(), team / "pulls")


def pieces_folders() -> tuple[Path, ...]:
    """Where steps kept under a name are: one's own, then the team's."""
    team, own = team_folder(), shelf_folder().parent / "pieces"
    return (own,) if team is None else (own, team / "pieces")
