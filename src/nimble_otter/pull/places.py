"""Where our own files are, after the XDG base directory specification. NIMBLE_OTTER_HOME puts all under one folder."""

from __future__ import annotations

import os
import tomllib
from contextlib import suppress
from pathlib import Path

from platformdirs import user_config_path, user_data_path, user_state_path

_NAME = "nimble-otter"


def _place(kind: Path, name: str) -> Path:
    home = os.environ.get("NIMBLE_OTTER_HOME")
    return Path(home) / name if home else kind


def is_ours(path: Path) -> bool:
    """Whether a path is in one of our own folders."""
    own = (demo_folder().parent, config_folder(), state_folder())
    return any(Path(os.path.realpath(folder)) in Path(os.path.realpath(path)).parents for folder in own)


def demo_folder() -> Path:
    """Where the demo's database lies."""
    return _place(user_data_path(_NAME), "data") / "demo"


def shelf_folder() -> Path:
    """Saved pulls."""
    return _place(user_data_path(_NAME), "data") / "shelf"


def team_folder() -> Path | None:
    """What a team shares: NIMBLE_OTTER_TEAM, or the setting; None where there is no such folder."""
    named = os.environ.get("NIMBLE_OTTER_TEAM", "")
    if not named:
        with suppress(OSError, ValueError):
            named = str(tomllib.loads((config_folder() / "settings.toml").read_text("utf-8")).get("team_folder", ""))
    return Path(named).expanduser() if named else None


def shelf_folders() -> tuple[Path, ...]:
    """Where saved pulls are looked for: one's own, then the team's."""
    team = team_folder()
    return (shelf_folder(),) if team is None else (shelf_folder(), team / "pulls")


def pieces_folders() -> tuple[Path, ...]:
    """Where steps kept under a name are: one's own, then the team's."""
    team, own = team_folder(), shelf_folder().parent / "pieces"
    return (own,) if team is None else (own, team / "pieces")


def config_folder() -> Path:
    """Sources and settings."""
    return _place(user_config_path(_NAME), "config")


def state_folder() -> Path:
    """Layout, open pulls, drafts, reversals."""
    return _place(user_state_path(_NAME), "state")
