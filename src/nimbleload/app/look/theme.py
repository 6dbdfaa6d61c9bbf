"""Colours, text sizes and the style sheet: "night" and "paper", after the desktop's choice or the user's."""

from __future__ import annotations

from typing import NamedTuple

from PySide6.QtCore import Qt
from PySide6.QtGui import QBrush, QColor, QFont, QGuiApplication, QPainter, QPalette, QPen, QPixmap
from PySide6.QtWidgets import QApplication


class Colours(NamedTuple):
    """One theme. `ground` lies under `panel`, `raised` on it; `quiet` is for text that stands back."""

    name: str
    ground: str
    panel: str
    raised: str
    line: str
    text: str
    quiet: str
    brass: str
    on_brass: str
    teal: str
    brick: str
    brick_ground: str
    before: str
    families: dict[str, str]


NIGHT = Colours(
    "night", "#11161a", "#1a2126", "#252e35", "#36424a", "#ebe8df", "#9caab1", "#dca94b", "#1d1606", "#57ab9d",
    "#e0705a", "#2e1d1b", "#4d6470",
    {
        "equaliser": "#6f9f6d", "dynamics": "#c08a4e", "reverb": "#8b7fc0", "delay": "#6c86c9",
        "distortion": "#bf6076", "modulation": "#b071ad", "instrument": "#5a94bb", "analyser": "#8b949a",
        "other": "#a39a80",
    },
)  # fmt: skip
PAPER = Colours(
    "paper", "#e4e0d6", "#f5f2ea", "#fffdf8", "#c9c3b5", "#1f262a", "#566168", "#8f620a", "#fffaf0", "#12695e",
    "#a63a22", "#f3dfd8", "#9fb0b8",
    {
        "equaliser": "#86b384", "dynamics": "#d6a468", "reverb": "#a99ed6", "delay": "#8fa5dc",
        "distortion": "#d88497", "modulation": "#c990c6", "instrument": "#7db0d2", "analyser": "#a9b1b6",
        "other": "#bdb398",
    },
)  # fmt: skip
THEMES = {"night": NIGHT, "paper": PAPER}
SCALES = (90, 100, 115, 130, 145, 160)


