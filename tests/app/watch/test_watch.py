"""Watching a real host in the real window, and recordings of hosts."""

from __future__ import annotations

import os
import re
import signal
import threading

import pytest
from PySide6.QtCore import QPointF, Qt
from PySide6.QtWidgets import QFileDialog

from nimbleload.app.frame.window import BALANCE, EDIT, START, WATCH
from nimbleload.app.look.theme import theme
from nimbleload.app.watch import watching
from nimbleload.app.watch.watch_page import BEFORE, DIFFERENCE, IN_WORST, PREDICTED
from nimbleload.app.watch.watching import Expected, Found
from nimbleload.core.survey import compared_with
from nimbleload.core.told.watching import percent
from nimbleload.machine import perf, processes, sound_servers
from nimbleload.machine.processes import Process
from nimbleload.machine.sound_servers import Running
from nimbleload.probe import catalogue
from tests.helpers import sound_server
from tests.helpers.host import Host, Plugin, in_one_file
from tests.helpers.paintings import Paintings
from tests.helpers.recordings import SLEEP, reading
from tests.helpers.sound_server import wait_for

PLUGINS = [Plugin("small", 80_000), Plugin("large", 500_000)]


@pytest.fixture
def page(make_window):
    window = make_window()
    window.go(WATCH)
    return window.watch


def choose(qtbot, page, host):
    """Waits until a host is in the list, and chooses it."""
    qtbot.waitUntil(lambda: (host.pid,) in page.choices, timeout=20_000)
    page.hosts.setCurrentIndex(page.choices.index((host.pid,)))


def cells(page, column):
    return [page.table.item(row, column).text() for row in range(page.table.rowCount())]


def all_said(page):
    """Headline, what stands below it, and what stands below the table."""
    return " ".join((page.sentence.headline.text(), page.sentence.advice.text(), page.words.text()))


def shown_example(qtbot, page):
    with qtbot.waitSignal(page.watching.seen, timeout=60_000):
        qtbot.mouseClick(page.example, Qt.MouseButton.LeftButton)


@pytest.mark.usefixtures("may_watch")
def test_a_running_host_is_found_watched_and_left(page, qtbot, tmp_path):
    with Host(tmp_path, PLUGINS, 2_000_000, 30_000) as host:
        choose(qtbot, page, host)
        assert "small" in page.hosts.currentText() and "large" in page.hosts.currentText()
        with qtbot.waitSignal(page.watching.seen, timeout=30_000):
            qtbot.mouseClick(page.sentence.button, Qt.MouseButton.LeftButton)
        assert page.sentence.button.text() == "Stop"
        # A second in which the computer was busy elsewhere may show no cycle; the next ones do.
        qtbot.waitUntil(lambda: "Blocks of 2.00 ms" in all_said(page), timeout=20_000)
        assert cells(page, 0)[:2] == ["large", "small"]
        assert page.blocks.isVisible() and page.lanes.isVisible()
        assert len(page.lanes.figures()) > 1
        assert not page.hosts.isEnabled()
        assert page.window().places.buttons[WATCH].state not in ("no host", "a host")
        with qtbot.waitSignal(page.watching.ended, timeout=30_000):
            qtbot.mouseClick(page.sentence.button, Qt.MouseButton.LeftButton)
        assert page.sentence.button.text() == "Watch again"
        assert cells(page, 0)[:2] == ["large", "small"]
        assert host.process.poll() is None


@pytest.mark.usefixtures("may_watch")
def test_plugins_that_nobody_has_looked_for_yet_are_told_by_name_while_they_are_watched(
    page, qtbot, tmp_path, monkeypatch
):
    """Also those that lie in one file; it is looked for behind all else that runs."""
    file, plugins = in_one_file(tmp_path, small=80_000, large=500_000)
    look, niceness = catalogue.catalogue, []

    def found():
        niceness.append(os.getpriority(os.PRIO_PROCESS, threading.get_native_id()))
        return look([file])

    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    monkeypatch.setattr(catalogue, "catalogue", found)
    with Host(tmp_path, plugins, 2_000_000, 60_000) as host:
        choose(qtbot, page, host)
        qtbot.mouseClick(page.sentence.button, Qt.MouseButton.LeftButton)
        qtbot.waitUntil(lambda: cells(page, 0)[:2] == ["large", "small"], timeout=50_000)
        with qtbot.waitSignal(page.watching.ended, timeout=30_000):
            qtbot.mouseClick(page.sentence.button, Qt.MouseButton.LeftButton)
    assert niceness == [19]


