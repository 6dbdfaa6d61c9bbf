"""What the window needs with a session of 500 strips and 3,000 plugins: its longest stalls, and its peak memory.

    .venv/bin/python -m bench.window

A timer beats every millisecond in the window's own loop; the longest time between two beats is the stall. Each action
is done ten times, until all its figures are there; most computations run in the process beside meanwhile.
"""

from __future__ import annotations

import os
import re
import resource
import tempfile
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path

import numpy as np

os.environ["QT_QPA_PLATFORM"] = "offscreen"

from PySide6.QtCore import QCoreApplication, QEventLoop, QTimer

from nimbleload.app.frame.application import application
from nimbleload.app.frame.remembered import Remembered
from nimbleload.app.frame.window import MainWindow
from nimbleload.app.look.theme import theme
from nimbleload.beside.client import SHARED
from nimbleload.core.decisions.decision import Decision
from nimbleload.core.session.computer import Machine
from nimbleload.shell.screenshots import settle
from nimbleload.store.recovery import Recovery
from nimbleload.store.session_file import Saved

from .block import cards, large_session, median_of

TIMES = 10


def held_alone(process: int) -> float:
    """What a process holds, of what it shares its part (MB)."""
    told = Path(f"/proc/{process}/smaps_rollup").read_text()
    return int(re.findall(r"^Pss:\s+(\d+)", told, re.MULTILINE)[0]) / 1024


class Heartbeat:
    """Measures how long the event loop was busy at one go (seconds)."""

    def __init__(self) -> None:
        self._timer = QTimer()
        self._timer.setInterval(1)
        self._timer.timeout.connect(self._beat)
        self._timer.start()
        self.gaps: list[float] = []
        self._last = time.perf_counter()

    def _beat(self) -> None:
        now = time.perf_counter()
        self.gaps.append(now - self._last)
        self._last = now

    def during(self, action: Callable[[], object]) -> list[float]:
        """The gaps while this is done."""
        self.gaps.clear()
        self._last = time.perf_counter()
        action()
        return self.gaps


def main() -> None:
    theme.apply(application(), "night", 100)
    of = large_session(500, 600)
    known = tuple(cards(of).values())
    uses = sum(len(strip.uses()) for strip in of.strips)
    with tempfile.TemporaryDirectory() as scratch:
        folder = Path(scratch)
        window = MainWindow(
            lambda: Saved(of, cards=known, machine=Machine(8)), None, Remembered(folder / "w.ini"), Recovery(folder)
        )
        window.resize(1280, 800)
        window.show()
        beat = Heartbeat()

        def settled(action: Callable[[int], object]) -> Callable[[int], None]:
            def do(k: int) -> None:
                action(k)
                settle(window)
                # Peaks, their band through the piece and the plan's steps come later, from another thread.
                until = time.monotonic() + 20
                while window.desk.outlook is None or window.desk.band is None or window.desk.steps is None:
                    QCoreApplication.processEvents(QEventLoop.ProcessEventsFlag.AllEvents, 20)
                    if time.monotonic() > until:
                        raise SystemExit("the window did not settle within 20 s")

            return do

        seconds = [300.0 + 7 * k for k in range(TIMES)]
        actions = {
            "a track chosen": lambda k: window.balance.tracks.choose(f"t{k}"),
            "a moment chosen": lambda k: window.desk.move_to(seconds[k]),
            "a buffer chosen": lambda k: window.desk.choose_buffer((128, 256)[k % 2]),
            "a decision": lambda k: window.desk.decide("x", [Decision("freeze", f"t{k}")]),
            "cores chosen": lambda k: window.choose_cores((6, 8)[k % 2]),
        }
        opening = max(beat.during(lambda: (window.open_example(), settle(window))))
        print(f"500 strips, {uses} plugins, {len(window.desk.survey.now.moments.of)} moments")
        print(f"{'opening':18} longest stall {opening * 1e3:5.0f} ms")
        idle = median_of(lambda: beat.during(lambda: settle(window)))
        for name, action in actions.items():
            do, stalls = settled(action), []
            for k in range(TIMES):
                gaps = beat.during(partial(do, k))
                window._autosave.stop()
                stalls.append(max(gaps, default=0.0))
            print(f"{name:18} longest stall {max(stalls) * 1e3:5.0f} ms, usual {np.median(stalls) * 1e3:4.0f} ms")
        peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
        beside = int(re.findall(r"VmHWM:\s+(\d+)", Path(f"/proc/{SHARED.id}/status").read_text())[0]) / 1024
        print(f"peak memory {peak:.0f} MB, and {beside:.0f} of the process beside (goal 350 for both)")
        once = sum(held_alone(process) for process in (os.getpid(), SHARED.id))
        print(f"both hold {once:.0f} MB now, what they share counted once")
        print(f"a settled window answers in {idle * 1e3:.0f} ms")
        window.shut_down()


if __name__ == "__main__":
    main()
