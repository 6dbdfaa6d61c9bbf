"""VST3: interfaces as tables of C functions, reached through ctypes; the host's own tables hold compiled ones.

Only what measuring needs: the factory, the component and its buses, processing, note events, state and latency.
"""

from __future__ import annotations

import ctypes as c
import os
import platform
import struct
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

import numpy as np
from numba import cfunc, njit, types

from ...core.session import PluginUse
from ...house.abi import I64
from ...house.native import array_at, load_i64
from .hosted import Described, Note, PluginError, files_in, text

OK = 0
AUDIO, EVENT = 0, 1
INPUT, OUTPUT = 0, 1
INT, BOOL, POINTER = c.c_int32, c.c_uint8, c.c_void_p


def uid(*words: int) -> bytes:
    """An interface's id: four 32-bit words, highest byte first, as on every system but Windows."""
    return b"".join(word.to_bytes(4, "big") for word in words)


COMPONENT = uid(0xE831FF31, 0xF2D54301, 0x928EBBEE, 0x25697802)
PROCESSOR = uid(0x42043F99, 0xB7DA453C, 0xA569E79D, 0x9AAEC33D)
FACTORY_2 = uid(0x0007B650, 0xF24B4C0B, 0xA464EDB9, 0xF00B2ABB)


I32 = np.zeros(0, np.int32)


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


class NoteEvent(c.Structure):
    """An `Event` that holds a note: on (kind 0: length and id at the end) or off (kind 1: velocity, id, tuning)."""

    _fields_ = (
        ("bus", INT), ("offset", INT), ("ppq", c.c_double), ("flags", c.c_uint16), ("kind", c.c_uint16),
        ("padding", INT), ("channel", c.c_int16), ("pitch", c.c_int16), ("first", c.c_float), ("second", c.c_float),
        ("length", INT), ("note_id", INT),
    )  # fmt: skip


# The host's objects. Their first word points to a table of these functions; what follows is their own.
@cfunc(types.int32(types.int64, types.int64, types.int64), cache=True)
def _no_interface(this, iid, found):
    array_at(found, 1, I64)[0] = 0
    return -1


@cfunc(types.uint32(types.int64), cache=True)
def _count(this):
    return 1


@cfunc(types.int32(types.int64, types.int64), cache=True)
def _refuse_two(this, first):
    return -1


@cfunc(types.int32(types.int64, types.int64, types.int64, types.int64), cache=True)
def _refuse_four(this, first, second, third):
    return -1


@cfunc(types.int64(types.int64, types.int64), cache=True)
def _nothing(this, index):
    return 0


@cfunc(types.int64(types.int64, types.int64, types.int64), cache=True)
def _take_changes(this, parameter, index):
    array_at(index, 1, I32)[0] = 0
    return load_i64(this + 16)


@cfunc(types.int32(types.int64, types.int32, types.float64, types.int64), cache=True)
def _take_point(this, offset, value, index):
    array_at(index, 1, I32)[0] = 0
    return 0


@cfunc(types.int32(types.int64), cache=True)
def _event_count(this):
    return load_i64(this + 8)


@njit(inline="always")
def _copy_words(source, target, count):
    a, b = array_at(source, count, I64), array_at(target, count, I64)
    for k in range(count):
        b[k] = a[k]


@cfunc(types.int32(types.int64, types.int32, types.int64), cache=True)
def _event_at(this, index, target):
    if index < 0 or index >= load_i64(this + 8):
        return -1
    _copy_words(load_i64(this + 16) + 48 * index, target, 6)
    return 0


class HostObject:
    """An object of the host's: a table of compiled functions, and the words that they read."""

    def __init__(self, functions: Sequence[int | None], own: Sequence[int] = ()) -> None:
        base = [_no_interface.address, _count.address, _count.address]
        self._table = np.array([*base, *functions], np.int64)
        self._object = np.array([self._table.ctypes.data, *own], np.int64)

    @property
    def address(self) -> int:
        return int(self._object.ctypes.data)


class Stream(HostObject):
    """An `IBStream` over bytes. It is read on the main thread only, so its functions may be Python's."""

    def __init__(self, content: bytes) -> None:
        self._content, self._at = content, 0
        transfer = c.CFUNCTYPE(INT, POINTER, POINTER, INT, POINTER)
        seek = c.CFUNCTYPE(INT, POINTER, c.c_int64, INT, POINTER)
        tell = c.CFUNCTYPE(INT, POINTER, POINTER)
        self._functions = [
            transfer(self._read), transfer(lambda *_: -1), seek(self._seek),
            tell(lambda this, place: self._tell(place)),
        ]  # fmt: skip
        super().__init__([c.cast(f, POINTER).value for f in self._functions])

    def _read(self, this: int, buffer: int, size: int, done: int | None) -> int:
        part = self._content[self._at : self._at + max(size, 0)]
        c.memmove(buffer, part, len(part))
        self._at += len(part)
        if done:
            INT.from_address(done).value = len(part)
        return OK

    def _seek(self, this: int, offset: int, origin: int, place: int | None) -> int:
        base = {0: 0, 1: self._at, 2: len(self._content)}.get(origin, 0)
        self._at = min(max(base + offset, 0), len(self._content))
        return self._tell(place)

    def _tell(self, place: int | None) -> int:
        if place:
            c.c_int64.from_address(place).value = self._at
        return OK


