"""A test load in its own process: what it takes, how it follows what is asked, and that it never outlives its asker."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import msgspec
import pytest

from nimbleload.core.computer.by_ear import ByEar
from nimbleload.core.told.ceiling import by_ear_words, load_words
from nimbleload.machine.hold import Asked
from nimbleload.machine.test_load import ALONE, MOST, Held, TestLoad
from tests.helpers.sound_server import wait_for

CORE = (max(os.sched_getaffinity(0)),)
ASKED = Asked(512, 48000, CORE, 0.0)


def cpu_seconds(process):
    fields = Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()
    return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")


@pytest.fixture
def told():
    return []


def started(told, level=0.2):
    load = TestLoad(ASKED, level, told.append)
    wait_for(lambda: len([held for held in told if held is not None]) >= 2, "reports")
    return load


def test_it_takes_what_is_asked_for_and_follows(told):
    load = started(told)
    try:
        shares = []
        for level in (0.2, 0.6):
            load.set(level)
            wait_for(lambda level=level: told[-1] is not None and told[-1].load == level, "the level")
            time.sleep(2)  # the work follows what a unit takes now
            before, begun = cpu_seconds(load.process), time.monotonic()
            time.sleep(2)
            shares.append((cpu_seconds(load.process) - before) / (time.monotonic() - begun))
        # CPU time by the system's own count; while others run beside, a block may take longer than it should.
        assert shares == pytest.approx([0.2, 0.6], abs=0.15)
        assert told[-1].blocks > 20
    finally:
        load.close()
    assert told[-1] is None and load.is_over


def test_it_lasts_from_when_it_begins_and_anew_at_another_level():
    """Not from when its process was asked for, which takes a second to begin and on a busy computer several."""
    told, asked_at = [], time.monotonic()
    load = TestLoad(ASKED, 0.1, lambda held: told.append((load.begun, load.lasted)))
    try:
        assert load.begun is None and load.lasted == 0
        wait_for(lambda: len(told) >= 3, "reports")
        assert load.begun > asked_at and [begun for begun, _ in told[:3]] == [load.begun] * 3
        assert told[0][1] < told[1][1] < told[2][1] < time.monotonic() - asked_at
        set_at = time.monotonic()
        load.set(0.15)
        assert load.lasted <= time.monotonic() - set_at and load.begun == told[0][0]
    finally:
        load.close()


def test_no_more_than_most_of_a_core_is_ever_taken(told):
    load = started(told, level=5.0)
    try:
        assert told[-1].load == MOST
        load.set(-1.0)
        wait_for(lambda: told[-1].load == 0.0, "the level")
    finally:
        load.close()


def test_it_ends_by_itself_when_nobody_asks_it_to_go_on():
    words = [sys.executable, "-m", "nimbleload.machine.test_load", msgspec.json.encode(ASKED).decode()]
    with subprocess.Popen(words, stdin=subprocess.PIPE, stdout=subprocess.PIPE) as process:
        process.stdin.write(b"0.1\n")
        process.stdin.flush()
        # The window hangs: its pipe stays open, and nothing comes.
        begun = time.monotonic()
        assert process.wait(30) == 0
        assert time.monotonic() - begun >= ALONE * 0.9
        reports = [msgspec.json.decode(line, type=Held) for line in process.stdout]
        assert reports and all(held.load == 0.1 for held in reports)


def test_it_ends_with_its_asker_and_when_it_is_killed(told):
    load = started(told)
    os.kill(load.process, signal.SIGKILL)
    wait_for(lambda: told[-1] is None, "the end")
    load.set(0.5)  # too late, and no error
    load.close()
    assert load.is_over


def test_what_was_heard_says_what_is_left():
    heard = ByEar()
    assert by_ear_words(heard) == "" and heard.clean_to is None
    heard = heard.run(0.3).run(0.5)
    assert by_ear_words(heard) == "No crackle up to 50 %."
    heard = heard.crackle(0.55).run(0.6)
    assert (heard.clean_to, heard.crackles_from) == (0.5, 0.55)
    assert by_ear_words(heard) == "Clean with 50 %, crackles with 55 %: so much of each core is left for more."
    # Once it crackled with less, what was clean above it counts no more.
    heard = heard.crackle(0.4)
    assert (heard.clean_to, heard.crackles_from) == (0.3, 0.4)
    assert "crackles with 30 % already" in by_ear_words(heard.crackle(0.3))


def test_reports_in_words():
    said = load_words(Held(0.3, 94, 0, 0.4, True), 256, 2)
    assert said == "30 % of each of 2 cores in blocks of 256 samples; none late."
    said = load_words(Held(0.3, 94, 3, 1.4, False), 256, 1)
    assert said.startswith("30 % of the core in blocks of 256 samples; 3 of 94 late. Real time was refused")
