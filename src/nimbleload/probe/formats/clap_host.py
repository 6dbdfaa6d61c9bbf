"""What a CLAP plugin meets of its host: the extensions it may ask for, and a transport that runs.

A plugin may call all of it on the audio thread, so it is compiled code that only notes what is asked; what is to be
done about it is done between runs (`serve`).
"""

from __future__ import annotations

import ctypes as c
import select
from collections.abc import Mapping
from typing import Any

import numpy as np
from numba import cfunc, njit, types
from numpy.typing import NDArray

from ...house.abi import I64
from ...native.memory import PROCESS, array_at, call2, call_for_address, load_i32, load_i64, store_atomic
from .clap_block import CLAP_DIALECT, MIDI_DIALECT, EventHeader
from .piece import BEAT_UNIT, BEATS_A_BAR, PLACES, RATE, TEMPO, Piece, Place
from .piece_native import bar_at, bar_begins, beat_at

POINTER, UINT, BOOL, VOID, TEXT = c.c_void_p, c.c_uint32, c.c_bool, None, c.c_char_p
U8, U32, F64 = np.zeros(0, np.uint8), np.zeros(0, np.uint32), np.zeros(0, np.float64)


class Version(c.Structure):
    _fields_ = (("major", UINT), ("minor", UINT), ("revision", UINT))


class Host(c.Structure):
    _fields_ = (
        ("version", Version), ("host_data", POINTER), ("name", TEXT), ("vendor", TEXT), ("url", TEXT),
        ("version_text", TEXT), ("get_extension", POINTER), ("request_restart", POINTER), ("request_process", POINTER),
        ("request_callback", POINTER),
    )  # fmt: skip


class Transport(c.Structure):
    """A `clap_event_transport`; beats and seconds are counted in 2⁻³¹."""

    _fields_ = (
        ("header", EventHeader), ("flags", UINT), ("beats", c.c_int64), ("seconds", c.c_int64),
        ("tempo", c.c_double), ("tempo_step", c.c_double), ("loop", c.c_int64 * 4), ("bar_start", c.c_int64),
        ("bar", c.c_int32), ("beats_a_bar", c.c_uint16), ("beat_unit", c.c_uint16),
    )  # fmt: skip


TRANSPORT_EVENT = 9
# Tempo, beats, seconds and time signature are known, and it plays.
PLAYS = 1 | 2 | 4 | 8 | 16
ONE = 1 << 31
BEATS, SECONDS, BAR_START, BAR = (getattr(Transport, name).offset for name in ("beats", "seconds", "bar_start", "bar"))
FRAMES = 8

# What the host keeps for a plugin (int64), where its `host_data` points to: what was asked for, whether a block is
# being computed, the plugin, its thread-pool function, how many timers and which files it has, and the extensions:
# how many, and for each where its name and its functions are.
RESTART, PROCESS_WANTED, CALLBACK, LATENCY, BUSY, PLUGIN, POOL, TIMERS, FILES = range(9)
MOST_FILES, MOST_TIMERS = 16, 64
FLAGS = FILES + MOST_FILES
COUNT = FLAGS + MOST_FILES
TABLE = COUNT + 1
DATA = Host.host_data.offset


@njit(inline="always")
def _word(host, number):
    return load_i64(host + DATA) + 8 * number


@njit
def _are_same(one, other):
    """Whether two C strings are."""
    place = 0
    while True:
        byte = array_at(one + place, 1, U8)[0]
        if byte != array_at(other + place, 1, U8)[0]:
            return False
        if byte == 0:
            return True
        place += 1


@cfunc(types.int64(types.int64, types.int64), cache=True)
def _extension(host, name):
    for number in range(load_i64(_word(host, COUNT))):
        entry = _word(host, TABLE + 2 * number)
        if _are_same(load_i64(entry), name):
            return load_i64(entry + 8)
    return 0


@cfunc(types.void(types.int64), cache=True)
def _restart_please(host):
    store_atomic(_word(host, RESTART), 1)


@cfunc(types.void(types.int64), cache=True)
def _process_please(host):
    store_atomic(_word(host, PROCESS_WANTED), 1)


@cfunc(types.void(types.int64), cache=True)
def _callback_please(host):
    store_atomic(_word(host, CALLBACK), 1)


@cfunc(types.void(types.int64), cache=True)
def _latency_changed(host):
    store_atomic(_word(host, LATENCY), 1)


