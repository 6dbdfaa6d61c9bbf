"""Plugins that crash, hang, flood or refuse are results in plain words; nothing of them is left behind."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import threading
import time
from pathlib import Path

import pytest

from nimbleload.core.session.plugins import PluginRef, PluginUse, Setting
from nimbleload.probe import children, isolation
from nimbleload.probe import turn as turn_module
from nimbleload.probe.effort import Effort
from nimbleload.probe.isolation import Failure, Worker, run
from nimbleload.probe.messages import CellMessage, FactsMessage, Request
from tests.helpers.rogue import rogue_use

QUICK = Effort(2, 0.01)


def request(use: PluginUse, path: str = "", buffers=(64,)) -> Request:
    return Request(use, 48000, buffers, path, QUICK)


def outcome(use, path, **more):
    return list(run(request(use, str(path)), **more))


@pytest.mark.parametrize(
    ("name", "words"),
    [
        ("crash", "crashed: SIGSEGV"),
        ("hang", "did not return: no answer for 3 seconds"),
        ("flood", "flooded standard error"),
        ("refuse", "refused to start"),
        ("exit", "ended by itself with exit code 7: licence not found"),
        ("missing", "holds no plugin 'test.missing'"),
    ],
)
def test_what_goes_wrong_is_said_in_plain_words(rogue, name, words):
    last = outcome(rogue_use(name), rogue, quiet_seconds=3)[-1]
    assert isinstance(last, Failure)
    assert words in last.reason


def test_a_good_plugin_brings_facts_and_three_cells_a_size(rogue):
    found = list(run(request(rogue_use("good"), str(rogue), (64, 512))))
    assert isinstance(found[0], FactsMessage)
    assert found[0].latency == 77
    assert found[0].version == "3.1"
    cells = [(m.cell.buffer, m.cell.condition) for m in found[1:] if isinstance(m, CellMessage)]
    assert cells == [(size, what) for size in (64, 512) for what in ("sounding", "waking", "silent")]


def test_workers_live_on_when_the_thread_that_needed_them_first_has_ended(rogue):
    """The kernel ends what was told to end with its parent when the parent's *thread* ends."""
    children._nursery.end()
    made = []

    def begin() -> None:
        made.append(Worker(request(rogue_use("good"), str(rogue))))
        time.sleep(1.0)  # until its supervisor stands

    thread = threading.Thread(target=begin)
    thread.start()
    thread.join()
    time.sleep(0.5)
    try:
        found = list(made[0].results())
    finally:
        made[0].close()
    assert not [message for message in found if isinstance(message, Failure)]
    assert any(isinstance(message, CellMessage) for message in found)


def test_a_burst_in_every_sixteenth_block_stays_in_the_sequence(rogue):
    cell = next(m.cell for m in outcome(rogue_use("good"), rogue) if isinstance(m, CellMessage))
    own = cell.sequence_ns().astype(float)
    # The plugin waits for the clock itself, so the order of sizes is certain whatever the machine does.
    high = own > (own.min() + own.max()) / 2
    at = high.nonzero()[0]
    assert len(at) >= 4
    assert set(at[1:] - at[:-1]) == {16}


def test_a_file_that_is_no_plugin_is_refused(tmp_path):
    path = tmp_path / "text.clap"
    path.write_text("not a library")
    last = outcome(rogue_use("good"), path)[-1]
    assert isinstance(last, Failure)
    assert "cannot be loaded as CLAP" in last.reason


def test_a_setting_that_cannot_be_is_refused():
    use = PluginUse("x", PluginRef("house", "house.tar"), Setting((("oversampling", 99.0),)))
    last = outcome(use, "")[-1]
    assert isinstance(last, Failure)
    assert "from 1 to 8" in last.reason


def test_a_standard_that_is_not_hosted_is_said(rogue):
    last = outcome(PluginUse("x", PluginRef("vst2", "x")), "")[-1]
    assert isinstance(last, Failure)
    assert "'vst2' cannot be measured yet" in last.reason


