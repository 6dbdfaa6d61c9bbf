"""What strips and plugins cost at a moment, at their own peak, or over a stretch; and the load of a stretch."""

from __future__ import annotations

from typing import Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..piece.moments import FEWER
from ..survey import Instant, Survey
from .costs import use_seconds
from .load_map import LoadMap

Basis = Literal["moment", "peak", "piece"]
Stretch = tuple[float, float]


class Ranking(NamedTuple):
    """Seconds per block: `strips` (S) what each costs, `uses` what each plugin does or would, by use id."""

    strips: NDArray[np.float64]
    uses: dict[str, float]


class StretchLoad(NamedTuple):
    """The load between two seconds: highest, mean over time (fractions), and for how long it is over the deadline."""

    highest: float
    mean: float
    late: float


def ranking(of: Survey, at: Instant, basis: Basis, stretch: Stretch | None = None) -> Ranking:
    """What everything costs at the moment, at its own dearest, or on average over a stretch (the whole piece if None).

    At the moment the figures count how the cores slow each other down there; on the others they do not.
    """
    if basis == "moment":
        return Ranking(at.strip_costs, at.use_costs)
    costs, uses = of.costs[of.buffer], of.planned.uses
    share = _shares(of, stretch if basis == "piece" else None)
    each = use_seconds(of.planned, costs) / of.machine.speed
    if basis == "peak":
        strips = np.where(share > 0, costs.by_state, 0.0).max(axis=0)
        spent = np.where(share[:, uses.strip] > 0, each, 0.0).max(axis=0)
    else:
        strips = (share * costs.by_state).sum(axis=0)
        spent = (share[:, uses.strip] * each).sum(axis=0)
    return Ranking(strips, dict(zip([use.id for use in uses.uses], spent.tolist(), strict=True)))


def _overlap(times: NDArray[np.float64], stretch: Stretch | None) -> NDArray[np.float64]:
    """How many seconds of each moment (M) lie in a stretch; all of them without one."""
    start, end = stretch if stretch is not None else (float(times[0]), float(times[-1]))
    return np.asarray(np.maximum(np.minimum(times[1:], end) - np.maximum(times[:-1], start), 0.0), np.float64)


def _shares(of: Survey, stretch: Stretch | None) -> NDArray[np.float64]:
    """The share of a stretch in which each strip is in each of the N states (N, S)."""
    moments = of.planned.moments
    inside = _overlap(moments.times, stretch)
    if not inside.sum():
        # A piece without length is one moment.
        inside = np.ones(len(moments.of))
    found = np.zeros((FEWER + len(moments.notes), moments.states.shape[1]))
    np.add.at(found, (moments.states, np.arange(found.shape[1])), (inside / inside.sum())[:, None])
    return found


def stretch_load(of: LoadMap, stretch: Stretch) -> StretchLoad:
    """The load between two seconds. A stretch outside the piece has none: all figures are 0."""
    inside = _overlap(of.times, stretch)
    total = float(inside.sum())
    if total <= 0:
        return StretchLoad(0.0, 0.0, 0.0)
    highest = float(of.load[inside > 0].max())
    return StretchLoad(highest, float(of.load @ inside) / total, float(inside[of.load > 1.0].sum()))