@cfunc(types.void(types.int64, types.int64, types.int64), cache=True)
def _nothing(host, first, second):
    return


@cfunc(types.boolean(types.int64, types.int64), cache=True)
def _no(host, first):
    return False


@cfunc(types.boolean(types.int64), cache=True)
def _is_main_thread(host):
    return load_i64(_word(host, BUSY)) == 0


@cfunc(types.boolean(types.int64), cache=True)
def _is_audio_thread(host):
    return load_i64(_word(host, BUSY)) != 0


@cfunc(types.uint32(types.int64), cache=True)
def _both_dialects(host):
    return CLAP_DIALECT | MIDI_DIALECT


@cfunc(types.boolean(types.int64, types.uint32), cache=True)
def _do_tasks(host, count):
    """The tasks of a block that could be shared out: one after the other, on the thread that asks."""
    pool, plugin = load_i64(_word(host, POOL)), load_i64(_word(host, PLUGIN))
    if pool == 0 or load_i64(_word(host, BUSY)) == 0:
        return False
    for task in range(count):
        call_for_address(pool, plugin, task)
    return True


@cfunc(types.boolean(types.int64, types.uint32, types.int64), cache=True)
def _begin_timer(host, milliseconds, number):
    timers = array_at(_word(host, TIMERS), 1, I64)
    if timers[0] >= MOST_TIMERS:
        return False
    array_at(number, 1, U32)[0] = timers[0]
    timers[0] += 1
    return True


@cfunc(types.boolean(types.int64, types.uint32), cache=True)
def _end_timer(host, number):
    return True


@cfunc(types.boolean(types.int64, types.int32, types.uint32), cache=True)
def _watch_file(host, file, wanted):
    files, flags = array_at(_word(host, FILES), MOST_FILES, I64), array_at(_word(host, FLAGS), MOST_FILES, I64)
    for k in range(MOST_FILES):
        if files[k] == file + 1 or files[k] == 0:
            files[k], flags[k] = file + 1, wanted
            return True
    return False


@cfunc(types.boolean(types.int64, types.int32), cache=True)
def _leave_file(host, file):
    files = array_at(_word(host, FILES), MOST_FILES, I64)
    for k in range(MOST_FILES):
        if files[k] == file + 1:
            files[k] = 0
            return True
    return False


OFFERED: dict[bytes, tuple[Any, ...]] = {
    b"clap.log": (_nothing,),
    b"clap.thread-check": (_is_main_thread, _is_audio_thread),
    b"clap.thread-pool": (_do_tasks,),
    b"clap.latency": (_latency_changed,),
    b"clap.tail": (_nothing,),
    b"clap.params": (_nothing, _nothing, _nothing),
    b"clap.state": (_nothing,),
    b"clap.audio-ports": (_no, _nothing),
    b"clap.note-ports": (_both_dialects, _nothing),
    b"clap.timer-support": (_begin_timer, _end_timer),
    b"clap.posix-fd-support": (_watch_file, _watch_file, _leave_file),
}

# What the timed loop calls a plugin through (int64): its function, itself, the host's data for it, its transport, what
# is kept of the piece, and the sample of it that the next block begins with.
RUN, OWN, HOST_DATA, TRANSPORT, PIECE, SAMPLE, RECORD = range(7)


@njit(cache=True)
def _tell(record, sample):
    """Writes into the transport where a sample of the piece is."""
    kept = array_at(load_i64(record + 8 * PIECE), PLACES, F64)
    transport, beat = load_i64(record + 8 * TRANSPORT), beat_at(kept, sample)
    bar = bar_at(kept, beat)
    array_at(transport + BEATS, 1, I64)[0] = int(beat * ONE)
    array_at(transport + SECONDS, 1, I64)[0] = int(sample / kept[RATE] * ONE)
    array_at(transport + BAR_START, 1, I64)[0] = int(bar_begins(kept, bar) * ONE)
    array_at(transport + BAR, 1, U32)[0] = bar


@cfunc(PROCESS, cache=True)
def run_block(record, block):
    """A block of a plugin; the piece goes on by so many samples."""
    busy = load_i64(record + 8 * HOST_DATA) + 8 * BUSY
    store_atomic(busy, 1)
    code = call2(load_i64(record + 8 * RUN), load_i64(record + 8 * OWN), block)
    store_atomic(busy, 0)
    sample = array_at(record + 8 * SAMPLE, 1, I64)
    sample[0] += load_i32(block + FRAMES)
    _tell(record, sample[0])
    return code


