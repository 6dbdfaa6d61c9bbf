"""What once lost work or stayed silent: leaving, peeking, failing threads, copies, the library, the log."""

from __future__ import annotations

import logging
import sqlite3
import sys
import threading

import msgspec
import pytest
from PySide6.QtCore import Qt, qCritical, qInstallMessageHandler, qWarning
from PySide6.QtWidgets import QFileDialog, QMessageBox

from nimbleload.app.frame import log_file
from nimbleload.app.frame.log_dialog import LogDialog
from nimbleload.app.frame.window import BALANCE, MEASURE
from nimbleload.app.look.notice import written
from nimbleload.beside.client import Beside
from nimbleload.beside.messages import NotWantedError
from nimbleload.core.decisions.decision import Decision
from nimbleload.shell.windows import make_window as real_window
from nimbleload.store import session_file
from nimbleload.store.library import Library
from nimbleload.store.recovery import left_behind


def frozen(example, settled, name="Choir low"):
    """Freezes a track by hand."""
    strip = next(s for s in example.desk.document.session.strips if s.name == name)
    settled(example, lambda: example.desk.decide("freeze", [Decision("freeze", strip.id)]))
    return strip


def answers(monkeypatch, answer):
    monkeypatch.setattr(QMessageBox, "question", lambda *_: answer)


def saves_to(monkeypatch, path):
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(path) if path else "", ""))


def test_a_save_dialog_that_is_cancelled_keeps_the_window_open_for_good(example, qtbot, settled, monkeypatch, tmp_path):
    frozen(example, settled)
    answers(monkeypatch, QMessageBox.StandardButton.Save)
    saves_to(monkeypatch, None)
    example.close()
    assert example.isVisible()
    # Saved later, for other reasons: nobody asked to close any more.
    saves_to(monkeypatch, tmp_path / "later.nimbleload")
    with qtbot.waitSignal(example.filing.saved, timeout=30_000):
        example.ask_save()
    qtbot.wait(50)
    assert example.isVisible()


def test_what_is_saved_before_opening_another_goes_on_to_open_it(example, qtbot, settled, monkeypatch, tmp_path):
    strip = frozen(example, settled)
    other = tmp_path / "other.nimbleload"
    saved = example.desk.saved()
    session_file.write(
        other, msgspec.structs.replace(saved, session=msgspec.structs.replace(saved.session, name="Other"))
    )
    answers(monkeypatch, QMessageBox.StandardButton.Save)
    saves_to(monkeypatch, tmp_path / "mine.nimbleload")
    with qtbot.waitSignal(example.filing.opened, timeout=60_000):
        example.open_path(other)
    qtbot.waitUntil(lambda: example.desk.document.session.name == "Other", timeout=30_000)
    assert session_file.read(tmp_path / "mine.nimbleload").plan.for_strip(strip.id) is not None


def test_a_save_that_fails_opens_nothing_and_loses_nothing(example, qtbot, settled, monkeypatch, tmp_path):
    strip = frozen(example, settled)
    answers(monkeypatch, QMessageBox.StandardButton.Save)
    saves_to(monkeypatch, tmp_path / "no such folder" / "mine.nimbleload")
    with qtbot.waitSignal(example.filing.failed, timeout=30_000):
        example.open_example()
    assert example.desk.document.plan.for_strip(strip.id) is not None


def test_a_suggestion_while_peeking_keeps_what_was_decided_by_hand(fewer, qtbot, settled):
    example, strip = fewer, frozen(fewer, settled, "Choir far")
    example.desk.peek(True)
    qtbot.waitUntil(lambda: example.desk.is_peeking, timeout=30_000)
    assert example.balance.sentence.headline.text().startswith("Without the plan: ")
    with qtbot.waitSignal(example.desk.suggested, timeout=120_000):
        example.balance.suggest()
    assert not example.desk.is_peeking
    assert example.desk.document.plan.for_strip(strip.id) == Decision("freeze", strip.id)


def test_the_report_written_while_peeking_has_the_plan_in_it(example, qtbot, settled, tmp_path):
    frozen(example, settled)
    example.desk.peek(True)
    qtbot.waitUntil(lambda: example.desk.is_peeking, timeout=30_000)
    with qtbot.waitSignal(written.told, timeout=30_000):
        example.deciding.write_report(tmp_path / "plan.html")
    assert "Choir low" in (tmp_path / "plan.html").read_text()
    assert not example.desk.is_peeking


