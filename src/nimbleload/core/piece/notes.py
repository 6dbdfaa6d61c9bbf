"""How many notes an instrument plays, bar by bar: what its cost goes by."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from functools import lru_cache
from itertools import islice
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..cards.card import Cards
from ..session.meter import BarMap
from ..session.session import Timing
from ..session.strips import Strip
from ..session.tempo import TempoMap

MOST_BARS = 20_000


class Held(NamedTuple):
    """From `start` up to `end` (seconds), at most `voices` notes sound together."""

    start: float
    end: float
    voices: int


@lru_cache(maxsize=8)
def bars(timing: Timing, length: float) -> NDArray[np.float64]:
    """The bar lines of a piece in seconds (float64, ascending), from its start to one beyond its end.

    A piece of more than 20,000 bars has none beyond those.
    """
    tempo, found = TempoMap(timing.tempo), [0.0]
    for beat in islice(BarMap(timing.meters).lines(), MOST_BARS):
        if found[-1] >= length:
            break
        if beat > 0:
            found.append(tempo.seconds(beat))
    return np.array(found)


def counted(notes: Iterable[tuple[float, float]], lines: NDArray[np.float64]) -> tuple[tuple[float, int], ...]:
    """The most notes (start and end in seconds) that sound together in each bar: from which second on, how many.

    `lines` are the bar lines. Bars with as many as the one before are left out, and so are silent ones at the start.
    """
    edges = sorted((at, step) for start, end in notes if end > start for at, step in ((start, 1), (end, -1)))
    most = np.zeros(len(lines), np.int64)
    now = 0
    for number, (at, step) in enumerate(edges):
        now += step
        until = edges[number + 1][0] if number + 1 < len(edges) else at
        if until > at:
            first = max(int(np.searchsorted(lines, at, side="right")) - 1, 0)
            last = max(int(np.searchsorted(lines, until, side="left")), first + 1)
            most[first:last] = np.maximum(most[first:last], now)
    found: list[tuple[float, int]] = []
    for second, count in zip(lines.tolist(), most.tolist(), strict=True):
        if count != (found[-1][1] if found else 0):
            found.append((second, count))
    return tuple(found)


def is_counted(strip: Strip) -> bool:
    """Whether it is known how many notes the strip's instrument plays: in every one of its clips.

    Where audio lies on the same strip it sounds without notes: then its instrument counts in full.
    """
    known = bool(strip.clips) and all(clip.kind == "notes" and clip.voices for clip in strip.clips)
    return strip.instrument is not None and not strip.armed and known


def held(strip: Strip) -> list[Held]:
    """The stretches in which a strip's clips have notes, clip by clip, in order; what is silent is left out."""
    found = []
    for clip in strip.clips:
        ends = [second for second, _ in clip.voices[1:]] + [clip.end]
        for (second, count), end in zip(clip.voices, ends, strict=True):
            start, end = max(second, clip.start), min(end, clip.end)
            if count > 0 and end > start:
                found.append(Held(start, end, count))
    return sorted(found)


def ringing(found: Sequence[Held], strip: Strip, cards: Cards, lines: NDArray[np.float64]) -> Sequence[Held]:
    """What a strip's clips hold, with notes that were let go counted up to the bar line after the instrument's tail.

    Where stretches overlap, in clips or in tails, the most notes of any of them count.
    """
    assert strip.instrument is not None
    card = cards.get(strip.instrument.card_key())
    tail = card.lasting if card is not None else 0.0
    if not tail or not found:
        return found
    ends = np.array([each.end + tail for each in found])
    places = np.searchsorted(lines, ends, side="left")
    ends = np.where(places < len(lines), lines[np.minimum(places, len(lines) - 1)], ends)
    return [each._replace(end=end) for each, end in zip(found, ends.tolist(), strict=True)]


def levels(stretches: Sequence[Held], times: NDArray[np.float64]) -> NDArray[np.int64]:
    """The most notes in each of the M moments between `times` (M + 1, seconds); stretches begin and end at borders."""
    found = np.zeros(len(times) - 1, np.int64)
    borders = np.searchsorted(times, [each[:2] for each in stretches])
    for (first, last), each in zip(borders.tolist(), stretches, strict=True):
        part = found[first:last]
        np.maximum(part, each.voices, out=part)
    return found