class TimerSupport(c.Structure):
    _fields_ = (("on_timer", c.CFUNCTYPE(VOID, POINTER, UINT)),)


class FileSupport(c.Structure):
    _fields_ = (("on_file", c.CFUNCTYPE(VOID, POINTER, c.c_int, UINT)),)


READ, WRITE, ERROR = 1, 2, 4


class ClapHost:
    """The host of one plugin: `address` is its `clap_host`, `record` what the timed loop calls it through.

    `more` are the addresses of further extensions, or of those in whose place they stand, by name.
    """

    def __init__(self, rate: int, more: Mapping[bytes, int]) -> None:
        self._tables = {name: np.array([f.address for f in functions], np.int64) for name, functions in OFFERED.items()}
        offered = {name: table.ctypes.data for name, table in self._tables.items()} | dict(more)
        self._names = [c.create_string_buffer(name) for name in offered]
        self.words: NDArray[np.int64] = np.zeros(TABLE + 2 * len(offered), np.int64)
        self.words[COUNT] = len(offered)
        for k, (name, address) in enumerate(zip(self._names, offered.values(), strict=True)):
            self.words[TABLE + 2 * k : TABLE + 2 * k + 2] = c.addressof(name), address
        requests = (_restart_please.address, _process_please.address, _callback_please.address)
        texts = (b"Nimble Load", b"Nimble Load", b"", b"1")
        self.host = Host(Version(1, 2, 0), self.words.ctypes.data, *texts, _extension.address, *requests)
        header = EventHeader(c.sizeof(Transport), 0, 0, TRANSPORT_EVENT, 0)
        self._transport = Transport(header, PLAYS, tempo=TEMPO, beats_a_bar=BEATS_A_BAR, beat_unit=BEAT_UNIT)
        self._piece = Piece(rate)
        self.record: NDArray[np.int64] = np.zeros(RECORD, np.int64)
        self.record[HOST_DATA], self.record[TRANSPORT] = self.words.ctypes.data, self.transport
        self.record[PIECE] = self._piece.address

    @property
    def address(self) -> int:
        return c.addressof(self.host)

    @property
    def transport(self) -> int:
        """The address of the transport, which is told with every block."""
        return c.addressof(self._transport)

    def plays(self, process: int, plugin: int, pool: int) -> None:
        """Says which plugin it is host of: its function for a block, its address, its function for a pool's task."""
        self.record[RUN], self.record[OWN] = process, plugin
        self.words[PLUGIN], self.words[POOL] = plugin, pool

    def rewind(self) -> None:
        """Back to the beginning of the piece."""
        self._piece.rewind()
        self._begin_with(0)

    def locate(self, place: Place) -> None:
        """The next block begins there, and the piece goes on at its tempo and in its bars."""
        self._piece.goes_on(place)
        self._transport.tempo = place.tempo
        self._transport.beats_a_bar, self._transport.beat_unit = place.bars.beats, place.bars.unit
        self._begin_with(place.sample)

    def _begin_with(self, sample: int) -> None:
        self.record[SAMPLE] = sample
        _tell(self.record.ctypes.data, sample)

    def serve(self, plugin: int, timers: TimerSupport | None, files: FileSupport | None) -> None:
        """Lets the plugin's timers run out once, and tells it which of its files have come to something."""
        if timers is not None:
            for number in range(int(self.words[TIMERS])):
                timers.on_timer(plugin, number)
        watched = {int(file) - 1: int(flags) for file, flags in zip(
            self.words[FILES:FLAGS], self.words[FLAGS:COUNT], strict=True) if file}  # fmt: skip
        if not watched or files is None:
            return
        poll = select.poll()
        for file, flags in watched.items():
            wanted = select.POLLIN * bool(flags & READ) | select.POLLOUT * bool(flags & WRITE)
            poll.register(file, wanted)
        for file, came in poll.poll(0):
            if not came & select.POLLNVAL:
                errors = select.POLLERR | select.POLLHUP
                ready = READ * bool(came & select.POLLIN) | WRITE * bool(came & select.POLLOUT)
                files.on_file(plugin, file, ready | ERROR * bool(came & errors))
