"""A place in the piece is typed as one says it: minutes and seconds, or seconds alone."""

from __future__ import annotations

import pytest
from PySide6.QtCore import Qt

from nimbleload.app.look.clock_box import ClockBox


@pytest.fixture
def box(qtbot):
    made = ClockBox(134.5)
    qtbot.addWidget(made)
    made.show()
    return made


@pytest.mark.parametrize(
    ("typed", "seconds", "shown"),
    [("3:05", 185, "3:05"), ("185", 185, "3:05"), ("0:07,25", 7.25, "0:07.25"), (":30", 30, "0:30"),
     ("1:90", 150, "2:30"), ("2:", 120, "2:00")],
)  # fmt: skip
def test_both_ways_of_typing_are_taken(box, qtbot, typed, seconds, shown):
    assert box.text() == "2:14.5"
    box.selectAll()
    qtbot.keyClicks(box, typed)
    qtbot.keyClick(box, Qt.Key.Key_Return)
    assert box.value() == pytest.approx(seconds) and box.text() == shown


@pytest.mark.parametrize("typed", ["x", "-1", "1:2:3", "1e5"])
def test_what_is_no_time_cannot_be_typed(box, qtbot, typed):
    box.selectAll()
    qtbot.keyClicks(box, typed)
    qtbot.keyClick(box, Qt.Key.Key_Return)
    kept = "".join(each for each in typed if each.isdigit())
    assert box.text() in ("2:14.5", f"0:{int(kept or 0):02d}", "1:23", "0:15")


def test_what_is_not_complete_goes_back_to_what_it_was_and_arrows_take_a_second(box, qtbot):
    box.selectAll()
    qtbot.keyClick(box, Qt.Key.Key_Delete)
    qtbot.keyClick(box, Qt.Key.Key_Return)
    assert box.value() == 134.5
    qtbot.keyClick(box, Qt.Key.Key_Up)
    assert box.text() == "2:15.5"
