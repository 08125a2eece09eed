"""Turning tokens into fonts, a palette and a style sheet; light or dark after the desktop's setting."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QObject, Qt, Signal
from PySide6.QtGui import QColor, QFont, QFontDatabase, QGuiApplication, QPalette
from PySide6.QtWidgets import QApplication, QStyle

from nimble_otter.desktop.kit import tokens

ASSETS = Path(__file__).parents[1] / "assets"


THEMES = ("light", "dark")


class Theme(QObject):
    """The colours in force. `changed` is emitted after the application's style has been set anew."""

    changed = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.is_dark = False
        self.chosen = ""
        self._colours: dict[str, QColor] = {}
        self._use(False)

    def _use(self, dark: bool) -> None:
        self.is_dark = dark
        self._colours = {name: QColor(value) for name, value in (tokens.DARK if dark else tokens.LIGHT).items()}

    def __getitem__(self, name: str) -> QColor:
        return self._colours[name]

    def colours(self) -> dict[str, QColor]:
        """All of them, by name."""
        return dict(self._colours)

    def follow_desktop(self) -> None:
        """Use what the desktop prefers, now and when it changes."""
        hints = QGuiApplication.styleHints()
        hints.colorSchemeChanged.connect(lambda _: self.choose(self.chosen))
        self.choose(self.chosen)

    def choose(self, word: str) -> None:
        """Use "light" or "dark", whatever the desktop has; "" for what it has."""
        self.chosen = word
        is_dark = QGuiApplication.styleHints().colorScheme() == Qt.ColorScheme.Dark
        self.use(is_dark if word not in THEMES else word == "dark")

    def use(self, dark: bool) -> None:
        """Use the light or the dark colours, at once and everywhere."""
        self._use(dark)
        app = QApplication.instance()
        if isinstance(app, QApplication):
            app.setPalette(self._palette())
            app.setStyleSheet(style_sheet())
        self.changed.emit()

    def _palette(self) -> QPalette:
        palette = QPalette()
        role = QPalette.ColorRole
        for color_role, name in {
            role.Window: "paper", role.Base: "surface", role.AlternateBase: "paper", role.Button: "surface",
            role.Text: "ink", role.WindowText: "ink", role.ButtonText: "ink", role.PlaceholderText: "faint",
            role.Highlight: "water3", role.HighlightedText: "ink", role.ToolTipBase: "raised", role.ToolTipText: "ink",
            role.Link: "water1", role.Accent: "water1",
        }.items():  # fmt: skip
            palette.setColor(color_role, self[name])
        for color_role in (role.Text, role.WindowText, role.ButtonText):
            palette.setColor(QPalette.ColorGroup.Disabled, color_role, self["faint"])
        return palette


theme = Theme()


def motion_ms() -> int:
    """How long a change may be shown moving; 0 where the desktop asks for none, and where nobody looks."""
    style = QApplication.style()
    wanted = style.styleHint(QStyle.StyleHint.SH_Widget_Animation_Duration) if style is not None else 0
    return min(220, wanted) if QGuiApplication.platformName() != "offscreen" else 0


def load_fonts(app: QApplication) -> None:
    """Our own copies of both families, so that every machine shows the same."""
    for path in sorted((ASSETS / "fonts").iterdir()):
        if path.suffix in (".otf", ".ttf"):
            QFontDatabase.addApplicationFont(str(path))
    app.setFont(ui_font())


def ui_font(px: int = tokens.UI_PX, bold: bool = False) -> QFont:
    """The font of the interface, with figures of even width."""
    font = QFont(tokens.UI_FONT)
    font.setPixelSize(px)
    font.setWeight(QFont.Weight.DemiBold if bold else QFont.Weight.Normal)
    font.setFeature(QFont.Tag("tnum"), 1)  # figures of one width, so that columns of numbers line up
    font.setHintingPreference(QFont.HintingPreference.PreferNoHinting)
    return font


def code_font(px: int = tokens.CODE_PX) -> QFont:
    """The font of code, without ligatures: what is shown is what was typed."""
    font = QFont(tokens.CODE_FONT)
    font.setPixelSize(px)
    font.setStyleHint(QFont.StyleHint.Monospace)
    for tag in ("calt", "liga"):  # >= must look like what was typed
        font.setFeature(QFont.Tag(tag), 0)
    return font


def _asset(name: str) -> str:
    return (ASSETS / name).as_posix()


