"""The slower half of what is said of a moment: peaks at every size, and what would help, with its effect."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..block.schedule import Block
from ..load.peaks import Peaks, bad_loads
from ..optimise.advice import Help, Kept, OtherWay, best_help, kept_best, other_ways
from ..survey import Instant, Survey, block_with, peaks
from ..units import listed, minutes, percent
from .cores import part_words
from .steps import words
from .verdict import Verdict, of_blocks, with_memory

OTHER_DRAWS = 300


class Outlook(NamedTuple):
    """Peaks by buffer size, the best single step if one helps, and the verdict with both in it; and the typical, bad
    and worst of the blocks that were drawn at the chosen size."""

    peaks: dict[int, Peaks]
    help: Help | None
    verdict: Verdict
    typical: Block
    bad: Block
    worst: Block


def outlook(of: Survey, at: Instant, go_on: Callable[[], object] = lambda: None) -> Outlook:
    """Draws the peaks of a moment at all sizes, and tries what would help its block most. `go_on` is called now and
    then, and may end it by an exception."""
    found = {}
    for size in of.cases:
        go_on()
        found[size] = peaks(of, at, size, OTHER_DRAWS) if size != of.buffer else peaks(of, at)
    drawn = found[of.buffer]
    go_on()
    blocks = (block_with(of, row) for row in (drawn.typical_row, drawn.bad_row, drawn.worst_row))
    over = at.rung(of.buffer).load > of.session.limit
    best = best_help(of, at) if over else None
    ways = other_ways(of, at) if at.judged.kind == "waiting" else []
    kept = kept_best(of, at) if over else None
    return Outlook(found, best, retold(of, at, drawn, best, ways, kept), *blocks)


def band(of: Survey, go_on: Callable[[], object] = lambda: None) -> NDArray[np.float64]:
    """What one block in a hundred reaches in each moment under the plan (M, fractions of the deadline). `go_on` is
    called now and then, and may end it by an exception."""
    bad = bad_loads(of.case, go_on=go_on)
    loads: NDArray[np.float64] = np.maximum(bad[of.case.moments.of], of.after.load)
    return loads


def retold(
    of: Survey, at: Instant, drawn: Peaks, best: Help | None, ways: list[OtherWay], kept: Kept | None = None
) -> Verdict:
    """The verdict of the moment, with its peaks and what would help most."""
    said, load = of_blocks(of, at), at.rung(of.buffer).load
    if said.kind == "unknown":
        return with_memory(of, said)
    advice = said.advice
    if best is not None:
        taken = words(of, best.decisions)
        brings = f"{percent(load)} → {percent(best.load)}"
        advice += f" What helps most at once: {taken} ({minutes(best.price.minutes)}), {brings}."
    elif said.kind not in ("fits",):
        advice += " No single freeze, share, suspension or lighter setting lowers it."
    for way in ways[:1]:
        how = f"in {way.parts} parts" if way.parts != of.session.host.parts else "in another order"
        advice += f" A host that computes the block {how} would take {percent(way.load)}."
    if kept is not None:
        cores = part_words(kept.machine, of.machine)
        advice += f" With the host kept on {cores} it would take {percent(kept.load)} (see Machine)."
    said = said._replace(advice=advice)
    return with_memory(of, _with_peaks(of, said, drawn) if not said.overload and drawn.bad > 1 else said)


def _with_peaks(of: Survey, said: Verdict, drawn: Peaks) -> Verdict:
    """The verdict on a moment whose usual block is in time, and one in a hundred is not."""
    uses, strips = of.planned.uses, of.planned.session.strips
    names = [f"{uses.uses[b.use].label} on {strips[uses.strip[b.use]].name}" for b in drawn.bursts]
    who = f" {listed(names, 3)} {'bursts' if len(names) == 1 else 'burst together'} now and then." if names else ""
    bad = f"one block in a hundred takes {percent(drawn.bad)}."
    if said.kind == "fits":
        headline = f"{said.headline.split('.')[0]}, but its peaks do not: {bad}"
    else:
        headline = f"{said.headline.removesuffix('.')}, and {bad}"
    dropouts = f"{drawn.dropouts:.0f}" if drawn.dropouts >= 1 else "less than one"
    return Verdict("peaks", headline, f"Expect {dropouts} dropouts a minute.{who} {said.advice}", True)
