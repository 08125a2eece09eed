"""Where our own files are, after the XDG base directory specification. NIMBLE_OTTER_HOME puts all under one folder."""

from __future__ import annotations

import os
import tomllib
from pathlib import Path

from platformdirs import user_config_path, user_data_path, user_state_path

_NAME = "nimble-otter"


def _place(usual: Path, name: str) -> Path:
    home = os.environ.get("NIMBLE_OTTER_HOME")
    return Path(home) / name if home else usual


def data_folder() -> Path:
    """Pulls, pieces and the demo."""
    return _place(user_data_path(_NAME), "data")


def config_folder() -> Path:
    """Sources and settings."""
    return _place(user_config_path(_NAME), "config")


def state_folder() -> Path:
    """Layout, open pulls, drafts, reversals."""
    return _place(user_state_path(_NAME), "state")


def settings_file() -> Path:
    """What the user has set."""
    return config_folder() / "settings.toml"


def text_setting(name: str) -> str:
    """A setting that is a text, for what is needed before all are read; "" where it is not set, or the file can't be
    read: whoever reads all of it tells of that."""
    try:
        value = tomllib.loads(settings_file().read_text("utf-8")).get(name)
    except (OSError, ValueError, RuntimeError):  # the last where it is nested too deeply
        return ""
    return value if isinstance(value, str) else ""
