"""VST3's interfaces as C sees them: structures, tables of functions, and the host's own objects, compiled.

An object's first word points to its table; what a plugin calls on the audio thread is native code.
"""

from __future__ import annotations

import ctypes as c
from collections.abc import Sequence
from typing import Any

import numpy as np
from numba import cfunc, njit, types

from ...house.abi import I64
from ...native.memory import PROCESS, array_at, call2, call4, load_i32, load_i64, store_atomic
from .piece import PLACES
from .piece_native import bar_at, bar_begins, beat_at

OK = 0
AUDIO, EVENT = 0, 1
INPUT, OUTPUT = 0, 1
# The kind of a bus that is none of the main ones, and of its flags that it wants to be on from the start.
AUX, DEFAULT_ACTIVE = 1, 1
INT, BOOL, POINTER = c.c_int32, c.c_uint8, c.c_void_p


def uid(*words: int) -> bytes:
    """An interface's id: four 32-bit words, highest byte first, as on every system but Windows."""
    return b"".join(word.to_bytes(4, "big") for word in words)


COMPONENT = uid(0xE831FF31, 0xF2D54301, 0x928EBBEE, 0x25697802)
PROCESSOR = uid(0x42043F99, 0xB7DA453C, 0xA569E79D, 0x9AAEC33D)
CONTROLLER = uid(0xDCD7BBE3, 0x7742448D, 0xA874AACC, 0x979C759E)
MIDI_MAPPING = uid(0xDF0FF9F7, 0x49B74669, 0xB63AB732, 0x7ADBF5E5)
FACTORY_2 = uid(0x0007B650, 0xF24B4C0B, 0xA464EDB9, 0xF00B2ABB)


I32, F64 = np.zeros(0, np.int32), np.zeros(0, np.float64)


class ClassInfo(c.Structure):
    _fields_ = (("cid", c.c_char * 16), ("cardinality", INT), ("category", c.c_char * 32), ("name", c.c_char * 64))


class ClassInfo2(c.Structure):
    _fields_ = (
        ("cid", c.c_char * 16), ("cardinality", INT), ("category", c.c_char * 32), ("name", c.c_char * 64),
        ("flags", c.c_uint32), ("subcategories", c.c_char * 128), ("vendor", c.c_char * 64),
        ("version", c.c_char * 64), ("sdk", c.c_char * 64),
    )  # fmt: skip


class BusInfo(c.Structure):
    _fields_ = (
        ("media", INT), ("direction", INT), ("channels", INT), ("name", c.c_uint16 * 128), ("kind", INT),
        ("flags", c.c_uint32),
    )  # fmt: skip


class Setup(c.Structure):
    _fields_ = (("mode", INT), ("sample_size", INT), ("longest", INT), ("rate", c.c_double))


class BusBuffers(c.Structure):
    _fields_ = (("channels", INT), ("silence", c.c_uint64), ("pointers", POINTER))


class ProcessBlock(c.Structure):
    _fields_ = (
        ("mode", INT), ("sample_size", INT), ("frames", INT), ("ins", INT), ("outs", INT), ("inputs", POINTER),
        ("outputs", POINTER), ("changes_in", POINTER), ("changes_out", POINTER), ("events_in", POINTER),
        ("events_out", POINTER), ("context", POINTER),
    )  # fmt: skip


class Context(c.Structure):
    """A `ProcessContext`: where in the piece a block lies, and how fast it goes."""

    _fields_ = (
        ("state", c.c_uint32), ("rate", c.c_double), ("samples", c.c_int64), ("system_time", c.c_int64),
        ("going_on", c.c_int64), ("beats", c.c_double), ("bar", c.c_double), ("cycle_start", c.c_double),
        ("cycle_end", c.c_double), ("tempo", c.c_double), ("beats_a_bar", INT), ("beat_unit", INT),
        ("chord", c.c_uint32), ("smpte", INT), ("frame_rate", c.c_uint32 * 2), ("to_next_clock", INT),
    )  # fmt: skip


