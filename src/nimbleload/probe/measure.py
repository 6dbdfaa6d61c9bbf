"""What one plugin costs: at each buffer size, sounding and silent, its own rhythm apart from the machine's noise."""

from __future__ import annotations

import math
import time
from collections.abc import Iterator, Sequence
from typing import NamedTuple

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..core.card import Cell, Truth, summarise
from ..core.session import PluginUse
from .formats.hosted import Hosted, Note
from .signal import chord, musical, released
from .timed import TimedLoop, overhead_ns
from .truth import find_truth

LONGEST_CYCLE = 8192
SILENCE = 10 ** (-90 / 20)
SLOWEST_TAIL_SECONDS = 15.0


class Effort(msgspec.Struct, frozen=True):
    """How much to measure: `runs` from the same fresh state, and about `seconds` of clock time for each cell."""

    runs: int = 5
    seconds: float = 0.25


class Facts(NamedTuple):
    """What is true of the plugin at any buffer size: latency in samples, tail in seconds (None: not within 15 s)."""

    latency: int
    tail: float | None
    version: str
    truth: Truth


class Measurement:
    """Measures one hosted plugin at one rate. The cells come one by one, so that none is lost when it is ended."""

    def __init__(self, hosted: Hosted, use: PluginUse, rate: int, effort: Effort) -> None:
        self._hosted, self._rate, self._effort = hosted, rate, effort
        self._notes: tuple[Note, ...] = chord(use.voices) if use.voices else ()
        self._loop = TimedLoop(hosted, musical(len(hosted.inputs), rate))
        self._overhead = overhead_ns()
        self._tail: float | None = None

    def facts(self) -> Facts:
        """Latency, tail and version; runs the plugin until its tail has died, at a middling block size."""
        frames = 512
        self._sound(frames, math.ceil(0.5 * self._rate / frames))
        self._hush(frames)
        self._tail = self._find_tail(frames)
        truth = find_truth(self._hosted, self._loop, self._notes)
        self._hosted.settled()
        return Facts(self._hosted.latency, self._tail, self._hosted.version, truth)

    def _find_tail(self, frames: int) -> float | None:
        """When the output last exceeds −90 dBFS after the input ends, in seconds; None if it is still there at 15 s."""
        step = max(self._rate // frames // 5, 1)
        most = int(SLOWEST_TAIL_SECONDS * self._rate) // frames
        wanted_quiet = max(self._rate // frames // 2, LONGEST_CYCLE // frames + 1)
        peaks = np.zeros(0, np.float32)
        while len(peaks) < most:
            peaks = np.concatenate((peaks, self._loop.silent_peaks(frames, step)))
            loud = np.flatnonzero(~(peaks <= SILENCE))
            last = int(loud[-1]) + 1 if len(loud) else 0
            if len(peaks) - last >= wanted_quiet:
                return last * frames / self._rate
        return None

    def cells(self, buffers: Sequence[int]) -> Iterator[Cell]:
        """A sounding and a silent cell for each buffer size, in the order given."""
        for frames in buffers:
            yield self._sounding(frames)
            yield self._silent(frames)

    def _sound(self, frames: int, blocks: int) -> NDArray[np.int64]:
        """A run from a fresh state, with the same input every time."""
        self._hosted.settled()
        self._hosted.restart()
        self._loop.rewind()
        return self._loop.run(frames, blocks, self._notes)

    def _hush(self, frames: int) -> None:
        """Ends the notes, if there are any, and the input."""
        self._loop.run(frames, 1, released(self._notes), silent=True)

    def _lead(self, frames: int, typical_ns: float) -> int:
        """Blocks to leave out at the start, in whole cycles: caches fill, and what the plugin remembers fills up.

        That takes as long as its tail; a costly plugin is given no longer than the time allowed for a cell.
        """
        cycle = max(LONGEST_CYCLE // frames, 4)
        remembered = min(self._tail or 0.0, SLOWEST_TAIL_SECONDS) * self._rate / frames
        allowed = self._effort.seconds * 1e9 / max(typical_ns, 50.0)
        return math.ceil(max(cycle, min(remembered, allowed)) / cycle) * cycle

    def _blocks(self, frames: int, typical_ns: float) -> int:
        """How many blocks to time in a run: whole cycles, within the time allowed but at least two cycles' worth."""
        cycle = max(LONGEST_CYCLE // frames, 1)
        allowed = self._effort.seconds * 1e9 / self._effort.runs / max(typical_ns, 50.0)
        wanted = min(max(allowed, 24, 2 * cycle), 4096)
        return max(cycle, round(wanted / cycle) * cycle)

    def _sounding(self, frames: int) -> Cell:
        typical = float(np.mean(self._sound(frames, 2 * self._lead(frames, 1e9))))
        lead, blocks = self._lead(frames, typical), self._blocks(frames, typical)
        runs = [self._sound(frames, lead + blocks)[lead:] for _ in range(self._effort.runs)]
        return self._summary(np.array(runs), frames, "sounding")

    def _silent(self, frames: int) -> Cell:
        """After sounding, when the tail has died: consecutive stretches of whole cycles stand for the runs."""
        self._sound(frames, max(self._lead(frames, 1e9), math.ceil(0.1 * self._rate / frames)))
        self._hush(frames)
        settle = math.ceil((0.1 + (self._tail or 0.5)) * self._rate / frames) + LONGEST_CYCLE // frames
        step = max(settle // 64, 1)
        until = time.monotonic() + 4 * self._effort.seconds
        typical = 1e9
        while settle > 0 and time.monotonic() < until:
            typical = float(np.mean(self._loop.run(frames, step, silent=True)))
            settle -= step
        blocks = self._blocks(frames, 2 * typical)
        runs = [self._loop.run(frames, blocks, silent=True) for _ in range(self._effort.runs)]
        return self._summary(np.array(runs), frames, "silent")

    def _summary(self, runs: NDArray[np.int64], frames: int, condition) -> Cell:
        """The least over the runs (R, B, ns) is the plugin's own time for each block; the rest is the machine's."""
        runs = np.maximum(runs - self._overhead, 0)
        own = runs.min(axis=0)
        extra = runs - own
        disturbed = np.mean(extra > own // 4 + 1000)
        return summarise(own, float(extra.mean()), bool(disturbed <= 0.05), self._rate, frames, condition)
