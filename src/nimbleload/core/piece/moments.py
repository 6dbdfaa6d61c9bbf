"""Through the piece: when each strip sounds, with how many notes, and the moments in which that stays the same."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from ..cards.card import Cards
from ..session.routing import Graph, targets
from ..session.session import Session
from ..session.strips import Strip
from .notes import Held, bars, held, is_counted, levels, ringing

# The states of a strip: silent, sounding in full, and from FEWER on with fewer notes than its instrument could.
SILENT, FULL, FEWER = 0, 1, 2
Span = tuple[float, float]


@dataclass(frozen=True, eq=False)
class Moments:
    """M stretches in which every strip stays in one state.

    `times` (M + 1, float64, seconds) are the borders; `states` (M, S, int16) says what each strip does: 0 it is
    silent, 1 it sounds, 2 + k it sounds and its instrument plays at most `notes[k]` notes, fewer than it could.
    `distinct` (D, S, int16) are the different rows, and `of` (M, int64) says which of them each moment has. `joined`
    keeps what `lasting` has found, by the length of a block.
    """

    times: NDArray[np.float64]
    states: NDArray[np.int16]
    distinct: NDArray[np.int16]
    of: NDArray[np.int64]
    notes: tuple[int, ...] = ()
    joined: dict[float, Moments] = field(default_factory=dict, repr=False)

    @property
    def sounding(self) -> NDArray[np.bool_]:
        """Who sounds in each moment (M, S)."""
        return np.asarray(self.states != SILENT)

    def at(self, second: float) -> int:
        """The moment that holds this second; the first or last one for a second outside the piece."""
        return int(self.all_at(np.array([second]))[0])

    def all_at(self, seconds: NDArray[np.float64]) -> NDArray[np.int64]:
        """The moments that hold these seconds (N)."""
        found: NDArray[np.int64] = np.searchsorted(self.times, seconds, side="right") - 1
        return np.clip(found, 0, len(self.of) - 1)

    def lasting(self, block: float) -> Moments:
        """The same moments, but that those shorter than a block (seconds) are played as a neighbour is.

        A host computes whole blocks: what lasts less long than one has no block of its own. The longer of the two
        neighbours counts, of equal ones the earlier; where none lasts a block, the longest of all.
        """
        if block not in self.joined:
            self.joined[block] = self._joined(block)
        return self.joined[block]

    def _joined(self, block: float) -> Moments:
        length = np.diff(self.times)
        short = length < block
        if not short.any() or len(length) < 2:
            return self
        lasts = np.flatnonzero(~short) if not short.all() else np.array([int(np.argmax(length))])
        after = np.searchsorted(lasts, np.arange(len(length)))
        left, right = lasts[np.maximum(after - 1, 0)], lasts[np.minimum(after, len(lasts) - 1)]
        taken = np.where((after > 0) & ((after == len(lasts)) | (length[left] >= length[right])), left, right)
        source = np.where(short, taken, np.arange(len(length)))
        distinct, of = _distinct_rows(self.states[source])
        return Moments(self.times, self.states[source], distinct, of, self.notes)


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
    """How long the strip's own plugins go on sounding after their input stops, in seconds.

    Infinite where one was still sounding when nobody listened any longer; one that was not tried counts as none.
    """
    found = (cards.get(use.card_key()) for use in strip.heard_uses())
    return sum((card.lasting for card in found if card is not None), 0.0)


def passes_on(strip: Strip) -> list[str]:
    """The strips that hear this one: none if it is off; if it is muted, those that it feeds before its fader."""
    if not strip.enabled:
        return []
    heard = [send.target for send in strip.sends if send.enabled and (send.pre_fader or not strip.mute)]
    if strip.output is not None and not strip.mute:
        heard.append(strip.output)
    return heard


def sounding_spans(
    session: Session, graph: Graph, cards: Cards, notes: Mapping[int, Sequence[Held]] | None = None
) -> list[list[Span]]:
    """For each strip, when something sounds on it, in seconds: its clips, what feeds it, and the tails of both.

    Of clips whose notes are known (`notes`, by strip) only the bars count that have some. A record-armed strip has a
    live input and so sounds all through.
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
            known = notes.get(i) if notes else None
            own = [(clip.start, clip.end) for clip in strip.clips if known is None or clip.kind == "audio"]
            own += [each[:2] for each in known or ()]
            lasting = tail(strip, cards)
            spans[i] = union((start, end + lasting) for start, end in union([*own, *incoming[i]]))
        for target in passes_on(strip):
            incoming[index[target]].extend(spans[i])
    _together(session, spans)
    return spans


def _together(session: Session, spans: list[list[Span]]) -> None:
    """All parts of a strip that is cut for a send sound while one of them does: a host computes it as one."""
    parts: dict[str, list[int]] = {}
    for i, strip in enumerate(session.strips):
        if strip.part_of is not None:
            parts.setdefault(strip.part_of, []).append(i)
    for i, strip in enumerate(session.strips):
        if strip.id in parts:
            whole = union(span for part in (i, *parts[strip.id]) for span in spans[part])
            for part in (i, *parts[strip.id]):
                spans[part] = whole


