"""The sentence of a page: words of another length lay the page out anew only where they need another height."""

from __future__ import annotations

import pytest
from PySide6.QtCore import QEvent, QObject
from PySide6.QtWidgets import QLabel, QVBoxLayout, QWidget

from nimbleload.app.look.sentence import Sentence

SHORT, LONG = "Blocks take 37 % of it.", "Here is what could be done about it, and why. " * 12


class Asked(QObject):
    """How often a widget was asked to lay itself out."""

    def __init__(self, of):
        super().__init__(of)
        self.often = 0
        of.installEventFilter(self)

    def eventFilter(self, _of, event):
        self.often += event.type() == QEvent.Type.LayoutRequest
        return False


@pytest.fixture
def page(qtbot):
    """A page with a sentence on top, and its sentence; 600 pixels wide."""
    page = QWidget()
    qtbot.addWidget(page)
    column, sentence = QVBoxLayout(page), Sentence()
    column.addWidget(sentence)
    column.addWidget(QLabel("below"), 1)
    sentence.say(SHORT, "advice", "fits", "Do it")
    page.resize(600, 400)
    page.show()
    qtbot.waitExposed(page)
    qtbot.wait(50)
    return page, sentence


def is_whole(label):
    """Whether all of a label's words are to be seen."""
    return label.height() >= label.heightForWidth(label.width()) and label.width() > 200


def test_other_words_of_the_same_height_move_nothing(page, qtbot):
    of, sentence = page
    asked = Asked(of)
    for percent in range(30, 60):
        sentence.say(f"Blocks take {percent} % of it.", f"advice {percent}", "fits", "Do it")
        qtbot.wait(1)
    assert asked.often == 0
    assert sentence.headline.text().endswith("59 % of it.") and is_whole(sentence.headline)


def test_longer_and_shorter_ones_have_the_room_that_they_need(page, qtbot):
    of, sentence = page
    before = sentence.height()
    sentence.say(SHORT, LONG, "fits", "Do it")
    qtbot.waitUntil(lambda: sentence.height() > 2 * before)
    assert is_whole(sentence.headline) and is_whole(sentence.advice)
    assert sentence.advice.y() - sentence.headline.geometry().bottom() == 3
    # Nothing lies over the button, and it is still there.
    assert sentence.advice.mapTo(sentence, sentence.advice.rect().topRight()).x() < sentence.button.x()
    # Narrower, it takes more lines.
    high = sentence.height()
    of.resize(420, 600)
    qtbot.waitUntil(lambda: sentence.height() > high)
    assert is_whole(sentence.advice)
    sentence.say(SHORT, "advice", "fits", "Do it")
    qtbot.waitUntil(lambda: sentence.height() <= before + 2)


def test_larger_text_has_more_room(page, qtbot):
    _, sentence = page
    before = sentence.height()
    font = sentence.headline.font()
    font.setPixelSize(40)
    for label in (sentence.headline, sentence.advice):
        label.setFont(font)
    qtbot.waitUntil(lambda: sentence.height() > before + 30)
    assert is_whole(sentence.headline) and is_whole(sentence.advice)
