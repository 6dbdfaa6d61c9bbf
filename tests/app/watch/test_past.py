"""All that was seen since watching began: the strip, the list of dropouts, and what somebody hears."""

from __future__ import annotations

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtWidgets import QFileDialog

from nimbleload.app.frame.window import WATCH
from nimbleload.core.units import clock, percent
from nimbleload.core.watching.records import Recording, Thread
from tests.helpers.host import Host, Plugin

from .test_watch import all_said, choose, shown_example


@pytest.fixture
def page(make_window):
    window = make_window()
    window.go(WATCH)
    return window.watch


@pytest.fixture
def example(qtbot, page):
    shown_example(qtbot, page)
    return page


def point(page, place):
    """Where a dropout lies in the strip."""
    return page.past.pieces()[place].place.center().toPoint()


def rows(page):
    table = page.dropouts
    return [[table.item(row, column).text() for column in range(4)] for row in range(table.rowCount())]


def test_dropouts_come_first_wherever_they_were(example):
    past = example.shown.past
    assert example.sentence.headline.text() == "10 dropouts in 24 min of playing, the last at 22:06 of watching."
    assert "while the thread autosave computed" in example.sentence.advice.text()
    assert "All came in steps of 120.0 s (10 of 11 times)" in all_said(example)
    assert "none was late in 12 s" in example.words.text()
    assert example.past.isVisible() and example.past.accessibleDescription().startswith("10 dropouts in 24 min")
    assert len(example.past.figures()) == len(past.second) + 1


def test_the_strip_is_as_full_as_the_fullest_block_of_each_moment(example):
    past, strip = example.shown.past, example.past
    bars = 50
    first, last = strip._span()
    for k, full in enumerate(strip.highest(past, bars)):
        begin, end = (first + (last - first) * edge / bars for edge in (k, k + 1))
        inside = [f for t, f in zip(past.second, past.fullest, strict=True) if begin <= t < end]
        assert full == max(inside, default=0.0)
    middle = point(example, 2) + QPoint(30, 0)
    at = first + (middle.x() - strip._plot().left()) / strip._plot().width() * (last - first)
    fullest = float(past.fullest[np.searchsorted(past.second, at, "right") - 1])
    words = f"{clock((at - past.begun) / 1e9)}: the fullest block {percent(fullest)}"
    assert strip._told_at(middle.toPointF()) == words
    assert strip._told_at(QPoint(2, 2).toPointF()) == ""


def test_a_dropout_that_is_pressed_shows_its_blocks_and_its_line(example, qtbot):
    assert example.tables.currentWidget() is example.table
    qtbot.mouseClick(example.past, Qt.MouseButton.LeftButton, pos=point(example, 6))
    of = example.shown.past.dropouts[6]
    assert example.tables.currentWidget() is example.dropouts and example.to_dropouts.isChecked()
    assert example.to_dropouts.text() == "Dropouts (10)"
    # The newest stands on top.
    assert [index.row() for index in example.dropouts.selectionModel().selectedRows()] == [3]
    assert rows(example)[3] == ["16:06", "1 block, 1.11 ms late", example.shown.lines[6].why, "autosave"]
    assert example.lanes.accessibleDescription().startswith("The dropout at 16:06 took 121 %")
    assert any(row[0] == "autosave" for row in example.lanes.figures())
    assert min(float(row[1]) for row in example.lanes.figures()[1:]) == pytest.approx(0.0, abs=50)
    assert of.time == example.lanes._worst.begin
    # Beside all dots it is the fullest block again, and nothing is chosen.
    qtbot.mouseClick(example.past, Qt.MouseButton.LeftButton, pos=point(example, 6) + QPoint(40, 0))
    assert example.lanes.accessibleDescription().startswith("The fullest block seen took")
    assert not example.dropouts.selectionModel().hasSelection()


