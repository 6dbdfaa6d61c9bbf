"""Through the piece: when each strip sounds, and the moments in which the same strips do."""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from .card import Cards
from .graph import Graph
from .session import Session, Strip

Span = tuple[float, float]


class Moments(NamedTuple):
    """M stretches with a constant set of sounding strips.

    `times` (M + 1, float64, seconds) are the borders; `sounding` (M, S, bool) says who sounds in each; `distinct`
    (D, S, bool) are the different sets, and `of` (M, int64) says which of them each moment has.
    """

    times: NDArray[np.float64]
    sounding: NDArray[np.bool_]
    distinct: NDArray[np.bool_]
    of: NDArray[np.int64]

    def at(self, second: float) -> int:
        """The moment that holds this second; the first or last one for a second outside the piece."""
        index = int(np.searchsorted(self.times, second, side="right")) - 1
        return min(max(index, 0), len(self.of) - 1)


def union(spans: Iterable[Span]) -> list[Span]:
    """The same stretches of time, sorted, with those that overlap or touch made one."""
    merged: list[Span] = []
    for start, end in sorted(spans):
        if merged and start <= merged[-1][1]:
            if end > merged[-1][1]:
                merged[-1] = (merged[-1][0], end)
        elif end > start:
            merged.append((start, end))
    return merged


def tail(strip: Strip, cards: Cards) -> float:
    """How long the strip's own plugins go on sounding after their input stops, in seconds."""
    total = 0.0
    for use in strip.heard_uses():
        card = cards.get(use.card_key())
        if card is not None and card.tail is not None:
            total += card.tail
    return total


def passes_on(strip: Strip) -> list[str]:
    """The strips that hear this one: none if it is off; if it is muted, those that it feeds before its fader."""
    if not strip.enabled:
        return []
    heard = [send.target for send in strip.sends if send.enabled and (send.pre_fader or not strip.mute)]
    if strip.output is not None and not strip.mute:
        heard.append(strip.output)
    return heard


def sounding_spans(session: Session, graph: Graph, cards: Cards) -> list[list[Span]]:
    """For each strip, when something sounds on it, in seconds: its clips, what feeds it, and the tails of both.

    A record-armed strip has a live input and so sounds all through.
    """
    index = {strip_id: i for i, strip_id in enumerate(graph.ids)}
    incoming: list[list[Span]] = [[] for _ in graph.ids]
    spans: list[list[Span]] = [[] for _ in graph.ids]
    for i in graph.order:
        strip = session.strips[i]
        if not strip.enabled:
            continue
        if strip.armed:
            spans[i] = [(0.0, session.length)]
        else:
            own = [(clip.start, clip.end) for clip in strip.clips]
            lasting = tail(strip, cards)
            spans[i] = union((start, end + lasting) for start, end in union([*own, *incoming[i]]))
        for target in passes_on(strip):
            incoming[index[target]].extend(spans[i])
    return spans


def cut(session: Session, graph: Graph, cards: Cards) -> Moments:
    """Cuts the piece at every start and end of sound. A piece without length is one moment, and nothing sounds."""
    spans = sounding_spans(session, graph, cards)
    length = max(session.length, 0.0)
    borders = {0.0, length}
    for of_strip in spans:
        for start, end in of_strip:
            borders.add(min(max(start, 0.0), length))
            borders.add(min(max(end, 0.0), length))
    times = np.array(sorted(borders))
    if len(times) < 2:
        times = np.array([0.0, 0.0])
    count = len(times) - 1
    change = np.zeros((count + 1, len(graph.ids)), np.int32)
    for i, of_strip in enumerate(spans):
        if of_strip and length > 0:
            ends = np.searchsorted(times, np.clip(np.array(of_strip), 0.0, length))
            np.add.at(change[:, i], ends[:, 0], 1)
            np.add.at(change[:, i], ends[:, 1], -1)
    sounding = np.cumsum(change[:count], axis=0) > 0
    distinct, of = _distinct_rows(sounding)
    return Moments(times, sounding, distinct, of)


def _distinct_rows(rows: NDArray[np.bool_]) -> tuple[NDArray[np.bool_], NDArray[np.int64]]:
    """The different rows of a boolean matrix, and for each row which of them it is."""
    packed = np.packbits(rows, axis=1)
    numbers: dict[bytes, int] = {}
    of = np.array([numbers.setdefault(row.tobytes(), len(numbers)) for row in packed], np.int64)
    first = np.zeros(len(numbers), np.int64)
    first[of[::-1]] = np.arange(len(of))[::-1]
    return rows[first], of


def same_activity(before: Session, after: Session) -> bool:
    """Whether two sessions surely have the same moments: what is frozen may differ, what is heard may not."""
    if before is after:
        return True
    if before.length != after.length or len(before.strips) != len(after.strips):
        return False
    for old, new in zip(before.strips, after.strips, strict=True):
        if old is not new and (
            old.enabled != new.enabled
            or old.mute != new.mute
            or old.armed != new.armed
            or old.clips != new.clips
            or passes_on(old) != passes_on(new)
            or old.heard_uses() != new.heard_uses()
        ):
            return False
    return True


def activity(of: Moments, buckets: int) -> NDArray[np.float64]:
    """For each strip, the share of each of `buckets` equal parts of the piece in which it sounds (S, buckets)."""
    strips = of.sounding.shape[1]
    length = of.times[-1] - of.times[0]
    if length <= 0:
        return np.zeros((strips, buckets))
    # Sounding seconds up to each border, read off at the borders of the parts.
    until = np.vstack((np.zeros(strips), np.cumsum(of.sounding * np.diff(of.times)[:, None], axis=0)))
    borders = np.linspace(of.times[0], of.times[-1], buckets + 1)
    moment = np.clip(np.searchsorted(of.times, borders, side="right") - 1, 0, len(of.sounding) - 1)
    seconds = until[moment] + of.sounding[moment] * (borders - of.times[moment])[:, None]
    shares: NDArray[np.float64] = np.diff(seconds, axis=0).T / (length / buckets)
    return np.clip(shares, 0.0, 1.0)
