"""Two versions of a session: what was held to compare with, and what is now."""

from __future__ import annotations

import numpy as np

from ..load.load_map import LoadMap
from ..load.ranking import stretch_load
from ..session.session import Session
from ..survey import middle
from ..units import clock, percent

# Loads closer than this are the same, as they are written (fraction of the deadline).
SAME = 0.0005


def load_at(of: LoadMap, second: float) -> float:
    """The load of the moment in which a second lies (fraction of the deadline); past the end that of the last one."""
    moment = int(np.searchsorted(of.times, second, side="right")) - 1
    return float(of.load[min(max(moment, 0), len(of.load) - 1)])


def against_held(held: LoadMap, now: LoadMap, second: float) -> str:
    """The held version against this one: the worst of each with its place, and the load at a second (s)."""
    worst = [(float(of.load.max()), middle(of, of.worst)) for of in (held, now)]
    if abs(worst[0][0] - worst[1][0]) <= SAME:
        most = f"worst {percent(worst[1][0])}, as in the version held"
    else:
        was, here = (f"{percent(load)} at {clock(at)}" for load, at in worst)
        most = f"worst: held {was} → now {here}"
    other = "" if held.buffer == now.buffer else f" (held at {held.buffer} samples)"
    return f"{most}{other};  here {percent(load_at(held, second))} → {percent(load_at(now, second))}"


def sections_against(session: Session, held: LoadMap, now: LoadMap) -> list[tuple[str, float, float]]:
    """The highest load of both in each section of the session that is now: name, held, now (fractions)."""
    starts = [section.start for section in session.sections]
    ends = [*starts[1:], max(float(of.times[-1]) for of in (held, now))]
    found = []
    for section, end in zip(session.sections, ends, strict=False):
        was, load = (stretch_load(of, (section.start, end)).highest for of in (held, now))
        found.append((section.name, was, load))
    return found
