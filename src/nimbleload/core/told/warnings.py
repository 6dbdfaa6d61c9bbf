"""What to mind of a plan: what its decisions bring with them, and blocks that waking up makes late."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ..load.load_map import LoadMap, waking_strips
from ..load.prepared import Prepared
from ..survey import Survey
from ..units import clock, listed, percent

# What hosts do in two ways.
STILL_LATE = "Where your host keeps what is bypassed as late as it was, switch it off or unload it there."


def warnings(of: Survey) -> tuple[str, ...]:
    """Everything to mind of the plan in force, a sentence each; what is the same of three tracks or more, once."""
    return (*together(of.warnings), *spikes(of.planned, of.after))


def together(said: Sequence[str]) -> list[str]:
    """Sentences of the form "track: what is so", those that say the same of three tracks or more in one, where the
    first of them stood."""
    parts = [each.partition(": ") for each in said]
    tracks: dict[str, dict[str, None]] = {}
    for name, _, what in parts:
        tracks.setdefault(what, {})[name] = None
    told = (
        f"{listed(list(tracks[what]))}: {what}" if what and len(tracks[what]) > 2 else f"{name}{colon}{what}"
        for name, colon, what in parts
    )
    return list(dict.fromkeys(told))


def spikes(planned: Prepared, loads: LoadMap) -> list[str]:
    """A sentence for the worst border at which waking up makes a block late that would else have fitted."""
    late = np.where(loads.load <= 1.0, loads.waking, 0.0)
    worst = int(np.argmax(late)) if len(late) else 0
    if not len(late) or late[worst] <= 1.0:
        return []
    names = [planned.session.strips[i].name for i in np.flatnonzero(waking_strips(planned)[worst])]
    count = int(np.count_nonzero(late > 1.0))
    often = f"; so do {count - 1} other borders" if count > 1 else ""
    return [
        f"{listed(names)}: waking up at {clock(float(loads.times[worst]))} takes one block to "
        f"{percent(float(late[worst]))}{often}."
    ]
