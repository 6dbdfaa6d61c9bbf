"""Another program writes the file of the open session, or the exchange file it came from: noticed, read if wanted, and
never written over unasked."""

from __future__ import annotations

import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication, QFileDialog, QMessageBox, QWidget

from nimbleload.core.decisions.decision import Decision
from nimbleload.core.session.edits import rename
from nimbleload.core.told.newer import HELD
from nimbleload.store import dawproject, recovery, session_file
from nimbleload.store.library import Library
from nimbleload.store.recovery import Recovery
from nimbleload.store.session_file import Saved
from tests.helpers import exports
from tests.helpers.sessions import card, session, track


def saved_as(path, *names):
    session_file.write(path, Saved(session(*(track(name) for name in names))))


def names(window):
    return [strip.name for strip in window.desk.document.session.strips if strip.kind == "track"]


def held(path):
    return [strip.name for strip in session_file.read(path).session.strips if strip.kind == "track"]


def box(window, qtbot):
    found = []
    qtbot.waitUntil(lambda: found.extend(b for b in window.findChildren(QMessageBox) if b.isVisible()) or bool(found))
    return found[-1]


def press(of, words, qtbot):
    (button,) = [each for each in of.buttons() if each.text().replace("&", "") == words]
    qtbot.mouseClick(button, Qt.MouseButton.LeftButton)


def come_back(window, qtbot):
    """As from a shell: another window had the keys."""
    other = QWidget()
    qtbot.addWidget(other)
    other.show()
    other.activateWindow()
    qtbot.waitUntil(other.isActiveWindow)
    other.close()
    window.activateWindow()
    qtbot.waitUntil(lambda: window.isActiveWindow() or QApplication.activeModalWidget() is not None)


@pytest.fixture
def opened(make_window, qtbot, tmp_path):
    path = tmp_path / "mix.nimbleload"
    saved_as(path, "Bass")
    window = make_window()
    with qtbot.waitSignal(window.desk.recomputed, timeout=60_000):
        window.open_path(path)
    return window, path


def change(window):
    session = window.desk.document.session
    window.desk.edit("rename", rename(session, session.strips[0].id, "Bassoon"))


def test_what_another_program_wrote_is_read_again_and_undo_brings_back_what_was_here(opened, qtbot):
    window, path = opened
    change(window)
    saved_as(path, "Bass", "Harp")
    come_back(window, qtbot)
    asked = box(window, qtbot)
    assert "mix.nimbleload was changed by another program" in asked.text()
    assert "What has changed here since gives way to it; undo brings that back." in asked.informativeText()
    with qtbot.waitSignal(window.filing.again):
        press(asked, "Read it again", qtbot)
    assert names(window) == ["Bass", "Harp"]
    assert not window.desk.has_unsaved
    window.desk.undo()
    assert names(window) == ["Bassoon"]
    assert window.desk.has_unsaved


def test_it_is_asked_once_and_asked_again_before_it_is_written_over(opened, qtbot):
    window, path = opened
    saved_as(path, "Bass", "Harp")
    come_back(window, qtbot)
    asked = box(window, qtbot)
    assert asked.informativeText() == "What is open is as it was."
    press(asked, "Keep what is here", qtbot)
    come_back(window, qtbot)
    qtbot.wait(200)
    assert not [b for b in window.findChildren(QMessageBox) if b.isVisible()]
    change(window)
    qtbot.keyClick(window, Qt.Key.Key_S, Qt.KeyboardModifier.ControlModifier)
    asked = box(window, qtbot)
    assert "Writing over it keeps what is there now as mix.nimbleload.bak." in asked.informativeText()
    assert held(path) == ["Bass", "Harp"], "not written yet"
    with qtbot.waitSignal(window.filing.saved):
        press(asked, "Write over it", qtbot)
    assert held(path) == ["Bassoon"]
    assert held(path.with_name("mix.nimbleload.bak")) == ["Bass", "Harp"]
    # What was written here is no other program's.
    window.desk.undo()
    with qtbot.waitSignal(window.filing.saved):
        window.save()


def test_it_can_be_saved_beside_it_or_not_at_all(opened, qtbot, monkeypatch, tmp_path):
    window, path = opened
    change(window)
    saved_as(path, "Harp")
    gone = []
    window._after_save = lambda: gone.append(True)
    window.save()
    press(box(window, qtbot), "Not now", qtbot)
    assert held(path) == ["Harp"]
    assert window._after_save is None, "what was to follow upon saving does not follow upon another one"
    other = tmp_path / "other.nimbleload"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a: (str(other), ""))
    window.save()
    with qtbot.waitSignal(window.filing.saved):
        press(box(window, qtbot), "Save as…", qtbot)
    assert (held(path), held(other)) == (["Harp"], ["Bassoon"])
    assert not gone


