"""The tempo and the time signatures of an exchange file, by beats whatever the file counts in."""

from __future__ import annotations

import msgspec
from lxml import etree

from ..core.session.meter import is_possible
from ..core.session.session import Meter, TempoPoint
from ..core.session.tempo import TempoMap
from ..core.units import count
from .archive import WHERE
from .xml_values import number


def tempo_of(root: etree._Element) -> tuple[TempoPoint, ...]:
    """The tempo map of a project: as automated, else as its transport has it; 120 where nothing is said."""
    points = []
    for automation in root.iter("TempoAutomation"):
        found = [
            TempoPoint(
                number(point, "time", 0, WHERE, 0), number(point, "value", 120, WHERE, 1, 10_000),
                point.get("interpolation") == "linear",
            )
            for point in automation.iter("RealPoint")
        ]  # fmt: skip
        points += in_beats(found) if unit_of(automation) == "seconds" else found
    if points:
        return tuple(sorted(points, key=lambda p: p.beat))
    tempo = root.find("Transport/Tempo")
    return (TempoPoint(0.0, 120.0 if tempo is None else number(tempo, "value", 120, WHERE, 1, 10_000)),)


def meters_of(root: etree._Element, tempo: TempoMap, left_out: list[str]) -> tuple[Meter, ...]:
    """The time signatures of a project, in order; those that cannot be are told."""
    found, odd = list[Meter](), 0
    signs = [(0.0, each) for each in root.findall("Transport/TimeSignature")]
    for automation in root.iter("TimeSignatureAutomation"):
        in_seconds = unit_of(automation) == "seconds"
        for point in automation.iter("TimeSignaturePoint"):
            at = number(point, "time", 0, WHERE, 0)
            signs.append((tempo.beat(at) if in_seconds else at, point))
    for beat, sign in signs:
        beats, unit = (int(number(sign, name, 4, WHERE, 0, 1e9)) for name in ("numerator", "denominator"))
        if is_possible(beats, unit):
            # What is automated from a beat on counts there, not what stands beside it.
            found = [each for each in found if each.beat != beat] + [Meter(beat, beats, unit)]
        else:
            odd += 1
    if odd:
        left_out.append(f"{count(odd, 'time signature')} that cannot be.")
    return tuple(sorted(found, key=lambda each: each.beat)) or (Meter(),)


def unit_of(element: etree._Element) -> str:
    """The time unit of a timeline: its own, else that of what holds it, else beats."""
    for each in (element, *element.iterancestors()):
        unit = each.get("timeUnit")
        if unit is not None:
            return str(unit)
    return "beats"


def in_beats(points: list[TempoPoint]) -> list[TempoPoint]:
    """Tempo points whose places are seconds, with their places in beats: what has been played until then."""
    found: list[TempoPoint] = []
    beat, before = 0.0, None
    for point in sorted(points, key=lambda p: p.beat):
        if before is None:
            beat = point.beat * point.bpm / 60
        else:
            bpm = (before.bpm + point.bpm) / 2 if before.ramp else before.bpm
            beat += (point.beat - before.beat) * bpm / 60
        before = point
        found.append(msgspec.structs.replace(point, beat=beat))
    return found
