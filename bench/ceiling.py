"""Whether the ceiling can be trusted: found again and again, and rehearsals just below and just above it.

    .venv/bin/python -m bench.ceiling [--buffer 256] [--seconds 3] [--times 5] [--rehearsals 10] [--rehearse 10]

Each search for the ceiling is one of its own. Then sessions of one house processor on many tracks, as many as are
predicted at so many points below the median ceiling and above it, are rehearsed in turn (`--rehearse` seconds each).
What is held is said of both in the same way: in not more than one second of ten a block is late. So below it is held,
and above it is not.
"""

from __future__ import annotations

import argparse
import os

import numpy as np

from nimbleload.core.computer.ceiling import ONE_IN
from nimbleload.core.decisions.decision import Plan
from nimbleload.core.load.rehearsal import Rehearsal
from nimbleload.core.session.computer import Machine
from nimbleload.core.session.plugins import PluginRef, PluginUse
from nimbleload.core.session.session import Session
from nimbleload.core.session.strips import Clip, Strip
from nimbleload.core.survey import Survey, instant, prediction, survey, to_rehearse
from nimbleload.machine import hold
from nimbleload.probe import session_run

from .accuracy import rehearsed

MARGIN = 0.07
PLUGIN = PluginRef("house", "house.shoreline", "Shoreline")


def session(tracks: int) -> Session:
    """So many tracks of two processors each that play all the time, into the main output."""
    strips = [
        Strip(f"t{k}", f"Track {k + 1}", inserts=(PluginUse(f"t{k}/0", PLUGIN), PluginUse(f"t{k}/1", PLUGIN)),
              output="main", clips=(Clip(0.0, 60.0),))
        for k in range(tracks)
    ]  # fmt: skip
    return to_rehearse(Session("Many equalisers", 48000, 60.0, (*strips, Strip("main", "Main", "main"))))


def loaded(cards: dict, cores: int, buffer: int, wanted: float) -> Survey:
    """The session whose predicted typical load comes nearest to a share of the deadline."""
    low, high = 1, 2000
    while high - low > 1:
        middle = (low + high) // 2
        of = survey(session(middle), Plan(), cards, Machine(cores), buffer)
        low, high = (middle, high) if prediction(of, instant(of)).typical <= wanted else (low, middle)
    return survey(session(low), Plan(), cards, Machine(cores), buffer)


def late_seconds(outcome: Rehearsal) -> int:
    """In how many seconds of a rehearsal a block took longer than it may."""
    late = np.flatnonzero(np.array(outcome.loads) > 1)
    return len(np.unique((late * outcome.buffer / outcome.rate).astype(int)))


def main() -> None:
    parser = argparse.ArgumentParser()
    for name, default, kind in (("buffer", 256, int), ("seconds", 3.0, float), ("times", 5, int),
                                ("rehearsals", 10, int), ("rehearse", 10.0, float)):  # fmt: skip
        parser.add_argument(f"--{name}", type=kind, default=default)
    asked = parser.parse_args()
    cores = tuple(sorted(os.sched_getaffinity(0), reverse=True))
    held = []
    for _ in range(asked.times):
        for step in hold.ask([hold.Asked(asked.buffer, 48000, cores, asked.seconds)]):
            if step.ceiling is not None:
                held.append(step.ceiling.held)
                print(f"held {100 * held[-1]:.0f} % at {asked.buffer} samples", flush=True)
    print(f"spread of {len(held)}: {100 * (max(held) - min(held)):.0f} points (goal 5)")
    ceiling, cards = float(np.median(held)), {}
    for step in session_run.run(session_run.jobs(session(1), {}, (asked.buffer,)), {}):
        cards[step.job.key] = step.card
    sides = {"below": loaded(cards, len(cores), asked.buffer, ceiling - MARGIN),
             "above": loaded(cards, len(cores), asked.buffer, ceiling + MARGIN)}  # fmt: skip
    as_said = dict.fromkeys(sides, 0)
    for _ in range(asked.rehearsals):
        for side, of in sides.items():
            outcome = rehearsed(of, asked.rehearse)
            if outcome is None:
                continue
            late = late_seconds(outcome)
            as_said[side] += (late <= asked.rehearse / ONE_IN) == (side == "below")
            predicted = prediction(of, instant(of)).typical
            took = f"took {100 * outcome.typical:.0f} %, one in a hundred {100 * outcome.bad:.0f} %"
            missed = f"missed {outcome.missed} of {len(outcome.loads)}, in {late} of {asked.rehearse:.0f} seconds"
            print(f"{side}: predicted {100 * predicted:.0f} %, {took}, {missed}", flush=True)
    for side, right in as_said.items():
        print(f"{side}: {right} of {asked.rehearsals} as said (goal 8 of 10)")


if __name__ == "__main__":
    main()
