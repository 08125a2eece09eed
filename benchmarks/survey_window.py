"""The window with a generated survey, in a home of its own."""

from __future__ import annotations

import os
import tempfile
from pathlib import Path
from typing import Any

from nimble_otter.desktop.kit.offscreen import use_offscreen


def open_window(rows: int) -> tuple[Any, Path, tempfile.TemporaryDirectory[str]]:
    """The window, the survey's file with so many readings, and the folder of both: it goes when it is let go."""
    folder = tempfile.TemporaryDirectory()
    os.environ["NIMBLE_OTTER_HOME"] = folder.name
    use_offscreen()
    from nimble_otter.demo.survey import write_survey
    from nimble_otter.desktop.shell.application import make_app
    from nimble_otter.desktop.shell.window import Window
    from nimble_otter.memory import settle

    path = Path(folder.name) / "survey.sqlite"
    write_survey(path, rows)
    make_app()
    window = Window()
    window.show()
    window.begin(False)
    settle()
    return window, path, folder
