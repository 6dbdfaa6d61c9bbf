"""Pictures that the arrow keys walk through: against every piece's neighbours, read out and given back."""

from __future__ import annotations

import pytest
from PySide6.QtCore import QRectF, Qt

from nimbleload.app.look.walking import Piece, WalkedPicture

# Two pieces above, three below in the second row from there, none between.
PLACES = [
    Piece(0, QRectF(0, 0, 40, 10)), Piece(0, QRectF(50, 0, 50, 10)),
    Piece(2, QRectF(60, 20, 40, 10)), Piece(2, QRectF(0, 20, 10, 10)), Piece(2, QRectF(12, 20, 40, 10)),
]  # fmt: skip
LEFT, RIGHT, UP, DOWN = Qt.Key.Key_Left, Qt.Key.Key_Right, Qt.Key.Key_Up, Qt.Key.Key_Down


class Walked(WalkedPicture):
    def __init__(self, places=PLACES):
        super().__init__("Walked")
        self.places, self.taken = places, []
        self.describe("All of it.")

    def pieces(self):
        return self.places

    def words_of(self, piece):
        return f"piece {piece}"

    def take(self, piece):
        self.taken.append(piece)

    def paintEvent(self, event):
        painter = self.pen()
        self.paint_walked(painter)


@pytest.fixture
def picture(qtbot):
    found = Walked()
    qtbot.addWidget(found)
    found.resize(120, 40)
    found.show()
    found.setFocus()
    return found


def test_each_arrow_leads_to_the_nearest_piece_on_its_side(picture, qtbot):
    steps = [
        (LEFT, 0), (LEFT, 0), (RIGHT, 1), (RIGHT, 1), (DOWN, 2), (DOWN, 2), (LEFT, 4), (LEFT, 3), (UP, 0), (DOWN, 4),
        (RIGHT, 2), (UP, 1), (UP, 1),
    ]  # fmt: skip
    for key, at in steps:
        qtbot.keyClick(picture, key)
        assert picture.accessibleDescription() == f"piece {at}", (key, at)
    qtbot.keyClick(picture, Qt.Key.Key_Return)
    assert picture.taken == [1]


def test_the_frame_moves_along_and_escape_ends_it(picture, qtbot):
    qtbot.waitUntil(picture.hasFocus)
    plain = picture.grab().toImage()
    qtbot.keyClick(picture, RIGHT)
    first = picture.grab().toImage()
    qtbot.keyClick(picture, RIGHT)
    assert plain != first != picture.grab().toImage()
    qtbot.keyClick(picture, Qt.Key.Key_Escape)
    assert picture.accessibleDescription() == "All of it." and picture.grab().toImage() == plain
    # With nothing to take, Enter is somebody else's.
    qtbot.keyClick(picture, Qt.Key.Key_Return)
    assert picture.taken == []


def test_another_picture_begins_anew_and_an_empty_one_has_nothing_to_walk_through(picture, qtbot):
    qtbot.keyClick(picture, RIGHT)
    picture.describe("Another.")
    assert picture.accessibleDescription() == "Another."
    picture.places = []
    for key in (RIGHT, DOWN):
        qtbot.keyClick(picture, key)
    assert picture.accessibleDescription() == "Another."