def style_sheet() -> str:
    """The widgets that Qt paints; our own painting reads the colours directly."""
    c = {name: colour.name() for name, colour in theme.colours().items()}
    tick = _asset("tick-dark.svg" if theme.is_dark else "tick-light.svg")
    arrow = _asset("arrow-dark.svg" if theme.is_dark else "arrow-light.svg")
    return f"""
* {{ outline: none; }}
QMainWindow, QWidget#paper {{ background: {c["paper"]}; }}
QWidget#surface {{ background: {c["surface"]}; }}
QWidget#raised {{ background: {c["raised"]}; }}
QWidget#journey {{ background: {c["water4"]}; border-top: 1px solid {c["water3"]}; }}
QWidget#failing {{ background: {c["plum_bg"]}; }}
QWidget#trace {{ background: {c["paper"]}; border-bottom: 1px solid {c["line"]}; }}
QWidget#caution {{ background: {c["amber_bg"]}; }}
QLabel {{ background: transparent; color: {c["ink"]}; }}
QLabel[tone="muted"] {{ color: {c["muted"]}; }}
QLabel[tone="faint"] {{ color: {c["faint"]}; }}
QLabel[tone="plum"] {{ color: {c["plum"]}; }}
QLabel[tone="amber"] {{ color: {c["amber_ink"]}; }}
QLabel[tone="water"] {{ color: {c["water1"]}; }}
QToolTip {{ background: {c["raised"]}; color: {c["ink"]}; border: 1px solid {c["line"]}; padding: 4px 6px; }}
QPushButton {{ background: {c["surface"]}; color: {c["ink"]}; border: 1px solid {c["line"]}; border-radius: 6px;
  padding: 4px 10px; min-height: 16px; }}
QPushButton:hover {{ border-color: {c["water2"]}; }}
QPushButton:focus {{ border-color: {c["water1"]}; }}
QPushButton:pressed {{ background: {c["sunk"]}; }}
QPushButton:disabled {{ color: {c["faint"]}; background: {c["paper"]}; }}
QPushButton[look="primary"] {{ background: {c["water1"]}; color: {c["on_water"]}; border-color: {c["water1"]};
  font-weight: 600; }}
QPushButton[look="primary"]:hover {{ background: {c["water2"]}; }}
QPushButton[look="primary"]:focus {{ border: 2px solid {c["water3"]}; padding: 3px 9px; }}
QPushButton[look="primary"]:disabled {{ background: {c["sunk"]}; color: {c["faint"]}; border-color: {c["line"]}; }}
QPushButton[look="plain"] {{ background: transparent; border: 1px solid transparent; color: {c["muted"]};
  padding: 2px 6px; }}
QPushButton[look="plain"]:hover {{ color: {c["water1"]}; }}
QPushButton[look="plain"]:focus {{ border-color: {c["water2"]}; }}
QPushButton[look="link"] {{ background: transparent; border: 1px solid transparent; color: {c["water1"]};
  padding: 2px 0px; text-align: left; }}
QPushButton[look="link"]:hover {{ text-decoration: underline; }}
QPushButton[look="link"]:focus {{ border-bottom-color: {c["water1"]}; }}
QPushButton[look="chip"] {{ background: transparent; border: 1px solid transparent; color: {c["muted"]};
  padding: 1px 8px; border-radius: 9px; }}
QPushButton[look="chip"]:checked {{ background: {c["water4"]}; color: {c["water1"]}; font-weight: 600; }}
QPushButton[look="chip"]:focus {{ border-color: {c["water2"]}; }}
QPushButton[look="segment"] {{ background: transparent; border: 1px solid transparent; color: {c["muted"]};
  padding: 3px 8px; border-radius: 5px; }}
QPushButton[look="segment"]:checked {{ background: {c["surface"]}; color: {c["ink"]}; font-weight: 600; }}
QPushButton[look="segment"]:focus {{ border-color: {c["water2"]}; }}
QFrame#card {{ background: {c["raised"]}; border: 1px solid {c["line"]}; border-radius: 7px; }}
QFrame#card QTreeWidget::item:selected {{ background: {c["water4"]}; color: {c["ink"]}; }}
QPushButton[look="join"] {{ background: {c["surface"]}; border: 1px solid {c["water2"]}; border-radius: 9px;
  color: {c["water1"]}; font-size: 11px; padding: 1px 3px; }}
QPushButton[look="join"]:hover {{ background: {c["water4"]}; }}
QPushButton[look="join"]:focus {{ border: 2px solid {c["water1"]}; padding: 0px 2px; }}
QPushButton[look="join"][state="wrong"] {{ border: 1px dashed {c["plum"]}; color: {c["plum"]}; }}
QFrame#segments {{ background: {c["sunk"]}; border-radius: 6px; }}
QLineEdit, QComboBox, QSpinBox {{ background: {c["surface"]}; color: {c["ink"]}; border: 1px solid {c["line"]};
  border-radius: 6px; padding: 2px 8px; min-height: 19px; selection-background-color: {c["water3"]};
  selection-color: {c["ink"]}; }}
QSpinBox::up-button, QSpinBox::down-button {{ width: 0px; border: none; }}
QSpinBox QLineEdit {{ border: none; border-radius: 0px; background: transparent; padding: 0px 8px; min-height: 0px; }}
QLineEdit:focus, QComboBox:focus, QSpinBox:focus {{ border-color: {c["water1"]}; }}
QLineEdit:disabled, QComboBox:disabled {{ color: {c["faint"]}; background: {c["paper"]}; }}
QLineEdit#find {{ border-radius: 13px; padding: 2px 12px; min-height: 22px; max-height: 22px; }}
QLineEdit#cell {{ border: 2px solid {c["water1"]}; border-radius: 0px; padding: 0px 7px; }}
QLineEdit[state="wrong"] {{ border-color: {c["plum"]}; }}
QComboBox::drop-down {{ border: none; width: 18px; }}
QComboBox::down-arrow {{ image: url({arrow}); width: 9px; height: 6px; }}
QComboBox QAbstractItemView {{ background: {c["surface"]}; color: {c["ink"]}; border: 1px solid {c["line"]};
  selection-background-color: {c["water4"]}; selection-color: {c["ink"]}; }}
QCheckBox {{ spacing: 8px; color: {c["ink"]}; background: transparent; }}
QCheckBox::indicator, QListWidget::indicator, QTreeWidget::indicator {{ width: 13px; height: 13px;
  border: 1.5px solid {c["faint"]}; border-radius: 3px; background: {c["surface"]}; }}
QCheckBox::indicator:checked, QListWidget::indicator:checked, QTreeWidget::indicator:checked {{
  background: {c["water1"]}; border-color: {c["water1"]}; image: url({tick}); }}
QTreeWidget::indicator:indeterminate {{ background: {c["water3"]}; border-color: {c["water1"]}; }}
QCheckBox:focus {{ color: {c["water1"]}; }}
QListWidget, QTreeWidget {{ background: transparent; border: none; color: {c["ink"]}; }}
QTreeView#rows {{ background: {c["surface"]}; border: none; color: {c["ink"]}; }}
QTreeView#rows::item {{ height: 23px; }}
QTreeView#rows::item:selected {{ background: {c["water4"]}; color: {c["ink"]}; }}
QTreeView#checks {{ background: {c["surface"]}; border: none; color: {c["ink"]}; }}
QTreeView#checks::item:selected {{ background: {c["water4"]}; }}
QListWidget::item {{ padding: 3px 4px; }}
QListWidget::item:selected {{ background: {c["water4"]}; color: {c["ink"]}; }}
QListWidget#completion {{ background: {c["surface"]}; border: 1px solid {c["line"]}; }}
QListWidget#formats::item {{ padding: 4px 12px; }}
QListWidget#formats {{ background: {c["raised"]}; border-right: 1px solid {c["grid_line"]}; }}
QFrame#glance {{ background: {c["surface"]}; border: 1px solid {c["faint"]}; border-radius: 8px; }}
QHeaderView {{ background: {c["surface"]}; }}
QHeaderView::section {{ background: {c["surface"]}; color: {c["muted"]}; border: none; padding: 3px 4px;
  border-bottom: 1px solid {c["line"]}; }}
QFrame#palette {{ background: {c["surface"]}; border: 1px solid {c["line"]}; }}
QListWidget#found {{ background: {c["surface"]}; border: 1px solid {c["line"]}; border-radius: 8px; padding: 4px; }}
QPlainTextEdit {{ background: {c["surface"]}; color: {c["ink"]}; border: none;
  selection-background-color: {c["water3"]}; selection-color: {c["ink"]}; }}
QPlainTextEdit#expression {{ border: 1px solid {c["line"]}; border-radius: 6px; padding: 1px 4px; }}
QPlainTextEdit#expression:focus {{ border-color: {c["water1"]}; }}
QMenu {{ background: {c["surface"]}; color: {c["ink"]}; border: 1px solid {c["line"]}; padding: 5px; }}
QMenu::item {{ padding: 4px 26px 4px 14px; border-radius: 4px; }}
QMenu::item:selected {{ background: {c["water4"]}; }}
QMenu::item:disabled {{ color: {c["faint"]}; }}
QMenu::separator {{ height: 1px; background: {c["line"]}; margin: 4px 6px; }}
QScrollBar {{ background: transparent; border: none; margin: 0; }}
QScrollBar:vertical {{ width: 10px; }} QScrollBar:horizontal {{ height: 10px; }}
QScrollBar::handle {{ background: {c["line"]}; border-radius: 4px; margin: 1px; }}
QScrollBar::handle:vertical {{ min-height: 28px; }} QScrollBar::handle:horizontal {{ min-width: 28px; }}
QScrollBar::handle:hover {{ background: {c["faint"]}; }}
QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
QScrollBar::add-page, QScrollBar::sub-page {{ background: transparent; }}
QAbstractScrollArea::corner {{ background: transparent; border: none; }}
QScrollArea {{ background: transparent; border: none; }}
QScrollArea > QWidget > QWidget {{ background: transparent; }}
QSplitter::handle {{ background: {c["line"]}; }}
QSplitter::handle:hover {{ background: {c["water2"]}; }}
"""
