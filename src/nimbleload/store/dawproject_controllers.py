"""The controllers in an exchange file: curves in lanes and clips of notes that say how a pedal, a wheel or a bend goes.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import NamedTuple

from lxml import etree

from ..core.session.controllers import BEND, PRESSURE, Controller, joined
from ..core.session.curves import Curve, Point
from .archive import WHERE, ImportRefusedError
from .dawproject_curves import point_of, value_of
from .xml_values import number

MOST_CHANNEL, MOST_CONTROLLER = 15, 127
# How whole numbers count: as in MIDI.
WHOLE = 127.0
# In which units values are known to go from 0 to 1, and by what they are divided then; others depend on the plugin.
UNITS = {"normalized": 1.0, "linear": 1.0, "percent": 100.0}
KINDS = ("RealPoint", "IntegerPoint", "BoolPoint")
KIND_OF = {PRESSURE: "channelPressure", BEND: "pitchBend"}


class Pass(NamedTuple):
    """How a controller goes once through a clip or a lane: which one, on which channel (None: on all), and its points
    in order of time, from 0 to 1."""

    number: int
    channel: int | None
    points: list[Point]


def expression(points: etree._Element) -> etree._Element | None:
    """What a curve moves that belongs to what is played, not to a plugin's parameter; None if it moves no such."""
    target = points.find("Target")
    return target if target is not None and target.get("expression") else None


def followed(points: etree._Element, at: Callable[[float], float]) -> Pass | None:
    """What a curve tells of a controller; `at` gives the second of a time in it. None if it cannot be followed."""
    target = expression(points)
    if target is None:
        return None
    try:
        which = _number(target)
        found = [_point(each, points.get("unit", "normalized"), which, at) for each in points if each.tag in KINDS]
        on = None if target.get("channel") is None else round(number(target, "channel", 0, WHERE, 0, MOST_CHANNEL))
    except ImportRefusedError:
        return None
    if which is None or not found or not all(0 <= point.value <= 1 for point in found):
        return None
    return Pass(which, on, sorted(found, key=lambda point: point.second))


def _number(target: etree._Element) -> int | None:
    """The number of the controller that a curve moves; None for what is none."""
    kind = target.get("expression")
    if kind == "channelController" and target.get("controller") is not None:
        return round(number(target, "controller", 0, WHERE, 0, MOST_CONTROLLER))
    return next((found for found, name in KIND_OF.items() if name == kind), None)


def _point(element: etree._Element, unit: str, which: int | None, at: Callable[[float], float]) -> Point:
    """A point of a curve. ImportRefusedError if it cannot be read, or where in its range a value lies is not known."""
    # Bend rests in the middle of what is normalized; anything else counts from there, or in what a plugin makes of it.
    if unit not in UNITS or (which == BEND and unit != "normalized"):
        raise ImportRefusedError(f"its unit is {unit}")
    share = value_of(element) / (WHOLE if element.tag == "IntegerPoint" else UNITS[unit])
    return point_of(element, at, share)


def channel_of(note: etree._Element) -> int:
    """The channel that a note lies on; the first one if it does not say, or says what is none."""
    said = note.get("channel", "")
    return min(int(said.lstrip("0")[:3] or "0"), MOST_CHANNEL) if said.isascii() and said.isdecimal() else 0


def of_track(passes: Iterable[Pass], channels: Iterable[int]) -> tuple[Controller, ...] | None:
    """The controllers of a track whose notes lie on some channels. A curve that does not say its channel is for all
    that notes lie on; None if a controller moves by such a curve and also on a channel of its own."""
    found, playing = list(passes), sorted(set(channels)) or [0]
    for_all = {each.number for each in found if each.channel is None}
    if any(each.channel is not None and each.number in for_all for each in found):
        return None
    return joined(
        (each.number, channel, each.points)
        for each in found for channel in (playing if each.channel is None else [each.channel])
    )  # fmt: skip


def as_points(controller: Controller, begins: float, own: str = "") -> etree._Element:
    """A controller as an element for a clip that begins at a second of the piece; `own` is the element's id, if any."""
    points = etree.Element("Points", unit="normalized", timeUnit="seconds")
    if own:
        points.set("id", own)
    channel = str(controller.channel)
    if controller.number in KIND_OF:
        etree.SubElement(points, "Target", expression=KIND_OF[controller.number], channel=channel)
    else:
        number = str(controller.number)
        etree.SubElement(points, "Target", expression="channelController", channel=channel, controller=number)
    add_points(points, controller.curve, begins)
    return points


def add_points(points: etree._Element, curve: Curve, begins: float) -> None:
    """Writes the points of a curve, for what begins at a second of the piece."""
    for point in curve.points:
        how = "linear" if point.ramp else "hold"
        time, value = f"{point.second - begins:.9f}", f"{point.value:.9g}"
        etree.SubElement(points, "RealPoint", time=time, value=value, interpolation=how)
