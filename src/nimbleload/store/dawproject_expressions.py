"""What single notes of an exchange file do while they last: curves inside of a note, in a time of their own."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import NamedTuple

import msgspec
from lxml import etree

from ..core.session.curves import Curve, Point
from ..core.session.expressions import GAIN, PAN, PRESSED, RANGES, TIMBRE, TRANSPOSE, Expression
from .archive import ImportRefusedError
from .dawproject_controllers import UNITS, WHERE, add_points, channel_of, expression
from .dawproject_curves import GAINS, real_points
from .sounding import NotePart
from .xml_values import number

# In which unit values are known to be counted, and by what they are divided then.
KNOWN = {PAN: {"normalized": 1.0, "percent": 100.0}, TRANSPOSE: {"semitones": 1.0}, TIMBRE: UNITS, PRESSED: UNITS}
OF_KEY, MOST_KEY, CHANNELS = "polyPressure", 127, 16
WRITTEN = {GAIN: "linear", TRANSPOSE: "semitones"}


def of_note(note: etree._Element, at: Callable[[str, float], float]) -> tuple[Expression, ...] | None:
    """What a note does while it lasts; None if some of it cannot be followed. `at` gives the second of the piece of a
    time in the note, in the unit that is named, or in the note's own if none is."""
    found = {}
    for points in note.iter("Points"):
        target = expression(points)
        if target is None:
            continue
        try:
            each = _expression(points, target.get("expression", ""), at)
        except ImportRefusedError:
            return None
        if each is None or each.kind in found:
            return None
        found[each.kind] = each
    return tuple(found[kind] for kind in sorted(found))


class Pressing(NamedTuple):
    """How hard the notes of a key are pressed, on one channel or on all (None), in the piece."""

    key: int
    channel: int | None
    how: Expression


def is_of_key(points: etree._Element) -> bool:
    """Whether a curve says how hard a key is pressed."""
    target = expression(points)
    return target is not None and target.get("expression") == OF_KEY


def of_key(points: etree._Element, at: Callable[[float], float]) -> Pressing | None:
    """How hard a key is pressed; None if that cannot be followed. `at` gives the second of a time in the curve."""
    target = points.find("Target")
    if target is None or target.get("key") is None:
        return None
    try:
        key = round(number(target, "key", 0, WHERE, 0, MOST_KEY))
        channel = channel_of(target) if target.get("channel") is not None else None
        how = _expression(points, PRESSED, lambda _, time: at(time))
    except ImportRefusedError:
        return None
    return None if how is None else Pressing(key, channel, how)


def pressed(notes: Sequence[NotePart], how: Sequence[Pressing]) -> list[NotePart] | None:
    """The notes as they are pressed; None where one of them would be in two ways."""
    found, by_key = [], dict[int, list[Pressing]]()
    for each in how:
        by_key.setdefault(each.key, []).append(each)
    if any(len(of_one) > CHANNELS + 1 for of_one in by_key.values()):
        return None
    for note in notes:
        ways = [each.how for each in by_key.get(note.key, ()) if each.channel in (None, note.channel)]
        if len(ways) + any(each.kind == PRESSED for each in note.expressions) > 1:
            return None
        found.append(msgspec.structs.replace(note, expressions=(*note.expressions, *ways)) if ways else note)
    return found


def _expression(points: etree._Element, kind: str, at: Callable[[str, float], float]) -> Expression | None:
    """One curve; None if it cannot be followed. ImportRefusedError if it cannot be read."""
    unit = points.get("unit", "linear" if kind == GAIN else "normalized")
    time = _time_unit(points)
    moves = real_points(points, lambda place: at(time, place))
    if not moves or len(moves) < len(points) - 1:
        return None
    if kind == GAIN and unit in GAINS:
        curve = Curve(moves, GAINS[unit])
        values = [10 ** (min(point.value, 100.0) / 20) if curve.unit == "decibel" else point.value for point in moves]
    elif unit in KNOWN.get(kind, {}):
        scale = KNOWN[kind][unit]
        curve = Curve(tuple(Point(point.second, point.value / scale, point.ramp) for point in moves))
        values = [point.value for point in curve.points]
    else:
        return None
    least, most = RANGES[kind]
    return Expression(kind, curve) if all(least <= value <= most for value in values) else None


def _time_unit(points: etree._Element) -> str:
    """The unit of times in a curve, from itself or what it lies in inside of the note; empty for the note's own."""
    of: etree._Element | None = points
    while of is not None and of.tag != "Note":
        if of.get("timeUnit"):
            return str(of.get("timeUnit"))
        of = of.getparent()
    return ""


def as_note(note: NotePart, begins: float) -> etree._Element:
    """A note as an element for a clip that begins at a second of the piece, with what it does while it lasts."""
    made = etree.Element(
        "Note", time=repr(note.start - begins), duration=repr(note.end - note.start), channel=str(note.channel),
        key=str(note.key), vel=repr(note.velocity),
    )  # fmt: skip
    lanes = etree.SubElement(made, "Lanes", timeUnit="seconds") if note.expressions else made
    for each in note.expressions:
        unit = "decibel" if each.curve.unit == "decibel" else WRITTEN.get(each.kind, "normalized")
        points = etree.SubElement(lanes, "Points", unit=unit, timeUnit="seconds")
        etree.SubElement(points, "Target", expression=each.kind)
        add_points(points, each.curve, note.start)
    return made