def cut(session: Session, graph: Graph, cards: Cards) -> Moments:
    """Cuts the piece at every start and end of sound, and where an instrument plays more or fewer notes.

    A piece without length is one moment, and nothing sounds.
    """
    notes = {i: held(strip) for i, strip in enumerate(session.strips) if strip.enabled and is_counted(strip)}
    spans = sounding_spans(session, graph, cards, notes)
    length = max(session.length, 0.0)
    played = _played(session, cards, length, notes)
    flat = np.array([span for of_strip in spans for span in of_strip]).reshape(-1, 2).clip(0.0, length)
    of_notes = np.array([each[:2] for stretches in played.values() for each in stretches]).reshape(-1, 2)
    times = np.unique(np.concatenate(([0.0, length], flat.ravel(), of_notes.ravel())))
    if len(times) < 2:
        times = np.array([0.0, 0.0])
    count = len(times) - 1
    change = np.zeros((count + 1, len(graph.ids)), np.int32)
    if length > 0:
        strip = np.repeat(np.arange(len(spans)), [len(of_strip) for of_strip in spans])
        first, last = np.searchsorted(times, flat).T
        np.add.at(change, (first, strip), 1)
        np.add.at(change, (last, strip), -1)
    states = (np.cumsum(change[:count], axis=0, dtype=np.int32) > 0).astype(np.int16)
    numbers = _fewer(session, states, played, times) if length > 0 else ()
    distinct, of = _distinct_rows(states)
    return Moments(times, states, distinct, of, numbers)


def _played(
    session: Session, cards: Cards, length: float, notes: Mapping[int, Sequence[Held]]
) -> dict[int, list[Held]]:
    """For each strip whose notes are known, how many it plays or lets ring and when, within the piece."""
    lines = bars(session.timing, length) if notes else np.zeros(0)
    return {
        i: [
            Held(max(start, 0.0), min(end, length), count)
            for start, end, count in ringing(each, session.strips[i], cards, lines)
            if start < length
        ]
        for i, each in notes.items()
    }


def _fewer(
    session: Session, states: NDArray[np.int16], played: dict[int, list[Held]], times: NDArray[np.float64]
) -> tuple[int, ...]:
    """Marks in `states` (M, S) where strips play fewer notes than they could; the numbers of notes that occur."""
    if not played:
        return ()
    numbers = list(played)
    most = np.array([instrument.voices if (instrument := session.strips[i].instrument) else 0 for i in numbers])
    counts = np.array([levels(stretches, times) for stretches in played.values()]).T
    own = states[:, numbers]
    fewer = (own != SILENT) & (counts < most)
    notes = np.unique(counts[fewer])
    own[fewer] = FEWER + np.searchsorted(notes, counts[fewer])
    states[:, numbers] = own
    return tuple(notes.tolist())


def _distinct_rows(rows: NDArray[np.int16]) -> tuple[NDArray[np.int16], NDArray[np.int64]]:
    """The different rows of a matrix, and for each row which of them it is."""
    if not rows.size:
        return rows[:1], np.zeros(len(rows), np.int64)
    whole = np.ascontiguousarray(rows).view(np.dtype((np.void, rows.dtype.itemsize * rows.shape[1]))).ravel()
    _, first, of = np.unique(whole, return_index=True, return_inverse=True)
    # In the order in which they come.
    order = np.argsort(first)
    number = np.empty(len(order), np.int64)
    number[order] = np.arange(len(order))
    return rows[first[order]], number[of.ravel()]


def waits(strip: Strip) -> tuple[list[str], list[str]]:
    """What a strip adds to who waits for whom: the strips that it feeds, muted or not, and those it listens to."""
    live = strip.live_uses()
    return targets(strip), [use.sidechain for use in live if use.sidechain is not None]


def same_activity(before: Session, after: Session) -> bool:
    """Whether two sessions surely have the same moments: what is frozen may differ, what is heard may not."""
    if before is after:
        return True
    if (before.length, before.tempo) != (after.length, after.tempo) or len(before.strips) != len(after.strips):
        return False
    for old, new in zip(before.strips, after.strips, strict=True):
        # What plans change is made anew each time: as a rule it is the same all over again.
        if old is not new and old != new and (
            old.id != new.id
            or old.enabled != new.enabled
            or old.mute != new.mute
            or old.armed != new.armed
            or old.clips != new.clips
            or old.part_of != new.part_of
            or passes_on(old) != passes_on(new)
            or waits(old) != waits(new)
            or old.heard_uses() != new.heard_uses()
        ):
            return False
    return True


def activity(of: Moments, buckets: int) -> NDArray[np.float64]:
    """For each strip, the share of each of `buckets` equal parts of the piece in which it sounds (S, buckets)."""
    sounding = of.sounding
    strips = sounding.shape[1]
    length = of.times[-1] - of.times[0]
    if length <= 0:
        return np.zeros((strips, buckets))
    # Sounding seconds up to each border, read off at the borders of the parts.
    until = np.vstack((np.zeros(strips), np.cumsum(sounding * np.diff(of.times)[:, None], axis=0)))
    borders = np.linspace(of.times[0], of.times[-1], buckets + 1)
    moment = np.clip(np.searchsorted(of.times, borders, side="right") - 1, 0, len(sounding) - 1)
    seconds = until[moment] + sounding[moment] * (borders - of.times[moment])[:, None]
    shares: NDArray[np.float64] = np.diff(seconds, axis=0).T / (length / buckets)
    return np.clip(shares, 0.0, 1.0)
