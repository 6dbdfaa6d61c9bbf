"""CLAP: an open plugin standard whose interface is C structures and function pointers, reached through ctypes.

The plugin's side: the factory, the life cycle, audio and note ports, parameters, state and latency; what it meets of
its host is in `clap_host`.
"""

from __future__ import annotations

import ctypes as c
import os
from collections.abc import Iterator, Mapping
from functools import partial
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ...core.session.expressions import KINDS, PRESSED
from ...core.session.plugins import PluginUse
from ...store.archive import LARGEST_STATE
from .clap_block import CLAP_DIALECT, FORGOTTEN, MIDI_DIALECT, Blocks, EventList, param_event
from .clap_host import (
    BOOL,
    CALLBACK,
    LATENCY,
    POINTER,
    RESTART,
    TEXT,
    UINT,
    VOID,
    ClapHost,
    FileSupport,
    TimerSupport,
    Version,
    run_block,
)
from .hosted import (
    Described,
    Event,
    Move,
    Moves,
    Parameter,
    PluginError,
    Rows,
    no_presets,
    own_rows,
    parameter,
    text,
    wired,
)
from .piece import Place

NAME_BYTES, PATH_BYTES = 256, 1024
# Of the flags of an audio port: it carries what the strip does, not a side-chain.
IS_MAIN = 1
STEPPED, READ_ONLY, BYPASS = 1, 8, 16
# What `process` returns when it could not do its work; everything else is a success of some kind.
FAILED = 0


class Entry(c.Structure):
    _fields_ = (
        ("version", Version), ("init", c.CFUNCTYPE(BOOL, TEXT)), ("deinit", c.CFUNCTYPE(VOID)),
        ("get_factory", c.CFUNCTYPE(POINTER, TEXT)),
    )  # fmt: skip


class Descriptor(c.Structure):
    _fields_ = (
        ("clap_version", Version), ("id", TEXT), ("name", TEXT), ("vendor", TEXT), ("url", TEXT), ("manual_url", TEXT),
        ("support_url", TEXT), ("version", TEXT), ("description", TEXT), ("features", c.POINTER(TEXT)),
    )  # fmt: skip


class Factory(c.Structure):
    _fields_ = (
        ("count", c.CFUNCTYPE(UINT, POINTER)), ("descriptor", c.CFUNCTYPE(c.POINTER(Descriptor), POINTER, UINT)),
        ("create", c.CFUNCTYPE(POINTER, POINTER, POINTER, TEXT)),
    )  # fmt: skip


class Plugin(c.Structure):
    _fields_ = (
        ("desc", c.POINTER(Descriptor)), ("plugin_data", POINTER), ("init", c.CFUNCTYPE(BOOL, POINTER)),
        ("destroy", c.CFUNCTYPE(VOID, POINTER)), ("activate", c.CFUNCTYPE(BOOL, POINTER, c.c_double, UINT, UINT)),
        ("deactivate", c.CFUNCTYPE(VOID, POINTER)), ("start_processing", c.CFUNCTYPE(BOOL, POINTER)),
        ("stop_processing", c.CFUNCTYPE(VOID, POINTER)), ("reset", c.CFUNCTYPE(VOID, POINTER)), ("process", POINTER),
        ("get_extension", c.CFUNCTYPE(POINTER, POINTER, TEXT)), ("on_main_thread", c.CFUNCTYPE(VOID, POINTER)),
    )  # fmt: skip


class AudioPorts(c.Structure):
    _fields_ = (
        ("count", c.CFUNCTYPE(UINT, POINTER, BOOL)), ("get", c.CFUNCTYPE(BOOL, POINTER, UINT, BOOL, POINTER)),
    )  # fmt: skip


class AudioPort(c.Structure):
    _fields_ = (
        ("id", UINT), ("name", c.c_char * NAME_BYTES), ("flags", UINT), ("channel_count", UINT), ("port_type", TEXT),
        ("in_place_pair", UINT),
    )  # fmt: skip


class NotePort(c.Structure):
    _fields_ = (("id", UINT), ("dialects", UINT), ("preferred", UINT), ("name", c.c_char * NAME_BYTES))


