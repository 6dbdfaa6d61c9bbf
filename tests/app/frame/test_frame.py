"""What stands around the pages: hints, preferences, another computer, the cost library as a table, what was written."""

from __future__ import annotations

import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import QDesktopServices
from PySide6.QtWidgets import QFileDialog

from nimbleload.app.frame.computer_dialog import ComputerDialog
from nimbleload.app.frame.menus import PLACES
from nimbleload.app.frame.preferences import Preferences
from nimbleload.app.look.notice import Notice, written
from nimbleload.core.told.hints import HINTS
from nimbleload.store import spreadsheet
from nimbleload.store.library import Library
from nimbleload.store.opening import open_session


def trigger(window, words: str) -> None:
    next(a for a in window.commands() if words in a.text().replace("&", "")).trigger()


def dialog(window, kind, qtbot):
    qtbot.waitUntil(lambda: any(d.isVisible() for d in window.findChildren(kind)), timeout=30_000)
    return next(d for d in window.findChildren(kind) if d.isVisible())


def test_every_place_says_what_it_is_for_until_that_is_closed_for_good(make_window, qtbot):
    window = make_window()
    assert set(HINTS) == {name for name, _ in PLACES}
    for number, (place, _) in enumerate(PLACES):
        window.go(number)
        hint = window.hints.by_place[place]
        assert hint.isVisible()
        qtbot.mouseClick(hint.button, Qt.MouseButton.LeftButton)
        assert not hint.isVisible()
    again = make_window()
    for number, (place, _) in enumerate(PLACES):
        again.go(number)
        assert not again.hints.by_place[place].isVisible()


def test_who_closes_a_hint_stays_on_its_page(example, qtbot):
    """The keys go on to what comes after it there, and not to the first place of all."""
    for number, (place, _) in enumerate(PLACES):
        example.go(number)
        button = example.hints.by_place[place].button
        button.setFocus()
        qtbot.keyClick(button, Qt.Key.Key_Space)
        assert example.pages.widget(number).isAncestorOf(example.focusWidget()), place


def test_hints_come_back_by_preference(make_window, qtbot):
    window = make_window()
    window.hints.close(*HINTS)
    trigger(window, "Preferences")
    asked = dialog(window, Preferences, qtbot)
    assert not asked.hints.isChecked()
    asked.hints.click()
    assert all(not hint.isHidden() for hint in window.hints.by_place.values())


def test_preferences_are_in_force_at_once_and_remembered(make_window, qtbot):
    window = make_window()
    trigger(window, "Preferences")
    asked = dialog(window, Preferences, qtbot)
    asked.theme.setCurrentIndex(asked.theme.findData("paper"))
    asked.scale.setCurrentIndex(asked.scale.findData(130))
    assert window.theme_choice == "paper"
    again = make_window()
    assert again.theme_choice == "paper"
    assert again._choices.scale == 130
    again.choose_theme("night")
    again.scale_text(-10)


def test_on_a_computer_twice_as_fast_the_load_is_half(example, qtbot, settled):
    before = example.desk.survey.after.load.max()
    trigger(example, "Another computer")
    asked = dialog(example, ComputerDialog, qtbot)
    asked.speed.setValue(2.0)
    settled(example, asked.accept)
    assert example.desk.survey.after.load.max() == pytest.approx(before / 2, rel=0.02)
    assert example.desk.document.machine.is_another
    assert example.desk.history.undo_step == f"{example.desk.document.machine.cores} cores, 2 × as fast"
    settled(example, example.desk.undo)
    assert example.desk.survey.after.load.max() == before


def test_with_too_little_memory_it_says_so_and_a_plan_makes_room(example, qtbot, settled):
    before, machine = example.balance.sentence.headline.text(), example.desk.document.machine
    trigger(example, "Another computer")
    asked = dialog(example, ComputerDialog, qtbot)
    assert asked.memory.value() == 16.0
    asked.memory.setValue(0.2)
    settled(example, asked.accept)
    assert example.balance.sentence.headline.text() == f"{before}  There is not enough memory."
    said = example.balance.sentence.advice.text()
    assert "keep 205 MB of memory, and a six-core computer has 205 MB" in said
    assert "Most of it: Vault (30: 136 MB)." in said
    with qtbot.waitSignal(example.desk.suggested, timeout=120_000) as found:
        example.balance.sentence.button.click()
    suggestion = found.args[0]
    assert suggestion.reached and suggestion.kept <= 0.8 * 205 * 2**20
    for _ in ("the plan", "the memory"):
        settled(example, example.desk.undo)
    assert example.desk.document.machine == machine and example.balance.sentence.headline.text() == before


