"""Clips on the Session page: chosen, moved, copied and taken out with mouse and keys, several at once."""

from __future__ import annotations

import pytest
from PySide6.QtCore import QEvent, QPoint, QPointF, Qt
from PySide6.QtGui import QMouseEvent

from nimbleload.app.edit.strip_model import WHEN
from nimbleload.app.frame.window import EDIT
from nimbleload.core.session.plugins import PluginRef, PluginUse
from nimbleload.core.session.session import Session
from nimbleload.core.session.strips import Clip, Strip
from nimbleload.store import session_file
from nimbleload.store.session_file import Saved
from tests.app.edit.test_session_page import active, choose, press

NONE, SHIFT, CTRL = (Qt.KeyboardModifier[f"{name}Modifier"] for name in ("No", "Shift", "Control"))
LENGTH = 100.0


@pytest.fixture
def page(make_window, qtbot, tmp_path):
    """Two tracks of two clips each."""
    strips = (
        Strip("a", "A", inserts=(PluginUse("a/0", PluginRef("house", "house.tar", "Tar")),),
              clips=(Clip(10, 20), Clip(40, 50)), output="main"),
        Strip("b", "B", clips=(Clip(10, 30), Clip(60, 70)), output="main"), Strip("main", "Main", "main"),
    )  # fmt: skip
    path = tmp_path / "a.nimbleload"
    session_file.write(path, Saved(Session("Tune", 48_000, LENGTH, strips)))
    window = make_window()
    active(qtbot, window)
    with qtbot.waitSignal(window.desk.recomputed, timeout=60_000):
        window.open_path(path)
    window.go(EDIT)
    qtbot.waitUntil(lambda: len(window.edit.model.strips) == 3, timeout=20_000)
    return window


def place(page, strip, second):
    cell = page.edit.view.visualRect(page.edit.model.index_of(strip, WHEN))
    return QPoint(round(cell.left() + 4 + (cell.width() - 8) * second / LENGTH), cell.center().y())


def drag(page, qtbot, strip, first, last, keys=NONE, at_the_end=None):
    view, begun, ended = page.edit.view.viewport(), place(page, strip, first), place(page, strip, last)
    qtbot.mousePress(view, Qt.MouseButton.LeftButton, keys, begun)
    for point in ((begun + ended) / 2, ended):
        where = QPointF(point), QPointF(view.mapToGlobal(point))
        page.edit.view.mouseMoveEvent(
            QMouseEvent(QEvent.Type.MouseMove, *where, Qt.MouseButton.NoButton, Qt.MouseButton.LeftButton, keys)
        )
    assert page.edit.view.grab().toImage() is not None
    qtbot.mouseRelease(view, Qt.MouseButton.LeftButton, keys if at_the_end is None else at_the_end, ended)


def click(page, qtbot, strip, second, keys=NONE):
    qtbot.mouseClick(page.edit.view.viewport(), Qt.MouseButton.LeftButton, keys, place(page, strip, second))


def clips(page, strip):
    return [(clip.start, clip.end) for clip in page.desk.document.session.strip(strip).clips]


def near(*spans):
    return [pytest.approx(span, abs=0.8) for span in spans]


def chosen(page):
    return [(strip, clip.start) for strip, clip in page.edit.view.chosen_clips()]


def test_a_clip_is_dragged_along_the_piece_and_stays_chosen(page, qtbot):
    drag(page, qtbot, "a", 15, 35)
    assert clips(page, "a") == near((30, 40), (40, 50))
    assert [strip for strip, _ in chosen(page)] == ["a"] and chosen(page)[0][1] == pytest.approx(30, abs=0.8)
    # Back to the start it goes no further.
    drag(page, qtbot, "a", 35, 0)
    assert clips(page, "a")[0] == (0, 10)
    page.desk.undo()
    page.desk.undo()
    assert clips(page, "a") == [(10, 20), (40, 50)] and chosen(page) == []


def test_several_keep_their_distances_and_ctrl_at_the_end_copies_them(page, qtbot):
    click(page, qtbot, "a", 45)
    click(page, qtbot, "b", 20, CTRL)
    assert chosen(page) == [("a", 40), ("b", 10)]
    drag(page, qtbot, "b", 20, 25)
    (_, a), (b, _) = clips(page, "a"), clips(page, "b")
    assert a[0] - b[0] == pytest.approx(30) and b == pytest.approx((15, 35), abs=0.8)
    drag(page, qtbot, "b", 25, 65, at_the_end=CTRL)
    assert len(clips(page, "a")) == len(clips(page, "b")) == 3
    # Beyond the end the piece grows.
    assert page.desk.document.session.length == LENGTH
    drag(page, qtbot, "b", 65, 99)
    assert page.desk.document.session.length == clips(page, "a")[-1][1] > LENGTH


def test_what_is_pressed_with_ctrl_again_is_chosen_no_more_and_an_empty_place_chooses_nothing(page, qtbot):
    click(page, qtbot, "a", 15)
    click(page, qtbot, "a", 45, CTRL)
    click(page, qtbot, "a", 15, CTRL)
    assert chosen(page) == [("a", 40)]
    click(page, qtbot, "a", 30)
    assert chosen(page) == []


def test_outside_a_clip_one_is_drawn_and_with_shift_all_is_cleared(page, qtbot):
    drag(page, qtbot, "a", 25, 35)
    assert clips(page, "a") == near((10, 20), (25, 35), (40, 50))
    drag(page, qtbot, "a", 15, 45, SHIFT)
    assert clips(page, "a") == near((10, 15), (45, 50))


def test_by_keyboard_alone(page, qtbot):
    choose(qtbot, page, "B")
    view = page.edit.view
    press(qtbot, view, "Ctrl+Right")
    assert chosen(page) == [("b", 10)]
    press(qtbot, view, "Alt+Right")
    press(qtbot, view, "Alt+Right")
    assert clips(page, "b") == [(12, 32), (60, 70)] and chosen(page) == [("b", 12)]
    press(qtbot, view, "Ctrl+Shift+Right")
    assert chosen(page) == [("b", 12), ("b", 60)]
    press(qtbot, view, "Alt+Left")
    assert clips(page, "b") == [(11, 31), (59, 69)]
    press(qtbot, view, "Ctrl+Left")
    assert chosen(page) == [("b", 11)]
    press(qtbot, view, "Del")
    assert clips(page, "b") == [(59, 69)] and len(page.edit.model.strips) == 3
    press(qtbot, view, "Ctrl+Right")
    press(qtbot, view, "Escape")
    assert chosen(page) == []


def test_either_clips_or_plugins_are_chosen(page, qtbot):
    choose(qtbot, page, "A")
    view = page.edit.view
    press(qtbot, view, "Ctrl+Right")
    press(qtbot, view, "Right")
    assert chosen(page) == [] and view.chosen == ["a/0"]
    press(qtbot, view, "Ctrl+Right")
    assert chosen(page) == [("a", 10)] and view.chosen == []
    press(qtbot, view, "Right")
    press(qtbot, view, "Del")
    assert clips(page, "a") == [(10, 20), (40, 50)]
    assert page.desk.document.session.strip("a").inserts == ()
