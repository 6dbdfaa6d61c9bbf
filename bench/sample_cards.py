"""Measures the example's plugins on this computer and writes them as the sample cards that ship with it.

    .venv/bin/python -m bench.sample_cards [--again | --doubtful | --truth | --notes | --loading | --memory]

Cards that are there already are kept, unless --again is given; --doubtful measures once more what others disturbed, and
keeps the better figure of both (to be repeated, until little is left); --truth finds out anew whether they keep to what
they say, which does not depend on the computer, and keeps their costs; --notes measures anew what instruments cost
against the notes they play, of which only the shares of the full chord count; --loading times anew how long each takes
to load where all is compiled; --memory looks anew at what memory they keep.
"""

from __future__ import annotations

import sys
import time
from pathlib import Path

import msgspec

from nimbleload.core.cards.card import Cell, CostCard, Null, Paced, Provenance
from nimbleload.demo import cards, session
from nimbleload.house.instance import load_all
from nimbleload.probe.company import SIZES
from nimbleload.probe.effort import Effort
from nimbleload.probe.formats import house
from nimbleload.probe.messages import Again
from nimbleload.probe.polyphony import find_polyphony
from nimbleload.probe.session_run import against, jobs, run
from nimbleload.probe.signal import chord, musical
from nimbleload.probe.timed import TimedLoop
from nimbleload.probe.truth import find_truth, null_against

# The clock of the computer that the samples stand for (what a known chain of steps takes there, seconds): all figures
# are brought to it, so that they are those of one computer, at one time. It is one of some years ago.
CLOCK = 1120e-9
# So often each is loaded to see how long that takes.
LOADED = 5


def with_provenance(card: CostCard, provenance: Provenance) -> CostCard:
    return msgspec.structs.replace(
        card, cells=tuple(msgspec.structs.replace(cell, provenance=provenance) for cell in card.cells)
    )


def at_clock(card: CostCard, clock: float) -> CostCard:
    """The card with all figures at one clock of the core: what was measured at another is brought to it."""
    names = ("mean", "median", "p95", "p99", "p999", "largest")

    def told(cell: Cell) -> Cell:
        by = clock / cell.clock
        times = {name: by * getattr(cell, name) for name in names}
        sequence = (by * cell.sequence_ns()).astype("<i4").tobytes()
        return msgspec.structs.replace(cell, **times, sequence=sequence, clock=clock)

    def once_a_deadline(each: Paced) -> Paced:
        by = clock / card.cells[0].clock
        return msgspec.structs.replace(each, row=by * each.row, paced=by * each.paced)

    paced = tuple(once_a_deadline(each) for each in card.paced)
    return msgspec.structs.replace(card, cells=tuple(told(cell) for cell in card.cells), paced=paced)


def main() -> None:
    demo = session.session()
    path = Path(cards.__file__).with_name(cards.FILE)
    found = cards.sample_cards() if path.exists() and "--again" not in sys.argv else {}
    found = {key: card for key, card in found.items() if key in demo.cards_needed()}
    todo = [job for job in jobs(demo, {}) if job.key not in found]
    if "--truth" in sys.argv:
        for key, card in found.items():
            use = demo.cards_needed()[key][0]
            hosted = house.load(use, demo.rate, 512)
            notes = chord(use.voices) if use.voices else ()
            loop = TimedLoop(hosted, musical(len(hosted.inputs), demo.rate))
            truth = find_truth(loop, notes, card.lasting * demo.rate)
            nulls = []
            for full in against(demo, None, key):
                other = house.load(full, demo.rate, 512)
                depth = null_against(loop, TimedLoop(other, loop.source), notes)
                nulls += [Null(full.setting.digest(), full.voices, depth)] if depth is not None else []
            found[key] = msgspec.structs.replace(card, truth=truth, nulls=tuple(nulls))
            print(f"{card.name}: {truth} {nulls}")
    if "--notes" in sys.argv:
        for key, card in found.items():
            if key.voices > 1:
                hosted = house.load(demo.cards_needed()[key][0], demo.rate, max(SIZES))
                curves = tuple(find_polyphony(hosted, key.voices, demo.rate, frames) for frames in SIZES)
                found[key] = msgspec.structs.replace(card, polyphony=curves)
                one = [round(float(curve.shares((1,))[0]), 3) for curve in curves]
                print(f"{card.name}, {key.voices} notes: {one} of that with one")
    if "--loading" in sys.argv:
        load_all()
        for key, card in found.items():
            use, seconds = demo.cards_needed()[key][0], []
            for _ in range(LOADED):
                begun = time.perf_counter()
                house.load(use, demo.rate, max(SIZES)).close()
                seconds.append(time.perf_counter() - begun)
            found[key] = msgspec.structs.replace(card, upkeep=msgspec.structs.replace(card.upkeep, load=min(seconds)))
            print(f"{card.name}: {card.upkeep.load:.3f} s before, {min(seconds):.3f} s now")
    if "--memory" in sys.argv:
        wanted = [job._replace(details=True) for job in jobs(demo, {}, (512,))]
        for step in run(wanted, {}, effort=Effort(2, 0.02, rounds=1)):
            card, kept = found.get(step.job.key), step.card.upkeep
            if step.finished and card is not None and kept is not None:
                upkeep = msgspec.structs.replace(
                    card.upkeep, memory=kept.memory, pool=kept.pool, code=kept.code, grows=kept.grows
                )
                found[step.job.key] = msgspec.structs.replace(card, upkeep=upkeep)
                told = [f"{each / 2**20:.1f}" for each in (card.upkeep.memory, kept.memory, kept.pool, kept.code)]
                print(f"{card.name}: {' → '.join(told[:2])} MB each, {told[2]} once, {told[3]} of code, {kept.grows}")
    if "--doubtful" in sys.argv:
        found = {key: with_provenance(card, "measured") for key, card in found.items()}
        todo = [job._replace(again=Again((), None, 0.0)) for job in jobs(demo, {})]
    for step in run(todo, found, effort=Effort(5, 0.1)):
        found[step.job.key] = step.card
        if step.finished:
            print(f"{len(found)}, {len(todo)} to do  {step.card.name}  {step.card.failure or ''}", flush=True)
    left = sum(cell.is_doubtful for card in found.values() for cell in with_provenance(card, "measured").cells)
    print(f"{left} figures are doubtful.")
    found = {key: at_clock(card, CLOCK) for key, card in found.items()}
    path.write_bytes(msgspec.json.format(msgspec.json.encode([cards.as_sample(c) for c in found.values()]), indent=1))


if __name__ == "__main__":
    main()