class ParamDescription(c.Structure):
    _fields_ = (
        ("id", UINT), ("flags", UINT), ("cookie", POINTER), ("name", c.c_char * NAME_BYTES),
        ("module", c.c_char * PATH_BYTES), ("least", c.c_double), ("most", c.c_double), ("start", c.c_double),
    )  # fmt: skip


class Params(c.Structure):
    _fields_ = (
        ("count", c.CFUNCTYPE(UINT, POINTER)), ("get_info", c.CFUNCTYPE(BOOL, POINTER, UINT, POINTER)),
        ("get_value", c.CFUNCTYPE(BOOL, POINTER, UINT, c.POINTER(c.c_double))),
        ("value_to_text", c.CFUNCTYPE(BOOL, POINTER, UINT, c.c_double, POINTER, UINT)),
        ("text_to_value", POINTER), ("flush", c.CFUNCTYPE(VOID, POINTER, POINTER, POINTER)),
    )  # fmt: skip


TRANSFER = c.CFUNCTYPE(c.c_int64, POINTER, POINTER, c.c_uint64)


class StateStream(c.Structure):
    """An input stream (the function reads) or an output stream (it writes)."""

    _fields_ = (("ctx", POINTER), ("transfer", TRANSFER))


class State(c.Structure):
    _fields_ = (
        ("save", c.CFUNCTYPE(BOOL, POINTER, c.POINTER(StateStream))),
        ("load", c.CFUNCTYPE(BOOL, POINTER, c.POINTER(StateStream))),
    )  # fmt: skip


class ThreadPool(c.Structure):
    _fields_ = (("exec", POINTER),)


class Latency(c.Structure):
    _fields_ = (("get", c.CFUNCTYPE(UINT, POINTER)),)


class Library:
    """One `.clap` file, loaded. PluginError says what is wrong with it."""

    def __init__(self, path: str) -> None:
        self.path = path
        if Path(path).is_dir():
            raise PluginError(f"{path} is a folder; a CLAP plugin is a file on Linux.")
        try:
            self._library = c.CDLL(path, mode=os.RTLD_LOCAL | os.RTLD_NOW)
            self._entry = Entry.in_dll(self._library, "clap_entry")
        except (OSError, ValueError) as error:
            raise PluginError(f"{path} cannot be loaded as CLAP: {error}") from error
        if not self._entry.init(path.encode()):
            raise PluginError(f"{path} refused to start.")
        address = self._entry.get_factory(b"clap.plugin-factory")
        if not address:
            raise PluginError(f"{path} holds no plugins.")
        self._address = address
        self._factory = Factory.from_address(address)

    def described(self) -> Iterator[Described]:
        """Every plugin in the file."""
        for index in range(self._factory.count(self._address)):
            found = self._factory.descriptor(self._address, index)
            if not found:
                continue
            d = found.contents
            features = []
            for feature in d.features or ():
                if feature is None:
                    break
                features.append(feature.decode(errors="replace"))
            identifier, name, vendor, version = (text(t) for t in (d.id, d.name, d.vendor, d.version))
            yield Described(identifier, name, vendor, version, tuple(features), self.path)

    def create(self, identifier: str, host: int) -> int:
        """The address of a new plugin for a host at an address; PluginError if the file does not hold it."""
        address = self._factory.create(self._address, host, identifier.encode())
        if not address:
            raise PluginError(f"{self.path} holds no plugin {identifier!r}.")
        return address