def test_a_line_that_is_chosen_shows_its_blocks(example, qtbot):
    qtbot.mouseClick(example.to_dropouts, Qt.MouseButton.LeftButton)
    table = example.dropouts
    place = table.visualItemRect(table.item(1, 0)).center()
    qtbot.mouseClick(table.viewport(), Qt.MouseButton.LeftButton, pos=place)
    assert example.lanes.accessibleDescription().startswith("The dropout at 20:06")
    qtbot.keyClick(table, Qt.Key.Key_Down)
    assert example.lanes.accessibleDescription().startswith("The dropout at 18:06")
    qtbot.mouseClick(example.to_table, Qt.MouseButton.LeftButton)
    assert example.tables.currentWidget() is example.table


def test_the_strip_is_walked_through_by_keys(example, qtbot):
    strip, whole = example.past, example.past.accessibleDescription()
    strip.setFocus()
    qtbot.keyClick(strip, Qt.Key.Key_Right)
    assert strip.accessibleDescription() == example.shown.lines[0].whole
    qtbot.keyClick(strip, Qt.Key.Key_Right)
    qtbot.keyClick(strip, Qt.Key.Key_Return)
    assert example.lanes.accessibleDescription().startswith("The dropout at 6:06")
    qtbot.keyClick(strip, Qt.Key.Key_Escape)
    assert strip.accessibleDescription() == whole


def test_what_was_kept_brings_its_past_with_it(example, qtbot, tmp_path, monkeypatch):
    said, lines = all_said(example), example.shown.lines
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(tmp_path / "kept"), ""))
    with qtbot.waitSignal(example.watching.wrote, timeout=30_000):
        qtbot.mouseClick(example.keep, Qt.MouseButton.LeftButton)
    path = tmp_path / "kept.nimblewatch"
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(path), ""))
    with qtbot.waitSignal(example.watching.seen, timeout=30_000):
        qtbot.mouseClick(example.open, Qt.MouseButton.LeftButton)
    assert example.shown.lines == lines and len(example.shown.past.marks) == 6
    assert example.sentence.headline.text() in said and not example.heard.isVisible()


def test_another_recording_has_another_past(example, qtbot):
    thread = Thread(1, 1, "engine", True, *[example.shown.seen.recording.threads[0].switch_time[:0]] * 6)
    example.watching.show_recording(Recording(0, 10**9, (thread,), (), {1: "host"}), {}, "Made by code.")
    qtbot.waitUntil(lambda: example.shown.source == "Made by code.", timeout=30_000)
    assert example.shown.past.number == 0 and not example.past.isVisible()
    assert rows(example) == [] and example.to_dropouts.text() == "Dropouts (0)"


@pytest.mark.usefixtures("may_watch")
def test_who_hears_one_in_a_host_that_is_late_now_and_then_presses_a_key(page, qtbot, tmp_path):
    """In every 500th block, once a second, it is late for sure."""
    plugins = [Plugin("steady", 200_000), Plugin("bursty", 100_000, 500, 3_000_000)]
    with Host(tmp_path, plugins, 2_000_000, 60_000) as host:
        choose(qtbot, page, host)
        assert not page.heard.isVisible()
        with qtbot.waitSignal(page.watching.seen, timeout=30_000):
            qtbot.mouseClick(page.sentence.button, Qt.MouseButton.LeftButton)
        qtbot.waitUntil(lambda: page.shown.past.number > 1, timeout=30_000)
        assert page.heard.isVisible()
        qtbot.keyClick(page, Qt.Key.Key_H)
        qtbot.mouseClick(page.heard, Qt.MouseButton.LeftButton)
        qtbot.waitUntil(lambda: len(page.shown.past.marks) == 2, timeout=30_000)
        with qtbot.waitSignal(page.watching.ended, timeout=30_000):
            qtbot.mouseClick(page.sentence.button, Qt.MouseButton.LeftButton)
    past = page.shown.past
    assert all(mark.is_dropout and mark.fullest > 1 for mark in past.marks)
    assert "You heard 2: a block was late just before each of them." in all_said(page)
    assert past.dropouts[0].day > 1.7e9 and not page.heard.isVisible()
    assert page.dropouts.rowCount() == len(past.dropouts) == len(page.shown.lines)
    assert page.window().places.buttons[WATCH].state == f"{past.number} dropouts"
    # The key says nothing once nobody watches.
    qtbot.keyClick(page, Qt.Key.Key_H)
    assert len(page.shown.past.marks) == 2
