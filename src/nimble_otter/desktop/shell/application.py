"""The application behind the window: fonts, style, light or dark."""

from __future__ import annotations

import logging
import os
from collections.abc import Sequence

from PySide6.QtCore import QLibraryInfo, QMessageLogContext, QtMsgType, QTranslator, qInstallMessageHandler
from PySide6.QtWidgets import QApplication

from nimble_otter import APPLICATION_ID
from nimble_otter.desktop.kit.theme import load_fonts, theme
from nimble_otter.desktop.runtime.settings import read_settings
from nimble_otter.home import settings_file
from nimble_otter.session_bus import text_scale
from nimble_otter.translation import ENGLISH, language


def scale_text() -> None:
    """Before the application is made: everything as much larger as the desktop and the user want text."""
    scale = text_scale() * read_settings(settings_file())[0].text_percent / 100
    if abs(scale - 1) > 0.01:
        before = float(os.environ.get("QT_SCALE_FACTOR") or 1)
        os.environ["QT_SCALE_FACTOR"] = f"{before * scale:.3f}"


def make_app(arguments: Sequence[str] = ()) -> QApplication:
    """The application with our fonts and style, in the desktop's light or dark."""
    app = QApplication.instance() or QApplication(["nimble-otter", *arguments])
    assert isinstance(app, QApplication)
    app.setApplicationName("nimble-otter")
    app.setApplicationDisplayName("Nimble Otter")
    app.setDesktopFileName(APPLICATION_ID)
    app.setStyle("Fusion")
    _speak(app)
    load_fonts(app)
    theme.follow_desktop()
    return app


def _speak(app: QApplication) -> None:
    """Have the toolkit's own texts (buttons of dialogs, menus of fields) in the language of ours."""
    texts = QTranslator(app)
    if language() != ENGLISH and texts.load(
        f"qtbase_{language()}", QLibraryInfo.path(QLibraryInfo.LibraryPath.TranslationsPath)
    ):
        app.installTranslator(texts)


def log_toolkit() -> None:
    """Have what the toolkit says go to the log."""
    log = logging.getLogger("nimble_otter.toolkit")
    levels = {QtMsgType.QtDebugMsg: logging.DEBUG, QtMsgType.QtInfoMsg: logging.INFO}

    def note(kind: QtMsgType, _: QMessageLogContext, message: str | None) -> None:
        log.log(levels.get(kind, logging.WARNING), "%s", message)

    qInstallMessageHandler(note)
