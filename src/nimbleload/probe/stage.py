"""The stage of a rehearsal: all plugins of a session, and threads that play them block by block against the clock.

Each thread sleeps until a block is due, then takes ready tasks until the block is done: the one with the longest path
to the block's end first, as in the prediction. Everything in the loop is compiled; threads meet in atomic counters.
"""

from __future__ import annotations

import os
import threading
import time
from collections.abc import Callable, Iterable, Sequence
from typing import NamedTuple

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..core.load.missed import AWAY, COUNTED
from ..core.session.routing import Graph, build
from ..core.session.session import Session
from ..core.session.strips import Strip
from ..native.accounts import BYTES, ON_CORE, TIME, account
from ..native.accounts import COLUMNS as ACCOUNTED
from ..native.clock import now, rest_until
from ..native.memory import add_atomic, array_at, call2, flush_denormals, load_atomic, relax, store_atomic, swap_atomic
from ..native.witness import CLOCK, COLUMNS, attest
from . import read_ahead
from .formats.hosted import Hosted, Note
from .read_ahead import CHANNELS, ReadAhead
from .signal import CHORD_CYCLE, again

F32 = np.zeros(0, np.float32)
# The counters that all threads share: the block that may run, tasks done in even and odd blocks, whether to stop, and
# by how much later than planned blocks are due, because one was late before (nanoseconds).
READY, DONE, STOP, SHIFT, COUNTERS = 0, 1, 3, 4, 5
# What is known of each use, a row of int64: its function and arguments, and where its buffers are.
CALL, HANDLE, FIRST, AGAIN, REST, INPUTS, INPUT_COUNT, OUTPUTS, OUTPUT_COUNT, STRIDE, ROWS, HEARD, USE_COLUMNS = range(
    13
)
I64 = np.zeros(0, np.int64)
RELAXATIONS = 16
# So long before a block is due nothing is looked at any more. After a block that was late, or nearly, the next one is
# due only when there has been time to look: what held it up would not be known of those blocks that it held up most.
WITNESS_NS = 30_000
LOOKED_NS = WITNESS_NS + 10_000
# In every so manieth block the clock of the core is looked at before anything is played, if it has rested so long (ns):
# what computes with wide vectors lowers it for two thirds of a millisecond.
CLOCKED_EVERY, SETTLED_NS = 8, 1_000_000


@njit(inline="always")
def _take_in(use, task, buses, frames):
    """Copies a strip's two channels into a plugin's inputs, and those of the strip that its side-chain hears; the other
    inputs stay silent."""
    rows = array_at(use[ROWS], use[INPUT_COUNT], I64)
    for c in range(use[INPUT_COUNT]):
        row = rows[c]
        if row >= 0:
            bus = buses[task if row < CHANNELS else use[HEARD]]
            target = array_at(use[INPUTS] + 4 * c * use[STRIDE], frames, F32)
            for i in range(frames):
                target[i] = bus[row % CHANNELS, i]


@njit(inline="always")
def _give_out(use, bus, frames):
    """Copies a plugin's outputs to the strip's channels; one output goes to both."""
    for c in range(CHANNELS):
        source = array_at(use[OUTPUTS] + 4 * min(c, use[OUTPUT_COUNT] - 1) * use[STRIDE], frames, F32)
        for i in range(frames):
            bus[c, i] = source[i]


@njit(inline="always")
def take(bus, rings, written, late, number, k, frames):
    """The samples of block number `k` of a file, into the two channels of a strip (`bus`); silence if they have not
    been read yet, which is counted in `late`."""
    if load_atomic(written.ctypes.data + 8 * number) < (k + 1) * frames:
        late[number] += 1
        bus[:, :frames] = 0
        return
    length = rings.shape[2]
    at = (k * frames) % length
    for i in range(frames):
        for c in range(CHANNELS):
            bus[c, i] = rings[number, c, at]
        at += 1
        if at == length:
            at = 0


