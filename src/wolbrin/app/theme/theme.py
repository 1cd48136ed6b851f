"""The current theme: tokens, fonts, style sheet; told to everyone who draws."""

from __future__ import annotations

from importlib import resources

from PySide6.QtCore import QObject, Qt, Signal
from PySide6.QtGui import QBrush, QColor, QFont, QFontDatabase, QPalette, QPen
from PySide6.QtWidgets import QAbstractButton, QApplication, QLabel

from wolbrin.app.theme.sheet import style_sheet
from wolbrin.app.theme.tokens import BODY, THEMES, Tokens

SANS, MONO = "IBM Plex Sans", "IBM Plex Mono"
FONT_FILES = ("IBMPlexSans-Regular.ttf", "IBMPlexSans-Medium.ttf", "IBMPlexSans-SemiBold.ttf",
              "IBMPlexMono-Regular.ttf")


def load_fonts() -> None:
    """Register the fonts shipped with the package."""
    folder = resources.files("wolbrin.app.theme") / "fonts"
    for name in FONT_FILES:
        QFontDatabase.addApplicationFontFromData((folder / name).read_bytes())


def font(size: int = BODY, weight: QFont.Weight = QFont.Weight.Normal, family: str = SANS) -> QFont:
    made = QFont(family)
    made.setPixelSize(size)
    made.setWeight(weight)
    return made


class Theme(QObject):
    """Tokens in use. `changed` fires after the application's style has been set."""

    changed = Signal()

    def __init__(self, name: str = "paper") -> None:
        super().__init__()
        self.tokens: Tokens = THEMES[name]

    def use(self, name: str) -> None:
        self.tokens = THEMES[name]
        self.apply()
        self.changed.emit()
        # Places that are not in sight get their fonts when they are shown; layouts would keep the widths of before.
        for widget in QApplication.allWidgets():
            if isinstance(widget, QLabel | QAbstractButton):
                widget.ensurePolished()
                widget.updateGeometry()

    def apply(self) -> None:
        app = QApplication.instance()
        assert isinstance(app, QApplication)
        t = self.tokens
        palette = QPalette()
        for role, color in ((QPalette.ColorRole.Window, t.background), (QPalette.ColorRole.WindowText, t.ink),
                            (QPalette.ColorRole.Base, t.surface), (QPalette.ColorRole.AlternateBase, t.background),
                            (QPalette.ColorRole.Text, t.ink), (QPalette.ColorRole.Button, t.surface),
                            (QPalette.ColorRole.ButtonText, t.ink), (QPalette.ColorRole.Highlight, t.selected),
                            (QPalette.ColorRole.HighlightedText, t.ink), (QPalette.ColorRole.ToolTipBase, t.surface),
                            (QPalette.ColorRole.ToolTipText, t.ink), (QPalette.ColorRole.PlaceholderText, t.muted),
                            (QPalette.ColorRole.Link, t.accent)):
            palette.setColor(role, QColor(color))
        app.setPalette(palette)
        app.setFont(font())
        app.setStyleSheet(style_sheet(t, str(resources.files("wolbrin.app.theme") / "icons").replace("\\", "/")))

    def color(self, token: str, alpha: int = 255) -> QColor:
        made = QColor(getattr(self.tokens, token))
        made.setAlpha(alpha)
        return made

    def pen(self, token: str, width: float = 1.0, style: Qt.PenStyle = Qt.PenStyle.SolidLine) -> QPen:
        made = QPen(self.color(token), width, style)
        made.setCosmetic(True)
        return made

    def hatch(self) -> QBrush:
        return QBrush(self.color("hatch"), Qt.BrushStyle.BDiagPattern)