class ClapHosted:
    """One CLAP plugin, active and processing (see `hosted.Hosted`)."""

    def __init__(
        self, use: PluginUse, path: str, rate: int, longest: int, frames: int, rows: Rows = own_rows
    ) -> None:  # fmt: skip
        self._library = Library(path)
        self._own_host = ClapHost(rate, self._more_offered())
        self._address = self._library.create(use.plugin.identifier, self._own_host.address)
        self._plugin = Plugin.from_address(self._address)
        if not self._plugin.init(self._address):
            raise PluginError(f"{use.label} refused to start.")
        self._rate = rate
        self.version = text(self._plugin.desc.contents.version)
        if use.setting.state is not None:
            self._load_state(use)
        if use.setting.values:
            self._set_parameters(use)
        ins, sides = self._ports(True)
        outs, _ = self._ports(False)
        self.wiring = wired(use, sides)
        dialects = self._dialects()
        # Hosts have their own ways with controllers for a plugin that takes no MIDI, or send it none.
        self.is_turned = bool(dialects & MIDI_DIALECT)
        dialect = CLAP_DIALECT if dialects & CLAP_DIALECT else MIDI_DIALECT
        self.expresses = frozenset(KINDS if dialect == CLAP_DIALECT else (PRESSED,))
        self._blocks = Blocks(ins, outs, longest, dialect, self._own_host.transport, rows)
        self.inputs, self.outputs = self._blocks.inputs, self._blocks.outputs
        self.latency = 0
        self._activate(frames)
        pool = self._extension(b"clap.thread-pool", ThreadPool)
        self._own_host.plays(self._plugin.process, self._address, pool.exec if pool is not None else 0)
        self.call, self.handle = run_block.address, self._own_host.record.ctypes.data

    def _extension(self, name: bytes, kind: type[c.Structure]):
        address = self._plugin.get_extension(self._address, name)
        return kind.from_address(address) if address else None

    def _ports(self, is_input: bool) -> tuple[list[int], list[bool]]:
        """The channel counts of the plugin's input or output ports, and for each channel whether it is none of the main
        port's."""
        ports = self._extension(b"clap.audio-ports", AudioPorts)
        if ports is None:
            return [], []
        counts: list[int] = []
        sides: list[bool] = []
        for index in range(ports.count(self._address, is_input)):
            port = AudioPort()
            if not ports.get(self._address, index, is_input, c.addressof(port)):
                raise PluginError(f"The plugin does not describe its audio port {index + 1}.")
            counts.append(int(port.channel_count))
            sides += [not port.flags & IS_MAIN] * int(port.channel_count)
        return counts, sides

    def _dialects(self) -> int:
        """In which ways the plugin takes notes."""
        ports = self._extension(b"clap.note-ports", AudioPorts)
        port = NotePort()
        if ports is None or not ports.count(self._address, True):
            return CLAP_DIALECT
        return int(port.dialects) if ports.get(self._address, 0, True, c.addressof(port)) else CLAP_DIALECT

    def _load_state(self, use: PluginUse) -> None:
        state = self._extension(b"clap.state", State)
        if state is None:
            raise PluginError(f"{use.label} has a saved state in the session, but takes none.")
        left = [use.setting.state]

        def read(stream, buffer, size):
            part, left[0] = left[0][:size], left[0][size:]
            c.memmove(buffer, part, len(part))
            return len(part)

        if not state.load(self._address, c.byref(StateStream(None, TRANSFER(read)))):
            raise PluginError(f"{use.label} did not accept the state that the session saved for it.")

    def saved_state(self) -> bytes | None:
        """The state that it is in, as a session saves it; None if it saves none. PluginError if it fails to."""
        state = self._extension(b"clap.state", State)
        if state is None:
            return None
        parts: list[bytes] = []

        def write(stream, buffer, size):
            size = min(size, LARGEST_STATE - sum(map(len, parts)))
            if size <= 0:
                return -1
            parts.append(c.string_at(buffer, size))
            return size

        if not state.save(self._address, c.byref(StateStream(None, TRANSFER(write)))):
            raise PluginError("It could not save its state.")
        return b"".join(parts)

    def _set_parameters(self, use: PluginUse) -> None:
        params = self._extension(b"clap.params", Params)
        if params is None:
            raise PluginError(f"{use.label} has parameters in the session, but takes none.")
        by_name = {text(d.name).lower(): int(d.id) for d in self._described()}
        numbers = {name: int(name) if name.isdecimal() else by_name.get(name.lower()) for name, _ in use.setting.values}
        unknown = [name for name, number in numbers.items() if number is None]
        if unknown:
            raise PluginError(f"{use.label} has no parameter {unknown[0]!r}.")
        events = EventList([param_event(numbers[name] or 0, value) for name, value in use.setting.values])
        params.flush(self._address, events.address, c.addressof(FORGOTTEN))

    def _described(self) -> Iterator[ParamDescription]:
        params = self._extension(b"clap.params", Params)
        for index in range(params.count(self._address) if params is not None else 0):
            found = ParamDescription()
            if params.get_info(self._address, index, c.addressof(found)):
                yield found

    presets = staticmethod(no_presets)

    def parameters(self) -> tuple[Parameter, ...]:
        params = self._extension(b"clap.params", Params)
        found, value = [], c.c_double()
        for d in self._described():
            if not d.flags & (READ_ONLY | BYPASS):
                now = value.value if params.get_value(self._address, d.id, c.byref(value)) else d.start
                made = parameter(str(d.id), text(d.name), bool(d.flags & STEPPED), d.least, d.most, now)
                found.append(made.written(partial(self._written, params, d.id)))
        return tuple(found)

    def _written(self, params: Params, number: int, value: float) -> str:
        """A parameter's value as the plugin writes it; empty if it does not."""
        place = c.create_string_buffer(NAME_BYTES)
        writes = bool(params.value_to_text)
        if writes and params.value_to_text(self._address, number, value, c.addressof(place), NAME_BYTES):
            return text(place.value).strip()
        return ""

    def _more_offered(self) -> Mapping[bytes, int]:
        """What its host offers beyond what a plugin needs that runs without a window: addresses by name."""
        return {}

    def _activate(self, frames: int) -> None:
        if not self._plugin.activate(self._address, float(self._rate), 1, frames):
            raise PluginError(f"The plugin refuses {self._rate} Hz with blocks of up to {frames} samples.")
        if not self._plugin.start_processing(self._address):
            raise PluginError("The plugin refuses to start processing.")
        self.made_for = frames
        self._read_latency()

    def _read_latency(self) -> None:
        latency = self._extension(b"clap.latency", Latency)
        self.latency = int(latency.get(self._address)) if latency else 0

    @property
    def defers(self) -> bool:
        return bool(self._own_host.words[CALLBACK])

    moves: Moves = "steps"

    def argument(self, frames: int, notes: tuple[Event, ...] = (), moves: tuple[Move, ...] = ()) -> int:
        return self._blocks.argument(frames, notes, moves)

    def settled(self) -> bool:
        """Gives it the main thread, if it asked for it; its timers and files; and hears of another latency."""
        words = self._own_host.words
        asked = bool(words[CALLBACK])
        words[CALLBACK] = 0
        if asked:
            self._plugin.on_main_thread(self._address)
        self._own_host.serve(
            self._address, self._extension(b"clap.timer-support", TimerSupport),
            self._extension(b"clap.posix-fd-support", FileSupport),
        )  # fmt: skip
        if words[LATENCY]:
            words[LATENCY] = 0
            self._read_latency()
        return asked

    def failures(self, codes: NDArray[np.int32]) -> int:
        return int(np.count_nonzero(codes == FAILED))

    def locate(self, place: Place) -> None:
        self._own_host.locate(place)

    def restart(self, frames: int) -> None:
        self._plugin.stop_processing(self._address)
        self._plugin.deactivate(self._address)
        self._own_host.words[RESTART] = 0
        self._own_host.rewind()
        self._activate(frames)
        self._plugin.reset(self._address)

    def close(self) -> None:
        self._plugin.stop_processing(self._address)
        self._plugin.deactivate(self._address)
        self._plugin.destroy(self._address)


def describe(path: str) -> Iterator[Described]:
    """Every plugin of a file, as it describes itself."""
    return Library(path).described()


def load(
    use: PluginUse, path: str, rate: int, longest: int, frames: int = 0, rows: Rows = own_rows
) -> ClapHosted:  # fmt: skip
    """Loads one use from a file at a rate (Hz), switched on for blocks of `frames` samples (0: of `longest`).

    Its buffers (from `rows`) take blocks of up to `longest` samples. PluginError says why not.
    """
    return ClapHosted(use, path, rate, longest, frames or longest, rows)