# It plays; beats, tempo, bars, time signature and continuous samples are known.
PLAYS = 1 << 1 | 1 << 9 | 1 << 10 | 1 << 11 | 1 << 13 | 1 << 17
# What the timed loop calls a plugin through (int64): its function, itself, its context, whether it is in a block, and
# what is kept of the piece.
RUN, OWN, CONTEXT, BUSY, PIECE, RECORD = range(6)
FRAMES = ProcessBlock.frames.offset


@cfunc(PROCESS, cache=True)
def run_block(record, block):
    """A block of a plugin; the piece goes on by so many samples."""
    store_atomic(record + 8 * BUSY, 1)
    code = call2(load_i64(record + 8 * RUN), load_i64(record + 8 * OWN), block)
    store_atomic(record + 8 * BUSY, 0)
    context = load_i64(record + 8 * CONTEXT)
    whole, real = array_at(context, 10, I64), array_at(context, 10, F64)
    whole[2] += load_i32(block + FRAMES)
    whole[4] = whole[2]
    kept = array_at(load_i64(record + 8 * PIECE), PLACES, F64)
    real[5] = beat_at(kept, whole[2])
    real[6] = bar_begins(kept, bar_at(kept, real[5]))
    return code


@cfunc(types.int32(types.int64, types.int64, types.int64, types.int64), cache=True)
def make_instance(this, kind, wanted, place):
    """Nothing is made for a plugin in a block; else what stands behind makes it. The object's second word is where it
    says that it is in one, the third the function behind."""
    if load_i64(load_i64(this + 8)) != 0:
        array_at(place, 1, I64)[0] = 0
        return -1
    return call4(load_i64(this + 16), this, kind, wanted, place)


class ParameterDescription(c.Structure):
    _fields_ = (
        ("id", c.c_uint32), ("title", c.c_uint16 * 128), ("short", c.c_uint16 * 128), ("unit", c.c_uint16 * 128),
        ("steps", INT), ("start", c.c_double), ("group", INT), ("flags", INT),
    )  # fmt: skip


READ_ONLY, BYPASS, PROGRAM = 1 << 1, 1 << 16, 1 << 15


# The host's objects. Their first word points to a table of these functions; what follows is their own.
@cfunc(types.int32(types.int64, types.int64, types.int64), cache=True)
def _no_interface(this, iid, found):
    array_at(found, 1, I64)[0] = 0
    return -1


@cfunc(types.uint32(types.int64), cache=True)
def _count(this):
    return 1


@cfunc(types.int32(types.int64, types.int64), cache=True)
def refuse_two(this, first):
    return -1


@cfunc(types.int32(types.int64, types.int64, types.int64, types.int64), cache=True)
def refuse_four(this, first, second, third):
    return -1


@cfunc(types.int64(types.int64, types.int64), cache=True)
def nothing(this, index):
    return 0


@cfunc(types.int64(types.int64, types.int64, types.int64), cache=True)
def take_changes(this, parameter, index):
    array_at(index, 1, I32)[0] = 0
    return load_i64(this + 16)


@cfunc(types.int32(types.int64, types.int32, types.float64, types.int64), cache=True)
def take_point(this, offset, value, index):
    array_at(index, 1, I32)[0] = 0
    return 0


@cfunc(types.int32(types.int64), cache=True)
def event_count(this):
    return load_i64(this + 8)


# Changes that the host makes: a list of addresses, and at each a parameter's number, how many points it has, and where
# these are, each the sample in the block and the value's bits.
@cfunc(types.int64(types.int64, types.int32), cache=True)
def change_at(this, index):
    if index < 0 or index >= load_i64(this + 8):
        return 0
    return load_i64(load_i64(this + 16) + 8 * index)


@cfunc(types.int32(types.int64), cache=True)
def point_count(this):
    return load_i64(this + 16)


