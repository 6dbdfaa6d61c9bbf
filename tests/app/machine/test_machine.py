"""The computer in the real window: findings as cards, and what it holds."""

from __future__ import annotations

import math
import os
import signal
from pathlib import Path

import pytest
from msgspec.structs import replace
from PySide6.QtCore import Qt
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QLabel

from nimbleload.app.frame.window import BALANCE, MACHINE
from nimbleload.app.machine import looking
from nimbleload.core.computer.ceiling import Ceiling, Held
from nimbleload.core.computer.facts import Facts
from nimbleload.core.computer.lasting import Lasting, Stretch
from nimbleload.core.session.computer import Machine
from nimbleload.core.units import clock
from nimbleload.demo import computer as example
from nimbleload.machine import hold, lasting
from nimbleload.store import ceiling_file
from tests.app.conftest import shown
from tests.helpers.few_tracks import fewer_saved

TRIAL = Held(0.8, 100, 0, 0.9, True)


@pytest.fixture(autouse=True)
def _own_file(tmp_path, monkeypatch):
    monkeypatch.setattr(ceiling_file, "file", lambda: tmp_path / "ceiling.json")
    monkeypatch.setattr(looking, "WATCH_SECONDS", 0.1)


@pytest.fixture
def page(make_window):
    window = make_window()
    window.go(MACHINE)
    return window.machine


def texts(widget):
    return [label.text() for label in widget.findChildren(QLabel)]


def test_this_computer_is_looked_at_when_the_window_opens(page, qtbot):
    qtbot.waitUntil(lambda: bool(page.cards), timeout=30_000)
    assert [card.finding for card in page.cards] == page.findings
    assert (
        page.window().places.buttons[MACHINE].state in ("in order",)
        or "finding" in page.window().places.buttons[MACHINE].state
    )


def test_findings_come_as_cards_what_matters_first(page, qtbot):
    page.looking.close()
    page.show_facts(example.facts())
    assert page.sentence.headline.text() == "4 findings matter for audio on this computer."
    assert [card.finding.grade for card in page.cards][:4] == ["matters"] * 4
    first = page.cards[0]
    assert first.finding.name == "How the clock is set"
    assert first.finding.now in texts(first) and first.finding.why in texts(first)
    # What is in order takes a line, without commands.
    assert all(not card.copies for card in page.cards if card.finding.grade == "well")
    page.show_facts(example.facts())
    qtbot.wait(20)
    assert len([card for card in page.cards if card.isVisible()]) == len(page.findings)


def test_a_command_is_copied_and_never_run(page, qtbot):
    page.looking.close()
    page.show_facts(example.facts())
    card = page.cards[0]
    qtbot.mouseClick(card.copies[0], Qt.MouseButton.LeftButton)
    assert QGuiApplication.clipboard().text() == card.finding.now
    assert card.copies[0].text() == "Copied"


def test_texts_are_not_cut_at_any_width_or_size(page, qtbot):
    page.looking.close()
    window = page.window()
    for width, scale in ((1280, 0), (1000, 3), (1280, 5)):
        window.resize(width, 760)
        window.scale_text(scale)
        page.show_facts(example.facts())
        page.show_ceilings(example.ceilings())
        qtbot.wait(50)
        assert page.view.height() >= page.view.minimumSizeHint().height()
        for part in (*page.cards, page.load, page.words.parentWidget()):
            for label in part.findChildren(QLabel):
                if label.wordWrap() and label.isVisible():
                    assert label.height() >= label.heightForWidth(label.width()) - 1, label.text()
        window.scale_text(-scale)


def test_looking_again_takes_a_button(page, qtbot):
    qtbot.waitUntil(lambda: bool(page.sentence.button.text()), timeout=30_000)
    with qtbot.waitSignal(page.looking.seen, timeout=30_000):
        qtbot.mouseClick(page.sentence.button, Qt.MouseButton.LeftButton)


