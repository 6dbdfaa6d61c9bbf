"""A running house processor: its memory, and the C structure by which any host calls it."""

from __future__ import annotations

import importlib
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from . import abi
from .catalogue import PROCESSORS, complete


def load_all() -> None:
    """Has every processor ready: for a process that can read no files afterwards."""
    for processor in PROCESSORS.values():
        importlib.import_module(f"{__package__}.{processor.module}")


class Memory(NamedTuple):
    """What a processor works on. `latency` in samples; the arrays are those that `abi.memory_of` returns."""

    settings: NDArray[np.float64]
    state: NDArray[np.float64]
    samples: NDArray[np.float32]
    counters: NDArray[np.int64]
    latency: int = 0


class Instance:
    """One house processor, ready to run. `plugin` is the address of a `clap_plugin`, `process` that of its function.

    KeyError on an unknown identifier, ValueError on a setting out of range.
    """

    def __init__(self, identifier: str, values: dict[str, float], rate: int) -> None:
        module = importlib.import_module(f"{__package__}.{PROCESSORS[identifier].module}")
        memory: Memory = module.memory(complete(identifier, values), rate)
        self.latency = memory.latency
        self._arrays = memory[:4]
        self._fresh = [array.copy() for array in self._arrays]
        pairs = [word for array in self._arrays for word in (array.ctypes.data, array.size)]
        self._own = np.array(pairs, np.int64)
        self._plugin = np.zeros(abi.PLUGIN_BYTES // 8, np.int64)
        self._plugin[abi.PLUGIN_DATA // 8] = self._own.ctypes.data
        self._plugin[abi.PLUGIN_PROCESS // 8] = module.process.address
        self.plugin = self._plugin.ctypes.data
        self.process = module.process.address

    def reset(self) -> None:
        """Back to the state in which it was made."""
        for array, fresh in zip(self._arrays, self._fresh, strict=True):
            array[:] = fresh
