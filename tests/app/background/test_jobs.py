"""Short works off the window's thread: done in order, told in the window's thread, each failure a sentence."""

from __future__ import annotations

import threading
from concurrent.futures import CancelledError

from PySide6.QtCore import QCoreApplication, QThread

from nimbleload.app.background.jobs import Jobs


def test_works_are_done_in_order_and_told_in_the_windows_thread(qtbot):
    jobs, told = Jobs(), []
    for k in range(20):
        jobs.run(lambda k=k: (k, threading.current_thread().name),
                 lambda found: told.append((found, QThread.currentThread())), "x")  # fmt: skip
    qtbot.waitUntil(lambda: len(told) == 20, timeout=10_000)
    assert [found[0] for found, _ in told] == list(range(20))
    assert all(found[1].startswith("jobs") for found, _ in told)
    assert {thread for _, thread in told} == {QCoreApplication.instance().thread()}
    jobs.close()


def test_what_fails_is_a_sentence_and_a_line_in_the_log_and_the_next_one_is_done(qtbot, caplog):
    jobs, told = Jobs(), []

    def fails():
        raise OSError("the disk is full")

    with qtbot.waitSignal(jobs.failed, timeout=10_000) as failed:
        jobs.run(fails, told.append, "the report could not be written")
    assert failed.args == ["The report could not be written: the disk is full. Nothing else has changed."]
    assert "the report could not be written" in caplog.text
    jobs.run(lambda: 1, told.append, "x")
    qtbot.waitUntil(lambda: told == [1], timeout=10_000)
    jobs.close()


def test_closing_waits_for_what_is_being_done_and_tells_nothing_of_it(qtbot):
    jobs, told, begun, go_on, ended = Jobs(), [], threading.Event(), threading.Event(), []

    def slow():
        begun.set()
        go_on.wait(10)
        ended.append(True)

    jobs.run(slow, told.append, "x")
    jobs.run(lambda: ended.append(False), told.append, "never begun")
    assert begun.wait(10)
    threading.Timer(0.1, go_on.set).start()
    jobs.close()
    assert ended == [True]
    QCoreApplication.processEvents()
    assert told == []


def test_what_was_closed_meanwhile_is_no_failure(qtbot):
    jobs, failed = Jobs(), []
    jobs.failed.connect(failed.append)

    def closed():
        raise CancelledError

    jobs.run(closed, failed.append, "x")
    jobs.run(lambda: 1, lambda _: failed.append("through"), "x")
    qtbot.waitUntil(lambda: failed == ["through"], timeout=10_000)
    jobs.close()
