"""What the process beside does while nothing is asked of it."""

from __future__ import annotations

import subprocess
import sys
import threading
import time
from multiprocessing import Pipe

from nimbleload.beside.messages import Question

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
