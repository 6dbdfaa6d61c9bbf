"""What single notes of an exchange file do while they last: curves inside of a note, in a time of their own."""

from __future__ import annotations

from collections.abc import Callable

from lxml import etree

from ..core.session.curves import Curve, Point
from ..core.session.expressions import GAIN, PAN, PRESSED, RANGES, TIMBRE, TRANSPOSE, Expression
from .archive import ImportRefusedError
from .dawproject_controllers import UNITS, WHERE, add_points, expression
from .dawproject_curves import GAINS
from .sounding import NotePart
from .xml_values import number

# In which unit values are known to be counted, and by what they are divided then.
KNOWN = {PAN: {"normalized": 1.0, "percent": 100.0}, TRANSPOSE: {"semitones": 1.0}, TIMBRE: UNITS, PRESSED: UNITS}
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


def _expression(points: etree._Element, kind: str, at: Callable[[str, float], float]) -> Expression | None:
    """One curve; None if it cannot be followed. ImportRefusedError if it cannot be read."""
    unit = points.get("unit", "linear" if kind == GAIN else "normalized")
    time = _time_unit(points)
    moves = sorted(
        (Point(at(time, number(each, "time", 0, WHERE)), number(each, "value", 0, WHERE),
               each.get("interpolation") == "linear") for each in points.findall("RealPoint")),
        key=lambda point: point.second,
    )  # fmt: skip
    if not moves or len(moves) < len(points) - 1:
        return None
    if kind == GAIN and unit in GAINS:
        curve = Curve(tuple(moves), GAINS[unit])
        values = [10 ** (point.value / 20) if curve.unit == "decibel" else point.value for point in moves]
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
