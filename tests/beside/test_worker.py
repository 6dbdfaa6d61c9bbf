"""What the process beside does while nothing is asked of it."""

from __future__ import annotations

import subprocess
import sys
import threading
import time
from multiprocessing import Pipe

import msgspec

from nimbleload.beside.messages import Asked, Question, parts_of
from nimbleload.core.decisions.decision import Plan
from nimbleload.core.session.computer import Machine
from nimbleload.core.session.edits import empty
from nimbleload.core.session.strips import Clip, Strip

PROGRAM = """
from nimbleload.beside import worker
worker.IDLE_SECONDS = 0.05
worker.give_back = lambda: print("given back", flush=True)
worker.main()
"""


def test_memory_is_given_back_once_after_what_was_asked():
    ours, its = Pipe()
    with subprocess.Popen(
        [sys.executable, "-c", PROGRAM, str(its.fileno())], pass_fds=[its.fileno()], stdout=subprocess.PIPE, text=True
    ) as process:
        its.close()
        too_long = threading.Timer(60, process.kill)
        too_long.start()
        for _ in range(3):
            assert process.stdout.readline() == "given back\n"
            time.sleep(0.2)  # several times as long as it waits
            ours.send(Question(0, 1, None, ""))
        ours.close()
        # The last question may still be followed by one; nothing is said without any.
        assert len(process.stdout.read().splitlines()) <= 1
        too_long.cancel()


NOT_READY = """
import time
from nimbleload.beside import worker
worker.get_ready = lambda: time.sleep(1000)
worker.main()
"""


def test_what_is_asked_while_it_gets_ready_is_taken_in_and_it_ends_when_it_is_let_go():
    """More than fits into the line between the two."""
    ours, its = Pipe()
    many = tuple(Clip(float(k), k + 0.5) for k in range(60_000))
    whole = msgspec.structs.replace(empty("", 48000, 60_000.0), strips=(Strip("t", "Track", clips=many),))
    parts = parts_of(Asked(whole, Plan(), {}, Machine(1), 256), None)
    assert len(parts.session) > 1_000_000
    with subprocess.Popen([sys.executable, "-c", NOT_READY, str(its.fileno())], pass_fds=[its.fileno()]) as process:
        its.close()
        too_long = threading.Timer(60, process.kill)
        too_long.start()
        ours.send(Question(1, 1, parts, "survey", (None, 0)))
        ours.close()
        assert process.wait() == 0
        too_long.cancel()
