"""Colours, text sizes and the style sheet: "night" and "paper", after the desktop's choice or the user's."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, NamedTuple, TypeVar
from weakref import WeakKeyDictionary

from PySide6.QtCore import QBuffer, Qt
from PySide6.QtGui import QBrush, QColor, QFont, QGuiApplication, QImage, QPainter, QPalette, QPen, QPixmap
from PySide6.QtWidgets import QApplication, QWidget
from shiboken6 import isValid


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
        "equaliser": "#929a77", "dynamics": "#b2ab8f", "reverb": "#8178aa", "delay": "#8fa5ce",
        "distortion": "#9d7e95", "modulation": "#baa0c2", "instrument": "#628caa",
        "analyser": "#868d93", "other": "#a1968a",
    },
)  # fmt: skip
PAPER = Colours(
    "paper", "#e4e0d6", "#f5f2ea", "#fffdf8", "#c9c3b5", "#1f262a", "#566168", "#8f620a", "#fffaf0", "#12695e",
    "#a63a22", "#f3dfd8", "#9fb0b8",
    {
        "equaliser": "#9ea683", "dynamics": "#bcb498", "reverb": "#8d84b6", "delay": "#9bb2db",
        "distortion": "#a98aa2", "modulation": "#c3aacb", "instrument": "#6d98b6",
        "analyser": "#92999f", "other": "#aea396",
    },
)  # fmt: skip
# Families are quiet in hue, far from teal, brass and brick, which mean something; so most have a texture as well: which
# pixels of a tile are darker.
TEXTURES: dict[str, tuple[str, ...]] = {
    "dynamics": ("#.....",) * 6,
    "reverb": ("#.....", ".#....", "..#...", "...#..", "....#.", ".....#"),
    "delay": ("......", ".##...", ".##...", "......", "....##", "....##"),
    "distortion": ("#..#..", "......", "......") * 2,
    "modulation": ("######", "......", "......") * 2,
    "analyser": ("#.....", "......", "......", "...#..", "......", "......"),
}
TILE = 6
SHADE = 116
THEMES = {"night": NIGHT, "paper": PAPER}
SCALES = (90, 100, 115, 130, 145, 160)
AnyWidget = TypeVar("AnyWidget", bound=QWidget)


def is_light(application: QApplication) -> bool:
    """Whether the desktop has chosen light colours."""
    return application.styleHints().colorScheme() == Qt.ColorScheme.Light


class Theme:
    """The theme in force. There is one, `theme`; widgets read it whenever they paint."""

    def __init__(self) -> None:
        self.colours = NIGHT
        self.scale = 100
        self._begun: tuple[QApplication, str, int] | None = None
        # Made once: hundreds are drawn with each picture.
        self._brushes: dict[tuple[str, str], QBrush] = {}
        self._hatches: dict[tuple[int, int], QBrush] = {}
        self._fonts: dict[tuple[int, bool, str], QFont] = {}
        self._marks: dict[tuple[str, str, int], str] = {}
        self._fits: WeakKeyDictionary[QWidget, list[Callable[[Any], object]]] = WeakKeyDictionary()

    def px(self, size: float) -> int:
        """A length or text size in pixels at the chosen text size."""
        return max(1, round(size * self.scale / 100))

    def fit(self, widget: AnyWidget, give: Callable[[AnyWidget], object]) -> None:
        """Gives a widget what depends on the text size, now and with every other one. `give` must not hold it."""
        self._fits.setdefault(widget, []).append(give)
        give(widget)

    def font(self, size: float = 12, bold: bool = False) -> QFont:
        """A font of this size (pixels at 100 %), which the caller must not change."""
        key = self.px(size), bold, QGuiApplication.font().family()
        if key not in self._fonts:
            font = QFont(QGuiApplication.font())
            font.setPixelSize(self.px(size))
            font.setBold(bold)
            self._fonts[key] = font
        return self._fonts[key]

    def colour(self, name: str) -> QColor:
        """A new colour object, which the caller may change."""
        return QColor(getattr(self.colours, name))

    def family(self, family: str) -> QColor:
        return QColor(self.colours.families.get(family, self.colours.families["other"]))

    def family_shades(self, family: str) -> tuple[QColor, QColor]:
        """The colour of a family, and the darker one of its texture."""
        colour = self.family(family)
        return colour, colour.darker(SHADE)

    def family_brush(self, family: str) -> QBrush:
        """What a plugin of a family is filled with: its colour, with its texture."""
        key = self.colours.name, family
        if key not in self._brushes:
            self._brushes[key] = self._made_brush(family)
        return self._brushes[key]

    def _made_brush(self, family: str) -> QBrush:
        colour, dark = self.family_shades(family)
        if family not in TEXTURES:
            return QBrush(colour)
        tile = QImage(TILE, TILE, QImage.Format.Format_RGB32)
        for y, row in enumerate(TEXTURES[family]):
            for x, mark in enumerate(row):
                tile.setPixelColor(x, y, dark if mark == "#" else colour)
        return QBrush(QPixmap.fromImage(tile))

    def family_mark(self, family: str) -> str:
        """A small field of a family's colour and texture, for text with marks (HTML)."""
        key = self.colours.name, family, self.px(11)
        if key not in self._marks:
            self._marks[key] = self._made_mark(family, self.px(11))
        return self._marks[key]

    def _made_mark(self, family: str, size: int) -> str:
        field, content = QPixmap(size, size), QBuffer()
        painter = QPainter(field)
        painter.fillRect(field.rect(), self.family_brush(family))
        painter.end()
        content.open(QBuffer.OpenModeFlag.WriteOnly)
        field.save(content, "PNG")  # type: ignore[call-overload]
        coded = bytes(content.data().toBase64().data()).decode()
        return f'<img src="data:image/png;base64,{coded}" width="{size}" height="{size}"/>'

    def for_load(self, word: str) -> QColor:
        """The colour that goes with a load's word."""
        return self.colour({"overload": "brick", "tight": "brass", "not known": "quiet"}.get(word, "teal"))

    def hatch(self, colour: QColor, spacing: int = 6) -> QBrush:
        """A brush of slanted lines: what does not sound, or does not fit."""
        key = colour.rgba(), spacing
        if key not in self._hatches:
            tile = QPixmap(spacing, spacing)
            tile.fill(Qt.GlobalColor.transparent)
            painter = QPainter(tile)
            painter.setPen(QPen(colour, 1))
            painter.drawLine(0, spacing, spacing, 0)
            painter.end()
            self._hatches[key] = QBrush(tile)
        return self._hatches[key]

    def begin(self, application: QApplication, name: str, scale: int) -> None:
        """What a window is made with: a theme ("night", "paper" or "desktop") and a text size, without the style sheet.

        With that in force, every widget is given it again each time that it is put into another one.
        """
        if name not in THEMES:
            name = "paper" if is_light(application) else "night"
        self.colours, self.scale = THEMES[name], scale
        if self._begun == (application, name, scale):
            return  # it is in force already, and giving it to every widget again takes as long as opening a window
        if self._begun is None or self._begun[0] is not application:
            application.setStyle("Fusion")  # once: it polishes every widget anew
        self._begun = application, name, scale
        if application.styleSheet():
            application.setStyleSheet("")  # or every widget is given it again with the palette, and with the font
        application.setPalette(self._palette())
        application.setFont(self.font(12))
        for widget, gives in list(self._fits.items()):
            for give in gives if isValid(widget) else ():
                give(widget)

    def apply(self, application: QApplication, name: str, scale: int) -> None:
        """Puts a theme and a text size (see `begin`) in force for all windows."""
        self.begin(application, name, scale)
        if application.styleSheet() != self._style_sheet():
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
        QAbstractSpinBox {{ min-height: {px(16)}px; }}
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
        QDialogButtonBox {{ dialogbuttonbox-buttons-have-icons: 0; }}
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