class Theme:
    """The theme in force. There is one, `theme`; widgets read it whenever they paint."""

    def __init__(self) -> None:
        self.colours = NIGHT
        self.scale = 100

    def px(self, size: float) -> int:
        """A length or text size in pixels at the chosen text size."""
        return max(1, round(size * self.scale / 100))

    def font(self, size: float = 12, bold: bool = False) -> QFont:
        font = QFont(QGuiApplication.font())
        font.setPixelSize(self.px(size))
        font.setBold(bold)
        return font

    def colour(self, name: str) -> QColor:
        """A new colour object, which the caller may change."""
        return QColor(getattr(self.colours, name))

    def family(self, family: str) -> QColor:
        return QColor(self.colours.families.get(family, self.colours.families["other"]))

    def for_load(self, word: str) -> QColor:
        """The colour that goes with a load's word."""
        return self.colour({"overload": "brick", "tight": "brass", "not known": "quiet"}.get(word, "teal"))

    def hatch(self, colour: QColor, spacing: int = 6) -> QBrush:
        """A brush of slanted lines: what does not sound, or does not fit."""
        tile = QPixmap(spacing, spacing)
        tile.fill(Qt.GlobalColor.transparent)
        painter = QPainter(tile)
        painter.setPen(QPen(colour, 1))
        painter.drawLine(0, spacing, spacing, 0)
        painter.end()
        return QBrush(tile)

    def apply(self, application: QApplication, name: str, scale: int) -> None:
        """Puts a theme ("night", "paper" or "desktop") and a text size in force for all windows."""
        if name not in THEMES:
            dark = application.styleHints().colorScheme() != Qt.ColorScheme.Light
            name = "night" if dark else "paper"
        self.colours, self.scale = THEMES[name], scale
        if application.styleSheet() == self._style_sheet():
            return  # it is in force already, and giving it to every widget again takes as long as opening a window
        if not application.styleSheet():
            application.setStyle("Fusion")  # once: it polishes every widget anew
        application.setPalette(self._palette())
        application.setFont(self.font(12))
        application.setStyleSheet(self._style_sheet())

    def _palette(self) -> QPalette:
        role = QPalette.ColorRole
        palette = QPalette()
        for part, name in (
            (role.Window, "ground"), (role.Base, "panel"), (role.AlternateBase, "raised"), (role.Button, "raised"),
            (role.WindowText, "text"), (role.Text, "text"), (role.ButtonText, "text"), (role.ToolTipText, "text"),
            (role.ToolTipBase, "raised"), (role.Highlight, "brass"), (role.HighlightedText, "on_brass"),
            (role.PlaceholderText, "quiet"), (role.Mid, "line"), (role.Dark, "line"), (role.Light, "raised"),
        ):  # fmt: skip
            palette.setColor(part, self.colour(name))
        for part in (role.WindowText, role.Text, role.ButtonText):
            palette.setColor(QPalette.ColorGroup.Disabled, part, self.colour("quiet"))
        return palette

    def _style_sheet(self) -> str:
        c, px = self.colours, self.px
        return f"""
        QToolTip {{ color: {c.text}; background: {c.raised}; border: 1px solid {c.line}; padding: {px(4)}px; }}
        QMenuBar {{ background: {c.ground}; }}
        QMenuBar::item {{ padding: {px(3)}px {px(9)}px; background: transparent; }}
        QMenuBar::item:selected, QMenu::item:selected {{ background: {c.brass}; color: {c.on_brass}; }}
        QMenu {{ background: {c.raised}; border: 1px solid {c.line}; }}
        QMenu::item {{ padding: {px(4)}px {px(22)}px; }}
        QMenu::item:disabled {{ color: {c.quiet}; }}
        QMenu::separator {{ height: 1px; background: {c.line}; margin: {px(3)}px; }}
        QFrame[role="panel"] {{ background: {c.panel}; border-radius: {px(5)}px; }}
        QLabel[role="title"] {{ font-weight: bold; }}
        QLabel[role="quiet"] {{ color: {c.quiet}; font-size: {px(11)}px; }}
        QLabel[role="headline"] {{ font-weight: bold; font-size: {px(15)}px; }}
        QPushButton {{ background: {c.raised}; border: 1px solid {c.line}; border-radius: {px(4)}px;
            padding: {px(5)}px {px(12)}px; }}
        QPushButton:hover {{ border-color: {c.quiet}; }}
        QPushButton:focus {{ border-color: {c.brass}; }}
        QPushButton:disabled {{ color: {c.quiet}; background: {c.panel}; }}
        QPushButton[role="main"] {{ background: {c.brass}; color: {c.on_brass}; font-weight: bold; border: none;
            padding: {px(7)}px {px(16)}px; }}
        QPushButton[role="main"]:focus {{ border: 2px solid {c.text}; padding: {px(5)}px {px(14)}px; }}
        QPushButton[role="narrow"] {{ padding: {px(4)}px {px(6)}px; }}
        QPushButton[role="word"] {{ background: transparent; border: none; color: {c.quiet}; font-size: {px(11)}px;
            padding: {px(2)}px {px(4)}px; }}
        QPushButton[role="word"]:checked {{ color: {c.brass}; }}
        QPushButton[role="word"]:hover, QPushButton[role="word"]:focus {{ color: {c.text}; }}
        QLineEdit {{ background: {c.ground}; border: 1px solid {c.line}; border-radius: {px(4)}px;
            padding: {px(3)}px; }}
        QLineEdit:focus {{ border-color: {c.brass}; }}
        QTreeView, QTableView, QListView, QListWidget {{ background: transparent; border: none; outline: none; }}
        QHeaderView::section {{ background: {c.panel}; color: {c.quiet}; border: none; padding: {px(3)}px;
            font-size: {px(11)}px; }}
        QCheckBox::indicator, QListView::indicator, QTableView::indicator, QMenu::indicator {{
            width: {px(12)}px; height: {px(12)}px; border: 1px solid {c.quiet}; border-radius: {px(2)}px;
            background: {c.ground}; }}
        QCheckBox::indicator:checked, QListView::indicator:checked, QTableView::indicator:checked,
            QMenu::indicator:checked {{ background: {c.brass}; border: {px(3)}px solid {c.ground};
            width: {px(12) + 2 - 2 * px(3)}px; height: {px(12) + 2 - 2 * px(3)}px; outline: 1px solid {c.quiet}; }}
        QCheckBox:focus {{ color: {c.brass}; }}
        QScrollArea {{ background: transparent; border: none; }}
        QScrollArea > QWidget > QWidget {{ background: transparent; }}
        QScrollBar:vertical {{ background: transparent; width: {px(9)}px; }}
        QScrollBar:horizontal {{ background: transparent; height: {px(9)}px; }}
        QScrollBar::handle {{ background: {c.line}; border-radius: {px(4)}px; min-height: {px(24)}px; }}
        QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
        QProgressBar {{ background: {c.ground}; border: none; border-radius: {px(3)}px; height: {px(6)}px; }}
        QProgressBar::chunk {{ background: {c.teal}; border-radius: {px(3)}px; }}
        """


theme = Theme()