@pytest.mark.parametrize("name", ["weigh", "last_steps", "outlook"])
def test_work_that_fails_in_a_thread_ends_in_the_log_and_in_a_sentence(example, qtbot, monkeypatch, caplog, name):
    def broken(*_):
        raise ZeroDivisionError("by mistake")

    monkeypatch.setattr(Beside, name, broken)
    example.desk._steps = None
    with caplog.at_level(logging.ERROR), qtbot.waitSignal(example.desk.troubled, timeout=60_000) as told:
        example.desk.refresh()
    assert "by mistake" in told.args[0] and "unchanged" in told.args[0]
    assert "by mistake" in caplog.text


def test_what_is_not_wanted_beside_since_another_survey_was_asked_for_is_asked_for_again(example, qtbot, monkeypatch):
    usual, asked = Beside.outlook, []

    def outlook(self, of, at):
        asked.append(at)
        if len(asked) == 1:
            raise NotWantedError("a rehearsal's strips")
        return usual(self, of, at)

    monkeypatch.setattr(Beside, "outlook", outlook)
    example.desk.refresh()
    qtbot.waitUntil(lambda: len(asked) >= 2 and example.desk.outlook is not None, timeout=60_000)
    assert (asked[0].second, asked[0].moment) == (asked[1].second, asked[1].moment)


def test_a_failed_suggestion_leaves_the_load_on_the_screen(example, qtbot, monkeypatch):
    def broken(*_):
        raise ZeroDivisionError("by mistake")

    headline = example.balance.sentence.headline.text()
    monkeypatch.setattr(Beside, "suggest", broken)
    with qtbot.waitSignal(example.desk.not_suggested, timeout=60_000):
        example.balance.suggest()
    assert example.balance.sentence.headline.text() == headline
    assert "by mistake" in example.balance.drawer._words.text()
    assert example.balance.drawer.suggest.isEnabled()


def test_presses_of_the_buffer_key_are_one_step(example, qtbot, settled):
    def press():
        qtbot.keyClick(example, Qt.Key.Key_BracketRight)

    for _ in range(3):
        settled(example, press)
    assert example.desk.document.buffer == 2048
    settled(example, example.desk.undo)
    assert example.desk.document.buffer == 256


def test_presses_that_come_faster_than_the_load_is_computed_all_count(example, qtbot, settled):
    def presses():
        for _ in range(3):
            qtbot.keyClick(example, Qt.Key.Key_BracketRight)

    settled(example, presses)
    assert example.desk.document.buffer == 2048


def test_p_pins_only_where_the_tracks_are_in_sight(example, qtbot, settled):
    strip = next(s for s in example.desk.document.session.strips if s.name == "Choir low")
    example.balance.tracks.choose(strip.id)
    example.go(MEASURE)
    qtbot.keyClick(example, Qt.Key.Key_P)
    assert strip.id not in example.desk.document.plan.pinned
    example.go(BALANCE)
    settled(example, lambda: qtbot.keyClick(example, Qt.Key.Key_P))
    assert strip.id in example.desk.document.plan.pinned


def test_a_recovered_copy_goes_only_when_the_new_one_is_on_the_disk(
    example, make_window, qtbot, settled, tmp_path, monkeypatch
):
    frozen(example, settled)
    qtbot.waitUntil(lambda: any((tmp_path / "recovery").glob("*.nimbleload")), timeout=30_000)
    for note in (tmp_path / "recovery").glob("*.json"):
        found = msgspec.json.decode(note.read_bytes())
        note.write_bytes(msgspec.json.encode({**found, "started": "before the crash"}))
    left = left_behind(tmp_path / "recovery")
    other = make_window()

    def full(*_):
        raise OSError("no space left")

    monkeypatch.setattr(other.filing._recovery, "keep", full)
    with qtbot.waitSignal(other.desk.recomputed, timeout=60_000):
        other.recovering.recover(left[0])
    other.filing._work.submit(lambda: None).result(30)
    assert left[0].copy.exists()


def test_pages_without_a_session_say_what_to_do(make_window):
    window = make_window()
    for page in (window.balance, window.measure):
        assert page.sentence.headline.text() == "No session is open."
        assert not page.sentence.button.isVisible()


