"""What all painted parts of the window share: a text equivalent, and copying as a picture or as figures."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QBuffer, QPoint, Qt
from PySide6.QtGui import QGuiApplication, QPainter
from PySide6.QtSvg import QSvgGenerator
from PySide6.QtWidgets import QFileDialog, QMenu, QScrollArea, QWidget

from ..background.turns import Turns
from .emptied import emptied
from .notice import written
from .theme import theme


class Picture(QWidget):
    """A painted widget. Subclasses paint, and give their figures as rows of text."""

    def __init__(self, name: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setAccessibleName(name)
        # What else its menu offers for the place at which it is asked for; whoever shows the picture knows.
        self.offer: Callable[[QMenu, QPoint], object] | None = None
        self._menu: QMenu | None = None
        # In whose turn it is painted anew where several things change at once; None: at once.
        self.turns: Turns | None = None
        self.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.customContextMenuRequested.connect(self._show_menu)

    def figures(self) -> list[list[str]]:
        """The figures that the picture shows, as rows of cells; the first row names them."""
        return []

    def describe(self, text: str) -> None:
        """The text equivalent of what is painted now."""
        self.setAccessibleDescription(text)

    def changed(self) -> None:
        """Has it painted anew, when it is its turn."""
        if self.turns is None:
            self.update()
        else:
            self.turns.take(self.update)

    def copy_picture(self) -> None:
        QGuiApplication.clipboard().setPixmap(self.grab())

    def copy_figures(self) -> None:
        rows = ["\t".join(row) for row in self.figures()]
        QGuiApplication.clipboard().setText("\n".join(rows))

    def drawing(self) -> bytes:
        """The picture as lines and text (SVG)."""
        drawing, held = QSvgGenerator(), QBuffer()
        drawing.setOutputDevice(held)
        drawing.setSize(self.size())
        drawing.setViewBox(self.rect())
        drawing.setTitle(self.accessibleName())
        drawing.setDescription(self.accessibleDescription())
        painter = QPainter(drawing)
        self.render(painter, QPoint(0, 0))
        painter.end()
        return bytes(held.data().data())

    def ask_drawing(self) -> None:
        """Asks where to write the picture as a drawing."""
        name = f"{self.accessibleName()}.svg"
        path, _ = QFileDialog.getSaveFileName(self, "Save as a drawing", name, "Drawings (*.svg)")
        if path:
            written.write(Path(path), self.drawing())

    def ask_picture(self) -> None:
        """Asks where to write it as it is seen, in the screen's own points."""
        name = f"{self.accessibleName()}.png"
        path, _ = QFileDialog.getSaveFileName(self, "Save as a picture", name, "Pictures (*.png)")
        if path:
            held = QBuffer()
            held.open(QBuffer.OpenModeFlag.WriteOnly)
            self.grab().save(held, "PNG")  # type: ignore[call-overload]
            written.write(Path(path), bytes(held.data().data()))

    def _show_menu(self, at: QPoint) -> None:
        menu = self._menu = emptied(self._menu or QMenu(self))
        if self.offer is not None:
            self.offer(menu, at)
            menu.addSeparator()
        menu.addAction("Copy as a picture", self.copy_picture)
        menu.addAction("Copy the figures", self.copy_figures)
        menu.addAction("Save as a picture (PNG)…", self.ask_picture)
        menu.addAction("Save as a drawing (SVG)…", self.ask_drawing)
        menu.popup(self.mapToGlobal(at))

    def pen(self) -> QPainter:
        """A painter for this widget with the theme's font and smooth edges."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(theme.font(11))
        painter.setPen(theme.colour("text"))
        return painter


def elided(painter: QPainter, text: str, width: float) -> str:
    """The text, shortened with an ellipsis to fit a width in pixels."""
    return painter.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, int(max(width, 0)))


def focus_frame(painter: QPainter, widget: QWidget) -> None:
    """A thin frame around a widget that has the keyboard."""
    if widget.hasFocus():
        painter.setPen(theme.colour("brass"))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRoundedRect(widget.rect().adjusted(0, 0, -1, -1), 4, 4)


def scrolled(inside: QWidget, sideways: bool = False) -> QScrollArea:
    """A widget as wide as there is room, with a bar beside it where it is too high; `sideways`, if it is too wide too.
    """
    area = QScrollArea()
    area.setWidgetResizable(True)
    if not sideways:
        area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    area.setWidget(inside)
    return area