@njit(inline="always")
def _feed(task, k, buses, feeder_first, feeders, source, sounds, at, frames, files):
    """What a strip begins with: its file if it plays one, the test signal if it has another source that sounds, and the
    sum of all that feed it."""
    bus = buses[task]
    ring_of, rings, written, late = files
    if ring_of[task] >= 0:
        take(bus, rings, written, late, ring_of[task], k, frames)
    elif sounds[task]:
        for c in range(CHANNELS):
            for i in range(frames):
                bus[c, i] = source[c, at + i]
    else:
        bus[:, :frames] = 0
    count = feeder_first[task + 1] - feeder_first[task]
    gain = np.float32(1.0 / np.sqrt(max(count, 1)))
    for e in range(feeder_first[task], feeder_first[task + 1]):
        other = buses[feeders[e]]
        for c in range(CHANNELS):
            for i in range(frames):
                bus[c, i] += gain * other[c, i]


@njit(inline="always")
def _look_at_clock(k, number, through, clocks, told, clock):
    """At the beginning of a block, if nothing was computed since so long before that vectors make no difference any
    more, looks at the clock of the core. The block before was through at a time (ns)."""
    if k % CLOCKED_EVERY == 0 and now(clock) > through + SETTLED_NS:
        attest(told, clock)
        clocks[k // CLOCKED_EVERY, number] = told[CLOCK]


@njit(inline="always")
def _look_at_units(k, number, until, witnessed, told, clock):
    """When a block is through, looks at what the computer is doing, if there is time until the next one is due."""
    if now(clock) < until - WITNESS_NS:
        attest(told, clock)
        for column in range(COLUMNS):
            witnessed[k, number, column] = told[column]


@njit(inline="always")
def _claim(k, by_rank, claims_at, left_at):
    """A task of block k that nobody has begun, whose inputs are there: the first by rank; −1 if there is none."""
    task = -1
    for candidate in by_rank:
        if (
            load_atomic(claims_at + 8 * candidate) == k
            and load_atomic(left_at + 8 * candidate) == 0
            and swap_atomic(claims_at + 8 * candidate, k, k + 1)
        ):
            task = candidate
            break
    return task


@njit(inline="always")
def _count(accounts, into):
    """What happened to a thread between two accounts of it (see `missed`)."""
    into[AWAY] = accounts[1, TIME] - accounts[0, TIME] - (accounts[1, ON_CORE] - accounts[0, ON_CORE])
    for column in range(AWAY + 1, COUNTED):
        into[column] = accounts[1, column + 1] - accounts[0, column + 1]


@njit(nogil=True, cache=True)
def _perform(
    number, blocks, frames, begin, period, by_rank, first, successors, waits, left, claims, counters, use_first, uses,
    buses, feeder_first, feeders, source, sounds, use_times, task_begin, task_end, task_core, block_due, block_begin,
    block_end, witnessed, clocks, held, told, clock, files,
):  # fmt: skip
    """One thread's part in all blocks. Times are in nanoseconds on the monotonic clock."""
    flush_denormals()
    count = len(waits)
    shared = counters.ctypes.data
    left_at, claims_at = left.ctypes.data, claims.ctypes.data
    length = source.shape[1]
    chord = max(CHORD_CYCLE // frames, 1)
    through = begin
    accounts, room = np.zeros((2, ACCOUNTED), np.int64), np.zeros(BYTES // 8, np.int64)
    for k in range(blocks):
        rest_until(begin + k * period + load_atomic(shared + 8 * SHIFT), clock, counters)
        while load_atomic(shared + 8 * READY) < k:
            if load_atomic(shared + 8 * STOP) != 0:
                return
            relax()
        due = begin + k * period + load_atomic(shared + 8 * SHIFT)
        rest_until(due, clock, counters)
        _look_at_clock(k, number, through, clocks, told, clock)
        account(accounts[0], clock, room.ctypes.data)
        at = (k * frames) % (length - frames)
        while load_atomic(shared + 8 * READY) == k:
            task = _claim(k, by_rank, claims_at, left_at)
            if task < 0:
                for _ in range(RELAXATIONS):
                    relax()
                continue
            begun = now(clock)
            swap_atomic(block_begin.ctypes.data + 8 * k, 0, begun)
            _feed(task, k, buses, feeder_first, feeders, source, sounds, at, frames, files)
            for u in range(use_first[task], use_first[task + 1]):
                use = uses[u]
                _take_in(use, task, buses, frames)
                before = now(clock)
                call2(use[CALL], use[HANDLE], use[FIRST] if k == 0 else use[AGAIN] if k % chord == 0 else use[REST])
                use_times[k, u] = now(clock) - before
                _give_out(use, buses[task], frames)
            ended = now(clock)
            task_begin[k, task], task_end[k, task], task_core[k, task] = begun, ended, number
            store_atomic(left_at + 8 * task, waits[task])
            for e in range(first[task], first[task + 1]):
                add_atomic(left_at + 8 * successors[e], -1)
            if add_atomic(shared + 8 * (DONE + k % 2), 1) == count - 1:
                block_end[k] = now(clock)
                block_due[k] = due
                if block_end[k] + LOOKED_NS > due + period:
                    add_atomic(shared + 8 * SHIFT, block_end[k] + LOOKED_NS - due - period)
                store_atomic(shared + 8 * (DONE + k % 2), 0)
                store_atomic(shared + 8 * READY, k + 1)
        account(accounts[1], clock, room.ctypes.data)
        _count(accounts, held[k, number])
        _look_at_units(k, number, begin + (k + 1) * period + load_atomic(shared + 8 * SHIFT), witnessed, told, clock)
        through = now(clock)


class Performed(NamedTuple):
    """What happened in B blocks: nanoseconds since the first was due, for S tasks and U uses.

    `task_begin`, `task_end` (B, S, int64), `task_core` (B, S, int8), `use_times` (B, U, int32), `begin` and `end`
    (B, int64) of each block; `due` (B, int64) when it should have begun: after a block that was late, or nearly, the
    next one is due LOOKED_NS later. `witnessed` (B, T, 2, int64) is what the witness took on each thread after each
    block, 0 where there was no time for it; `clocks` (C, T, int64) what its chain of steps took before every
    CLOCKED_EVERYth, 0 where it had not rested before. `held` (B, T, COUNTED, int64) is what was counted of each thread
    in each block (see `missed`). `done` blocks were played.
    """

    task_begin: NDArray[np.int64]
    task_end: NDArray[np.int64]
    task_core: NDArray[np.int8]
    use_times: NDArray[np.int32]
    due: NDArray[np.int64]
    begin: NDArray[np.int64]
    end: NDArray[np.int64]
    witnessed: NDArray[np.int64]
    clocks: NDArray[np.int64]
    held: NDArray[np.int64]
    done: int


class Stage:
    """Loaded plugins in their places. `plugins` (S lists) are those of each strip with the notes that it begins with,
    and the index of the strip that its side-chain hears (−1: none). `feeding` are the pairs of strips of which one goes
    into the sum of the other.

    `sounds` (S, bool) says which strips are fed with `source` (2, L, float32); `priority` (S) who goes first; `files`
    which of them play a file instead.
    """

    def __init__(
        self,
        graph: Graph,
        plugins: Sequence[Sequence[tuple[Hosted, tuple[Note, ...], int]]],
        feeding: Iterable[tuple[int, int]],
        sounds: NDArray[np.bool_],
        priority: NDArray[np.float64],
        source: NDArray[np.float32],
        frames: int,
        files: ReadAhead | None = None,
    ) -> None:
        self.files = files or ReadAhead({}, len(plugins), 1, frames)
        self._graph, self._frames, self._plugins = graph, frames, plugins
        self._sounds, self._source = np.ascontiguousarray(sounds), np.ascontiguousarray(source, np.float32)
        self._by_rank = np.argsort(-priority, kind="stable").astype(np.int64)
        self._use_first = np.concatenate(([0], np.cumsum([len(p) for p in plugins]))).astype(np.int64)
        self._wires: list[NDArray[np.int64]] = []
        rows = [self._row(*each) for strip in plugins for each in strip]
        self._uses = np.array(rows, np.int64).reshape(len(rows), USE_COLUMNS)
        self._buses = np.zeros((len(plugins), CHANNELS, frames), np.float32)
        pairs = sorted((target, source) for source, target in feeding)
        self._feeders = np.array([feeder for _, feeder in pairs], np.int64)
        counts = np.bincount([target for target, _ in pairs], minlength=len(plugins)) if pairs else [0] * len(plugins)
        self._feeder_first = np.concatenate(([0], np.cumsum(counts))).astype(np.int64)
        self._counters = np.zeros(COUNTERS, np.int64)

    def _row(self, hosted: Hosted, notes: tuple[Note, ...], heard: int) -> list[int]:
        count = CHANNELS if heard >= 0 else 0
        wires = hosted.wiring.rows(CHANNELS + count, count)
        self._wires.append(wires)
        # In this order: LV2 keeps but one set of notes, which are those of the beginning.
        anew = hosted.argument(self._frames, again(notes))
        return [
            hosted.call, hosted.handle, hosted.argument(self._frames, notes), anew, hosted.argument(self._frames),
            hosted.inputs.ctypes.data, hosted.inputs.shape[0], hosted.outputs.ctypes.data, hosted.outputs.shape[0],
            hosted.inputs.shape[1], wires.ctypes.data, heard,
        ]  # fmt: skip

    def perform(
        self,
        rate: int,
        blocks: int,
        cores: Sequence[int],
        settle: Callable[[int], bool],
        watch: Callable[[Performed], bool],
    ) -> tuple[Performed, bool]:
        """Plays so many blocks, a thread for each core; whether every thread got its core in real time.

        `settle(core)` is called in each thread and gives it its core; `watch` is called with what is there a few
        times a second meanwhile, and ends it early by answering false.
        """
        tasks, uses = len(self._plugins), len(self._uses)
        period = round(self._frames / rate * 1e9)
        task_begin, task_end = (np.zeros((blocks, tasks), np.int64) for _ in range(2))
        task_core, use_times = np.zeros((blocks, tasks), np.int8), np.zeros((blocks, uses), np.int32)
        due, begin, end = (np.zeros(blocks, np.int64) for _ in range(3))
        witnessed = np.zeros((blocks, len(cores), COLUMNS), np.int64)
        clocks = np.zeros((-(-blocks // CLOCKED_EVERY), len(cores)), np.int64)
        held = np.zeros((blocks, len(cores), COUNTED), np.int64)
        graph, self._counters[:] = self._graph, 0
        waits = graph.waits.astype(np.int64)
        left, claims = waits.copy(), np.zeros(tasks, np.int64)
        is_real_time, files = [False] * len(cores), self.files

        def play(number: int) -> None:
            is_real_time[number] = settle(cores[number])
            clock, told = np.zeros(4, np.int64), np.zeros(COLUMNS, np.int64)
            _perform(
                number, blocks, self._frames, starting, period, self._by_rank, graph.first, graph.successors, waits,
                left, claims, self._counters, self._use_first, self._uses, self._buses, self._feeder_first,
                self._feeders, self._source, self._sounds, use_times, task_begin, task_end, task_core, due, begin, end,
                witnessed, clocks, held, told, clock.ctypes.data,
                (files.of, files.rings, files.written, files.late),
            )  # fmt: skip

        made = Performed(task_begin, task_end, task_core, use_times, due, begin, end, witnessed, clocks, held, 0)
        files.start(lambda: int(self._counters[READY]) * self._frames)
        starting = time.monotonic_ns() + 200_000_000
        players = [threading.Thread(target=play, args=(number,), daemon=True) for number in range(len(cores))]
        for player in players:
            player.start()
        while any(player.is_alive() for player in players):
            players[0].join(0.2)
            if not watch(made._replace(done=int(self._counters[READY]))):
                self._counters[STOP] = 1
                break
        for player in players:
            player.join(5)
        files.stop()
        made = made._replace(done=int(self._counters[READY]))
        for times in (task_begin, task_end, due, begin, end):
            times -= starting
        return made, all(is_real_time)


def settle_thread(core: int) -> bool:
    """Gives this thread a core, and real-time scheduling above everything but the system; whether it was allowed."""
    own = threading.get_native_id()
    try:
        os.sched_setaffinity(own, {core})
        os.sched_setscheduler(own, os.SCHED_FIFO | os.SCHED_RESET_ON_FORK, os.sched_param(20))
    except OSError:
        return False
    return True


def warm_up() -> None:
    """Compiles the threads' part, or loads it as compiled before: no block of nothing is played."""
    of = build(Session("nothing", 48000, 1.0, (Strip("main", "main", "main"),)))
    stage = Stage(of, [[]], (), np.zeros(1, np.bool_), np.zeros(1), np.zeros((2, 64), np.float32), 16)
    stage.perform(48000, 0, (0,), lambda _: True, lambda _: True)
    read_ahead.warm_up()