@pytest.mark.usefixtures("may_watch")
def test_a_host_that_ends_is_said_to_have_ended(page, qtbot, tmp_path):
    with Host(tmp_path, PLUGINS, 2_000_000, 30_000) as host:
        choose(qtbot, page, host)
        with qtbot.waitSignal(page.watching.seen, timeout=30_000):
            qtbot.mouseClick(page.sentence.button, Qt.MouseButton.LeftButton)
        host.process.kill()
        with qtbot.waitSignal(page.watching.ended, timeout=30_000):
            host.process.wait()
    assert "The host has ended" in page.sentence.advice.text()
    assert page.keep.isVisible()


@pytest.mark.parametrize("others", [0, 1])
def test_a_process_that_is_gone_is_a_sentence(page, qtbot, monkeypatch, others):
    # Whether another host runs or not: the button looks again, as it says.
    running = [Process(os.getpid(), "mixer", 1, ("/usr/lib/lv2/a.lv2",), 1, 0.0)][:others]
    monkeypatch.setattr(processes, "hosts", lambda: running)
    monkeypatch.setattr(sound_servers, "servers", list)
    with qtbot.waitSignal(page.watching.ended, timeout=30_000):
        page.watching.start((2**22 - 1,), False)
    assert page.sentence.headline.text() == "Nothing could be seen."
    assert "there is no process" in page.sentence.advice.text()
    # It stays until something is done about it.
    with qtbot.waitSignal(page.watching.found, timeout=30_000):
        page.watching.look()
    assert page.sentence.headline.text() == "Nothing could be seen."
    with qtbot.waitSignal(page.watching.found, timeout=30_000):
        qtbot.mouseClick(page.sentence.button, Qt.MouseButton.LeftButton)
    assert page.sentence.headline.text() == ("A host is running." if others else "No host is running.")
    assert not page.watching.is_running


def test_where_the_kernel_refuses_the_remedy_is_said(page, qtbot, monkeypatch):
    def refused(*_, **__):
        raise perf.NotAllowedError("no")

    monkeypatch.setattr("nimbleload.app.watch.watching.Watcher", refused)
    with qtbot.waitSignal(page.watching.ended, timeout=30_000):
        page.watching.start((os.getpid(),), False)
    assert "sysctl kernel.perf_event_paranoid=2" in page.sentence.advice.text()
    assert "Without it only this can be seen: " in page.sentence.advice.text()


def test_without_a_host_the_page_says_what_to_do(page, qtbot):
    qtbot.waitUntil(lambda: page.sentence.headline.text() != "", timeout=10_000)
    page.watching.found.emit(Found([], [], {}))
    assert page.sentence.headline.text() == "No host is running."
    assert page.empty.isVisible() and page.example.isVisible()
    assert not page.hosts.isVisible() and not page.halves.isVisible()
    assert page.window().places.buttons[WATCH].state == "no host"


def test_the_examples_recording_says_that_it_is_one(page, qtbot):
    shown_example(qtbot, page)
    assert "made by code" in page.sentence.advice.text()
    assert page.window().places.buttons[WATCH].state == "a recording"
    assert "Vault" in cells(page, 0)
    assert cells(page, 0)[-1] == "the host itself"
    assert "256 samples at 48 kHz" in all_said(page)
    assert not page.empty.isVisible()


