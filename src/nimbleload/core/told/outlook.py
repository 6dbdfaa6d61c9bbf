"""The slower half of what Balance says of a moment: peaks at every size and through the piece, and what would help."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..decisions.options import options
from ..decisions.plan import Decision
from ..load.peaks import Peaks, bad_loads
from ..survey import Instant, Survey, peaks, saving
from ..units import percent
from .verdict import Verdict

OTHER_DRAWS = 300
BAND_DRAWS = 64
TRIED = 6


class Help(NamedTuple):
    """One decision, and the load of this moment's block with it (fraction)."""

    decision: Decision
    words: str
    load: float


class Outlook(NamedTuple):
    """Peaks by buffer size, the best single decision if one helps, and the verdict with both in it."""

    peaks: dict[int, Peaks]
    help: Help | None
    verdict: Verdict


def outlook(of: Survey, at: Instant) -> Outlook:
    """Draws the peaks of a moment at all sizes, and tries what would help its block most."""
    found = {size: peaks(of, at, size, OTHER_DRAWS) for size in of.costs if size != of.buffer}
    found[of.buffer] = peaks(of, at)
    best = best_help(of, at) if at.rung(of.buffer).load > of.session.limit else None
    return Outlook(found, best, retold(of, at, found[of.buffer], best))


def band(of: Survey) -> NDArray[np.float64]:
    """What one block in a hundred reaches in each moment under the plan (M, fractions of the deadline)."""
    moments = of.planned.moments
    each = bad_loads(of.planned, of.machine, of.costs[of.buffer], moments.distinct, BAND_DRAWS)
    loads: NDArray[np.float64] = np.maximum(each[moments.of], of.after.load)
    return loads


def best_help(of: Survey, at: Instant) -> Help | None:
    """The single freeze, or switching off where that is all there is, that lowers this block most; None if none does.

    Tried on the costliest strips of the moment and those of its longest chain, by the block computation itself.
    """
    candidates = [int(k) for k in np.argsort(-at.strip_costs, kind="stable")[:TRIED]]
    candidates += [k for k in at.block.strips(at.block.chain) if k not in candidates]
    load = at.rung(of.buffer).load
    best: Help | None = None
    for index in candidates:
        if index >= len(of.session.strips):
            continue  # a bus that the plan has made
        strip = of.session.strips[index]
        possible = [o for o in options(strip) if o.reason is None and o.decision.kind == "freeze"]
        if not possible or of.plan.for_strip(strip.id) is not None:
            continue
        lower = load - saving(of, at, (possible[-1].decision,)).load
        if best is None or lower < best.load:
            best = Help(possible[-1].decision, f"freezing {strip.name}", lower)
    return best if best is not None and best.load < load - 0.001 else None


def retold(of: Survey, at: Instant, drawn: Peaks, best: Help | None) -> Verdict:
    """The verdict of the moment, with its peaks and what would help most."""
    verdict, load = at.verdict, at.rung(of.buffer).load
    if verdict.kind == "unknown":
        return verdict
    advice = verdict.advice
    names = [of.planned.uses.uses[b.use].label for b in drawn.bursts]
    if not verdict.overload and drawn.bad > 1:
        who = f" {', '.join(dict.fromkeys(names[:3]))} burst together now and then." if names else ""
        first = verdict.headline.split(".")[0]
        headline = f"{first}, but its peaks do not: one block in a hundred takes {percent(drawn.bad)}."
        dropouts = f"{drawn.dropouts:.0f}" if drawn.dropouts >= 1 else "less than one"
        return Verdict("peaks", headline, f"Expect {dropouts} dropouts a minute.{who} {advice}", True)
    if best is not None:
        advice += f" What would help most at once: {best.words}, {percent(load)} → {percent(best.load)}."
    return verdict._replace(advice=advice)
