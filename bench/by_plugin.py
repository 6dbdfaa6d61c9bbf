"""Which plugin a prediction is off by: each one's predicted time against its time in a rehearsal.

    .venv/bin/python -m bench.by_plugin [--times 2] [--seconds 3] [--cores 1] [--load 25] [--real] [BUFFER ...]

The cards are measured anew each time. Microseconds a block, of the blocks that shared the core with nobody, and without
what interrupts (of all, where those are too few); "row" is
the cell, "company" and "once" what is added to it for the caches (%, the dearer of both counts), "rehearsed" the mean
of all uses.
"""

from __future__ import annotations

import sys

import msgspec
import numpy as np

from bench.accuracy import real_session, rehearsed, scaled
from nimbleload.core.cards.card import CostCard
from nimbleload.core.decisions.decision import Plan
from nimbleload.core.load.costs import touched
from nimbleload.core.load.figures import ROWS
from nimbleload.core.load.rehearsal import Prediction, Rehearsal, Undisturbed
from nimbleload.core.session.computer import Machine
from nimbleload.core.session.plugins import CardKey
from nimbleload.core.session.session import Session
from nimbleload.core.survey import Survey, foreseen, instant, survey, to_rehearse
from nimbleload.demo import session as demo
from nimbleload.probe import session_run


def table(session: Session, cards: dict[CardKey, CostCard], cores: int, buffer: int, seconds: float) -> None:
    """Rehearses once and prints a row for each plugin that played."""
    of = survey(session, Plan(), cards, Machine(cores), buffer)
    outcome = rehearsed(of, seconds)
    if outcome is None:
        return
    at, planned, is_telling = instant(of), of.planned, outcome.undisturbed.is_telling
    quiet = outcome.undisturbed if is_telling else outcome
    predicted, figures, uses = foreseen(of, at, outcome), planned.figures, planned.uses
    share = f"in {100 * outcome.undisturbed.share:.0f} % of the blocks" if is_telling else "(too few undisturbed)"
    print(f"\n{session.name}, {buffer} samples: predicted {100 * predicted.alone:.1f} %, rehearsed "
          f"{100 * quiet.typical:.1f} % {share}, {100 * outcome.typical:.1f} % in all, {outcome.missed} of "
          f"{len(outcome.loads)} late; clock {predicted.clock:.2f}, units {outcome.units:.2f}")  # fmt: skip
    memory = touched(planned, of.machine)
    row, company, once = figures.at(buffer).seconds, figures.company(buffer, memory), figures.paced(buffer)
    sounds = {u.id: at.states[s] for u, s in zip(uses.uses, uses.strip, strict=True)}
    print("plugin               uses     row  company  once  predicted  rehearsed    ratio  of the error, points")
    rows = []
    for k in range(len(figures.keys)):
        own = [u for u, c in zip(uses.uses, uses.card, strict=True) if c == k and u.id in quiet.uses]
        if not own:
            continue
        taken = np.array([quiet.uses[u.id] for u in own])
        meant = np.array([predicted.uses[u.id] for u in own]) / (1 + of.case.costs.interrupted)
        card, sounding = figures.found[k], any(sounds[u.id] for u in own)
        condition = "sounding" if sounding else "silent"
        cell = next((c for c in card.cells if (c.buffer, c.condition) == (buffer, condition)), None) if card else None
        mark = ("" if sounding else " silent") + ("" if cell is None or cell.quiet else " not quiet")
        off = 100 * float((meant - taken).sum()) / (buffer / session.rate)
        rows.append((abs(off), f"{own[0].label[:20]:20} {len(own):4d} {1e6 * row[ROWS.index(condition), k]:7.1f} "
                     f"{100 * company[k]:7.0f} {100 * once[k]:6.0f} {1e6 * meant.mean():10.1f} "
                     f"{1e6 * taken.mean():10.1f} {meant.mean() / taken.mean():8.2f} {off:8.2f}   "
                     + " ".join(f"{1e6 * each:.1f}" for each in taken[:8]) + mark))  # fmt: skip
    print("\n".join(said for _, said in sorted(rows, reverse=True)))
    print(beside(of, predicted, quiet), flush=True)


def beside(of: Survey, predicted: Prediction, quiet: Undisturbed | Rehearsal) -> str:
    """What a block takes, in points of the deadline: plugins and the rest in its mean, and the median less the mean."""
    deadline, alone = of.deadline, 1 + of.case.costs.interrupted
    strips, own = float(predicted.strips.sum()) / alone, sum(predicted.uses[u] for u in quiet.uses) / alone
    taken, used = sum(quiet.strips.values()), sum(quiet.uses.values())
    rows = (
        ("plugins, mean", own, used), ("beside plugins, mean", strips - own, taken - used),
        ("median less mean", predicted.alone * deadline - strips, quiet.typical * deadline - taken),
    )  # fmt: skip
    return "\n".join(
        f"{name:24} predicted {100 * p / deadline:7.2f}  rehearsed {100 * r / deadline:7.2f}  "
        f"off by {100 * (p - r) / deadline:6.2f} points"
        for name, p, r in rows
    )


def main() -> None:
    words = sys.argv[1:]
    options = {"--times": 1.0, "--seconds": 3.0, "--cores": 1.0, "--load": 25.0}
    taken = {words.index(name) + 1 for name in options if name in words}
    options |= {words[k - 1]: float(words[k]) for k in taken}
    times, seconds, cores, load = options.values()
    buffers = [int(word) for k, word in enumerate(words) if word.isdigit() and k not in taken] or [64]
    of = real_session() if "--real" in words else demo.session()
    of = to_rehearse(msgspec.structs.replace(of, variants=()))
    for _ in range(int(times)):
        cards: dict[CardKey, CostCard] = {}
        for step in session_run.run(session_run.jobs(of, {}, tuple(buffers)), {}):
            cards[step.job.key] = step.card
        for buffer in buffers:
            table(scaled(of, cards, int(cores), buffer, load / 100), cards, int(cores), buffer, seconds)


if __name__ == "__main__":
    main()
