"""Looks at threads that sleep: what the system tells of them, and what it does not."""

from __future__ import annotations

import platform
import time
from pathlib import Path

import numpy as np
import pytest

from nimbleload.core.watching.records import A_DEVICE, A_FILE, A_LOCK, A_PAGE, A_TIME, SOMETHING
from nimbleload.machine.asleep import AT_ONCE, STACK, Sleepers

pytestmark = pytest.mark.skipif(platform.machine() != "x86_64", reason="system calls are numbered as on x86-64")


def opened():
    return sum(1 for _ in Path("/proc/self/fd").iterdir())


def told(root, text, thread=7):
    folder = root / "5" / "task" / str(thread)
    folder.mkdir(parents=True, exist_ok=True)
    (folder / "syscall").write_text(text + "\n")
    return Sleepers(root)


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("230 0x1 0x1 0x7ffe 0x0 0x0 0x0 0x40 0x7f12", A_TIME), ("35 0x1 0x1 0x7ffe 0x0 0x0 0x0 0x40 0x7f12", A_TIME),
        ("202 0x55 0x80 0x0 0x0 0x0 0x0 0x40 0x7f12", A_LOCK), ("0 0x3 0x55 0x8 0x0 0x0 0x0 0x40 0x7f12", A_FILE),
        ("7 0x55 0x2 0x3e8 0x0 0x0 0x0 0x40 0x7f12", A_DEVICE), ("61 0x1 0x0 0x0 0x0 0x0 0x0 0x40 0x7f12", SOMETHING),
        ("-1 0x40 0x7f12", A_PAGE),
    ],
)  # fmt: skip
def test_what_a_thread_sleeps_for_is_told_with_its_stack(tmp_path, text, why):
    of = told(tmp_path, text)
    words = np.arange(1000, dtype=np.uint64)
    (tmp_path / "5" / "mem").write_bytes(words.tobytes())
    before = time.monotonic_ns()
    found = of.look(5, 7)
    assert before <= found.time <= time.monotonic_ns()
    assert (found.process, found.thread, found.why, found.address) == (5, 7, why, 0x7F12)
    assert found.stack.tolist() == words[8 : 8 + STACK // 8].tolist()
    of.close()


@pytest.mark.parametrize("text", ["running", "", "230 0x1"])
def test_who_computes_does_not_sleep(tmp_path, text):
    assert told(tmp_path, text).look(5, 7) is None
    assert Sleepers(tmp_path).look(5, 8) is None


def test_a_stack_that_cannot_be_read_is_empty(tmp_path):
    text = "230 0x1 0x1 0x7ffe 0x0 0x0 0x0 0x40 0x7f12"
    assert len(told(tmp_path, text).look(5, 7).stack) == 0
    (tmp_path / "5" / "mem").write_bytes(bytes(0x40 + 12))
    of = told(tmp_path, text)
    assert len(of.look(5, 7).stack) == 1
    (tmp_path / "5" / "task" / "7" / "syscall").write_text("230 1 1 1 0 0 0 0xffffffffffffffff 0x7f12")
    assert len(of.look(5, 7).stack) == 0
    of.close()


def test_of_many_threads_some_are_looked_at_in_turn(tmp_path):
    for thread in range(2 * AT_ONCE):
        of = told(tmp_path, "35 0 0 0 0 0 0 0x0 0x1", thread)
    assert of.looks() == []
    of.follow([(5, thread) for thread in range(AT_ONCE + 3)])
    met = [[each.thread for each in of.looks()] for _ in range(3)]
    whole = AT_ONCE + 3
    assert [each for looks in met for each in looks] == [k % whole for k in range(3 * AT_ONCE)]
    before = opened()
    of.follow([(5, 1)])
    assert [each.thread for each in of.looks()] == [1] and before - opened() == whole - 1
    of.close()
    assert of.looks() == []