def test_before_and_after_are_told_row_by_row(page, qtbot):
    shown_example(qtbot, page)
    assert page.table.isColumnHidden(BEFORE)
    qtbot.mouseClick(page.hold, Qt.MouseButton.LeftButton)
    assert not page.table.isColumnHidden(BEFORE)
    assert set(cells(page, DIFFERENCE)) == {"+0.0 % (chance)"}
    assert "Blocks before: typical" in page.words.text()
    assert "more than chance" in page.words.text()
    # One plugin is gone, another takes less: that is what is said, and nothing of the others.
    of = page.shown
    rows = [row for row in of.rows if row.name != "Mist"]
    tar, mist = (next(row for row in of.rows if row.name == name) for name in ("Tar", "Mist"))
    gone = f"−{100 * mist.share.core:.0f} %"
    less = tar._replace(share=tar.share._replace(core=0.4, low=0.39, high=0.41))
    page._show(of._replace(rows=[less if row is tar else row for row in rows]))
    difference = dict(zip(cells(page, 0), cells(page, DIFFERENCE), strict=True))
    assert difference["Tar"] == "−35 %"
    assert difference["Mist"] == gone
    assert difference["Vault"] == "+0.0 % (chance)"
    assert f"Tar −35 %, Mist {gone}" in page.words.text()
    qtbot.mouseClick(page.let_go, Qt.MouseButton.LeftButton)
    assert page.table.isColumnHidden(BEFORE) and not page.let_go.isVisible()


def test_a_recording_is_kept_and_opened_again(page, qtbot, tmp_path, monkeypatch):
    shown_example(qtbot, page)
    first, headline = cells(page, 1), page.sentence.headline.text()
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(tmp_path / "kept"), ""))
    with qtbot.waitSignal(page.watching.wrote, timeout=30_000):
        qtbot.mouseClick(page.keep, Qt.MouseButton.LeftButton)
    path = tmp_path / "kept.nimblewatch"
    assert str(path) in page.words.text()
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(path), ""))
    with qtbot.waitSignal(page.watching.seen, timeout=30_000):
        qtbot.mouseClick(page.open, Qt.MouseButton.LeftButton)
    assert (cells(page, 1), page.sentence.headline.text()) == (first, headline)
    assert "A recording: kept.nimblewatch." in page.sentence.advice.text()


def test_a_damaged_recording_is_a_sentence(page, qtbot, tmp_path, monkeypatch):
    path = tmp_path / "bad.nimblewatch"
    path.write_bytes(b"PK nothing")
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(path), ""))
    with qtbot.waitSignal(page.watching.failed, timeout=30_000):
        qtbot.mouseClick(page.open, Qt.MouseButton.LeftButton)
    assert f"{path} is damaged" in page.sentence.advice.text()


def test_the_fullest_block_can_be_pointed_at_and_copied(page, qtbot):
    shown_example(qtbot, page)
    lanes = page.lanes
    row = lanes._row(0, len(lanes._worst.lanes))
    assert "engine 1: had its core for" in lanes._told_at(QPointF(row.left() + 20, row.center().y()))
    assert lanes._told_at(QPointF(row.left() + 20, 0.0)) == ""
    # The arrow keys walk through what the mouse points at.
    whole = lanes.accessibleDescription()
    qtbot.keyClick(lanes, Qt.Key.Key_Right)
    assert lanes.accessibleDescription().startswith("engine 1: had its core for")
    qtbot.keyClick(lanes, Qt.Key.Key_Escape)
    assert lanes.accessibleDescription() == whole
    worst = re.search(r"worst (\d+ %)", all_said(page))
    assert worst is not None and f"took {worst[1]}" in lanes.accessibleDescription()
    assert lanes.figures()[0] == ["thread", "from (µs)", "to (µs)", "ended since"]


def test_waits_for_the_disk_are_told_in_the_lane_of_their_thread(page, qtbot):
    page.watching.show_recording(reading(), {}, "Made by code.")
    qtbot.waitUntil(lambda: page.shown is not None, timeout=30_000)
    lanes = page.lanes
    assert {row[3] for row in lanes.figures()[1:]} == {"", "memory was read from the disk"}
    first, row = lanes._worst.lanes[0], lanes._row(0, len(lanes._worst.lanes))
    x = row.left() + (int(first.end[0]) + SLEEP / 2 - lanes._worst.begin) * lanes._scale()
    assert lanes._told_at(QPointF(x, row.center().y())) == "thread 1: waits for memory that lies on the disk"
    assert lanes._told_at(QPointF(row.right() - 1, row.center().y())) == "thread 1: waits"
    assert "touched memory 1200 times that lay on the disk" in page.words.text()