def test_recovered_work_is_not_written_over_what_was_saved_since(make_window, qtbot, tmp_path, monkeypatch):
    path = tmp_path / "mix.nimbleload"
    saved_as(path, "Bass")
    with monkeypatch.context() as patched:
        patched.setattr(recovery, "started", lambda pid: "another")
        Recovery().keep(Saved(session(track("Left"))), path)
    saved_as(path, "Since")
    window = make_window()
    with qtbot.waitSignal(window.desk.recomputed, timeout=60_000):
        window.recovering.recover(recovery.left_behind()[0])
    window.save()
    assert "changed by another program" in box(window, qtbot).text()
    assert held(path) == ["Since"]


@pytest.fixture
def mix(make_window, qtbot, tmp_path):
    """A session that came from an exchange file, with a plan, and that file."""
    source = exports.export(tmp_path / "mix.dawproject", exports.FIRST)
    library = Library(tmp_path / "l.sqlite", "here")
    for use in dawproject.read(source).session.uses_by_id().values():
        library.store(made := card(use, 1e-3), made.cells)
    window = make_window(library)
    with qtbot.waitSignal(window.desk.recomputed, timeout=60_000):
        window.open_path(source)
    box(window, qtbot).close()  # what the import left out
    harp, voice = window.desk.document.session.strips[1:3]
    window.desk.decide("freeze", [Decision("freeze", harp.id), Decision("freeze", voice.id)])
    return window, source


def frozen(window):
    document = window.desk.document
    return [document.session.strip(each.strip).name for each in document.plan.decisions]


def test_a_newer_export_is_offered_and_the_plan_goes_on_in_it(mix, qtbot):
    window, source = mix
    exports.export(source, exports.SECOND)
    qtbot.waitUntil(lambda: window.desk.is_idle)
    before = window.desk.survey.after
    come_back(window, qtbot)
    asked = box(window, qtbot)
    assert asked.text() == "mix.dawproject was written anew since this session was taken from it."
    press(asked, "Take it in", qtbot)
    qtbot.waitUntil(lambda: names(window) == list(exports.SECOND), timeout=30_000)
    assert frozen(window) == ["Lead voice"]
    told = box(window, qtbot).informativeText()
    assert "Of 2 decisions 1 goes on; gone with what they spoke of: Freeze Harp." in told
    # What it does to the load is seen beside what it was.
    assert HELD in told and window.balance.held is before
    qtbot.waitUntil(lambda: window.desk.is_idle and window.balance.timeline.shows(window.desk.survey, before))
    box(window, qtbot).close()
    window.desk.undo()
    assert (names(window), frozen(window)) == (list(exports.FIRST), ["Harp", "Voice"])
    come_back(window, qtbot)
    qtbot.wait(200)
    assert not [b for b in window.findChildren(QMessageBox) if b.isVisible()], "said once"


def test_a_newer_export_of_another_name_is_taken_in_by_the_menu(mix, qtbot, tmp_path, monkeypatch):
    window, source = mix
    newer = exports.export(tmp_path / "mix 2.dawproject", exports.SECOND)
    # A version that is held already stays the one to compare with.
    qtbot.waitUntil(lambda: window.desk.is_idle)
    window.balance.hold_version(True)
    compared, asked = window.balance.held, []
    window.desk.undo()
    qtbot.waitUntil(lambda: window.desk.is_idle and window.desk.survey.after is not compared)
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *a: asked.append(a[2]) or (str(newer), ""))
    (action,) = [each for each in window.actions() if each.text().replace("&", "") == "Take in a newer export…"]
    action.trigger()
    qtbot.waitUntil(lambda: names(window) == list(exports.SECOND), timeout=30_000)
    assert asked == [str(source)] and window.balance.held is compared
    assert window.desk.history.undo_step == "the newer export"


def test_a_newer_export_that_cannot_be_read_changes_nothing(mix, qtbot):
    window, source = mix
    source.write_bytes(b"half written")
    come_back(window, qtbot)
    qtbot.wait(200)
    assert not [b for b in window.findChildren(QMessageBox) if b.isVisible()]
    window.outside.take_newer(source)
    assert box(window, qtbot).text().startswith("The newer export was not taken in: mix.dawproject cannot be opened")
    assert names(window) == list(exports.FIRST)


def test_what_is_decided_while_a_newer_export_is_read_goes_on_as_well(mix, qtbot):
    window, source = mix
    exports.export(source, exports.SECOND)
    bass = window.desk.document.session.strips[0]
    window.outside.take_newer(source)
    window.desk.decide("freeze", [Decision("freeze", bass.id)])
    qtbot.waitUntil(lambda: names(window) == list(exports.SECOND), timeout=30_000)
    assert frozen(window) == ["Lead voice", "Bass"]