def test_a_look_that_fails_is_a_sentence(page, qtbot, monkeypatch):
    qtbot.waitUntil(lambda: bool(page.sentence.button.text()) and not page.looking.is_looking, timeout=30_000)

    def broken(**_):
        raise ValueError("no such thing")

    monkeypatch.setattr(looking, "look", broken)
    with qtbot.waitSignal(page.looking.failed, timeout=30_000):
        page.look()
    assert "no such thing" in page.sentence.advice.text()


def test_the_ceiling_is_found_step_by_step_and_kept(page, qtbot, monkeypatch):
    def trials(asked, cancelled):
        for each in asked:
            yield hold.Progress(each.buffer, Held(0.55, 10, 2, 1.2, True))
            made = Ceiling(each.buffer, each.rate, len(each.cores), each.seconds, 0.5, 0.45, 0.55, trials=(TRIAL,))
            yield hold.Progress(each.buffer, TRIAL, made)

    monkeypatch.setattr(hold, "ask", trials)
    with qtbot.waitSignal(page.looking.ended, timeout=30_000):
        qtbot.mouseClick(page.seek, Qt.MouseButton.LeftButton)
        assert page.stop.isVisible() and not page.seek.isEnabled()
    assert [each.buffer for each in page.ceilings] == list(looking.SIZES)
    assert page.view.isVisible() and len(page.view.figures()) == len(looking.SIZES) + 1
    assert page.seek.isEnabled() and not page.stop.isVisible()
    assert len(ceiling_file.read()) == len(looking.SIZES)


def test_the_search_can_be_stopped(page, qtbot, monkeypatch):
    monkeypatch.setattr(looking, "HOLD_SECONDS", 30.0)
    page.looking.find((256,), seconds=30.0)
    with qtbot.waitSignal(page.looking.ended, timeout=30_000):
        page.looking.stop()
    assert "Stopped" in page.news.text()


def test_a_search_that_fails_is_a_sentence(page, qtbot, monkeypatch):
    def broken(*_):
        raise RuntimeError("it ended with code 9")

    monkeypatch.setattr(hold, "ask", broken)
    with qtbot.waitSignal(page.looking.ended, timeout=30_000):
        qtbot.mouseClick(page.seek, Qt.MouseButton.LeftButton)
    assert "it ended with code 9" in page.news.text()


def test_balance_shows_what_this_computer_holds(example_window, qtbot, settled):
    window = example_window
    window.looking.close()
    window.machine.show_ceilings(example.ceilings())
    rows = {row[0]: row[-1] for row in window.balance.buffers.figures()}
    assert rows["256"] == "0.80" and rows["64"] == "0.55" and rows["4096"] == ""
    assert "this computer holds 80 %" in window.balance.buffers.accessibleDescription()
    # What it held on six cores says nothing of four.
    settled(window, lambda: window.desk.choose_machine(Machine(4)))
    assert {row[-1] for row in window.balance.buffers.figures()[1:]} == {""}


@pytest.fixture
def example_window(make_window, qtbot):
    window = make_window()
    with qtbot.waitSignal(window.desk.recomputed, timeout=60_000):
        window.open_example()
    window.go(BALANCE)
    qtbot.waitUntil(lambda: window.balance.is_shown, timeout=60_000)
    return window


def test_nothing_seen_is_no_error(page):
    page.looking.close()
    page.show_facts(Facts())
    assert "cannot be seen here" in page.sentence.advice.text()


def test_a_test_load_is_raised_by_key_until_it_crackles(page, qtbot):
    panel = page.load
    qtbot.mouseClick(panel.press, Qt.MouseButton.LeftButton)
    assert panel.is_running and not page.seek.isEnabled()
    qtbot.waitUntil(lambda: "10 % of" in panel.words.text(), timeout=30_000)
    assert panel.level.hasFocus()
    qtbot.keyClick(panel.level, Qt.Key.Key_Up)
    assert panel.level.value() == 15 and panel.figure.text() == "15 %"
    qtbot.waitUntil(lambda: "15 % of" in panel.words.text(), timeout=30_000)
    qtbot.waitUntil(lambda: panel.result.text() == "No crackle up to 15 %.", timeout=30_000)
    qtbot.keyClick(panel.level, Qt.Key.Key_Up)
    qtbot.keyClick(panel.level, Qt.Key.Key_C)
    assert panel.result.text().startswith("Clean with 15 %, crackles with 20 %")
    qtbot.keyClick(panel.level, Qt.Key.Key_Escape)
    assert not panel.is_running and page.seek.isEnabled()
    # What was heard stays until the next one begins.
    assert panel.result.isVisible() and panel.press.text() == "Begin a test load"