def component_state(saved: bytes) -> bytes:
    """The component's part of a preset file (`VST3` header, chunk list at its end); other bytes are taken as they are.

    PluginError if it calls itself a preset file but is cut off.
    """
    if saved[:4] != b"VST3":
        return saved
    try:
        (listing,) = struct.unpack_from("<q", saved, 40)
        if saved[listing : listing + 4] != b"List":
            raise PluginError("The saved state is a preset file without its list of parts.")
        (count,) = struct.unpack_from("<i", saved, listing + 4)
        for k in range(min(max(count, 0), 128)):
            name, offset, size = struct.unpack_from("<4sqq", saved, listing + 8 + 20 * k)
            if name == b"Comp" and 0 <= offset <= offset + size <= len(saved):
                return saved[offset : offset + size]
    except struct.error:
        pass
    raise PluginError("The saved state is a preset file that is cut off.")


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


def binary(path: str) -> str:
    """The shared object inside a bundle, or the file itself."""
    if not Path(path).is_dir():
        return path
    inside = Path(path) / "Contents" / f"{platform.machine()}-linux"
    found = sorted(inside.glob("*.so"))
    if not found:
        raise PluginError(f"{path} holds nothing for this kind of computer ({platform.machine()}-linux).")
    return str(found[0])


def factory(path: str) -> Interface:
    """The factory of a bundle. PluginError if it cannot be loaded."""
    try:
        library = c.CDLL(binary(path), mode=os.RTLD_LOCAL | os.RTLD_NOW)
        library.ModuleEntry.argtypes = [POINTER]
        library.ModuleEntry.restype = c.c_bool
        library.GetPluginFactory.restype = POINTER
    except (OSError, AttributeError) as error:
        raise PluginError(f"{path} cannot be loaded as VST3: {error}") from error
    if not library.ModuleEntry(library._handle):
        raise PluginError(f"{path} refused to start.")
    address = library.GetPluginFactory()
    if not address:
        raise PluginError(f"{path} holds no plugins.")
    return Interface(address)


def class_ids(of: Interface) -> Iterator[tuple[bytes, str, int]]:
    """(class id, name, number) of every audio plugin of a factory."""
    for number in range(of.call(4)):
        info = ClassInfo()
        if of.call(5, number, c.byref(info), kinds=(INT, POINTER)) == OK and info.category == b"Audio Module Class":
            yield bytes(info)[:16], text(info.name), number


def describe(path: str) -> Iterator[Described]:
    """Every plugin of a bundle, as it describes itself; the identifier is the class id in hexadecimal digits."""
    of = factory(path)
    second = of.query(FACTORY_2)
    for cid, name, number in class_ids(of):
        vendor, version = "", ""
        features: tuple[str, ...] = ()
        info = ClassInfo2()
        if second is not None and second.call(7, number, c.byref(info), kinds=(INT, POINTER)) == OK:
            vendor, version = text(info.vendor), text(info.version)
            features = tuple(text(info.subcategories).split("|"))
        yield Described(cid.hex().upper(), name, vendor, version, features, path)


