"""How long one block computation takes, how it grows with the session, and how quickly a decision shows.

    .venv/bin/python -m bench.block

Times are medians within this run; the ratio to a plain Python loop of the same length says how loaded the machine is.
"""

from __future__ import annotations

import os
import time

import numpy as np

from nimbleload.core.block.schedule import makespans, schedule
from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.load.case import case
from nimbleload.core.load.load_map import load_map
from nimbleload.core.session.computer import Machine
from nimbleload.core.session.plugins import PluginRef, PluginUse
from nimbleload.core.session.routing import build
from nimbleload.core.session.session import Session
from nimbleload.core.session.strips import Clip, Strip
from nimbleload.core.survey import instant, survey


def large_session(strips: int, moments: int, uses: int = 6) -> Session:
    """So many strips with six plugins each, a twentieth of them buses, and about so many moments.

    Two borders of a clip make two moments: half as many tracks as moments come and go, the others sound throughout.
    """
    rng = np.random.default_rng(1)
    buses = max(strips // 20, 1)
    tracks = strips - buses - 1
    each = max(moments // 2 // tracks, 1)
    made = []
    for t in range(tracks):
        inserts = tuple(PluginUse(f"{t}/{k}", PluginRef("bench", f"p{(t * 7 + k) % 60}")) for k in range(uses))
        starts = rng.uniform(0, 650, each) if t * each < moments // 2 else np.zeros(1)
        lengths = rng.uniform(5, 60, each) if t * each < moments // 2 else np.full(1, 720.0)
        clips = tuple(Clip(float(s), float(s + d)) for s, d in zip(starts, lengths, strict=True))
        made.append(Strip(f"t{t}", f"Track {t}", inserts=inserts, output=f"b{t % buses}", clips=clips))
    made += [Strip(f"b{b}", f"Bus {b}", "bus", output="main") for b in range(buses)]
    return Session("bench", 48000, 720.0, (*made, Strip("main", "Main", "main")))


def cards(of: Session):
    from nimbleload.core.cards.card import Cell, CostCard
    from nimbleload.core.session.computer import BUFFER_SIZES

    rng = np.random.default_rng(2)
    found = {}
    for key in of.card_keys():
        per_sample = float(rng.exponential(1e-7))
        cells = [Cell(48000, b, c, 1e-6 + per_sample * b) for b in BUFFER_SIZES for c in ("sounding", "silent")]
        found[key] = CostCard(key, cells=tuple(cells), tail=0.0)
    return found


def median_of(work, times: int = 15) -> float:
    spent = []
    for _ in range(times):
        begun = time.perf_counter()
        work()
        spent.append(time.perf_counter() - begun)
    return float(np.median(spent))


def repaint_seconds() -> tuple[float, float]:
    """From a decision in a session of 500 strips to the repainted page; and the longest stall of the window."""
    os.environ["QT_QPA_PLATFORM"] = "offscreen"
    import tempfile
    from pathlib import Path

    from PySide6.QtCore import QCoreApplication, QEventLoop

    from nimbleload.app.frame.application import application
    from nimbleload.app.frame.remembered import Remembered
    from nimbleload.app.frame.window import MainWindow
    from nimbleload.app.look.theme import theme
    from nimbleload.shell.screenshots import settle
    from nimbleload.store.recovery import Recovery
    from nimbleload.store.session_file import Saved

    theme.apply(application(), "night", 100)
    of = large_session(500, 600)
    with tempfile.TemporaryDirectory() as scratch:
        folder = Path(scratch)
        known = tuple(cards(of).values())
        example = lambda: Saved(of, cards=known, machine=Machine(8))  # noqa: E731
        window = MainWindow(example, None, Remembered(folder / "w.ini"), Recovery(folder))
        window.resize(1280, 800)
        window.show()
        window.open_example()
        settle(window)
        window.balance.tracks.choose("t3")
        settle(window)
        window._autosave.stop()
        spent, stalls = [], []
        for k in range(20):
            done: list[float] = []
            window.desk.recomputed.connect(lambda d=done: d.append(time.perf_counter()))
            begun = time.perf_counter()
            window.desk.decide("x", [Decision("freeze" if k % 2 == 0 else "live", f"t{k // 2}")])
            window._autosave.stop()
            while not done:
                QCoreApplication.processEvents(QEventLoop.ProcessEventsFlag.WaitForMoreEvents)
                turn = time.perf_counter()
                QCoreApplication.processEvents()
                stalls.append(time.perf_counter() - turn)
            window.balance.repaint()
            spent.append(time.perf_counter() - begun)
            settle(window)
        window.shut_down()
    return float(np.median(spent)), float(np.max(stalls))


def main() -> None:
    print("strips  one block (µs)  in a row (µs)  600 moments (ms)  survey (ms)  moment (ms)")
    for strips in (50, 100, 200, 500, 1000, 2000):
        of = large_session(strips, 600)
        known = cards(of)
        graph = build(of)
        cost = np.random.default_rng(3).exponential(1e-4, (600, strips))
        single = median_of(lambda g=graph, c=cost: schedule(g, c[0], 8), 200)
        row = median_of(lambda g=graph, c=cost: makespans(g, c, 8)) / 600
        found = survey(of, Plan(), known, Machine(8), 256)
        at = instant(found)
        plan = Plan().decide(Decision("freeze", "t1"))
        piece = median_of(lambda f=found: load_map(case(f.now, Machine(8), 256)))
        whole = median_of(lambda f=found, p=plan, k=known, s=of: survey(s, p, k, Machine(8), 256, f))
        moment = median_of(lambda f=found, a=at: instant(f, a.second))
        times = (single * 1e6, row * 1e6, piece * 1e3, whole * 1e3, moment * 1e3)
        print(f"{strips:6d}  {times[0]:14.0f}  {times[1]:13.0f}  {times[2]:16.1f}  {times[3]:11.1f}  {times[4]:11.1f}")
    seconds, stall = repaint_seconds()
    print(f"500 strips: a decision shows after {seconds * 1e3:.0f} ms (goal 100); longest stall {stall * 1e3:.0f} ms")


if __name__ == "__main__":
    main()
