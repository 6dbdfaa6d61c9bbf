"""What strips and plugins cost at a moment, at their own peak, or over a stretch; and the load of a stretch."""

from __future__ import annotations

from typing import Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray

from .case import Case
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


def at_moment(of: Case, states: NDArray[np.int16]) -> Ranking:
    """What everything costs where the strips are in these states (S), as the cores slow each other down there."""
    factor = float(of.played(states[None, :]).factor[0])
    uses = of.prepared.uses
    seconds = of.use_seconds[states[uses.strip], np.arange(len(uses.uses))] * factor if uses.uses else np.zeros(0)
    return Ranking(of.rows(states) * factor, _by_id(of, seconds))


def ranking(of: Case, basis: Basis, stretch: Stretch | None = None) -> Ranking:
    """What everything costs at its own dearest, or on average over a stretch (the whole piece if None).

    Everywhere the figures count how the cores slow each other down there, as those of a moment do.
    """
    moments, uses = of.moments, of.prepared.uses
    factor = of.played(moments.distinct).factor
    inside = _overlap(moments.times, stretch if basis == "piece" else None)
    if not inside.sum():
        inside = np.ones(len(moments.of))  # a piece without length is one moment
    weight = np.bincount(moments.of, inside / inside.sum(), minlength=len(moments.distinct))
    rows = of.rows(moments.distinct) * factor[:, None]
    spent = of.use_seconds[moments.distinct[:, uses.strip], np.arange(len(uses.uses))] * factor[:, None]
    if basis == "peak":
        heard = weight > 0
        return Ranking(rows[heard].max(axis=0), _by_id(of, spent[heard].max(axis=0)))
    return Ranking(weight @ rows, _by_id(of, weight @ spent))


def _by_id(of: Case, seconds: NDArray[np.float64]) -> dict[str, float]:
    return dict(zip([use.id for use in of.prepared.uses.uses], seconds.tolist(), strict=True))


def _overlap(times: NDArray[np.float64], stretch: Stretch | None) -> NDArray[np.float64]:
    """How many seconds of each moment (M) lie in a stretch; all of them without one."""
    start, end = stretch if stretch is not None else (float(times[0]), float(times[-1]))
    return np.asarray(np.maximum(np.minimum(times[1:], end) - np.maximum(times[:-1], start), 0.0), np.float64)


def stretch_load(of: LoadMap, stretch: Stretch) -> StretchLoad:
    """The load between two seconds. A stretch outside the piece has none: all figures are 0."""
    inside = _overlap(of.times, stretch)
    total = float(inside.sum())
    if total <= 0:
        return StretchLoad(0.0, 0.0, 0.0)
    highest = float(of.load[inside > 0].max())
    return StretchLoad(highest, float(of.load @ inside) / total, float(inside[of.load > 1.0].sum()))