class Vst3Hosted:
    """One VST3 plugin, active and processing (see `hosted.Hosted`)."""

    def __init__(self, use: PluginUse, path: str, rate: int, longest: int) -> None:
        if use.setting.values:
            raise PluginError(f"{use.label}: single values cannot be set in a VST3 plugin yet, only a saved state.")
        self._factory = factory(path)
        found = [cid for cid, _, _ in class_ids(self._factory) if cid.hex().upper() == use.plugin.identifier.upper()]
        if not found:
            raise PluginError(f"{path} holds no plugin {use.plugin.identifier!r}.")
        self._cid, self._label, self._rate, self._longest = found[0], use.label, rate, longest
        self._context = HostObject([_refuse_two.address, _refuse_four.address])
        # What the plugin says of its parameters is taken and forgotten.
        nothing = _nothing.address
        self._point_taker = HostObject([nothing, nothing, _refuse_four.address, _take_point.address])
        self._changes = HostObject(
            [_event_count.address, nothing, _take_changes.address], [0, self._point_taker.address]
        )
        self._component = self._create()
        self._processor = self._query_processor()
        if use.setting.state is not None:
            self._load_state(use.setting.state)
        ins, outs = (self._buses(direction) for direction in (INPUT, OUTPUT))
        self.inputs = np.zeros((max(sum(ins), 1), longest), np.float32)
        self.outputs = np.zeros((max(sum(outs), 1), longest), np.float32)
        self._kept = [self._bus_buffers(ins, self.inputs), self._bus_buffers(outs, self.outputs)]
        self._counts = (len(ins), len(outs))
        self._blocks: dict[tuple[int, tuple[Note, ...]], tuple[Any, ...]] = {}
        self._is_active = False
        self._activate()
        self.call, self.handle = self._processor.function(9), self._processor.address
        self.latency, self.version = int(self._processor.call(6, result=c.c_uint32)), ""

    def _create(self) -> Interface:
        made = c.c_void_p()
        code = self._factory.call(6, self._cid, COMPONENT, c.byref(made), kinds=(c.c_char_p, c.c_char_p, POINTER))
        if code != OK or not made.value:
            raise PluginError(f"{self._label} could not be made.")
        component = Interface(made.value)
        if component.call(3, self._context.address, kinds=(POINTER,)) != OK:
            raise PluginError(f"{self._label} refused to start.")
        return component

    def _query_processor(self) -> Interface:
        processor = self._component.query(PROCESSOR)
        if processor is None:
            raise PluginError(f"{self._label} does not process audio.")
        return processor

    def _load_state(self, state: bytes) -> None:
        stream = Stream(component_state(state))
        if self._component.call(12, stream.address, kinds=(POINTER,)) != OK:
            raise PluginError(f"{self._label} did not accept the state that the session saved for it.")

    def _buses(self, direction: int) -> list[int]:
        """The channel counts of the audio buses of one direction; all of them are switched on."""
        counts = []
        for number in range(self._component.call(7, AUDIO, direction, kinds=(INT, INT))):
            info = BusInfo()
            self._component.call(8, AUDIO, direction, number, c.byref(info), kinds=(INT, INT, INT, POINTER))
            counts.append(int(info.channels))
        return counts

    @staticmethod
    def _bus_buffers(buses: list[int], samples: np.ndarray) -> tuple[Any, list[Any]]:
        pointers, first = [], 0
        for count in buses:
            rows = [samples[first + k].ctypes.data for k in range(count)]
            pointers.append((POINTER * max(count, 1))(*rows))
            first += count
        made = [BusBuffers(n, 0, c.addressof(p)) for n, p in zip(buses, pointers, strict=True)]
        return (BusBuffers * max(len(buses), 1))(*made), pointers

    def _switch_buses(self, on: bool) -> None:
        for media in (AUDIO, EVENT):
            for direction in (INPUT, OUTPUT):
                for number in range(self._component.call(7, media, direction, kinds=(INT, INT))):
                    self._component.call(10, media, direction, number, on, kinds=(INT, INT, INT, BOOL))

    def _activate(self) -> None:
        setup = Setup(0, 0, self._longest, float(self._rate))
        if self._processor.call(7, c.byref(setup), kinds=(POINTER,)) != OK:
            raise PluginError(f"{self._label} refuses {self._rate} Hz with blocks of up to {self._longest} samples.")
        self._switch_buses(True)
        if self._component.call(11, True, kinds=(BOOL,)) != OK:
            raise PluginError(f"{self._label} refuses to be switched on.")
        self._processor.call(8, True, kinds=(BOOL,))
        self._is_active = True

    def argument(self, frames: int, notes: tuple[Note, ...] = ()) -> int:
        """The address of a `ProcessData` of so many samples that begins with these notes."""
        if (frames, notes) not in self._blocks:
            events = (NoteEvent * max(len(notes), 1))(*(self._note(note) for note in notes))
            own = [len(notes), c.addressof(events)]
            listing = HostObject([_event_count.address, _event_at.address, _refuse_two.address], own)
            ins, outs = (c.addressof(buffers) for buffers, _ in self._kept)
            changes = self._changes.address
            block = ProcessBlock(0, 0, frames, *self._counts, ins, outs, changes, changes, listing.address, None, None)
            self._blocks[frames, notes] = (block, listing, events)
        return c.addressof(self._blocks[frames, notes][0])

    @staticmethod
    def _note(note: Note) -> NoteEvent:
        if note.on:
            return NoteEvent(0, 0, 0.0, 0, 0, 0, 0, note.key, 0.0, 0.8, 0, -1)
        # A note's end has its id where a beginning has its length's place: -1 says that the pitch names it.
        return NoteEvent(0, 0, 0.0, 0, 1, 0, 0, note.key, 0.0, float(np.frombuffer(b"\xff" * 4, "<f4")[0]), 0, 0)

    def restart(self) -> None:
        self._deactivate()
        self._activate()

    def settled(self) -> None:
        """Nothing to look up: the latency was told when it was activated."""

    def _deactivate(self) -> None:
        if self._is_active:
            self._processor.call(8, False, kinds=(BOOL,))
            self._component.call(11, False, kinds=(BOOL,))
            self._is_active = False

    def close(self) -> None:
        self._deactivate()
        self._component.call(4)
        self._processor.release()
        self._component.release()


def files() -> list[Path]:
    """Every bundle or file: those in VST3_PATH first, then in the standard's own folders."""
    given = [Path(p) for p in os.environ.get("VST3_PATH", "").split(":") if p]
    folders = (*given, Path.home() / ".vst3", Path("/usr/lib/vst3"), Path("/usr/local/lib/vst3"))
    return files_in(folders, "**/*.vst3")


def load(use: PluginUse, path: str, rate: int, longest: int) -> Vst3Hosted:
    """Loads one use from a bundle at a rate (Hz), for blocks of up to `longest` samples. PluginError says why not."""
    return Vst3Hosted(use, path, rate, longest)
