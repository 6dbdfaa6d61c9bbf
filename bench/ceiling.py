"""Whether the ceiling can be trusted: found again and again, and rehearsals just below and just above it.

    .venv/bin/python -m bench.ceiling [--buffer 256] [--seconds 3] [--times 10] [--rehearse 10]

Each search for the ceiling is one of its own. Behind each, sessions of a saturator and a reverb on many tracks, as many
as are predicted at so many points below this ceiling and above it, are rehearsed (`--rehearse` seconds each): what
others do to this computer changes with the minutes. What is held is said of both in the same way: in not more than one
second of ten a block is late, where seconds do not count in which something held a core up for a whole block. So below
it is held, and above it is not.
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
# What others on a core make of these is what they make of most plugins: 1.4 and 1.7 times as long (1.4 to 1.8 of twenty
# of Debian's; filters one after the other, as the house's equaliser is, take 1.2 times as long).
PLUGINS = (PluginRef("house", "house.tar", "Tar"), PluginRef("house", "house.mist", "Mist"))


def session(tracks: int) -> Session:
    """So many tracks of these processors that play all the time, into the main output."""
    strips = [
        Strip(f"t{k}", f"Track {k + 1}", output="main",
              inserts=tuple(PluginUse(f"t{k}/{n}", each) for n, each in enumerate(PLUGINS)),
              clips=(Clip(0.0, 60.0),))
        for k in range(tracks)
    ]  # fmt: skip
    return to_rehearse(Session("Many of two", 48000, 60.0, (*strips, Strip("main", "Main", "main"))))


def loaded(cards: dict, cores: int, buffer: int, wanted: float) -> Survey:
    """The session whose predicted typical load comes nearest to a share of the deadline."""
    low, high = 1, 2000
    while high - low > 1:
        middle = (low + high) // 2
        of = survey(session(middle), Plan(), cards, Machine(cores), buffer)
        low, high = (middle, high) if prediction(of, instant(of)).typical <= wanted else (low, middle)
    return survey(session(low), Plan(), cards, Machine(cores), buffer)


def late_seconds(outcome: Rehearsal) -> tuple[int, int]:
    """In how many seconds of a rehearsal a block took longer than it may, and how many count: no load survives what
    holds a core up for a whole block."""
    loads = np.array(outcome.loads)
    seconds = (np.arange(len(loads)) * outcome.buffer / outcome.rate).astype(int)
    highest = np.array([loads[seconds == each].max() for each in np.unique(seconds)])
    counts = highest < 1 + outcome.typical
    return int((highest[counts] > 1).sum()), int(counts.sum())


def main() -> None:
    parser = argparse.ArgumentParser()
    for name, default, kind in (("buffer", 256, int), ("seconds", 3.0, float), ("times", 10, int),
                                ("rehearse", 10.0, float)):  # fmt: skip
        parser.add_argument(f"--{name}", type=kind, default=default)
    asked = parser.parse_args()
    cores = tuple(sorted(os.sched_getaffinity(0), reverse=True))
    cards, held, as_said = {}, [], {"below": [], "above": []}
    for step in session_run.run(session_run.jobs(session(1), {}, (asked.buffer,)), {}):
        cards[step.job.key] = step.card
    for _ in range(asked.times):
        for trial in hold.ask([hold.Asked(asked.buffer, 48000, cores, asked.seconds)]):
            if trial.ceiling is not None:
                held.append(trial.ceiling.held)
                print(f"held {100 * held[-1]:.0f} % at {asked.buffer} samples", flush=True)
        for side, load in (("below", held[-1] - MARGIN), ("above", held[-1] + MARGIN)):
            of = loaded(cards, len(cores), asked.buffer, load)
            outcome = rehearsed(of, asked.rehearse)
            if outcome is None:
                continue
            late, count = late_seconds(outcome)
            if count > asked.rehearse / 2:
                as_said[side].append((late <= count / ONE_IN) == (side == "below"))
            predicted = prediction(of, instant(of)).typical
            took = f"took {100 * outcome.typical:.0f} %, one in a hundred {100 * outcome.bad:.0f} %"
            missed = f"missed {outcome.missed} of {len(outcome.loads)}, in {late} of {count} seconds"
            print(f"{side}: predicted {100 * predicted:.0f} %, {took}, {missed}", flush=True)
    low, high = np.quantile(held, [0.25, 0.75])
    print(f"spread of {len(held)}: {100 * (max(held) - min(held)):.0f} points (goal 5), of their middle half "
          f"{100 * (high - low):.0f}")  # fmt: skip
    for side, right in as_said.items():
        print(f"{side}: {sum(right)} of {len(right)} as said (goal 8 of 10)")


if __name__ == "__main__":
    main()