@pytest.fixture
def beside(example, qtbot, monkeypatch):
    """The example's recording on the page while the example itself is open; only the house's plugins are known."""
    monkeypatch.setattr(catalogue, "remembered", list)
    example.go(WATCH)
    shown_example(qtbot, example.watch)
    return example


def test_what_the_open_session_predicts_stands_beside_what_was_seen(beside, qtbot, settled):
    page = beside.watch
    assert not page.table.isColumnHidden(PREDICTED) and not page.table.isColumnHidden(IN_WORST)
    page.hold_before()
    assert page.table.isColumnHidden(IN_WORST) and not page.table.isColumnHidden(PREDICTED)
    page.forget_before()
    assert not page.table.isColumnHidden(IN_WORST)
    names = cells(page, 0)
    predicted = dict(zip(names, cells(page, PREDICTED), strict=True))
    of, at = beside.desk.survey, beside.desk.instant
    total = sum(at.use_costs[use.id] for strip in of.session.strips for use in strip.uses() if use.label == "Vault")
    assert predicted["Vault"] == percent(total / of.deadline)
    assert predicted["the host itself"] == "" if "the host itself" in names else True
    assert "Predicted" in page.words.text().splitlines()[0]
    # It follows the moment that is chosen.
    with qtbot.waitSignal(page.watching.expects):
        beside.desk.move_to(700.0)
    assert "Predicted for 11:40" in page.words.text()
    assert dict(zip(names, cells(page, PREDICTED), strict=True)) != predicted
    # At another size than the host's there is nothing to compare.
    with qtbot.waitSignal(page.watching.expects):
        settled(beside, lambda: beside.desk.choose_buffer(1024))
    assert page.table.isColumnHidden(PREDICTED) and "Predicted" not in page.words.text()


def test_what_is_predicted_is_compared_beside_the_window_and_only_when_it_is_another(beside, qtbot, monkeypatch):
    page, compared = beside.watch, []

    def spied(*asked):
        compared.append(threading.current_thread() is threading.main_thread())
        return compared_with(*asked)

    monkeypatch.setattr(watching, "compared_with", spied)
    beside.go(BALANCE)
    beside.go(WATCH)
    with qtbot.waitSignal(page.watching.expects):
        beside.desk.move_to(700.0)
    assert compared == [False]
    # While another page is shown it waits, and what was compared with one that is not shown any more is left out.
    beside.go(BALANCE)
    beside.desk.move_to(500.0)
    assert compared == [False]
    with qtbot.waitSignal(page.watching.expects):
        beside.go(WATCH)
        older = page.shown
    assert compared == [False, False] and page.shown.expected.at is beside.desk.instant
    # Of two that are asked for at once the first has been overtaken; the second counts, whichever was shown meanwhile.
    asked, moments = [], []
    monkeypatch.setattr(page.watching, "expect", asked.append)
    for second in (300.0, 400.0):
        with qtbot.waitSignal(beside.desk.moved):
            beside.desk.move_to(second)
        moments.append(Expected(beside.desk.survey, beside.desk.instant))
    assert [of.seen is older.seen for of in asked] == [True, True]
    for of, found in zip(asked, moments, strict=True):
        page.watching.expects.emit(of, found)
    assert page.shown.expected is moments[1]
    page.watching.expects.emit(asked[0], moments[0])
    assert page.shown.expected is moments[1]
    again = Expected(*moments[1])
    page.watching.expects.emit(asked[1], again)
    assert page.shown.expected is again


def test_the_table_keeps_its_cells_and_takes_on_the_colours_of_another_theme(page, qtbot):
    shown_example(qtbot, page)
    last, first = page.table.rowCount() - 1, page.table.item(0, 1)
    quiet = page.table.item(last, 0).foreground().color()
    page.window().go(START)
    page.window().choose_theme("paper")
    assert page.table.item(last, 0).foreground().color() == theme.colour("quiet") != quiet
    assert page.table.item(0, 1) is first and first.data(Qt.ItemDataRole.ForegroundRole) is None


