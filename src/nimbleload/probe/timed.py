"""The timed loop: compiled code that calls a plugin by its address, between two readings of the clock."""

from __future__ import annotations

import numpy as np
from numba import cfunc, njit, types
from numpy.typing import NDArray

from ..native.memory import PROCESS, call2, flush_denormals, keep_denormals, load_i64

CLOCK_MONOTONIC = 1
LINE_WORDS = 8
NOBODY = np.zeros(0, np.int64)

_clock_gettime = types.ExternalFunction("clock_gettime", types.int32(types.int32, types.int64))


@njit(inline="always")
def _now(clock):
    """Nanoseconds on the monotonic clock; `clock` is the address of a timespec."""
    _clock_gettime(CLOCK_MONOTONIC, clock)
    return load_i64(clock) * 1_000_000_000 + load_i64(clock + 8)


@njit(nogil=True, cache=True)
def _run(call, handle, first, rest, source, at, inputs, frames, times, clock, others, flush):
    """Runs len(times) blocks and fills times (ns). Returns where in `source` the next block begins.

    Before each block all cache lines of `others` are used, as the other plugins of a session would use theirs.
    """
    if flush:
        flush_denormals()
    else:
        keep_denormals()
    length = source.shape[1]
    argument = first
    for k in range(len(times)):
        if at + frames > length:
            at = 0
        for i in range(0, len(others), LINE_WORDS):
            others[i] += 1
        for c in range(inputs.shape[0]):
            row = c % source.shape[0]
            for i in range(frames):
                inputs[c, i] = source[row, at + i]
        at += frames
        begun = _now(clock)
        call2(call, handle, argument)
        times[k] = _now(clock) - begun
        argument = rest
    flush_denormals()
    return at


@njit(nogil=True, cache=True)
def _peaks(call, handle, rest, inputs, outputs, frames, peaks):
    """Runs len(peaks) silent blocks, untimed, and fills peaks with the largest output of each (linear)."""
    flush_denormals()
    inputs[:, :frames] = 0
    for k in range(len(peaks)):
        call2(call, handle, rest)
        largest = np.float32(0)
        for c in range(outputs.shape[0]):
            for i in range(frames):
                largest = max(largest, abs(outputs[c, i]))
        peaks[k] = largest


@njit(nogil=True, cache=True)
def _capture(call, handle, first, rest, source, inputs, outputs, frames, out):
    """Runs blocks from the start of the source, untimed, and copies what comes out to out (channels, N)."""
    flush_denormals()
    argument = first
    for k in range(out.shape[1] // frames):
        at = k * frames
        for c in range(inputs.shape[0]):
            inputs[c, :frames] = source[c % source.shape[0], at : at + frames]
        call2(call, handle, argument)
        out[:, at : at + frames] = outputs[:, :frames]
        argument = rest


@cfunc(PROCESS, cache=True)
def _nothing(handle, argument):
    return 0


class TimedLoop:
    """Runs one hosted plugin through blocks of a source signal (C, L, float32), and times each.

    A run starts at the beginning of the source and goes on where the last one ended.
    """

    def __init__(self, hosted, source: NDArray[np.float32]) -> None:
        self._hosted = hosted
        self.source = np.ascontiguousarray(source)
        self._silence = np.zeros_like(self.source)
        self._clock = np.zeros(2, np.int64)
        self._at = 0

    def rewind(self) -> None:
        """The next run starts at the beginning of the source."""
        self._at = 0

    def refresh(self) -> None:
        """Brings the plugin back to a fresh state; the next run starts at the beginning of the source."""
        self._hosted.settled()
        self._hosted.restart()
        self.rewind()

    def run(
        self,
        frames: int,
        blocks: int,
        notes=(),
        silent: bool = False,
        others: NDArray[np.int64] = NOBODY,
        flush: bool = True,
    ) -> NDArray[np.int64]:
        """The time of each block in nanoseconds (blocks, int64), the loop's own overhead included.

        `others` is memory that is used between the blocks; `flush` false lets denormal numbers be.
        """
        hosted = self._hosted
        times = np.zeros(blocks, np.int64)
        self._at = _run(
            hosted.call, hosted.handle, hosted.argument(frames, notes), hosted.argument(frames),
            self._silence if silent else self.source, self._at, hosted.inputs, frames, times,
            self._clock.ctypes.data, others, flush,
        )  # fmt: skip
        return times

    def capture(
        self, frames: int, blocks: int, notes=(), gain: float = 1.0, source: NDArray[np.float32] | None = None
    ) -> NDArray[np.float32]:
        """What comes out of blocks from the start of the source (channels, blocks × frames); nothing is timed.

        The source, or another one of the same shape, is made louder or softer by `gain` (linear).
        """
        hosted = self._hosted
        out = np.zeros((hosted.outputs.shape[0], blocks * frames), np.float32)
        _capture(
            hosted.call, hosted.handle, hosted.argument(frames, notes), hosted.argument(frames),
            (self.source if source is None else source) * np.float32(gain), hosted.inputs, hosted.outputs, frames, out,
        )  # fmt: skip
        return out

    def silent_peaks(self, frames: int, blocks: int) -> NDArray[np.float32]:
        """Runs silent blocks without timing them; the largest output of each (blocks, linear)."""
        hosted = self._hosted
        peaks = np.zeros(blocks, np.float32)
        _peaks(hosted.call, hosted.handle, hosted.argument(frames), hosted.inputs, hosted.outputs, frames, peaks)
        return peaks


class _Empty:
    """A plugin that does nothing, to time the loop itself."""

    call, handle = _nothing.address, 0
    inputs = outputs = np.zeros((1, 16), np.float32)

    def argument(self, frames, notes=()):
        return 0


def warm_up() -> None:
    """Compiles the loops, or loads them as compiled before: that takes a while, and no plugin is to blame for it."""
    loop = TimedLoop(_Empty(), np.zeros((1, 64), np.float32))
    loop.run(16, 1)
    loop.silent_peaks(16, 1)
    loop.capture(16, 1)


def overhead_ns(blocks: int = 20000) -> int:
    """What the loop adds to every timed block: the median over calls of an empty function, in nanoseconds."""
    loop = TimedLoop(_Empty(), np.zeros((1, 64), np.float32))
    loop.run(16, 1000)
    return int(np.median(loop.run(16, blocks)))
