"""Rows of a list in two lines: no word is lost that there is room for."""

from __future__ import annotations

import pytest
from PySide6.QtGui import QFont, QFontMetrics
from PySide6.QtWidgets import QListWidget

from nimbleload.app.look.lines import MARGIN, Lines, broken

WORDS = "112 % → 81 %   One Vault on a bus for 30: Oars close, Oars far, Rope foley and 27 more"


@pytest.mark.parametrize("width", [60, 90, 150, 240, 400, 700])
@pytest.mark.parametrize("most", [1, 2, 5])
def test_lines_are_no_wider_than_there_is_room_and_hold_all_that_goes_in(qtbot, width, most):
    font = QFont()
    measured = QFontMetrics(font)
    lines = broken(WORDS, font, width, most)
    assert 1 <= len(lines) <= most
    assert all(measured.horizontalAdvance(line) <= width + 1 for line in lines)
    whole = " ".join(lines).split() == WORDS.split()
    # Either every word is there, or all lines are in use and the last one says that it goes on.
    assert whole or (len(lines) == most and lines[-1].endswith("…"))
    assert whole is (len(broken(WORDS, font, width, 99)) <= most)


def test_nothing_has_no_lines(qtbot):
    assert broken("", QFont(), 100, 2) in ([], [""])


def test_rows_are_as_high_as_their_lines_however_wide_the_list(qtbot):
    view = QListWidget()
    qtbot.addWidget(view)
    lines = Lines(view)
    view.addItems([WORDS, "Switch off Sounder"])
    view.show()
    heights = []
    for width in (900, 260):
        view.resize(width, 300)
        qtbot.waitUntil(lambda width=width: view.width() == width)
        view.doItemsLayout()
        rows = [view.visualItemRect(view.item(k)) for k in range(2)]
        for k, rect in enumerate(rows):
            count = len(lines.lines(view.model().index(k, 0), view.font()))
            assert rect.height() == count * QFontMetrics(view.font()).lineSpacing() + 2 * MARGIN
        heights.append([rect.height() for rect in rows])
        view.grab()
    (one, same), (two, other) = heights
    assert one == same == other < two


def test_rows_take_a_second_line_only_while_all_of_them_are_seen(qtbot):
    view = QListWidget()
    qtbot.addWidget(view)
    Lines(view)
    view.addItems([WORDS] * 3)
    view.show()
    line = QFontMetrics(view.font()).lineSpacing()
    frame = 2 * view.frameWidth()
    needed = 3 * (2 * line + 2 * MARGIN)
    one, two = line + 2 * MARGIN, 2 * line + 2 * MARGIN

    def heights():
        return [view.visualItemRect(view.item(k)).height() for k in range(view.count())]

    for height, each in ((needed, two), (needed - 1, one), (3 * line, one), (needed + one, two)):
        view.resize(260, height + frame)
        qtbot.waitUntil(lambda height=height: view.viewport().height() == height)
        qtbot.waitUntil(lambda each=each: heights() == [each] * 3)
    # The next row still has room beside their second lines, the one after it needs that.
    view.addItem("Switch off Sounder")
    qtbot.waitUntil(lambda: heights() == [two, two, two, one])
    view.addItem("Switch off Lantern")
    qtbot.waitUntil(lambda: heights() == [one] * 5)
    view.takeItem(3)
    qtbot.waitUntil(lambda: heights() == [two, two, two, one])
