"""The timed loop: compiled code that calls a plugin by its address, between two readings of the clock."""

from __future__ import annotations

import time

import numpy as np
from numba import cfunc, njit
from numpy.typing import NDArray

from ..native.clock import now
from ..native.memory import PROCESS, call2, flush_denormals, keep_denormals
from ..native.witness import COLUMNS, attest
from .aside import let_go, spent
from .formats.hosted import Wiring
from .signal import again, blocks_in_cycle

LINE_WORDS = 8
NOBODY, NOTHING = np.zeros(0, np.int64), np.zeros((0, COLUMNS), np.int64)
# So many silent blocks at most are run for a plugin that goes on putting work off.
MOST_SERVED = 64
# What a plugin remembers is filled for no longer than so many seconds of computing.
FILLED_WITHIN = 2.0


@njit(inline="always")
def give(source, rows, at, inputs, frames):
    """Copies a block of a source from a sample on into a plugin's inputs: to each its row. Those without one (−1) stay
    as they are, silent: with zeros written there before each block some plugins ran at a lower clock of the core."""
    for c in range(inputs.shape[0]):
        row = rows[c]
        if row >= 0:
            for i in range(frames):
                inputs[c, i] = source[row, at + i]


@njit(nogil=True, cache=True)
def _run(call, handle, first, rest, source, rows, at, inputs, frames, times, codes, clock, others, flush, told):
    """Runs len(times) blocks and fills times (ns) and codes (what the plugin's function returned).

    Returns where in `source` the next block begins.

    Before each block all cache lines of `others` are used, as the other plugins of a session would use theirs. After
    each the witness is asked, if there is room for what it tells (`told`: blocks or none, COLUMNS, ns).
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
        give(source, rows, at, inputs, frames)
        at += frames
        begun = now(clock)
        codes[k] = call2(call, handle, argument)
        times[k] = now(clock) - begun
        if len(told) > 0:
            attest(told[k], clock)
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
def _capture(call, handle, first, rest, source, rows, inputs, outputs, frames, out):
    """Runs blocks from the start of the source, untimed, and copies what comes out to out (channels, N)."""
    flush_denormals()
    argument = first
    for k in range(out.shape[1] // frames):
        at = k * frames
        give(source, rows, at, inputs, frames)
        call2(call, handle, argument)
        out[:, at : at + frames] = outputs[:, :frames]
        argument = rest


@cfunc(PROCESS, cache=True)
def _nothing(handle, argument):
    return 0


class TimedLoop:
    """Runs one hosted plugin through blocks of a source signal (C, L, float32), and times each. The last `heard` of its
    channels are what the plugin's side-chain hears (see `hosted.Wiring`).

    A run starts at the beginning of the source and goes on where the last one ended. `called` counts the blocks that
    were run, `failed` those in which the plugin said that it failed; `aside` is the CPU time that its own threads and
    processes took meanwhile (seconds), as long as `counts_aside` is set. `filling` is how many samples of sound it
    takes until a block costs what it does from then on (see `filling.find_filling`).
    """

    def __init__(
        self, hosted, source: NDArray[np.float32], heard: int = 0, silence: NDArray[np.float32] | None = None
    ) -> None:
        self._hosted = hosted
        self.source = np.ascontiguousarray(source)
        self.rows = hosted.wiring.rows(len(source), heard)
        self.silence = np.zeros_like(self.source) if silence is None else silence
        self._clock = np.zeros(2, np.int64)
        self._at = 0
        self.called = self.failed = 0
        self.aside, self.counts_aside = 0.0, False
        self.filling = 0

    @property
    def latency(self) -> int:
        """What the plugin reports by now, after it has run (samples)."""
        self._hosted.settled()
        return int(self._hosted.latency)

    def rewind(self) -> None:
        """The next run starts at the beginning of the source."""
        self._at = 0

    def refresh(self, frames: int) -> None:
        """Brings the plugin to a fresh state for blocks of so many samples; the source begins anew, and what has no
        signal is silent.

        A plugin that puts work off, such as loading what it plays with, gets that done first, in silent blocks.
        """
        self._hosted.settled()
        self._hosted.restart(frames)
        self._hosted.inputs[self.rows < 0] = 0
        for _ in range(MOST_SERVED if self._hosted.defers else 0):
            self.run(frames, 1, silent=True)
            if not self._hosted.settled():
                break
        self.rewind()

    def fill(self, frames: int, notes=()):
        """Brings the plugin to a fresh state and plays until what it remembers is full; the notes to go on with.

        The source begins anew after it.
        """
        self.refresh(frames)
        cycle, played = blocks_in_cycle(frames, notes), 0
        until = time.monotonic() + FILLED_WITHIN
        while played < self.filling and time.monotonic() < until:
            self.run(frames, cycle, again(notes) if played else notes)
            played += cycle * frames
        self.rewind()
        return again(notes) if played else notes

    def _check(self, frames: int) -> None:
        """No plugin is ever called with blocks of another size than it was switched on for."""
        if self._hosted.made_for not in (0, frames):
            raise ValueError(f"a plugin made for blocks of {self._hosted.made_for} was to be run with {frames}")

    def run(
        self,
        frames: int,
        blocks: int,
        notes=(),
        silent: bool = False,
        others: NDArray[np.int64] = NOBODY,
        flush: bool = True,
        told: NDArray[np.int64] = NOTHING,
    ) -> NDArray[np.int64]:
        """The time of each block in nanoseconds (blocks, int64), the loop's own overhead included.

        `notes` begin with the first block, and again every CHORD_CYCLE samples. `others` is memory that is used between
        the blocks; `flush` false lets denormal numbers be. `told` (blocks, COLUMNS) is filled with what the witness
        tells after each block (ns), if it is given.
        """
        self._check(frames)
        hosted = self._hosted
        times, codes = np.zeros(blocks, np.int64), np.zeros(blocks, np.int32)
        chord = blocks_in_cycle(frames, notes) if notes else blocks
        let_go()
        before = spent() if self.counts_aside else 0.0
        for begin in range(0, blocks, max(chord, 1)):
            part = slice(begin, min(begin + chord, blocks))
            first = hosted.argument(frames, again(notes) if begin else notes)
            self._at = _run(
                hosted.call, hosted.handle, first, hosted.argument(frames),
                self.silence if silent else self.source, self.rows, self._at, hosted.inputs, frames, times[part],
                codes[part], self._clock.ctypes.data, others, flush, told[part],
            )  # fmt: skip
        if self.counts_aside:
            self.aside += spent() - before
        self.called += blocks
        self.failed += hosted.failures(codes)
        return times

    def capture(
        self, frames: int, blocks: int, notes=(), gain: float = 1.0, source: NDArray[np.float32] | None = None, moves=()
    ) -> NDArray[np.float32]:
        """What comes out of blocks from the start of the source (channels, blocks × frames); nothing is timed.

        The source, or another one of the same shape, is made louder or softer by `gain` (linear). Notes and `moves` of
        parameters are those of the first block.
        """
        self._check(frames)
        hosted = self._hosted
        out = np.zeros((hosted.outputs.shape[0], blocks * frames), np.float32)
        # Beside each other in memory, as what is compiled ahead of time takes it.
        heard = np.ascontiguousarray(self.source if source is None else source, np.float32)
        _capture(
            hosted.call, hosted.handle, hosted.argument(frames, notes, moves), hosted.argument(frames),
            heard if gain == 1.0 else heard * np.float32(gain), self.rows, hosted.inputs, hosted.outputs, frames, out,
        )  # fmt: skip
        return out

    def silent_peaks(self, frames: int, blocks: int) -> NDArray[np.float32]:
        """Runs silent blocks without timing them; the largest output of each (blocks, linear)."""
        self._check(frames)
        hosted = self._hosted
        peaks = np.zeros(blocks, np.float32)
        _peaks(hosted.call, hosted.handle, hosted.argument(frames), hosted.inputs, hosted.outputs, frames, peaks)
        return peaks


class _Empty:
    """A plugin that does nothing, to time the loop itself."""

    call, handle = _nothing.address, 0
    inputs = outputs = np.zeros((1, 16), np.float32)
    wiring = Wiring(np.zeros(1, np.int64), 1, 1)
    made_for = 0

    def argument(self, frames, notes=(), moves=()):
        return 0

    def failures(self, codes):
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
