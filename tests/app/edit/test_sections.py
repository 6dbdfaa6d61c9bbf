"""Sections above the lanes of the Session page, by mouse and keys in the real window."""

from __future__ import annotations

import pytest
from PySide6.QtCore import QPoint, Qt

from nimbleload.app.edit.chain_painter import x_at
from nimbleload.app.edit.strip_model import WHEN
from nimbleload.app.frame.window import EDIT
from tests.app.edit.test_session_page import active, answer, press


@pytest.fixture
def page(example, qtbot):
    example.pages.setCurrentIndex(EDIT)
    active(qtbot, example)
    qtbot.waitUntil(lambda: example.edit.view.isVisible(), timeout=10_000)
    return example


def told(page):
    return [(each.name, each.start) for each in page.desk.document.session.sections]


def at(page, second):
    """The place above the lanes where a second lies."""
    header = page.edit.view.sections
    cell = header._cell()
    x = x_at(cell, second, page.desk.document.session.length)
    assert header.logicalIndexAt(round(x)) == WHEN
    return QPoint(round(x), header.viewport().height() // 2)


def drag(qtbot, page, start, to):
    viewport = page.edit.view.sections.viewport()
    qtbot.mousePress(viewport, Qt.MouseButton.LeftButton, pos=at(page, start))
    qtbot.mouseMove(viewport, at(page, (start + to) / 2))
    qtbot.mouseMove(viewport, at(page, to))
    qtbot.mouseRelease(viewport, Qt.MouseButton.LeftButton, pos=at(page, to))


def test_the_beginning_of_one_is_drawn_along_and_undone(page, qtbot):
    before = told(page)
    drag(qtbot, page, 243.0, 300.0)
    assert [name for name, _ in told(page)] == [name for name, _ in before]
    assert told(page)[2][1] == pytest.approx(300.0, abs=2.0)
    assert page.desk.history.undo_step == "move section"
    press(qtbot, page, "Ctrl+Z")
    assert told(page) == before
    # Beyond another one the order changes.
    drag(qtbot, page, 243.0, 500.0)
    assert [name for name, _ in told(page)][2:4] == ["Choir on the shore", "Crossing"]


def test_a_double_click_begins_one_there_or_names_the_one_that_begins_there(page, qtbot):
    viewport = page.edit.view.sections.viewport()
    qtbot.mouseDClick(viewport, Qt.MouseButton.LeftButton, pos=at(page, 60.0))
    answer(qtbot, page, name="Bells")
    assert told(page)[1][0] == "Bells" and told(page)[1][1] == pytest.approx(60.0, abs=2.0)
    qtbot.mouseDClick(viewport, Qt.MouseButton.LeftButton, pos=at(page, 118.0))
    answer(qtbot, page, name="Gale")
    assert ("Gale", 118.0) in told(page) and "Storm" not in dict(told(page))


def test_it_is_taken_away_by_keys_and_from_its_menu(page, qtbot):
    second = page.desk.instant.second
    there = [name for name, start in told(page) if start <= second][-1]
    page.edit.view.setFocus()
    press(qtbot, page.edit.view, "Ctrl+Shift+U")
    assert there not in dict(told(page))
    menu = page.edit.sections.menu(650.0)
    assert [each.text() for each in menu.actions()] == ["Section that begins here…", "Rename Lamps…", "Take Lamps away"]
    menu.actions()[2].trigger()
    assert "Lamps" not in dict(told(page))
    # What is not in any section has nothing to be taken away.
    for section in list(dict(told(page))):
        page.edit.sections.menu(dict(told(page))[section]).actions()[2].trigger()
    assert told(page) == [] and len(page.edit.sections.menu(10.0).actions()) == 1
    press(qtbot, page.edit.view, "Ctrl+Shift+U")
    assert "No section begins at" in page.edit.news.text()


def test_the_other_headings_still_part_the_columns(page, qtbot):
    header = page.edit.view.sections
    edge = QPoint(header.sectionViewportPosition(1), header.viewport().height() // 2)
    wide = header.sectionSize(0)
    qtbot.mousePress(header.viewport(), Qt.MouseButton.LeftButton, pos=edge)
    qtbot.mouseMove(header.viewport(), edge + QPoint(40, 0))
    qtbot.mouseRelease(header.viewport(), Qt.MouseButton.LeftButton, pos=edge + QPoint(40, 0))
    assert header.sectionSize(0) == wide + 40


def test_what_is_being_drawn_stays_in_hand_while_figures_come_in(page, qtbot):
    viewport = page.edit.view.sections.viewport()
    qtbot.mousePress(viewport, Qt.MouseButton.LeftButton, pos=at(page, 243.0))
    qtbot.mouseMove(viewport, at(page, 260.0))
    page.desk.recomputed.emit()
    qtbot.mouseMove(viewport, at(page, 280.0))
    qtbot.mouseRelease(viewport, Qt.MouseButton.LeftButton, pos=at(page, 280.0))
    assert told(page)[2] == ("Crossing", pytest.approx(280.0, abs=2.0))