def test_a_test_load_that_ends_by_itself_is_said_and_the_window_ends_one_that_runs(page, qtbot):
    panel = page.load
    qtbot.mouseClick(panel.press, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: "10 % of" in panel.words.text(), timeout=30_000)
    os.kill(panel.process, signal.SIGKILL)
    qtbot.waitUntil(lambda: not panel.is_running, timeout=30_000)
    assert panel.words.text() == "The test load has ended by itself."
    qtbot.mouseClick(panel.press, Qt.MouseButton.LeftButton)
    running = panel.process
    page.window().shut_down()
    assert not Path(f"/proc/{running}").exists() and not panel.is_running


def lasts(slower, seconds=300):
    paces = [1.0] * 6 + [slower] * (seconds // 5 - 6)
    return Lasting(0.5, 256, 48000, 6, tuple(Stretch(5.0 * k + 5, pace, 900, 0, True) for k, pace in enumerate(paces)))


def test_a_pace_that_does_not_last_is_found_shown_and_kept(page, qtbot, monkeypatch):
    def stretches(**asked):
        assert page.pace.stop.isVisible() and not page.seek.isEnabled() and not page.load.isEnabled()
        for seconds in range(60, 301, 60):
            yield lasts(1.3, seconds)

    monkeypatch.setattr(lasting, "ask", stretches)
    with qtbot.waitSignal(page.looking.pace_ended, timeout=30_000):
        qtbot.mouseClick(page.pace.seek, Qt.MouseButton.LeftButton)
    assert "after 0:30 the same work, and any plugin, takes 1.30 times as long" in page.pace.words.text()
    assert page.pace.view.isVisible() and page.pace.view.figures()[-1][:2] == ["300", "1.300"]
    assert page.seek.isEnabled() and page.load.isEnabled() and not page.pace.stop.isVisible()
    assert page.pace.take.text() == "Compute sessions 1.30 times slower"
    assert ceiling_file.read_lasting() == lasts(1.3)


@pytest.mark.parametrize(("seconds", "words"), [(55, "Stopped. Processors may draw"), (120, "Stopped; what was seen")])
def test_a_look_at_the_pace_that_is_stopped_early_says_nothing(page, qtbot, monkeypatch, seconds, words):
    def stretches(cancelled, **asked):
        yield lasts(1.3, seconds)
        while not cancelled():
            pass

    monkeypatch.setattr(lasting, "ask", stretches)
    qtbot.mouseClick(page.pace.seek, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: page.pace.words.text().startswith(clock(seconds)), timeout=30_000)
    with qtbot.waitSignal(page.looking.pace_ended, timeout=30_000):
        qtbot.mouseClick(page.pace.stop, Qt.MouseButton.LeftButton)
    assert page.pace.words.text().startswith(words)
    assert (ceiling_file.read_lasting() is not None) == (seconds >= 60) == page.pace.take.isVisible()


def test_a_look_at_the_computer_meanwhile_leaves_the_pace_running(page, qtbot, monkeypatch):
    def stretches(cancelled, **asked):
        yield lasts(1.3, 40)
        while not cancelled():
            pass

    qtbot.waitUntil(lambda: not page.looking.is_looking, timeout=60_000)
    ceiling_file.keep_lasting(lasts(1.1))
    monkeypatch.setattr(lasting, "ask", stretches)
    qtbot.mouseClick(page.pace.seek, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: page.pace.words.text().startswith("0:40"), timeout=30_000)
    with qtbot.waitSignal(page.looking.lasts, timeout=30_000):
        page.look()
    assert page.pace.stop.isVisible() and page.pace.words.text().startswith("0:40")
    with qtbot.waitSignal(page.looking.pace_ended, timeout=30_000):
        qtbot.mouseClick(page.pace.stop, Qt.MouseButton.LeftButton)
    # What was known before stays.
    assert "1.10 times as long" in page.pace.words.text() and page.pace.seek.isVisible()


def test_a_look_at_the_pace_that_fails_is_a_sentence(page, qtbot, monkeypatch):
    def broken(**_):
        raise RuntimeError("it ended with code 9")
        yield

    monkeypatch.setattr(lasting, "ask", broken)
    with qtbot.waitSignal(page.looking.pace_ended, timeout=30_000):
        qtbot.mouseClick(page.pace.seek, Qt.MouseButton.LeftButton)
    assert page.pace.words.text().startswith("How long the pace lasts was not found: it ended with code 9.")
    assert page.pace.seek.isVisible() and page.load.isEnabled()


def test_sessions_are_computed_for_the_pace_that_lasts(make_window, qtbot):
    """Balance marks what is held then; once loads have the pace in them, what they are held against has not."""
    window = shown(make_window(example=fewer_saved), qtbot)
    window.machine.looking.close()
    of = window.desk.survey
    assert not of.machine.is_another
    trial = Held(0.6, 9, 0, 0.9, True)
    found = Ceiling(of.buffer, of.session.rate, of.threads, 2.0, 0.78, 0.7, 0.8, trials=(trial,))
    window.machine.show_ceilings([found])
    assert window.balance.buffers._held == {of.buffer: 0.78}
    assert not window.machine.pace.take.isVisible()
    window.machine.looking.lasts.emit(lasts(1.25))
    assert window.balance.buffers._held == {of.buffer: pytest.approx(0.624)}
    # A limit that its load is just under.
    window.desk.choose_limit(math.ceil(100 * of.after.load.max()) / 100)
    said = window.balance.sentence.advice
    qtbot.waitUntil(lambda: "the same takes 1.25 times as long" in said.text(), timeout=30_000)
    window.desk.undo()
    window.go(MACHINE)
    with qtbot.waitSignal(window.desk.recomputed, timeout=30_000):
        qtbot.mouseClick(window.machine.pace.take, Qt.MouseButton.LeftButton)
    slower = window.desk.survey
    assert slower.machine.speed == 0.8 and slower.machine.cores == of.machine.cores
    assert slower.after.load.max() == pytest.approx(1.25 * of.after.load.max(), rel=0.02)
    assert "times as long" not in window.balance.sentence.advice.text()
    # And it stands beside the session for as long as it is so.
    assert any(", 0.8 × as fast" in label.text() for label in window.findChildren(QLabel))
    assert window.balance.buffers._held == {of.buffer: 0.78}
    with qtbot.waitSignal(window.desk.recomputed, timeout=30_000):
        window.desk.undo()
    assert window.balance.buffers._held == {of.buffer: pytest.approx(0.624)}


def test_a_pace_without_a_session_is_taken_by_none(page, qtbot):
    page.looking.close()
    page.looking.lasts.emit(lasts(1.3))
    assert page.pace.take.isVisible() and not page.pace.take.isEnabled()


def test_the_clock_of_now_is_held_against_that_of_the_figures(make_window, qtbot):
    window = shown(make_window(example=fewer_saved), qtbot)
    window.machine.looking.close()
    of = window.desk.survey
    assert of.planned.figures.clock == 0.0  # the example's figures are of no computer
    name = "The clock, against the figures"
    slow = replace(example.facts(), chain=0.9e-6)
    window.machine.show_facts(slow)
    assert all(each.name != name for each in window.machine.findings)
    cards = {
        key: replace(card, cells=tuple(replace(c, clock=0.6e-6, provenance="measured") for c in card.cells))
        for key, card in window.desk.cards.items()
    }
    with qtbot.waitSignal(window.desk.recomputed, timeout=30_000):
        window.desk.take_cards(cards)
        window.desk.refresh()
    (found,) = (each for each in window.machine.findings if each.name == name)
    assert found.grade == "matters" and "1.50 times as long" in found.seen
