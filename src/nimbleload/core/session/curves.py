"""Automation: how a value moves in the piece."""

from __future__ import annotations

from typing import Literal, NamedTuple

import msgspec
import numpy as np
from numpy.typing import NDArray


class Point(msgspec.Struct, frozen=True, array_like=True):
    """A value from a second of the piece on; with `ramp` it goes to the next point's in a straight line."""

    second: float
    value: float
    ramp: bool = False


class Curve(msgspec.Struct, frozen=True):
    """How a value moves: at least one point, in order of time. Before the first it has the first one's value.

    `unit`: "plain" as the value is counted, "share" from 0 to 1 of what it can be, "decibel" a gain; its ramps are
    straight in decibels.
    """

    points: tuple[Point, ...]
    unit: Literal["plain", "share", "decibel"] = "plain"

    def value_at(self, second: float) -> float:
        """The value of the last point that is not later, ramps left out."""
        return next((point.value for point in reversed(self.points) if point.second <= second), self.points[0].value)

    def at(self, rate: int) -> Followed:
        """The same at the samples of a rate in hertz."""
        return Followed(
            np.round(np.array([point.second for point in self.points]) * rate).astype(np.int64),
            np.array([point.value for point in self.points]),
            np.array([point.ramp for point in self.points]),
            self.unit == "decibel",
        )


class Followed(NamedTuple):
    """A curve at the samples of the piece: of P points the samples (int64, rising), the values, whether each ramps; and
    whether they are decibels."""

    places: NDArray[np.int64]
    levels: NDArray[np.float64]
    ramps: NDArray[np.bool_]
    is_decibel: bool

    def values(self, samples: NDArray[np.int64]) -> NDArray[np.float64]:
        """The value at samples of the piece (N): linear for a gain. Of points on one sample the last counts."""
        places, levels = self.places, self.levels
        last = np.clip(np.searchsorted(places, samples, "right") - 1, 0, len(places) - 1)
        following = np.minimum(last + 1, len(places) - 1)
        length = places[following] - places[last]
        share = np.clip((samples - places[last]) / np.maximum(length, 1), 0.0, 1.0)
        ramps = self.ramps[last] & (length > 0)
        found: NDArray[np.float64] = levels[last] + np.where(ramps, share, 0.0) * (levels[following] - levels[last])
        return np.power(10.0, found / 20) if self.is_decibel else found


class SendMoving(msgspec.Struct, frozen=True):
    """How a send moves: its level (a gain, in the place of the one that it stands at), and whether it is on (1 or 0).
    None where that stands still."""

    level: Curve | None = None
    on: Curve | None = None


class Moving(msgspec.Struct, frozen=True):
    """A parameter of a plugin that is automated: the use's id, and what the session calls the parameter."""

    use: str
    parameter: str
    curve: Curve
