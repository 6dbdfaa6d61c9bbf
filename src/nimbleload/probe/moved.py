"""Automation of a plugin that is rendered: at which samples which of its parameters gets which value.

A value that moves is told every STEP samples of the piece, and where the session has a point, whatever the block size;
a plugin whose parameters only change between two blocks runs in blocks no longer than that.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from ..core.session.curves import Moving
from .formats.hosted import Hosted, Move, Parameter, PluginError

STEP = 64


def step_of(buffer: int) -> int:
    """The longest block of at most STEP samples that a block of the host's is a whole number of."""
    return next(length for length in range(min(buffer, STEP), 0, -1) if buffer % length == 0)


class Moved:
    """The parameters of one loaded plugin that move. PluginError if it has no such parameters, or takes no changes."""

    def __init__(self, hosted: Hosted, moving: Sequence[Moving], rate: int) -> None:
        self._moves = hosted.moves
        self._within = hosted.moves in ("lines", "steps")
        self._of = [(found_in(hosted, m.parameter), m.curve.at(rate), m.curve.unit == "share") for m in moving]
        if self._of and hosted.moves == "not":
            raise PluginError("it takes its settings only as it starts, and they are automated")

    def at_start(self) -> tuple[Move, ...]:
        """What all have at the start of the piece."""
        zero = np.zeros(1, np.int64)
        return tuple(
            Move(parameter.key, float(self._values(number, zero)[0])) for number, (parameter, *_) in enumerate(self._of)
        )

    def between(self, first: int, samples: int, step: int) -> list[tuple[int, str, float]]:
        """What changes in samples of the piece, from one on: rows of sample, key and value, in order of time.

        `step` is the length of a block (samples): where values change only between two, they are told at its start.
        """
        found: list[tuple[int, str, float]] = []
        for number, (parameter, curve, _) in enumerate(self._of):
            grid = STEP if self._within else step
            # One more than are asked for, since a value that begins to move is told before it does.
            places = np.arange(-(-first // grid) * grid, first + samples + grid, grid)
            if self._within:
                own = curve.places
                own = own[(own >= first) & (own < first + samples)]
                places = np.union1d(places, np.concatenate((own, own[own > first] - 1)))
            if self._moves == "lines":
                # A line ends with its block: where it is then has to be told.
                places = np.union1d(places, np.arange(first + step - 1, first + samples, step))
            values = self._values(number, places)
            # The first of them is told anew.
            told = np.concatenate(([True], values[1:] != values[:-1]))
            if self._within:
                told[:-1] |= values[1:] != values[:-1]
            told &= places < first + samples
            rows = zip(places[told].tolist(), values[told].tolist(), strict=True)
            found += [(at, parameter.key, value) for at, value in rows]
        return sorted(found, key=lambda row: row[0])

    def _values(self, number: int, places: NDArray[np.int64]) -> NDArray[np.float64]:
        """The values of a parameter at samples of the piece, as the plugin counts them."""
        parameter, curve, is_share = self._of[number]
        values = curve.values(places)
        if is_share:
            values = parameter.least + values * (parameter.most - parameter.least)
        return np.clip(values, parameter.least, parameter.most)


def found_in(hosted: Hosted, name: str) -> Parameter:
    """The parameter of a plugin that a session means: by its key, or by its name. PluginError if it has none."""
    known = hosted.parameters()
    for parameter in known:
        if parameter.key == name:
            return parameter
    for parameter in known:
        if parameter.name.lower() == name.lower():
            return parameter
    raise PluginError(f"it has no parameter {name!r}, which is automated")
