"""The application behind the window: fonts, style, light or dark."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtWidgets import QApplication

from nimble_otter.desktop.kit.theme import load_fonts, theme


def make_app(arguments: Sequence[str] = ()) -> QApplication:
    """The application with our fonts and style, in the desktop's light or dark."""
    app = QApplication.instance() or QApplication(["nimble-otter", *arguments])
    assert isinstance(app, QApplication)
    app.setApplicationName("nimble-otter")
    app.setApplicationDisplayName("Nimble Otter")
    app.setDesktopFileName("nimble-otter")
    app.setStyle("Fusion")
    load_fonts(app)
    theme.follow_desktop()
    return app
