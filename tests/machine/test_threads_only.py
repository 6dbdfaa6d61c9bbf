"""What can be seen of threads where the kernel keeps its records to itself."""

from __future__ import annotations

import subprocess
import sys
import time

import pytest

from nimbleload.core.told.watching import threads_words
from nimbleload.core.watching.threads import ThreadLoad
from nimbleload.machine import threads_only
from tests.helpers.proc import process


def test_threads_are_told_by_what_they_took_and_waited_meanwhile(tmp_path):
    folder = process(tmp_path, 40, "mixer", threads=((40, "mixer", 0), (41, "audio", 1)))
    process(tmp_path, 50, "bridge", parent=40)

    def later(_):
        (folder / "task/41/schedstat").write_text("2500600000 40100000 80\n")

    found = threads_only.seen([40], 1.0, tmp_path, later)
    assert [each.name for each in found] == ["audio", "bridge", "mixer"]
    first = found[0]
    assert first.is_real_time and first.core > 0 and first.waited == pytest.approx(first.core / 6, rel=1e-6)
    assert (found[1].core, found[2].core) == (0.0, 0.0)


def test_a_busy_process_is_as_busy_as_its_own_clock_says():
    with subprocess.Popen([sys.executable, "-c", "while True: pass"]) as busy:
        own = ~busy.pid << 3 | 2  # its clock, as the kernel numbers them
        try:
            began, had = time.monotonic(), time.clock_gettime(own)
            core = threads_only.seen([busy.pid], 0.5)[0].core
            ended, has = time.monotonic(), time.clock_gettime(own)
        finally:
            busy.kill()
    assert core * 0.5 == pytest.approx(has - had, abs=0.02 + ended - began - 0.5)
    assert core > 0


def test_there_is_nothing_to_see_where_there_is_no_process():
    with pytest.raises(ProcessLookupError, match="there is no process"):
        threads_only.seen([2**22 - 1], 0.1)


def test_only_threads_that_do_something_are_named():
    found = [ThreadLoad("audio", True, 0.43, 0.02), ThreadLoad("idle", False, 0.0, 0.0)]
    assert threads_words(found) == ["audio (in real time): 43 % of one core, waits 2.0 % of the time"]
    assert threads_words(found[1:]) == ["Its threads do nothing."]
