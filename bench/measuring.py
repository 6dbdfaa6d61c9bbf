"""How long measuring takes, and whether it comes out the same twice.

    .venv/bin/python -m bench.measuring [--uses 60] [--only-first | --example]

First figures of the example: how long they take, and how near they come to what is measured thoroughly afterwards (with
`--only-first`, no more than that). With `--example` only that: its settings with everything that a card holds, and what
others disturbed once more. Else sixty settings of the house processors at eight buffer sizes with everything
that a card holds; then the same session again, of which all is known; then twelve of them measured anew, against the
first time.
"""

from __future__ import annotations

import sys
import time

import numpy as np

from nimbleload.core.cards.doubt import to_repeat
from nimbleload.core.session.plugins import PluginRef, PluginUse, Setting
from nimbleload.core.session.session import Session
from nimbleload.core.session.strips import Strip
from nimbleload.probe import session_run
from nimbleload.shell.common import demo_saved

RATE = 48000
REPEATED = 12
SETTINGS: dict[str, list[dict[str, float]]] = {
    "shoreline": [{"bands": n} for n in range(1, 15)],
    "ballast": [{"lookahead": n} for n in range(10)],
    "sluice": [{"hold": 10 * n} for n in range(8)],
    "tar": [{"oversampling": n} for n in range(1, 7)],
    "mist": [{"lines": n} for n in (4, 8, 12, 16, 20, 24)],
    "vault": [{"seconds": n} for n in (0.3, 0.5, 1, 2, 3, 4)],
    "pipework": [{"partials": n} for n in (8, 16, 24, 32, 48)],
    "cask": [{"partials": n} for n in (4, 8, 12, 16, 20)],
}


def session(count: int) -> Session:
    uses = [
        PluginUse(
            f"{name}{k}", PluginRef("house", f"house.{name}", name), Setting(tuple(values.items())),
            voices=4 if name in ("pipework", "cask") else 0,
        )
        for name, each in SETTINGS.items()
        for k, values in enumerate(each)
    ]  # fmt: skip
    return Session("bench", RATE, 1.0, (Strip("a", "a", inserts=tuple(uses[:count])),))


def measure(of: Session, known: dict, again: bool = False):
    begun, cards = time.monotonic(), dict(known)
    todo = session_run.jobs(of, known, again=again)
    for step in session_run.run(todo, known):
        cards[step.job.key] = step.card
    return cards, len(todo), time.monotonic() - begun


def first_figures() -> None:
    """The example's settings at its own size, tried quickly; and the same cells thoroughly, for those used most."""
    saved = demo_saved()
    size, todo = saved.buffer, session_run.jobs(saved.session, {}, (saved.buffer,))
    todo = [job._replace(details=False) for job in todo]
    begun, first, apart = time.monotonic(), {}, []
    for step in session_run.run(todo, {}, first=size):
        cell = step.cell
        if cell is None or cell.condition != "sounding":
            continue
        if cell.provenance == "first":
            first[step.job.key], taken = cell.mean, time.monotonic() - begun
        else:
            apart.append(abs(first[step.job.key] / cell.mean - 1))
    print(
        f"example: first figures of {len(first)} settings at {size} samples after {taken:.1f} s (goal 20); half of "
        f"them within {100 * np.median(apart):.1f} % of the thorough ones, nine in ten within "
        f"{100 * np.percentile(apart, 90):.1f} % (goal 5)"
    )


def example() -> None:
    """All settings of the example, as the window measures them."""
    saved = demo_saved()
    todo, cards, times = session_run.jobs(saved.session, {}), {}, {}
    begun = time.monotonic()
    for step in session_run.run(todo, {}, first=saved.buffer):
        cards[step.job.key] = step.card
        is_first = step.cell is not None and step.cell.provenance == "first"
        times["first figures" if is_first else "what was disturbed" if step.again else "all"] = time.monotonic() - begun
        if not step.again:
            before = sum(len(to_repeat(card, RATE)) for card in cards.values())
    cells = [cell for card in cards.values() for cell in card.cells]
    needed, left = sum(cell.watched for cell in cells), sum(len(to_repeat(card, RATE)) for card in cards.values())
    said = ", ".join(f"{name} after {seconds:.0f} s" for name, seconds in times.items())
    print(f"example, {len(todo)} settings, {len(cells)} cells: {said} (goals 20, 180 when quiet, 300 when busy)")
    ratio = times["all"] / needed
    print(f"to be measured once more: {before} cells, then {left}; {ratio:.1f} times the time of the blocks themselves")


def main() -> None:
    if "--example" in sys.argv:
        example()
        return
    first_figures()
    if "--only-first" in sys.argv:
        return
    count = int(sys.argv[sys.argv.index("--uses") + 1]) if "--uses" in sys.argv else 60
    of = session(count)
    cards, done, seconds = measure(of, {})
    cells = [c for card in cards.values() for c in card.cells]
    quiet = np.mean([c.quiet for c in cells])
    print(
        f"{done} uses at 8 sizes: {seconds:.0f} s (goal for 60: 240); {100 * quiet:.0f} % of {len(cells)} cells quiet"
    )
    _, done, seconds = measure(of, cards)
    print(f"the same again: {done} to measure, {seconds:.2f} s (goal 2)")
    some = session(count)
    picked = tuple(some.strips[0].inserts[k] for k in np.linspace(0, count - 1, min(REPEATED, count)).astype(int))
    again, _, _ = measure(Session("again", RATE, 1.0, (Strip("a", "a", inserts=picked),)), {})
    apart = []
    for key, card in again.items():
        for cell in card.cells:
            before = cards[key].cell(cell.rate, cell.buffer, cell.condition)
            if cell.condition == "sounding" and before is not None and cell.median >= 20e-6:
                apart.append((abs(cell.median / before.median - 1), cell.quiet and before.quiet))
    both = np.array([a for a, is_quiet in apart if is_quiet])
    every = np.array([a for a, _ in apart])
    print(
        f"measured twice, blocks from 20 µs: {len(both)} of {len(every)} cells quiet both times; of these "
        f"{100 * np.mean(both <= 0.03):.0f} % agree within 3 % (of all {100 * np.mean(every <= 0.03):.0f} %); "
        f"half within {100 * np.median(both):.2f} %, worst {100 * both.max():.1f} %"
    )


if __name__ == "__main__":
    main()
