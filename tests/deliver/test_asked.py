"""What is asked of work meanwhile: to stop, or to stand still."""

from __future__ import annotations

import subprocess
import sys
import threading
import time
from contextlib import suppress
from pathlib import Path

from nimbleload.deliver import carrying
from nimbleload.deliver.asked import NOTHING_ASKED, Asked
from nimbleload.store import session_file
from tests.helpers.stems import three_freezes


def test_what_is_asked_of_the_whole_is_asked_of_its_parts_and_not_the_other_way_round():
    whole = Asked()
    part, other = Asked(whole), Asked(whole)
    part.stop()
    part.stand_still(True)
    assert (part.is_stopped(), part.is_still()) == (True, True)
    assert not any((whole.is_stopped(), whole.is_still(), other.is_stopped(), other.is_still()))
    whole.stand_still(True)
    assert other.is_still() and not other.is_stopped()
    whole.stand_still(False)
    assert not other.is_still()
    whole.stop()
    assert other.is_stopped() and not NOTHING_ASKED.is_stopped()


def test_what_stands_still_goes_on_or_is_stopped():
    asked = Asked()
    assert asked.goes_on()
    for end, goes_on in ((lambda: asked.stand_still(False), True), (asked.stop, False)):
        asked.stand_still(True)
        found = []
        waiting = threading.Thread(target=lambda found=found: found.append(asked.goes_on()))
        waiting.start()
        time.sleep(0.3)
        assert found == []
        end()
        waiting.join(10)
        assert found == [goes_on]


def test_while_it_stands_still_nothing_is_rendered_and_then_all_is(tmp_path):
    source = three_freezes(tmp_path, 120)
    saved, asked, steps = session_file.read(tmp_path / "mix.nimbleload"), Asked(), []
    prepared = carrying.prepare(saved.session, saved.plan, 512)

    def work():
        steps.extend([])
        for step in carrying.run(prepared, tmp_path / "out", asked=asked):
            steps.append(step)

    running = threading.Thread(target=work)
    running.start()
    while not steps:
        time.sleep(0.01)
    asked.stand_still(True)
    # What was under way is through, and workers have heard of it.
    time.sleep(1.0)
    told = len(steps)
    time.sleep(0.5)
    assert running.is_alive() and len(steps) == told
    asked.stand_still(False)
    running.join(120)
    assert sum(step.rendered is not None for step in steps) == 3 and not any(step.trouble for step in steps)
    assert source.exists()


STILL = """
import sys, time
from pathlib import Path
from nimbleload.deliver import carrying
from nimbleload.deliver.asked import Asked
from nimbleload.store import session_file
folder = Path(sys.argv[1])
saved, asked = session_file.read(folder / "mix.nimbleload"), Asked()
for step in carrying.run(carrying.prepare(saved.session, saved.plan, 512), folder / "out", asked=asked):
    asked.stand_still(True)
    time.sleep(1.0)
    print("still", flush=True)
"""


def workers_of(pid):
    """The processes that a program has started to run plugins in, and how each stands (a letter)."""
    found = {}
    for place in Path("/proc").glob("[0-9]*"):
        with suppress(OSError):
            words = (place / "cmdline").read_text().split("\0")[:-1]
            if "nimbleload.probe.nursery" in words and words[-1] == str(pid):
                found[place.name] = (place / "stat").read_text().rpartition(")")[2].split()[0]
    return found


def test_what_stands_still_does_not_outlive_the_program(tmp_path):
    three_freezes(tmp_path, 600)
    with subprocess.Popen([sys.executable, "-c", STILL, str(tmp_path)], stdout=subprocess.PIPE) as program:
        assert program.stdout.readline() == b"still\n"
        # What computes is stopped; what stands above it is not.
        states = list(workers_of(program.pid).values())
        assert "T" in states and "S" in states
        program.kill()
    until = time.monotonic() + 20
    while workers_of(program.pid) and time.monotonic() < until:
        time.sleep(0.1)
    assert workers_of(program.pid) == {}
