"""Where one begins while no session is open, in the real window."""

from __future__ import annotations

import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFileDialog

from nimbleload.app.frame.help import Help
from nimbleload.app.frame.window import BALANCE, MACHINE, START, WATCH
from nimbleload.app.start.start_page import WAYS
from nimbleload.demo.session import session as demo_session
from nimbleload.machine import processes, sound_servers
from nimbleload.machine.processes import Process
from nimbleload.store import session_file
from nimbleload.store.session_file import Saved
from tests.helpers.sessions import session, track
from tests.helpers.stems import noise, wave


@pytest.fixture
def window(make_window):
    found = make_window()
    found.go(START)
    return found


def press(qtbot, window, way):
    qtbot.mouseClick(window.start.buttons[way], Qt.MouseButton.LeftButton)


def place(window):
    return window.pages.currentIndex()


def test_it_is_no_place_and_each_way_leads_somewhere(window, qtbot):
    assert not any(button.isChecked() for button in window.places.buttons)
    assert list(window.start.buttons) == [name for name, _, _ in WAYS]
    press(qtbot, window, "watch")
    assert place(window) == WATCH and window.places.buttons[WATCH].isChecked()
    qtbot.keyClick(window, Qt.Key.Key_0, Qt.KeyboardModifier.ControlModifier)
    assert place(window) == START and not window.places.buttons[WATCH].isChecked()
    press(qtbot, window, "machine")
    assert place(window) == MACHINE
    # By keys alone: the first button has the focus.
    window.go(START)
    assert window.start.buttons["watch"].hasFocus()
    qtbot.keyClick(window.start.buttons["watch"], Qt.Key.Key_Space)
    assert place(window) == WATCH


def test_the_example_opens_only_when_it_is_asked_for(window, qtbot):
    assert window.desk.document is None
    with qtbot.waitSignal(window.desk.recomputed, timeout=60_000):
        press(qtbot, window, "example")
    assert place(window) == BALANCE and window.desk.document.session.name == demo_session().name
    # What the words promise is what is there.
    tracks = sum(strip.kind == "track" for strip in window.desk.document.session.strips)
    assert tracks == 74 and {name: what for name, _, what in WAYS}["example"].startswith("Seventy-four tracks")


def test_files_that_were_open_lately_are_there_again(window, qtbot, tmp_path):
    assert not window.start.recent
    path = tmp_path / "mix.nimbleload"
    session_file.write(path, Saved(session(track("t"))))
    with qtbot.waitSignal(window.desk.opened, timeout=60_000):
        window.open_path(path)
    window.go(START)
    (button,) = window.start.recent
    assert button.text().startswith("mix.nimbleload")
    with qtbot.waitSignal(window.desk.opened, timeout=60_000):
        qtbot.mouseClick(button, Qt.MouseButton.LeftButton)
    assert place(window) == BALANCE
    path.unlink()
    window.go(START)
    qtbot.waitUntil(lambda: not window.start.recent, timeout=30_000)


def test_a_session_is_chosen_made_of_audio_or_begun_empty(window, qtbot, tmp_path, monkeypatch):
    path = tmp_path / "mix.nimbleload"
    session_file.write(path, Saved(session(track("t"))))
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(path), ""))
    with qtbot.waitSignal(window.desk.opened, timeout=60_000):
        press(qtbot, window, "open")
    assert place(window) == BALANCE
    stems = tmp_path / "stems"
    stems.mkdir()
    (stems / "voice.wav").write_bytes(wave(noise()))
    window.go(START)
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_: str(stems))
    press(qtbot, window, "audio")
    qtbot.waitUntil(lambda: window.adding.dialog is not None and window.adding.dialog.isVisible(), timeout=30_000)
    window.adding.dialog.reject()


def test_it_says_whether_a_host_runs(window, qtbot, monkeypatch):
    one = Process(2**22 - 2, "mixer", 1, ("/usr/lib/lv2/a.lv2",), 1, 0.0)
    monkeypatch.setattr(sound_servers, "servers", list)
    for hosts, words in ([one], "(a host running)"), ([one, one._replace(number=7)], "(2 hosts running)"), ([], "host"):
        monkeypatch.setattr(processes, "hosts", lambda hosts=hosts: hosts)

        def says(words=words):
            window.watch.watching.look()  # while it looks, that does nothing
            return window.start.buttons["watch"].text().endswith(words)

        qtbot.waitUntil(says, timeout=30_000)


def test_help_there_is_the_guides_first_page(window):
    window.show_help()
    dialog = window.findChild(Help)
    assert dialog.page == "The guide"
    dialog.reject()