@cfunc(types.int32(types.int64, types.int32, types.int64, types.int64), cache=True)
def point_at(this, index, offset, value):
    if index < 0 or index >= load_i64(this + 16):
        return -1
    place = load_i64(this + 24) + 16 * index
    array_at(offset, 1, I32)[0] = load_i64(place)
    array_at(value, 1, I64)[0] = load_i64(place + 8)
    return 0


@njit(inline="always")
def _copy_words(source, target, count):
    a, b = array_at(source, count, I64), array_at(target, count, I64)
    for k in range(count):
        b[k] = a[k]


@cfunc(types.int32(types.int64, types.int32, types.int64), cache=True)
def event_at(this, index, target):
    if index < 0 or index >= load_i64(this + 8):
        return -1
    _copy_words(load_i64(this + 16) + 48 * index, target, 6)
    return 0


class HostObject:
    """An object of the host's: a table of compiled functions, and the words that they read. `kept` is what these point
    to, and lives as long."""

    def __init__(self, functions: Sequence[int | None], own: Sequence[int] = (), kept: object = None) -> None:
        self._kept = kept
        base = [_no_interface.address, _count.address, _count.address]
        self._table = np.array([*base, *functions], np.int64)
        self._object = np.array([self._table.ctypes.data, *own], np.int64)

    @property
    def address(self) -> int:
        return int(self._object.ctypes.data)


class Stream(HostObject):
    """An `IBStream` over bytes, up to `most` of them. It is used on the main thread only, so its functions may be
    Python's."""

    def __init__(self, content: bytes = b"", most: int = 0) -> None:
        self.content, self._at, self._most = bytearray(content), 0, most
        transfer = c.CFUNCTYPE(INT, POINTER, POINTER, INT, POINTER)
        seek = c.CFUNCTYPE(INT, POINTER, c.c_int64, INT, POINTER)
        tell = c.CFUNCTYPE(INT, POINTER, POINTER)
        self._functions = [
            transfer(self._read), transfer(self._write), seek(self._seek),
            tell(lambda this, place: self._tell(place)),
        ]  # fmt: skip
        super().__init__([c.cast(f, POINTER).value for f in self._functions])

    def _read(self, this: int, buffer: int, size: int, done: int | None) -> int:
        part = bytes(self.content[self._at : self._at + max(size, 0)])
        c.memmove(buffer, part, len(part))
        return self._moved(len(part), done)

    def _write(self, this: int, buffer: int, size: int, done: int | None) -> int:
        if size < 0 or self._at + size > self._most:
            return -1
        self.content[self._at : self._at + size] = c.string_at(buffer, size)
        return self._moved(size, done)

    def _moved(self, by: int, done: int | None) -> int:
        self._at += by
        if done:
            INT.from_address(done).value = by
        return OK

    def _seek(self, this: int, offset: int, origin: int, place: int | None) -> int:
        base = {0: 0, 1: self._at, 2: len(self.content)}.get(origin, 0)
        self._at = min(max(base + offset, 0), len(self.content))
        return self._tell(place)

    def _tell(self, place: int | None) -> int:
        if place:
            c.c_int64.from_address(place).value = self._at
        return OK


class Interface:
    """A plugin's object: calls the functions of its table by their number. `this` is passed along."""

    def __init__(self, address: int) -> None:
        self.address = address
        self._table = c.c_void_p.from_address(address).value or 0

    def function(self, number: int) -> int:
        return c.c_int64.from_address(self._table + 8 * number).value

    def call(self, number: int, *arguments: Any, kinds: tuple[Any, ...] = (), result: Any = INT) -> Any:
        return c.CFUNCTYPE(result, POINTER, *kinds)(self.function(number))(self.address, *arguments)

    def query(self, iid: bytes) -> Interface | None:
        found = c.c_void_p()
        code = self.call(0, iid, c.byref(found), kinds=(c.c_char_p, POINTER))
        return Interface(found.value) if code == OK and found.value else None

    def release(self) -> None:
        self.call(2, result=c.c_uint32)


def wide(characters: Any) -> str:
    """A title in 16-bit characters, up to its end."""
    return bytes(characters).decode("utf-16-le", errors="replace").partition("\0")[0]
