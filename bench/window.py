"""What the window needs with a session of 500 strips and 3,000 plugins: its longest stalls, and its peak memory.

    .venv/bin/python -m bench.window [--watching SECONDS]

A timer beats every millisecond in the window's own loop; the longest time between two beats is the stall. Each action
is done ten times, until all its figures are there; most computations run in the process beside meanwhile. With
`--watching` it is a running host that is watched for so long: what stalls the window while nobody does anything, and
while its pictures are zoomed, moved and pointed at.
"""

from __future__ import annotations

import os
import re
import resource
import sys
import tempfile
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path

import numpy as np

os.environ["QT_QPA_PLATFORM"] = "offscreen"

from PySide6.QtCore import QCoreApplication, QEvent, QEventLoop, QPoint, QPointF, Qt, QTimer
from PySide6.QtGui import QMouseEvent, QWheelEvent
from PySide6.QtWidgets import QWidget

from nimbleload.app.frame.application import application
from nimbleload.app.frame.remembered import Remembered
from nimbleload.app.frame.window import WATCH, MainWindow
from nimbleload.app.look.theme import theme
from nimbleload.beside.client import SHARED
from nimbleload.core.decisions.decision import Decision
from nimbleload.core.session.computer import Machine
from nimbleload.shell.common import demo_saved
from nimbleload.shell.screenshots import settle
from nimbleload.store.recovery import Recovery
from nimbleload.store.session_file import Saved
from tests.helpers.host import Host, Plugin

from .block import cards, large_session, median_of

TIMES = 10
# A stall that is longer can be seen (seconds).
SEEN = 0.016


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
        # By the clock, and what the window's own thread computed of it: the rest others had, here or on the machine.
        self.gaps: list[float] = []
        self.own: list[float] = []
        self._last, self._computed = time.perf_counter(), time.thread_time()

    def _beat(self) -> None:
        now, computed = time.perf_counter(), time.thread_time()
        self.gaps.append(now - self._last)
        self.own.append(computed - self._computed)
        self._last, self._computed = now, computed

    def during(self, action: Callable[[], object]) -> list[float]:
        """The gaps while this is done."""
        self.gaps.clear()
        self.own.clear()
        self._last, self._computed = time.perf_counter(), time.thread_time()
        action()
        return self.gaps


def told(name: str, of: Heartbeat, action: Callable[[], object]) -> None:
    """The longest stalls while this is done, and how many could be seen; and the same of what was computed in them."""
    of.during(action)
    for kind, gaps in (("", of.gaps), ("  own work", of.own)):
        longest = np.array(sorted(gaps)[-5:]) * 1e3
        seen = sum(gap > SEEN for gap in gaps)
        print(f"{kind or name:18} {seen:3} above {SEEN * 1e3:.0f} ms, the longest {longest.round()} ms", flush=True)


def spin(seconds: float) -> None:
    """Lets the window live for so long."""
    until = time.monotonic() + seconds
    while time.monotonic() < until:
        QCoreApplication.processEvents(QEventLoop.ProcessEventsFlag.AllEvents, 5)


def turned(of: QWidget, step: int) -> None:
    """Turns the wheel over a picture, back and forth, to zoom and to move, and points somewhere."""
    at = QPointF(of.width() * (0.2 + 0.6 * (step % 7) / 6), of.height() / 2)
    keys = (Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.NoModifier)[step // 8 % 2]
    turn = QPoint(0, 120 if step % 16 < 8 else -120)
    on, none = of.mapToGlobal(at), Qt.MouseButton.NoButton
    phase = Qt.ScrollPhase.NoScrollPhase
    QCoreApplication.sendEvent(of, QWheelEvent(at, on, QPoint(), turn, none, keys, phase, False))
    moved = QMouseEvent(QEvent.Type.MouseMove, at, on, none, none, Qt.KeyboardModifier.NoModifier)
    QCoreApplication.sendEvent(of, moved)


def while_watching(seconds: float) -> None:
    """Watches a host of two plugins, one of which is late now and then, in the window."""
    theme.apply(application(), "night", 100)
    plugins = [Plugin("steady", 1_200_000), Plugin("bursty", 300_000, 1600, 5_000_000)]
    with tempfile.TemporaryDirectory() as scratch:
        folder = Path(scratch)
        count = round((2 * seconds + 30) / 5e-3)
        with Host(folder, plugins, 5_000_000, count, 2) as host:
            window = MainWindow(demo_saved, None, Remembered(folder / "w.ini"), Recovery(folder))
            window.resize(1280, 800)
            window.show()
            window.go(WATCH)
            page, beat = window.watch, Heartbeat()
            spin(3)
            told("before", beat, lambda: spin(5))
            page.watching.start((host.pid,), False)
            told("its first seconds", beat, lambda: spin(8))
            told("watching", beat, lambda: spin(seconds))

            def moving() -> None:
                for step in range(round(seconds / 0.05)):
                    for picture in (page.blocks, page.lanes):
                        turned(picture, step)
                    spin(0.05)

            told("wheel and mouse", beat, moving)
            window.shut_down()


def main() -> None:
    if sys.argv[1:2] == ["--watching"]:
        while_watching(float((sys.argv[2:] or ["30"])[0]))
        return
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
