"""Where our own files are, after the XDG base directory specification. NIMBLE_OTTER_HOME puts all under one folder."""

from __future__ import annotations

import os
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


def config_folder() -> Path:
    """Sources and settings."""
    return _place(user_config_path(_NAME), "config")


def state_folder() -> Path:
    """Layout, open pulls, drafts, reversals."""
    return _place(user_state_path(_NAME), "state")
