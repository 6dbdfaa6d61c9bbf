"""A plugin of one channel on a wider strip: an instance for each of its channels, as hosts run it, taken as one."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
from numba import cfunc
from numpy.typing import NDArray

from ...native.memory import PROCESS, call2, load_i64
from .hosted import ARGUMENTS_KEPT, Event, Hosted, Move, Parameter, Preset, Rows, Wiring
from .piece import Place

# What a function returns takes so many bits in what all do.
BITS = 4
MASK, MOST = 2**BITS - 1, 32 // BITS


@cfunc(PROCESS, cache=True)
def run_each(table, arguments):
    """Calls instances one after the other, each with its own argument: `table` holds how many there are, then function
    and handle of each."""
    codes = 0
    for k in range(load_i64(table)):
        at = table + 8 + 16 * k
        code = call2(load_i64(at), load_i64(at + 8), load_i64(arguments + 8 * k))
        codes |= (code & MASK) << (BITS * k)
    return codes


class Lot:
    """Memory for the inputs and outputs of so many instances: what the first one asks for lies in front of what the
    others will."""

    def __init__(self, instances: int) -> None:
        self._instances = instances
        self._whole: list[NDArray[np.float32]] = []
        self._given = 0

    def rows(self, count: int, longest: int) -> NDArray[np.float32]:
        """The inputs of an instance, or its outputs when it asks again (rows, longest; zeros): a row at least."""
        which, instance = self._given % 2, self._given // 2
        rows = max(count, 1)
        if instance == 0:
            self._whole.append(np.zeros((self._instances * rows, longest), np.float32))
        self._given += 1
        return self._whole[which][instance * rows : (instance + 1) * rows]

    @property
    def inputs(self) -> NDArray[np.float32]:
        return self._whole[0]

    @property
    def outputs(self) -> NDArray[np.float32]:
        return self._whole[1]


def load_wide(load: Callable[[Rows], Any], channels: int) -> Any:
    """A plugin on a strip of so many channels: `load` makes an instance of it, and is given what its inputs and outputs
    come from. One that has one channel is loaded once for each of the strip's."""
    wanted = min(max(channels, 1), MOST)
    lot = Lot(wanted)
    first = load(lot.rows)
    if wanted == 1 or first.wiring.mains != 1 or len(first.outputs) != 1:
        return first
    each = [first]
    try:
        while len(each) < wanted:
            each.append(load(lot.rows))
    except BaseException:
        for instance in each:
            instance.close()
        raise
    return PerChannel(each, lot)


def instances_of(hosted: Any) -> int:
    """How many instances of a plugin stand there."""
    return len(hosted.each) if isinstance(hosted, PerChannel) else 1


class PerChannel:
    """Instances of one plugin, one for each channel of its strip (see `hosted.Hosted`)."""

    def __init__(self, each: Sequence[Hosted], lot: Lot) -> None:
        self.each, first = tuple(each), each[0]
        self.inputs, self.outputs = lot.inputs, lot.outputs
        self.moves, self.is_turned, self.expresses = first.moves, first.is_turned, first.expresses
        self.wiring = _wired([instance.wiring for instance in each])
        self._table = np.zeros(1 + 2 * len(each), np.int64)
        self._table[0] = len(each)
        self._arguments: dict[tuple[int, ...], NDArray[np.int64]] = {}
        self.call, self.handle = run_each.address, self._table.ctypes.data
        self._enter()

    def _enter(self) -> None:
        """Notes down where each instance lies by now."""
        self._table[1:] = [word for instance in self.each for word in (instance.call, instance.handle)]

    @property
    def latency(self) -> int:
        return self.each[0].latency

    @property
    def version(self) -> str:
        return self.each[0].version

    @property
    def made_for(self) -> int:
        return self.each[0].made_for

    @property
    def defers(self) -> bool:
        return any(instance.defers for instance in self.each)

    def argument(self, frames: int, notes: tuple[Event, ...] = (), moves: tuple[Move, ...] = ()) -> int:
        key = tuple(instance.argument(frames, notes, moves) for instance in self.each)
        if key not in self._arguments:
            while len(self._arguments) >= ARGUMENTS_KEPT:
                del self._arguments[next(iter(self._arguments))]
            self._arguments[key] = np.array(key, np.int64)
        return int(self._arguments[key].ctypes.data)

    def locate(self, place: Place) -> None:
        for instance in self.each:
            instance.locate(place)

    def restart(self, frames: int) -> None:
        for instance in self.each:
            instance.restart(frames)
        self._enter()

    def settled(self) -> bool:
        did = [instance.settled() for instance in self.each]
        self._enter()
        return any(did)

    def failures(self, codes: NDArray[np.int32]) -> int:
        each = (codes >> BITS * k & MASK for k in range(len(self.each)))
        return max(instance.failures(own) for instance, own in zip(self.each, each, strict=True))

    def parameters(self) -> tuple[Parameter, ...]:
        return self.each[0].parameters()

    def presets(self) -> tuple[Preset, ...]:
        return self.each[0].presets()

    def close(self) -> None:
        for instance in self.each:
            instance.close()


def _wired(each: Sequence[Wiring]) -> Wiring:
    """What the inputs of all carry: each its own channel of the strip, and of what the side-chain hears."""
    count = len(each)
    signals = [
        -1 if signal < 0 else k if signal < wiring.own else count + k
        for k, wiring in enumerate(each) for signal in wiring.signals.tolist()
    ]  # fmt: skip
    return Wiring(np.array(signals, np.int64), count, count)
