"""Controllers that are played together with notes: pedals, wheels, pressure and bend, and what they do to notes."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from itertools import pairwise

import msgspec
import numpy as np
from numpy.typing import NDArray

from .curves import Curve, Followed, Point

# Controllers are numbered as in MIDI (0 … 127); pressure of a whole channel and bend come after these.
PEDAL, PRESSURE, BEND = 64, 128, 129
# A pedal is down from here on (share of its way).
DOWN = 0.5
# A value that goes in a straight line is told every so many samples, if it has changed by a step.
STEP = 64
# How many steps there are from the least value to the most: seven bits, or fourteen for bend.
STEPS, BEND_STEPS = 127, 16383
# Seconds that are the same but for rounding.
ROUNDING = 1e-6

Stretch = tuple[float, float]
# Samples, and the values that there are from each of them on.
Told = tuple[NDArray[np.int64], NDArray[np.float64]]


class Controller(msgspec.Struct, frozen=True, array_like=True):
    """A controller that moves in the piece: its number, its values from 0 to 1 (bend rests at 0.5), and the channel it
    moves on (0 … 15)."""

    number: int
    curve: Curve
    channel: int = 0


def steps_of(number: int) -> int:
    """How many steps a controller has from its least value to its most."""
    return BEND_STEPS if number == BEND else STEPS


def told(controller: Controller, rate: int) -> Told:
    """When a controller is told of another value, and of which: samples of the piece at a rate (Hz), in order, and
    values (0 … 1) in the controller's own steps. What it has before its first point is not known, so nothing is told.
    """
    followed = controller.curve.at(rate)
    at = steadily(followed)
    steps = steps_of(controller.number)
    return changes(at, np.round(np.clip(followed.values(at), 0.0, 1.0) * steps) / steps)


def steadily(followed: Followed) -> NDArray[np.int64]:
    """When something is told of how it goes: the samples of its points, and every STEP samples of its ramps."""
    places = [followed.places]
    ends = np.append(followed.places[1:], followed.places[-1])
    for start, end in zip(followed.places[followed.ramps].tolist(), ends[followed.ramps].tolist(), strict=True):
        places.append(np.arange(-(-start // STEP) * STEP, end, STEP, dtype=np.int64))
    return np.unique(np.concatenate(places))


def changes(at: NDArray[np.int64], values: NDArray[np.float64]) -> Told:
    """Those of so many samples (N) and values (N) at which the value is another than before, and the first."""
    new = np.ones(len(at), np.bool_)
    new[1:] = values[1:] != values[:-1]
    return at[new], values[new]


def joined(passes: Iterable[tuple[int, int, Sequence[Point]]]) -> tuple[Controller, ...]:
    """Controllers from the points of several passes (a number, a channel and points each, in order of time): of passes
    that overlap the one that begins later counts from there on."""
    found: dict[tuple[int, int], list[Point]] = {}
    for number, channel, points in sorted((each for each in passes if each[2]), key=lambda each: each[2][0].second):
        known = found.setdefault((number, channel), [])
        begins = points[0].second
        # What ends where this begins leads there; both are reckoned, so that they may differ by rounding.
        if begins < (known[-1].second if known else begins) <= begins + ROUNDING:
            known[-1] = msgspec.structs.replace(known[-1], second=begins)
        following = None
        while known and known[-1].second > begins:
            following = known.pop()
        if known and known[-1].ramp and known[-1].second < begins:
            if following is None:
                known[-1] = Point(known[-1].second, known[-1].value)
            else:
                known.append(Point(begins, _reached([known[-1], following], 0, begins)))
        known += points
    return tuple(Controller(number, Curve(tuple(points)), on) for (number, on), points in sorted(found.items()))


def cut(points: Sequence[Point], first: float, last: float) -> list[Point]:
    """What a curve is from one second to another: what it has at the first, its points between and at both, and where
    a line that goes on has come to at the last. `points` in order of time; nothing where they begin later."""
    begun = sum(point.second < first for point in points)
    ended = sum(point.second <= last for point in points)
    found = list(points[begun:ended])
    if begun and not (found and found[0].second == first):
        found.insert(0, Point(first, _reached(points, begun - 1, first), points[begun - 1].ramp))
    if found and found[-1].ramp and found[-1].second < last and ended < len(points):
        found.append(Point(last, _reached(points, ended - 1, last)))
    return found


def _reached(points: Sequence[Point], place: int, second: float) -> float:
    """The value of a curve at a second that lies between a point and the next one."""
    point = points[place]
    if not point.ramp or place + 1 >= len(points):
        return point.value
    following = points[place + 1]
    share = (second - point.second) / (following.second - point.second)
    return point.value + share * (following.value - point.value)


def between(controllers: Sequence[Controller], first: float, last: float, later: float = 0.0) -> tuple[Controller, ...]:
    """The same from one second to another: each with the value that it has there, and what comes after; all of it
    `later` by so many seconds."""
    found = ((each, cut(each.curve.points, first, last)) for each in controllers)
    return tuple(
        Controller(each.number, Curve(tuple(Point(p.second + later, p.value, p.ramp) for p in points)), each.channel)
        for each, points in found if points
    )  # fmt: skip


def pressed(controllers: Iterable[Controller]) -> list[Stretch]:
    """From when to when the sustain pedal is down (seconds), in order; without end where it is not let go."""
    found: list[Stretch] = []
    for controller in controllers:
        if controller.number != PEDAL:
            continue
        down: float | None = None
        for second, is_down in _switches(controller.curve):
            if is_down and down is None:
                down = second
            elif not is_down and down is not None:
                found.append((down, second))
                down = None
        if down is not None:
            found.append((down, float("inf")))
    return sorted(found)


def _switches(curve: Curve) -> Iterable[tuple[float, bool]]:
    """When a pedal's curve is down and up: at its points, and where a line crosses the middle."""
    for point, following in pairwise((*curve.points, curve.points[-1])):
        yield point.second, point.value >= DOWN
        crosses = (point.value >= DOWN) != (following.value >= DOWN)
        if point.ramp and crosses and following.second > point.second:
            share = (DOWN - point.value) / (following.value - point.value)
            yield point.second + share * (following.second - point.second), following.value >= DOWN


