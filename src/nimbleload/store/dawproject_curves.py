"""The automation of an exchange file: which parameters, faders and switches move by themselves, and how."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Literal, NamedTuple

from lxml import etree
from msgspec.structs import replace

from ..core.piece.moments import Span
from ..core.session.curves import Curve, Moving, Point, SendMoving
from ..core.session.strips import Strip
from ..core.session.tempo import TempoMap
from .archive import WHERE, ImportRefusedError
from .xml_values import balanced, number

# More points than this in all are not followed.
MOST_POINTS = 1_000_000
POINTS = ("RealPoint", "IntegerPoint", "BoolPoint", "EnumPoint")
PARAMETERS = ("RealParameter", "IntegerParameter", "BoolParameter", "EnumParameter")
GAINS: dict[str, Literal["plain", "decibel"]] = {"linear": "plain", "decibel": "decibel"}
TRUTHS = {"true": 1.0, "false": 0.0}
# Why something that moves cannot be followed.
SWITCHED, UNCLEAR, PANNED, MUTED, SENT, RIDDEN = "switched", "unclear", "panned", "muted", "sent", "ridden"


class Curves:
    """What moves in the arrangement of one project, by the ids of parameters; `unclear` are those that are automated in
    clips, twice, or by points that cannot be read."""

    def __init__(self, root: etree._Element, tempo: TempoMap) -> None:
        self._tempo, self._count = tempo, 0
        self._found: dict[str, tuple[Curve, str]] = {}
        self.unclear: set[str] = set()
        arrangement = root.find("Arrangement")
        if arrangement is not None:
            self._walk(arrangement, "beats")

    @property
    def has_any(self) -> bool:
        """Whether anything is automated at all."""
        return bool(self._found or self.unclear)

    def has(self, element: etree._Element) -> bool:
        """Whether a parameter is automated, if only by one value."""
        own = element.get("id")
        return own in self._found or own in self.unclear

    def moves(self, element: etree._Element) -> bool:
        """Whether a parameter is automated by more than one value, or in a way that cannot be followed."""
        found = self._known(element)
        return self.has(element) if found is None else len({point.value for point in found[0].points}) > 1

    def of(self, element: etree._Element) -> Curve | None:
        """How a parameter moves, in its own unit; None if it does not, or that is unclear."""
        found = self._known(element)
        if found is None:
            return None
        curve, unit = found
        wanted = element.get("unit")
        if unit in ("", wanted):
            return replace(curve, unit="share") if wanted == "normalized" else curve
        if unit == "normalized":
            return _within(curve, element)
        return curve if wanted is None else None

    def of_gain(self, element: etree._Element) -> Curve | None:
        """How a fader moves; None if it does not, or in a unit that is none of a gain."""
        found = self._known(element)
        if found is None:
            return None
        curve, unit = found
        unit = unit or element.get("unit") or "linear"
        return replace(curve, unit=GAINS[unit]) if unit in GAINS else None

    def of_pan(self, element: etree._Element) -> Curve | None:
        """How a pan moves, from −1 (left) to 1 (right); None if it does not, or that is unclear."""
        curve = self.of(element)
        if curve is None:
            return None
        least, most = (0.0, 1.0) if curve.unit == "share" else (
            number(element, "min", 0.0, WHERE), number(element, "max", 1.0, WHERE))
        if not most > least:
            return None
        return Curve(tuple(replace(p, value=balanced(p.value, least, most)) for p in curve.points))

    def _known(self, element: etree._Element) -> tuple[Curve, str] | None:
        """How a parameter moves, and the unit of the points; None if it does not, or that is unclear."""
        own = element.get("id")
        return self._found.get(own) if own is not None and own not in self.unclear else None

    def _walk(self, element: etree._Element, unit: str) -> None:
        unit = element.get("timeUnit", unit)
        for child in element:
            if child.tag == "Lanes":
                self._walk(child, unit)
            elif child.tag == "Points":
                self._read(child, child.get("timeUnit", unit))
            elif isinstance(child.tag, str):
                self.unclear.update(target for points in child.iter("Points") if (target := _target(points)))

    def _read(self, points: etree._Element, unit: str) -> None:
        target = _target(points)
        if target is None:
            return
        at = float if unit == "seconds" else self._tempo.seconds
        try:
            found = [point_of(each, at, value_of(each)) for each in points if each.tag in POINTS]
        except ImportRefusedError:
            found = []
        self._count += len(found)
        if not found or target in self._found or self._count > MOST_POINTS:
            self.unclear.add(target)
            return
        found.sort(key=lambda point: point.second)
        self._found[target] = Curve(tuple(found)), points.get("unit", "")


def point_of(element: etree._Element, at: Callable[[float], float], value: float) -> Point:
    """A point of a curve that has a value; `at` gives the second of a time in it. ImportRefusedError if the time cannot
    be read."""
    return Point(at(number(element, "time", 0, WHERE)), value, element.get("interpolation") == "linear")


def real_points(points: etree._Element, at: Callable[[float], float]) -> tuple[Point, ...]:
    """Those points of a curve that are real numbers, in order of time. ImportRefusedError if one cannot be read."""
    found = (point_of(each, at, number(each, "value", 0, WHERE)) for each in points.findall("RealPoint"))
    return tuple(sorted(found, key=lambda point: point.second))


def value_of(element: etree._Element) -> float:
    """The value of a point, 1 or 0 for the truth of a switch. ImportRefusedError if it is no number."""
    truth = TRUTHS.get((element.get("value") or "").strip().lower())
    return number(element, "value", 0, WHERE) if truth is None else truth


def _within(curve: Curve, element: etree._Element) -> Curve | None:
    """Shares of a range as values in it, where the file says what it is; None if it says so in no numbers."""
    if element.get("min") is None or element.get("max") is None:
        return replace(curve, unit="share")
    try:
        least, most = number(element, "min", 0, WHERE), number(element, "max", 1, WHERE)
    except ImportRefusedError:
        return None
    return replace(curve, points=tuple(replace(p, value=least + p.value * (most - least)) for p in curve.points))


def _target(points: etree._Element) -> str | None:
    target = points.find("Target")
    return target.get("parameter") if target is not None else None


def of_devices(strip_id: str, channel: etree._Element, curves: Curves) -> tuple[list[Moving], list[tuple[str, str]]]:
    """The parameters of a channel's plugins that move, and the uses of which something moves that cannot be followed,
    each with why."""
    moving: list[Moving] = []
    unclear: list[tuple[str, str]] = []
    for index, device in enumerate(channel.findall("Devices/*")):
        use = f"{strip_id}/{index}"
        for element in device.iter():
            if not isinstance(element.tag, str) or not curves.has(element):
                continue
            curve, name = curves.of(element), element.get("parameterID") or element.get("name")
            above = element.getparent()
            if element.tag not in PARAMETERS or above is None or above.tag != "Parameters":
                unclear += [(use, SWITCHED if element.tag == "Enabled" else UNCLEAR)] if curves.moves(element) else []
            elif curve is None or name is None:
                unclear.append((use, UNCLEAR))
            else:
                moving.append(Moving(use, name, curve))
    return moving, list(dict.fromkeys(unclear))


def moves_in(device: etree._Element, curves: Curves) -> bool:
    """Whether something of a plugin moves in the piece: its parameters, or whether it is on."""
    return curves.has_any and any(isinstance(each.tag, str) and curves.moves(each) for each in device.iter())


Read = Callable[[etree._Element], Curve | None]


class Ways(NamedTuple):
    """How what a channel gives moves: its fader (a gain), whether it is heard (1) or muted (0), each of its sends, and
    its pan (−1 to 1); None and empty where nothing does. `unclear` says why something cannot be followed."""

    fader: Curve | None
    heard: Curve | None
    sends: tuple[SendMoving, ...]
    pan: Curve | None
    unclear: tuple[str, ...]


def of_channel(channel: etree._Element, sends: Sequence[etree._Element], curves: Curves) -> Ways:
    """How what a channel gives moves; `sends` are those of its sends that lead anywhere."""
    unclear: list[str] = []

    def followed(of: etree._Element, path: str, why: str, read: Read) -> Curve | None:
        element = of.find(path)
        if element is None or not curves.has(element):
            return None
        found = read(element)
        if found is None:
            unclear.append(why)
        return found

    fader = followed(channel, "Volume", RIDDEN, curves.of_gain)
    heard = _gate(followed(channel, "Mute", MUTED, curves.of), False)
    ways = [
        SendMoving(
            followed(send, "Volume", SENT, curves.of_gain), _gate(followed(send, "Enable", SENT, curves.of), True)
        )
        for send in sends
    ]
    pan = followed(channel, "Pan", PANNED, curves.of_pan)
    if any(curves.moves(element) for send in sends for element in send.findall("Pan")):
        unclear.append(SENT)
    moves = any(way != SendMoving() for way in ways)
    return Ways(fader, heard, tuple(ways) if moves else (), pan, tuple(dict.fromkeys(unclear)))


def _gate(switch: Curve | None, opens: bool) -> Curve | None:
    """What a switch lets through: 1 while it has the value that opens, else 0."""
    if switch is None:
        return None
    return Curve(tuple(Point(point.second, float((point.value >= 0.5) == opens)) for point in switch.points))


def ever(element: etree._Element | None, curves: Curves, value: bool, still: bool) -> bool:
    """Whether a switch that may be automated has a value at any time; `still` is what it has where nothing moves it."""
    found = curves.of(element) if element is not None else None
    return still == value if found is None else any((point.value >= 0.5) == value for point in found.points)


def switches(strip: Strip, channel: etree._Element, curves: Curves) -> list[Curve | None]:
    """How each plugin of a strip that is on is switched on and off by automation; None for one that is not, or in a
    way that cannot be followed."""
    devices = channel.findall("Devices/*")
    found: list[Curve | None] = []
    for use in strip.live_uses():
        switch = devices[int(use.id.rpartition("/")[2])].find("Enabled")
        found.append(curves.of(switch) if switch is not None and curves.moves(switch) else None)
    return found


def only_in_silence(switched: Sequence[Curve | None], sounding: Sequence[Span], length: float) -> Curve | None:
    """When plugins that are all switched, and off only while nothing sounds, are all on (1; else 0); None if they are
    not."""
    curves = [curve for curve in switched if curve is not None]
    if not curves or len(curves) < len(switched) or any(
        start < there[1] and there[0] < end for curve in curves for start, end in _off(curve, length)
        for there in sounding
    ):  # fmt: skip
        return None
    seconds = sorted({point.second for curve in curves for point in curve.points})
    on = [all(curve.value_at(each) >= 0.5 for curve in curves) for each in seconds]
    return Curve(tuple(Point(each, float(value)) for each, value in zip(seconds, on, strict=True)))


def rests(switched: Sequence[Curve | None], sounding: Sequence[Span], length: float) -> bool:
    """Whether plugins are off for half of the time at least in which nothing sounds: what a host does that suspends a
    track while it is silent."""
    silent = length - sum(end - start for start, end in sounding)
    return all(
        curve is not None and sum(end - start for start, end in _off(curve, length)) >= silent / 2 for curve in switched
    )


def _off(curve: Curve, length: float) -> list[Span]:
    ends = [*(point.second for point in curve.points[1:]), length]
    return [(point.second, end) for point, end in zip(curve.points, ends, strict=True) if point.value < 0.5]
