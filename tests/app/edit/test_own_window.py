"""A plugin's own window from the Session page: opened by key, closed by button, and what was set is one step."""

from __future__ import annotations

import pytest
from PySide6.QtCore import Qt

from nimbleload.app.edit.inspector import CLOSE_WINDOW, OPEN_WINDOW
from nimbleload.app.frame.window import EDIT
from nimbleload.core.session.plugins import PluginRef, PluginUse
from nimbleload.core.session.strips import Strip
from nimbleload.store import session_file
from nimbleload.store.session_file import Saved
from tests.helpers.sessions import session
from tests.probe.test_plugin_window import hands, library, screen  # noqa: F401

pytestmark = pytest.mark.usefixtures("hands")


@pytest.fixture
def window(make_window, qtbot, tmp_path, library, monkeypatch):  # noqa: F811
    monkeypatch.setenv("CLAP_PATH", str(library.parent))
    found = make_window()
    mix = tmp_path / "mix.nimbleload"
    uses = tuple(PluginUse(kind, PluginRef("clap", kind, kind)) for kind in ("good", "crashes", "bare"))
    session_file.write(mix, Saved(session(Strip("voice", "voice", inserts=uses, output="main"))))
    found.activateWindow()
    with qtbot.waitSignal(found.desk.recomputed, timeout=60_000):
        found.open_path(mix)
    found.go(EDIT)
    found.edit.choose("voice")
    return found


def choose(window, use):
    window.edit.view.choose_plugins([use])
    window.edit._show_chosen()
    window.edit.view.setFocus()


def state(window):
    return window.desk.document.session.strips[0].inserts[0].setting.state


def test_what_is_set_in_it_is_one_step_that_can_be_undone(window, qtbot, hands):  # noqa: F811
    choose(window, "good")
    page = window.edit
    assert page.inspector.own_window.text() == OPEN_WINDOW
    qtbot.keyClick(page.view, Qt.Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
    qtbot.waitUntil(lambda: "window is open" in page.inspector.window_told.text(), timeout=60_000)
    shown = hands.find("good on voice")
    hands.drag(hands.below(shown)[0], 10, 10, 0)
    qtbot.waitUntil(lambda: "It takes" in page.inspector.window_told.text(), timeout=60_000)
    # Another plugin has no open window; this one's is still there.
    choose(window, "bare")
    assert page.inspector.own_window.text() == OPEN_WINDOW and not page.inspector.window_told.isVisible()
    choose(window, "good")
    assert page.inspector.own_window.text() == CLOSE_WINDOW
    qtbot.mouseClick(page.inspector.own_window, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: state(window) is not None, timeout=60_000)
    assert "good's window is in the session now" in page.news.text() and "While open it took" in page.news.text()
    assert page.inspector.own_window.text() == OPEN_WINDOW
    assert window.desk.history.undo_step == "set good in its window"
    window.desk.undo()
    assert state(window) is None


@pytest.mark.parametrize(("use", "words"), [("crashes", "crashed: SIGABRT"), ("bare", "has no window of its own")])
def test_a_window_that_cannot_be_is_a_sentence(window, qtbot, use, words):
    choose(window, use)
    qtbot.mouseClick(window.edit.inspector.own_window, Qt.MouseButton.LeftButton)
    # It is named once.
    qtbot.waitUntil(lambda: window.edit.news.text().startswith(f"{use} {words}"), timeout=60_000)
    assert window.edit.inspector.own_window.text() == OPEN_WINDOW


def test_closing_the_program_ends_it(window, qtbot, hands):  # noqa: F811
    choose(window, "good")
    qtbot.mouseClick(window.edit.inspector.own_window, Qt.MouseButton.LeftButton)
    hands.find("good on voice")
    window.shut_down()
    qtbot.waitUntil(lambda: not hands.are_there("good on voice"), timeout=30_000)