def held(
    notes: Sequence[tuple[float, float, int, int]], controllers: Sequence[Controller], end: float
) -> list[Stretch]:  # fmt: skip
    """From when to when notes sound (seconds; start, end, key and channel each), with what pedals do to them, up to the
    end of the piece at most; in any order. A pedal is for the notes of its channel; one on a channel without notes is
    for all, as where each note has a channel of its own and the first one is for what they have in common."""
    by_channel: dict[int, list[tuple[float, float, int]]] = {}
    for *note, channel in notes:
        by_channel.setdefault(channel, []).append(tuple(note))  # type: ignore[arg-type]
    return [
        stretch
        for channel, own in by_channel.items()
        for stretch in sustained(
            own, pressed(c for c in controllers if c.channel == channel or c.channel not in by_channel), end
        )
    ]


def sustained(
    notes: Sequence[tuple[float, float, int]], pedal: Sequence[Stretch], end: float
) -> list[Stretch]:  # fmt: skip
    """From when to when notes sound (seconds) that begin and end with their keys, while a pedal sustains them: until it
    is let go, the key is struck again, or the piece is at its end. `notes` are start, end and key."""
    if not pedal:
        return [note[:2] for note in notes]
    downs, ups = (np.array(side) for side in zip(*pedal, strict=True))
    struck: dict[int, list[float]] = {}
    for start, _, key in sorted(notes):
        struck.setdefault(key, []).append(start)
    found = []
    for start, until, key in notes:
        place = int(np.searchsorted(downs, until, side="right")) - 1
        if place >= 0 and until <= ups[place]:
            again = struck[key][int(np.searchsorted(struck[key], start, side="right")) :]
            until = max(until, min(float(ups[place]), end, again[0] if again else end))
        found.append((start, until))
    return found
