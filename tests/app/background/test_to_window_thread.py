"""Results of other threads come into the window's thread, in order, and to nobody who is gone."""

from __future__ import annotations

import threading
import time
from types import SimpleNamespace

from PySide6.QtCore import QCoreApplication, Qt, QThread
from shiboken6 import delete

from nimbleload.app.background.to_window_thread import ToWindowThread
from nimbleload.app.frame.window import MEASURE
from nimbleload.store.library import Library


def in_thread(work):
    thread = threading.Thread(target=work)
    thread.start()
    thread.join()


def test_calls_land_in_the_thread_of_the_window_and_in_order(qtbot):
    landing, seen = ToWindowThread(), []
    in_thread(lambda: [landing.post(lambda k: seen.append((k, QThread.currentThread())), k) for k in range(50)])
    assert seen == []
    QCoreApplication.processEvents()
    assert seen == [(k, QCoreApplication.instance().thread()) for k in range(50)]


def test_what_has_not_landed_when_it_closes_is_dropped_and_so_is_all_that_follows(qtbot):
    landing, seen = ToWindowThread(), []
    in_thread(lambda: landing.post(seen.append, "under way"))
    landing.close()
    in_thread(lambda: landing.post(seen.append, "late"))
    QCoreApplication.processEvents()
    assert seen == []


def test_the_last_word_of_a_thread_is_heard_when_it_is_through(qtbot):
    landing, heard = ToWindowThread(), []

    def work():
        landing.last(lambda: heard.append(thread.is_alive()))
        time.sleep(0.3)  # what is left to tidy up

    thread = threading.Thread(target=work)
    thread.start()
    qtbot.waitUntil(lambda: bool(heard), timeout=10_000)
    assert heard == [False]
    # From the window's own thread it is called like any other.
    landing.last(heard.append, "here")
    QCoreApplication.processEvents()
    assert heard == [False, "here"]


def test_public_signals_are_emitted_in_the_windows_thread(make_window, qtbot, tmp_path):
    """A receiver that is no QObject, and is gone before the signal arrives, would end the process otherwise."""
    window = make_window(Library(tmp_path / "l.sqlite", "here"))
    emitted_in = []

    def note(*_):
        emitted_in.append(threading.current_thread())

    measuring, rehearsing, filing = window.measuring, window.rehearsing, window.filing
    for owner, names in (
        (measuring, ("progressed", "ended", "tried", "tried_all")),
        (rehearsing, ("loading", "playing", "ended", "failed")),
        (filing, ("opened", "saved", "failed")),
        (window.desk, ("recomputed", "weighed", "suggested", "failed")),
    ):
        for name in names:
            getattr(owner, name).connect(note, type=Qt.ConnectionType.DirectConnection)
    with qtbot.waitSignal(window.desk.weighed, timeout=60_000):
        window.open_example()
    with qtbot.waitSignal(filing.failed, timeout=60_000):
        filing.open(tmp_path / "none.nimbleload")
    with qtbot.waitSignal(measuring.ended, timeout=60_000):
        window.go(MEASURE)
        window.measure.sentence.button.click()
        measuring.cancel()
    assert len(emitted_in) >= 4
    assert set(emitted_in) == {threading.main_thread()}


def test_a_window_that_is_shut_while_it_measures_asks_for_nothing_more(make_window, qtbot, tmp_path):
    window = make_window(Library(tmp_path / "l.sqlite", "here"))
    with qtbot.waitSignal(window.desk.recomputed, timeout=60_000):
        window.open_example()
    window.go(MEASURE)
    with qtbot.waitSignal(window.measuring.progressed, timeout=60_000):
        window.measure.sentence.button.click()
    ended = []
    window.measuring.ended.connect(lambda *_: ended.append(True))
    window.shut_down()
    qtbot.wait(300)
    assert ended == []
    window.desk.refresh()  # a result that was under way may still ask for this


def test_it_is_not_closed_while_another_thread_is_posting(qtbot):
    """What is closed is deleted next: a thread that was just about to post would end the process."""
    to_window, entered, go_on = ToWindowThread(), threading.Event(), threading.Event()
    to_window._came = SimpleNamespace(emit=lambda _: (entered.set(), go_on.wait(20)))
    posting = threading.Thread(target=to_window.post, args=(print,))
    posting.start()
    assert entered.wait(20)
    closing = threading.Thread(target=to_window.close)
    closing.start()
    closing.join(0.2)
    assert closing.is_alive()
    go_on.set()
    for each in (closing, posting):
        each.join(20)
        assert not each.is_alive()


def test_a_thread_whose_window_was_deleted_meanwhile_posts_to_nobody(qtbot):
    landing, seen = ToWindowThread(), []
    delete(landing)
    landing.post(seen.append, "late")
    assert seen == []