def test_what_was_seen_becomes_a_session(beside, qtbot):
    page = beside.watch
    with qtbot.waitSignal(beside.desk.recomputed, timeout=60_000):
        qtbot.mouseClick(page.take, Qt.MouseButton.LeftButton)
    assert beside.pages.currentIndex() == EDIT and beside.desk.has_unsaved
    made = beside.desk.document
    assert made.session.name == "What was seen" and made.buffer == 256 and made.machine.cores == 6
    assert {use.label for strip in made.session.strips for use in strip.uses()} >= {"Vault", "Tar", "Shoreline"}
    assert set(beside.desk.instant.shares) == {"seen"}
    assert "how the tracks are routed was not seen" in beside.edit.news.text()
    # It costs together what was seen of it together.
    of, seen = beside.desk.survey, page.shown.seen
    work = of.case.rows(beside.desk.instant.states).sum() / of.deadline
    engine = sum(part.core for part in page.shown.parts if part.role == "engine")
    assert work == pytest.approx(engine, rel=0.05) and seen.blocks is not None


@pytest.mark.usefixtures("may_watch")
def test_a_sound_server_is_watched_with_its_clients_and_its_xruns_are_drawn(page, qtbot, tmp_path):
    with sound_server.jack(tmp_path) as server:
        server.add("strings", "urn:zamaudio:ZamVerb")
        wait_for(lambda: "strings:" in server.run("jack_lsp"), "the client")
        server.connect("strings:lv2_audio_out_1", "system:playback_1")
        choice = (server.process.pid,)
        qtbot.waitUntil(lambda: choice in page.choices, timeout=20_000)
        page.hosts.setCurrentIndex(page.choices.index(choice))
        assert page.hosts.currentText().startswith("JACK (nimble")
        with qtbot.waitSignal(page.watching.seen, timeout=30_000):
            qtbot.mouseClick(page.sentence.button, Qt.MouseButton.LeftButton)
        server.clients["strings"].send_signal(signal.SIGSTOP)
        qtbot.wait(100)
        server.clients["strings"].send_signal(signal.SIGCONT)

        def xruns():
            return sum(int(row[2]) for row in page.blocks.figures()[1:])

        qtbot.waitUntil(lambda: xruns() > 0, timeout=20_000)
        assert "xrun" in page.blocks.accessibleDescription() and "JACK told of" in all_said(page)
        with qtbot.waitSignal(page.watching.ended, timeout=30_000):
            qtbot.mouseClick(page.sentence.button, Qt.MouseButton.LeftButton)
        assert "JACK: 1 client" in page.words.text() + page.sentence.advice.text()
    with qtbot.waitSignal(page.taken, timeout=10_000) as taken:
        qtbot.mouseClick(page.take, Qt.MouseButton.LeftButton)
    made = taken.args[0]
    assert made.is_routed
    strings = next(strip for strip in made.session.strips if strip.name == "strings")
    assert strings.output == "main" and [use.label for use in strings.inserts]


def test_a_server_that_cannot_be_listened_to_is_a_sentence(page, qtbot):
    with qtbot.waitSignal(page.watching.ended, timeout=30_000):
        page.watching.start((os.getpid(),), False, Running("JACK", f"nobody{os.getpid()}", os.getpid()))
    assert "The server cannot be listened to: JackOpenError" in page.sentence.advice.text()


def test_each_second_only_what_has_changed_is_painted_and_one_picture_after_the_other(page, qtbot):
    shown_example(qtbot, page)
    qtbot.waitUntil(lambda: page.blocks.turns.is_through, timeout=20_000)
    qtbot.wait(50)
    painted = Paintings(page.blocks, page.lanes)

    def seen_once_more(snapshot):
        painted.count.update(dict.fromkeys(painted.count, 0))
        page.watching.seen.emit(snapshot)
        assert not page.blocks.turns.is_through
        qtbot.waitUntil(lambda: painted.count[page.blocks] == 1, timeout=20_000)
        qtbot.waitUntil(lambda: page.blocks.turns.is_through, timeout=20_000)
        qtbot.wait(50)
        return painted.count[page.lanes]

    # Its fullest block is still the same one.
    assert seen_once_more(page.shown) == 0
    assert seen_once_more(page.shown._replace(worst=page.shown.worst._replace(load=1.5))) == 1
    assert "150 %" in page.lanes.accessibleDescription()
