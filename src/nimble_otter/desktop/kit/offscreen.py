"""Running without a screen: a screen of a given size, and pictures of the window."""

from __future__ import annotations

import json
import os
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QEventLoop, QTimer
from PySide6.QtGui import QPainter
from PySide6.QtWidgets import QApplication, QWidget

from nimble_otter.translation import tr


def use_offscreen(width: int = 1280, height: int = 800) -> None:
    """Before the application is made: Qt's offscreen platform with a screen of this size."""
    folder = Path(tempfile.mkdtemp(prefix="nimble-otter-screen-"))
    screen = {
        "name": "screen",
        "x": 0,
        "y": 0,
        "width": width,
        "height": height,
        "logicalDpi": 96,
        "logicalBaseDpi": 96,
        "dpr": 1,
    }
    (folder / "screen.json").write_text(json.dumps({"screens": [screen]}))
    os.environ["QT_QPA_PLATFORM"] = f"offscreen:configfile={folder / 'screen.json'}"


_POLL_MS = 8


def wait_until(is_so: Callable[[], bool], seconds: float = 20.0) -> bool:
    """Let the window live until something is so; False when it took too long."""
    end = time.monotonic() + seconds
    while not is_so():
        if time.monotonic() > end:
            return False
        loop = QEventLoop()
        QTimer.singleShot(_POLL_MS, loop.quit)
        loop.exec()
    QApplication.processEvents()
    return True


BRIEF_MS = 150
"""Timers of at most so long are waited for: what panes show a moment later."""
_TURNS = 2


def wait_for_rest(window: QWidget, is_busy: Callable[[], bool], seconds: float) -> bool:
    """Let the window live until nothing runs and no timer is about to show something, for some turns of the loop."""
    turns = 0

    def rests() -> bool:
        nonlocal turns
        is_quiet = not is_busy() and not any(
            each.isActive() and each.isSingleShot() and each.interval() <= BRIEF_MS
            for each in window.findChildren(QTimer)
        )
        turns = turns + 1 if is_quiet else 0
        return turns > _TURNS

    return wait_until(rests, seconds)


def take_picture(widget: QWidget, path: Path, over: QWidget | None = None) -> None:
    """Save a picture of a widget as PNG, with what lies `over` it. Raises OSError if it can't be written."""
    QApplication.processEvents()
    path.parent.mkdir(parents=True, exist_ok=True)
    pixmap = widget.grab()
    if over is not None:
        with QPainter(pixmap) as painter:
            painter.drawPixmap(widget.mapFromGlobal(over.pos()), over.grab())
    if not pixmap.save(str(path)):
        raise OSError(tr("{path} can't be written", path=path))