def test_a_library_that_cannot_be_read_is_a_sentence_in_the_window(qtbot, monkeypatch, tmp_path):
    path = Library().path
    path.parent.mkdir(parents=True, exist_ok=True)
    with sqlite3.connect(path) as store:
        store.execute("PRAGMA user_version = 999")
    told = []
    monkeypatch.setattr("nimbleload.app.frame.window.MainWindow.complain", lambda self, sentence: told.append(sentence))
    monkeypatch.setattr(log_file, "catch", lambda tell: None)
    window = real_window()
    assert len(told) == 1 and "not kept" in told[0]
    window.shut_down()
    window.deleteLater()


def test_what_nobody_catches_is_written_down_and_told(tmp_path, monkeypatch):
    monkeypatch.setattr(sys, "excepthook", sys.excepthook)
    monkeypatch.setattr(threading, "excepthook", threading.excepthook)
    told: list[str] = []
    handler = log_file.begin(tmp_path / "state" / "log")
    try:
        log_file.catch(told.append)
        try:
            raise KeyError("lost")
        except KeyError as error:
            sys.excepthook(KeyError, error, error.__traceback__)
        thread = threading.Thread(target=lambda: 1 / 0)
        thread.start()
        thread.join()
    finally:
        logging.getLogger("nimbleload").removeHandler(handler)
        handler.close()
    assert "lost" in told[0] and "division" in told[1]
    written = (tmp_path / "state" / "log").read_text()
    assert "KeyError: 'lost'" in written and "ZeroDivisionError" in written and "Traceback" in written


def test_what_qt_says_is_written_down_and_not_told_on_the_terminal(tmp_path, capfd):
    handler = log_file.begin(tmp_path / "log")
    before = qInstallMessageHandler(None)
    try:
        log_file.take_qt()
        qWarning("a picture is too large")
        qCritical("nothing is left")
        qWarning("This plugin does not support raise()")
    finally:
        qInstallMessageHandler(before)
        logging.getLogger("nimbleload").removeHandler(handler)
        handler.close()
    lines = (tmp_path / "log").read_text().splitlines()
    assert [line.partition("nimbleload")[2] for line in lines] == [
        ".app.frame.log_file: Qt: a picture is too large", ".app.frame.log_file: Qt: nothing is left",
    ]  # fmt: skip
    assert "WARNING" in lines[0] and "ERROR" in lines[1]
    assert capfd.readouterr().err == ""


def test_boxes_that_are_closed_are_gone(make_window, qtbot):
    """Each one that stayed was laid out and painted anew with every change of the text size."""
    window = make_window()
    for _ in range(3):
        window.complain("It cannot be.")
        (box,) = window.findChildren(QMessageBox)
        box.accept()
        qtbot.waitUntil(lambda: not window.findChildren(QMessageBox), timeout=5000)


def test_a_log_that_cannot_be_written_is_no_obstacle(tmp_path):
    (tmp_path / "file").write_text("")
    assert log_file.begin(tmp_path / "file" / "log") is None


def test_the_log_is_shown_from_its_end(make_window, qtbot):
    window, log = make_window(), log_file.path()
    (command,) = [each for each in window.commands() if "wrote down" in each.text()]

    def shown():
        command.trigger()
        qtbot.waitUntil(lambda: bool(window.findChildren(LogDialog)), timeout=10_000)
        (dialog,) = window.findChildren(LogDialog)
        text = dialog.text.toPlainText()
        dialog.reject()
        qtbot.waitUntil(lambda: not window.findChildren(LogDialog), timeout=10_000)
        return text

    log.unlink(missing_ok=True)
    assert "nothing went wrong" in shown()
    log.parent.mkdir(parents=True, exist_ok=True)
    log.write_text("old\n" * 50_000 + "the last line\n")
    text = shown()
    assert text.rstrip().endswith("the last line")
    assert len(text) <= 70_000
    # What cannot be read is not taken for a log without entries.
    log.unlink()
    log.mkdir()
    command.trigger()
    qtbot.waitUntil(lambda: bool(window.findChildren(QMessageBox)), timeout=10_000)
    (box,) = window.findChildren(QMessageBox)
    assert f"The log in {log} cannot be read" in box.text() and not window.findChildren(LogDialog)
    box.accept()
    log.rmdir()