def test_a_computer_whose_cores_are_in_pairs(example, qtbot, settled):
    trigger(example, "Another computer")
    asked = dialog(example, ComputerDialog, qtbot)
    asked.cores.setValue(16)
    asked.second.setValue(9)
    # No more than half of them can be second threads of others.
    assert asked.second.value() == 8
    settled(example, asked.accept)
    machine = example.desk.document.machine
    assert (machine.cores, machine.second, machine.is_another) == (16, 8, True)
    # What pairs do to the example's plugins was not measured.
    assert "as if all cores were alike" in example.balance.sentence.advice.text()
    trigger(example, "Another computer")
    asked = [each for each in example.findChildren(ComputerDialog) if each.isVisible()][-1]
    assert (asked.cores.value(), asked.second.value()) == (16, 8)
    asked.cores.setValue(6)
    assert asked.second.value() == 3
    asked.reject()


def test_the_cost_library_goes_out_as_a_table_and_comes_in_again_and_is_used_at_once(
    make_window, qtbot, settled, tmp_path, monkeypatch
):
    there = Library(tmp_path / "there.sqlite", "there")
    window = make_window(Library(tmp_path / "here.sqlite", "here"))
    with qtbot.waitSignal(window.desk.recomputed, timeout=60_000):
        window.open_example()
    for card in window.desk.cards.values():
        there.store(card, card.cells, "there")
    table = tmp_path / "costs.csv"
    table.write_text(spreadsheet.export(there))
    window.desk.cards = {}
    settled(window, window.desk.refresh)
    assert window.desk.instant.judged.kind == "unknown"
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(table), ""))
    settled(window, lambda: trigger(window, "Take a table in"))
    assert window.desk.instant.judged.kind != "unknown"
    assert set(window.desk.instant.shares) <= {"elsewhere", "scaled", "fitted"}
    out = tmp_path / "out"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(out), ""))
    with qtbot.waitSignal(written.told, timeout=30_000):
        trigger(window, "Write it as a table")
    assert (tmp_path / "out.csv").read_text().count("\n") == table.read_text().count("\n")


@pytest.mark.parametrize(("content", "words"), [
    (b"\xff\xfe\x00nothing", "no text in UTF-8"),
    (b"machine,identifier\nx,y\n", "names no column"),
    (b"", "names no column"),
])  # fmt: skip
def test_a_table_that_is_none_is_said_and_changes_nothing(make_window, qtbot, tmp_path, content, words):
    window = make_window(Library(tmp_path / "here.sqlite", "here"))
    (tmp_path / "costs.csv").write_bytes(content)
    with qtbot.waitSignal(window.desk.troubled, timeout=30_000) as told:
        window.library_files.take_in(tmp_path / "costs.csv")
    assert told.args[0].startswith("Costs.csv was not taken in") or "costs.csv was not taken in" in told.args[0]
    assert words in told.args[0]


def test_what_was_written_is_said_and_shown_in_its_folder(example, qtbot, tmp_path, monkeypatch):
    path, opened = tmp_path / "mix.dawproject", []
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(path), ""))
    monkeypatch.setattr(QDesktopServices, "openUrl", lambda url: opened.append(url.toLocalFile()))
    with qtbot.waitSignal(written.told, timeout=30_000):
        trigger(example, "Write as an exchange file")
    notice = example.findChild(Notice)
    assert notice.isVisible()
    assert str(path) in notice.words.text()
    qtbot.mouseClick(notice.folder, Qt.MouseButton.LeftButton)
    assert opened == [str(tmp_path)]
    qtbot.mouseClick(notice.close_it, Qt.MouseButton.LeftButton)
    assert not notice.isVisible()
    names = [strip.name for strip in open_session(path).saved.session.strips]
    assert sorted(names) == sorted(strip.name for strip in example.desk.document.session.strips)
