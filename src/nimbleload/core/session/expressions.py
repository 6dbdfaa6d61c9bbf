"""What single notes do beside beginning and ending: louder, to a side, higher, brighter, pressed harder.

Each goes in a curve of its own while its note lasts, whatever other notes do on the same channel.
"""

from __future__ import annotations

import msgspec
import numpy as np

from .controllers import Told, changes, steadily
from .curves import Curve, Point

# How loud (a gain), where between left (0) and right (1), how much higher (semitones), how bright and how hard (0 … 1).
GAIN, PAN, TRANSPOSE, TIMBRE, PRESSED = KINDS = ("gain", "pan", "transpose", "timbre", "pressure")
# What each of them can be, in the standards that have them.
RANGES = {GAIN: (0.0, 4.0), PAN: (0.0, 1.0), TRANSPOSE: (-120.0, 120.0), TIMBRE: (0.0, 1.0), PRESSED: (0.0, 1.0)}


class Expression(msgspec.Struct, frozen=True, array_like=True):
    """One of KINDS, and how it goes in the piece, from 0 to 1 or as RANGES has it."""

    kind: str
    curve: Curve

    def later(self, seconds: float) -> Expression:
        """The same so many seconds later."""
        points = tuple(Point(each.second + seconds, each.value, each.ramp) for each in self.curve.points)
        return Expression(self.kind, Curve(points, self.curve.unit))


def told(expression: Expression, rate: int, begin: int, end: int) -> Told:
    """When a note that lasts from one sample to another is told of another value, and of which: samples of the piece at
    a rate (Hz), in order, and values. What it has before its first point is not known, so nothing is told."""
    followed = expression.curve.at(rate)
    at = steadily(followed)
    # What begins before its note counts from its beginning on.
    at = np.append([begin] if at[0] < begin else [], at[(at >= begin) & (at < end)]).astype(np.int64)
    return changes(at, np.clip(followed.values(at), *RANGES[expression.kind]))