def workers() -> list[str]:
    """What was forked of this program's nursery and is still there."""
    listed = subprocess.run(["ps", "-eo", "ppid,args"], capture_output=True, text=True, check=True).stdout
    own = [line.split(maxsplit=1) for line in listed.splitlines() if "nimbleload.probe.nursery" in line]
    return [args for parent, args in own if args.endswith(f" {os.getpid()}") and int(parent) != os.getpid()]


def test_cancelling_ends_the_worker_and_brings_nothing_more(rogue):
    told: list[object] = []
    for message in run(request(rogue_use("good"), str(rogue), (32, 64, 128, 256, 512)), lambda: len(told) >= 2):
        told.append(message)
    assert len(told) == 2
    assert workers() == []


def test_a_hanging_worker_is_gone_afterwards(rogue):
    outcome(rogue_use("hang"), rogue, quiet_seconds=2)
    assert workers() == []


def test_a_worker_dies_with_its_parent(rogue, tmp_path):
    script = tmp_path / "parent.py"
    script.write_text(
        "from nimbleload.probe.isolation import run\n"
        "from nimbleload.probe.worker import Request\n"
        "from nimbleload.core.session.plugins import PluginRef, PluginUse\n"
        "use = PluginUse('x', PluginRef('clap', 'test.good'))\n"
        f"for m in run(Request(use, 48000, (32, 64, 128, 256, 512, 1024), {str(rogue)!r})):\n"
        "    print('told', flush=True)\n"
    )
    parent = subprocess.Popen([sys.executable, str(script)], stdout=subprocess.PIPE)
    assert parent.stdout is not None
    assert parent.stdout.readline() == b"told\n"  # the worker is past its start and in the middle of its work
    listed = subprocess.run(
        ["ps", "-o", "pid", "--ppid", str(parent.pid), "--no-headers"], capture_output=True, text=True
    )
    children = listed.stdout.split()
    parent.send_signal(signal.SIGKILL)
    parent.wait()
    until = time.monotonic() + 20
    while any(Path(f"/proc/{pid}").exists() for pid in children) and time.monotonic() < until:
        time.sleep(0.1)
    assert children
    assert not any(Path(f"/proc/{pid}").exists() for pid in children)


def test_only_one_at_a_time_has_its_turn_on_a_core(tmp_path, monkeypatch):
    import threading

    monkeypatch.setattr(turn_module.tempfile, "gettempdir", lambda: str(tmp_path))
    inside, most = [], []

    def work():
        with turn_module.turn(0) as ours:
            assert ours
            inside.append(1)
            most.append(len(inside))
            time.sleep(0.05)
            inside.pop()

    threads = [threading.Thread(target=work) for _ in range(4)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert most == [1, 1, 1, 1]


def test_waiting_for_a_turn_can_be_cancelled(tmp_path, monkeypatch):
    monkeypatch.setattr(turn_module.tempfile, "gettempdir", lambda: str(tmp_path))
    with turn_module.turn(0), turn_module.turn(0, lambda: True) as ours:
        assert ours is False
    with turn_module.turn(0) as ours:
        assert ours


@pytest.mark.parametrize(("code", "words"), [
    (7, "ended by itself with exit code 7: no display"), (-6, "crashed: SIGABRT: no display"),
    (-11, "crashed: SIGSEGV"),
])  # fmt: skip
def test_what_ends_by_itself_says_why(code, words):
    """Many programs give up with an abort, after a line that says what they lack."""
    read, write = os.pipe()
    os.write(write, b"qt: trying\nno display\n")

    class Ended:
        stderr = os.fdopen(read, "rb")

        @staticmethod
        def wait(seconds):
            return code

    assert isolation.ending(Ended(), b"") == words
    os.close(write)
    Ended.stderr.close()
