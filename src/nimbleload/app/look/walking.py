"""Pictures of pieces in rows through which the arrow keys walk, as the mouse points at them."""

from __future__ import annotations

from typing import NamedTuple

from PySide6.QtCore import QPoint, QRectF, Qt
from PySide6.QtGui import QKeyEvent, QPainter, QPen
from PySide6.QtWidgets import QToolTip, QWidget

from .picture import Picture, focus_frame
from .theme import theme

SIDEWAYS = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}
UP_AND_DOWN = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1}


class Piece(NamedTuple):
    """A piece in its row (from above), and where it lies."""

    row: int
    place: QRectF


class WalkedPicture(Picture):
    """The piece at which the keys are is framed, said beside it and read out. Subclasses say which pieces there are and
    what each is, and what is done where Enter is pressed on one."""

    def __init__(self, name: str, parent: QWidget | None = None) -> None:
        super().__init__(name, parent)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self._described = ""
        self._at_piece: int | None = None

    def pieces(self) -> list[Piece]:
        """All pieces, in whatever order."""
        return []

    def words_of(self, piece: int) -> str:
        """What a piece is, in words."""
        return ""

    def take(self, piece: int) -> None:
        """What Enter does on a piece."""

    def describe(self, text: str) -> None:
        """The text equivalent of the whole; pieces are others then."""
        self._described, self._at_piece = text, None
        super().describe(text)

    def _walk_to(self, piece: int | None) -> None:
        self._at_piece = piece
        words = self.words_of(piece) if piece is not None else ""
        super().describe(words or self._described)
        if piece is not None:
            QToolTip.showText(self.mapToGlobal(self._below(piece)), words, self)
        else:
            QToolTip.hideText()
        self.update()

    def _below(self, piece: int) -> QPoint:
        place = self.pieces()[piece].place
        return QPoint(int(place.left()), int(place.bottom()))

    def _next(self, key: Qt.Key) -> int | None:
        """The piece to which a key leads from the one it is at: the nearest on that side; at first the first of all."""
        there = self.pieces()
        if self._at_piece is None or not there:
            return min(range(len(there)), key=lambda k: (there[k].row, there[k].place.left()), default=None)
        row, place = there[self._at_piece]
        middle = place.center().x()
        if key in SIDEWAYS:
            step = SIDEWAYS[key]
            beside = [k for k, of in enumerate(there) if of.row == row and step * (of.place.center().x() - middle) > 0]
        else:
            step = UP_AND_DOWN[key]
            rows = {of.row for of in there if step * (of.row - row) > 0}
            nearest = min(rows, key=lambda other: abs(other - row), default=row)
            beside = [k for k, of in enumerate(there) if of.row == nearest] if rows else []
        return min(beside, key=lambda k: abs(there[k].place.center().x() - middle), default=self._at_piece)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key = Qt.Key(event.key())
        if key in SIDEWAYS or key in UP_AND_DOWN:
            self._walk_to(self._next(key))
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self._at_piece is not None:
            self.take(self._at_piece)
        elif key == Qt.Key.Key_Escape and self._at_piece is not None:
            self._walk_to(None)
        else:
            super().keyPressEvent(event)

    def paint_walked(self, painter: QPainter) -> None:
        """The frame around the piece at which the keys are, and that around the picture while it has them."""
        if self._at_piece is not None and self.hasFocus():
            painter.setPen(QPen(theme.colour("brass"), 3))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(self.pieces()[self._at_piece].place.adjusted(-1, -1, 1, 1))
        focus_frame(painter, self)
