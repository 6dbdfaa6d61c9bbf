"""A real window on the example, without a display; it is shut down after each test."""

from __future__ import annotations

from collections.abc import Callable

import pytest
from PySide6.QtCore import QEvent
from PySide6.QtWidgets import QApplication, QMessageBox

from nimbleload.app.frame.remembered import Remembered
from nimbleload.app.frame.window import MainWindow
from nimbleload.app.look.theme import theme
from nimbleload.core.optimise.suggest import Suggestion, suggest
from nimbleload.core.survey import survey
from nimbleload.shell.common import demo_saved
from nimbleload.store.library import Library
from nimbleload.store.recovery import Recovery
from nimbleload.store.session_file import Saved
from tests.helpers.few_tracks import fewer_saved
from tests.helpers.once import once

_FOLLOWED: set[Callable[[], Saved]] = set()


@pytest.fixture(autouse=True)
def no_question_unasked(monkeypatch):
    """A question that a test does not answer itself fails that test, in place of waiting for ever."""
    for kind in ("question", "information", "warning", "critical"):

        def unanswered(_parent, title, text, *_, kind=kind):
            raise AssertionError(f"nobody answers this {kind}: {title}: {text}")

        monkeypatch.setattr(QMessageBox, kind, unanswered)


@pytest.fixture
def make_window(qtbot, tmp_path):
    """Makes windows with a library, choices and recovery folder of the test's own."""
    made: list[MainWindow] = []

    def make(library: Library | None = None, percent: int = 100, example=demo_saved) -> MainWindow:
        application = QApplication.instance()
        # As a start does it: putting widgets together takes three times as long with the style sheet in force.
        application.setStyleSheet("")
        for other in made:
            other._choices.flush()
        theme.begin(application, "night", percent)
        window = MainWindow(example, library, Remembered(tmp_path / "window.ini"), Recovery(tmp_path / "recovery"))
        theme.apply(application, "night", percent)
        window.resize(1280, 800)
        window.show()
        made.append(window)
        return window

    yield make
    for window in made:
        window.shut_down()
        window.hide()
        window.deleteLater()
    # Now, and not when the next test waits for something: its style would be worked out for this window, too.
    QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)


@pytest.fixture
def example(make_window, qtbot):
    """A window with the example open, computed and shown."""
    return shown(make_window(), qtbot)


@pytest.fixture
def fewer(make_window, qtbot):
    """The same with few of its tracks, of which what is suggested is soon found."""
    return shown(make_window(example=fewer_saved), qtbot)


def shown(window: MainWindow, qtbot) -> MainWindow:
    """A window with its example open, computed and shown. The first waits for all that is said of it: the process
    beside, which all share, answers the others from then on without working it out."""
    with qtbot.waitSignal(window.desk.recomputed, timeout=60_000):
        window.open_example()
    qtbot.waitUntil(lambda: window.balance.is_shown, timeout=60_000)
    if window._example not in _FOLLOWED:
        qtbot.waitUntil(lambda: window.desk.band is not None, timeout=60_000)
        _FOLLOWED.add(window._example)
    return window


@pytest.fixture(scope="session")
def suggestion(tmp_path_factory) -> Suggestion:
    """What is suggested for the example, looked for once for all tests that only need a plan to be there."""

    def look() -> Suggestion:
        saved = demo_saved()
        cards = {card.key: card for card in saved.cards}
        return suggest(survey(saved.session, saved.plan, cards, saved.machine, saved.buffer))

    return once(tmp_path_factory, "suggestion", look)


@pytest.fixture
def settled(qtbot):
    """Does something in a window, and waits until the load has been computed anew and the options weighed."""

    def do(window, action):
        with qtbot.waitSignals([window.desk.recomputed, window.desk.weighed], timeout=60_000):
            action()
        qtbot.waitUntil(lambda: window.desk.is_idle and window.balance.is_shown, timeout=60_000)

    return do
