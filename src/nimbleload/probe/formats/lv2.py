"""LV2: plugins found through the system's liblilv, called through their C structures.

Offered to them: URID map and unmap, options (rate and block sizes), block lengths, the worker, the log, and the state
of their bundle to begin with; where a piece is that plays. What a plugin requires beyond that is named.
"""

from __future__ import annotations

import ctypes as c
import struct
from collections.abc import Iterator, Mapping
from functools import partial
from typing import Any

import numpy as np

from ...core.session.expressions import PRESSED
from ...core.session.plugins import PluginUse
from . import lilv
from .hosted import (
    Described,
    Event,
    Move,
    Moves,
    Parameter,
    PluginError,
    Preset,
    Rows,
    midi,
    never_fails,
    own_rows,
    parameter,
    wired,
)
from .lv2_native import (
    CHUNK,
    EVENT_INS,
    EVENT_OUTS,
    PLUGIN,
    PORTS,
    QUEUE_BYTES,
    RUN,
    SEQUENCE,
    run_block,
    schedule_work,
    take_words,
)
from .lv2_ports import ATOM, EVENT_BYTES, NS, TIME, Ports
from .piece import BAR_LENGTH, BARS_SINCE, BEAT_UNIT, FIRST_BAR, PACE, Piece, Place

BUF_SIZE, URID, WORKER = f"{NS}/ext/buf-size#", f"{NS}/ext/urid#", f"{NS}/ext/worker#"
LOG, SAFE = f"{NS}/ext/log#log", f"{NS}/ext/state#threadSafeRestore"
OPTIONS, PARAMETERS, MIDI = f"{NS}/ext/options#", f"{NS}/ext/parameters#", f"{NS}/ext/midi#"
POWERS_OF_TWO = f"{BUF_SIZE}powerOf2BlockLength"
OFFERED = {
    f"{URID}map", f"{URID}unmap", f"{OPTIONS}options", f"{BUF_SIZE}boundedBlockLength", f"{WORKER}schedule",
    f"{BUF_SIZE}fixedBlockLength", POWERS_OF_TWO, f"{lilv.LV2}isLive", f"{lilv.LV2}inPlaceBroken",
    f"{lilv.LV2}hardRTCapable", lilv.LOAD_DEFAULT, LOG, SAFE,
}  # fmt: skip
# What an event with a MIDI message takes of them.
MIDI_BYTES = 24
VALUE_TYPES: dict[str, Any] = {
    "Float": c.c_float,
    "Double": c.c_double,
    "Int": c.c_int32,
    "Long": c.c_int64,
    "Bool": c.c_int32,
}


class Feature(c.Structure):
    _fields_ = (("uri", c.c_char_p), ("data", c.c_void_p))


class Option(c.Structure):
    _fields_ = (
        ("context", c.c_int), ("subject", c.c_uint32), ("key", c.c_uint32), ("size", c.c_uint32), ("type", c.c_uint32),
        ("value", c.c_void_p),
    )  # fmt: skip


MAP = c.CFUNCTYPE(c.c_uint32, c.c_void_p, c.c_char_p)
UNMAP = c.CFUNCTYPE(c.c_void_p, c.c_void_p, c.c_uint32)
RESPOND = c.CFUNCTYPE(c.c_int, c.c_void_p, c.c_uint32, c.c_void_p)
SET_PORT = c.CFUNCTYPE(None, c.c_char_p, c.c_void_p, c.c_void_p, c.c_uint32, c.c_uint32)
GET_PORT = c.CFUNCTYPE(c.c_void_p, c.c_char_p, c.c_void_p, c.POINTER(c.c_uint32), c.POINTER(c.c_uint32))
# What a saved state is called in its own text; nothing else refers to it.
STATE_URI = b"urn:nimble-load:state"
EXTENSION_DATA = c.CFUNCTYPE(c.c_void_p, c.c_char_p)


class Pair(c.Structure):
    """A handle and a function: the shape of `LV2_URID_Map`, `LV2_URID_Unmap` and `LV2_Worker_Schedule`."""

    _fields_ = (("handle", c.c_void_p), ("function", c.c_void_p))


class Descriptor(c.Structure):
    _fields_ = (
        ("uri", c.c_char_p), ("instantiate", c.c_void_p),
        ("connect_port", c.CFUNCTYPE(None, c.c_void_p, c.c_uint32, c.c_void_p)),
        ("activate", c.CFUNCTYPE(None, c.c_void_p)), ("run", c.c_void_p),
        ("deactivate", c.CFUNCTYPE(None, c.c_void_p)), ("cleanup", c.c_void_p), ("extension_data", c.c_void_p),
    )  # fmt: skip


class Instance(c.Structure):
    _fields_ = (("descriptor", c.POINTER(Descriptor)), ("handle", c.c_void_p), ("own", c.c_void_p))


class WorkerInterface(c.Structure):
    _fields_ = (
        ("work", c.CFUNCTYPE(c.c_int, c.c_void_p, c.c_void_p, c.c_void_p, c.c_uint32, c.c_void_p)),
        ("work_response", c.CFUNCTYPE(c.c_int, c.c_void_p, c.c_uint32, c.c_void_p)),
        ("end_run", c.CFUNCTYPE(c.c_int, c.c_void_p)),
    )  # fmt: skip


class Urids:
    """Numbers for URIs, given out as plugins ask for them."""

    def __init__(self) -> None:
        self._numbers: dict[bytes, int] = {}
        self._texts: list[Any] = []
        self.map = MAP(lambda handle, uri: self.number(uri))
        self.unmap = UNMAP(self._text)

    def number(self, uri: bytes | str) -> int:
        uri = uri.encode() if isinstance(uri, str) else uri
        if uri not in self._numbers:
            self._texts.append(c.create_string_buffer(uri))
            self._numbers[uri] = len(self._texts)
        return self._numbers[uri]

    def _text(self, handle: int | None, number: int) -> int | None:
        return c.addressof(self._texts[number - 1]) if 0 < number <= len(self._texts) else None


class Lv2Hosted:
    """One LV2 plugin, active (see `hosted.Hosted`)."""

    def __init__(self, use: PluginUse, rate: int, longest: int, frames: int, rows: Rows = own_rows) -> None:
        self._plugin = lilv.plugin(use.plugin.identifier)
        required = lilv.required_features(self._plugin)
        lacking = [uri for uri in required if uri not in OFFERED]
        if lacking:
            raise PluginError(f"{use.label} requires what is not offered here: {', '.join(lacking)}.")
        self._label, self._rate, self._identifier = use.label, rate, use.plugin.identifier
        self._takes_powers_of_two = POWERS_OF_TWO in required
        self._state = use.setting.state
        self._ports = Ports(self._plugin, rate, longest, use.label, rows)
        self._urids = Urids()
        self._chosen = use.setting.values
        for name, value in self._chosen:
            if name not in self._ports.symbols:
                raise PluginError(f"{use.label} has no port {name!r}.")
            self._ports.controls[self._ports.symbols[name]] = value
        self.inputs, self.outputs = self._ports.inputs, self._ports.outputs
        self.wiring = wired(use, self._ports.sides)
        self._queue = np.zeros(QUEUE_BYTES // 8 + 2, np.int64)
        self._features = self._make_features(frames)
        ins, outs = self._ports.events[True], self._ports.events[False]
        self._host = np.zeros(PORTS + 2 * (len(ins) + len(outs)), np.int64)
        self._host[SEQUENCE] = self._urids.number(f"{ATOM}Sequence")
        self._host[CHUNK] = self._urids.number(f"{ATOM}Chunk")
        self._host[EVENT_INS], self._host[EVENT_OUTS] = len(ins), len(outs)
        for k, index in enumerate((*ins, *outs)):
            self._host[PORTS + 2 * k : PORTS + 2 * k + 2] = self._ports.places[index] or 0, EVENT_BYTES
        self.call, self.handle = run_block.address, self._host.ctypes.data
        self.latency, self.version, self.failures, self.defers = 0, "", never_fails, False
        self._instance: Instance | None = None
        self._begins = b""
        self._piece, self._unit = Piece(rate), BEAT_UNIT
        self._address = 0
        self.restart(frames)

    def _make_features(self, frames: int) -> Any:
        """A null-ended list of features, with all they point to kept alive."""
        self._numbers = [c.c_int32(n) for n in (frames, frames, frames, EVENT_BYTES)]
        self._rate_option = c.c_float(self._rate)
        whole, real = self._urids.number(f"{ATOM}Int"), self._urids.number(f"{ATOM}Float")
        keys = ("minBlockLength", "maxBlockLength", "nominalBlockLength", "sequenceSize")
        made = [
            Option(0, 0, self._urids.number(BUF_SIZE + key), 4, whole, c.addressof(number))
            for key, number in zip(keys, self._numbers, strict=True)
        ]
        rate_key = self._urids.number(f"{PARAMETERS}sampleRate")
        made.append(Option(0, 0, rate_key, 4, real, c.addressof(self._rate_option)))
        self._options = (Option * (len(made) + 1))(*made)
        self._queue[0], self._queue[1] = 0, QUEUE_BYTES
        self._pairs = [
            Pair(None, c.cast(self._urids.map, c.c_void_p)),
            Pair(None, c.cast(self._urids.unmap, c.c_void_p)),
            Pair(self._queue.ctypes.data, schedule_work.address),
        ]
        self._log = (c.c_void_p * 3)(None, take_words.address, take_words.address)
        places = [c.addressof(pair) for pair in self._pairs]
        listed = [
            (f"{URID}map", places[0]), (f"{URID}unmap", places[1]), (f"{WORKER}schedule", places[2]),
            (f"{OPTIONS}options", c.addressof(self._options)), (f"{BUF_SIZE}boundedBlockLength", None),
            (f"{BUF_SIZE}fixedBlockLength", None), (POWERS_OF_TWO, None),
            (LOG, c.addressof(self._log)), (lilv.LOAD_DEFAULT, None), (SAFE, None),
        ]  # fmt: skip
        self._listed = [Feature(uri.encode(), place) for uri, place in listed]
        return (c.c_void_p * (len(listed) + 1))(*(c.addressof(f) for f in self._listed))

    moves: Moves = "between"
    is_turned, expresses = True, frozenset({PRESSED})

    def argument(self, frames: int, notes: tuple[Event, ...] = (), moves: tuple[Move, ...] = ()) -> int:
        """The block's length; notes and controllers are written into the first event input, as many as it holds, which
        is emptied after the block, and values into their ports."""
        for move in moves:
            self._ports.controls[self._ports.symbols[move.key]] = move.value
        begins, self._begins = self._begins, b""
        if notes and self._ports.events[True]:
            place = self._ports.places[self._ports.events[True][0]] or 0
            kind = self._urids.number(f"{MIDI}MidiEvent")
            room = (EVENT_BYTES - len(begins)) // MIDI_BYTES
            body = begins + b"".join(_midi_event(midi(note), note.at, kind) for note in notes[:room])
            head = np.array([8 + len(body), self._host[SEQUENCE], 0, 0], "<u4").tobytes()
            c.memmove(place, head + body, len(head) + len(body))
        return frames

    def restart(self, frames: int) -> None:
        self.close()
        if self._takes_powers_of_two and frames.bit_count() != 1:
            raise PluginError(f"{self._label} takes blocks of powers of two only (64, 128 …), not of {frames} samples.")
        self._piece.rewind()
        for number in self._numbers[:3]:
            number.value = frames
        self.made_for = frames
        lib = lilv.library()
        self._address = lib.lilv_plugin_instantiate(self._plugin, float(self._rate), c.addressof(self._features)) or 0
        if not self._address:
            raise PluginError(f"{self._label} refused to start at {self._rate} Hz.")
        self._instance = Instance.from_address(self._address)
        descriptor = self._instance.descriptor.contents
        for port, place in self._ports.places.items():
            descriptor.connect_port(self._instance.handle, port, place)
        for k in range(int(self._host[EVENT_INS])):
            self._put_position(k, 0, 0.0)
        urid_map = c.addressof(self._pairs[0])
        if self._state is not None:
            self._restore(lilv.saved_state(self._state, urid_map, self._identifier))
        elif (default := lilv.default_state(self._plugin, urid_map)) is not None:
            self._restore(default)
        if descriptor.activate:
            descriptor.activate(self._instance.handle)
        self._host[RUN], self._host[PLUGIN] = descriptor.run, self._instance.handle
        self.defers = self._worker() is not None
        self._do_work()

    def locate(self, place: Place) -> None:
        """Plugins count for themselves: they are told only where they would come out elsewhere."""
        kept, bars = self._piece.kept, place.bars
        same_bars = [*kept[[BARS_SINCE, FIRST_BAR, BAR_LENGTH]]] == [bars.since, bars.first, bars.length]
        expected = self._piece.beat_at(place.sample)
        if abs(expected - place.beat) < 1e-6 and kept[PACE] == place.tempo and same_bars:
            return
        self._piece.goes_on(place)
        self._unit = bars.unit
        for k in sorted(self._ports.timed):
            self._put_position(k, place.sample, place.beat)

    def _put_position(self, number: int, sample: int, beat: float) -> None:
        """Has an event input begin with where the piece is; a block with notes has it before them."""
        position = self._position(sample, beat) if number in self._ports.timed else b""
        self._begins = position if number == 0 else self._begins
        head = np.array([8 + len(position), self._host[SEQUENCE], 0, 0], "<u4").tobytes() + position
        c.memmove(int(self._host[PORTS + 2 * number]), head, len(head))

    def _position(self, sample: int, beat: float) -> bytes:
        """The event that says where the piece is, and that it plays. Here a beat is what the time signature counts."""
        number, kept = self._urids.number, self._piece.kept
        bar, a_beat = self._piece.bar_at(beat), 4 / self._unit
        whole, real, long = (number(f"{ATOM}{kind}") for kind in ("Int", "Float", "Long"))
        body = np.array([0, number(f"{TIME}Position")], "<u4").tobytes()
        for name, kind, value in (
            ("frame", long, np.array([sample], "<i8")), ("speed", real, np.array([1.0], "<f4")),
            ("bar", long, np.array([bar], "<i8")),
            ("barBeat", real, np.array([max(beat - self._piece.bar_begins(bar), 0.0) / a_beat], "<f4")),
            ("beatUnit", whole, np.array([self._unit], "<i4")),
            ("beatsPerBar", real, np.array([kept[BAR_LENGTH] / a_beat], "<f4")),
            ("beatsPerMinute", real, np.array([kept[PACE] / a_beat], "<f4")),
        ):  # fmt: skip
            content = value.tobytes()
            body += np.array([number(f"{TIME}{name}"), 0, len(content), kind], "<u4").tobytes()
            body += content.ljust(8, b"\0")
        return np.array([0], "<i8").tobytes() + np.array([len(body), number(f"{ATOM}Object")], "<u4").tobytes() + body

    def _restore(self, state: int) -> None:
        """Gives the plugin a state, which is freed; what single values the setting names is set over it."""
        lib = lilv.library()
        kept = dict(self._chosen)
        kinds = {self._urids.number(f"{ATOM}{name}"): kind for name, kind in VALUE_TYPES.items()}

        def set_port(symbol: bytes, _: int, value: int, size: int, kind: int) -> None:
            name = symbol.decode(errors="replace")
            if name in self._ports.symbols and name not in kept and kind in kinds and c.sizeof(kinds[kind]) == size:
                self._ports.controls[self._ports.symbols[name]] = kinds[kind].from_address(value).value

        setter = SET_PORT(set_port)
        lib.lilv_state_restore(state, self._address, c.cast(setter, c.c_void_p), None, 0, c.addressof(self._features))
        lib.lilv_state_free(state)

    def saved_state(self) -> bytes | None:
        """The state that it is in with the values of its ports, as Turtle. PluginError if it fails to save it."""
        lib = lilv.library()
        kind = self._urids.number(f"{ATOM}Float")

        def value_of(symbol: bytes, _: int, size: Any, kind_of: Any) -> int | None:
            index = self._ports.symbols.get(symbol.decode(errors="replace"))
            if index not in self._ports.inputs_of_control:
                size[0], kind_of[0] = 0, 0
                return None
            size[0], kind_of[0] = 4, kind
            return self._ports.places[index]

        getter = GET_PORT(value_of)
        state = lib.lilv_state_new_from_instance(
            self._plugin, self._address, c.addressof(self._pairs[0]), None, None, None, None,
            c.cast(getter, c.c_void_p), None, 0, c.addressof(self._features),
        )  # fmt: skip
        if not state:
            raise PluginError("It could not save its state.")
        pairs = [c.addressof(pair) for pair in self._pairs[:2]]
        raw = lib.lilv_state_to_string(lilv.world(), *pairs, state, STATE_URI, None)
        content = c.string_at(raw) if raw else b""
        lib.lilv_free(raw)
        lib.lilv_state_free(state)
        if not content:
            raise PluginError("It could not save its state.")
        return content

    def presets(self) -> tuple[Preset, ...]:
        return tuple(sorted(Preset(name, address) for name, address in lilv.presets(self._plugin)))

    def parameters(self) -> tuple[Parameter, ...]:
        lib, found = lilv.library(), []
        by_index = {index: symbol for symbol, index in self._ports.symbols.items()}
        for index in self._ports.inputs_of_control:
            port = lib.lilv_plugin_get_port_by_index(self._plugin, index)
            is_a = {
                name: lib.lilv_port_has_property(self._plugin, port, lilv.node(f"{lilv.LV2}{name}"))
                for name in ("toggled", "integer", "enumeration")
            }
            least, most = (float(v) if np.isfinite(v) else k for k, v in enumerate(self._ports.ranges[:2, index]))
            labels = lilv.scale_labels(self._plugin, port)
            choices = sorted(labels) if is_a["enumeration"] else ()
            whole = is_a["toggled"] or is_a["integer"] or is_a["enumeration"]
            if is_a["toggled"]:
                least, most = 0.0, 1.0
            name, value = lilv.text(lib.lilv_port_get_name(self._plugin, port)), float(self._ports.controls[index])
            made = parameter(by_index[index], name, whole, least, most, value, *choices)
            found.append(made.written(partial(_written, labels, lilv.port_unit(self._plugin, port))))
        return tuple(found)

    def settled(self) -> bool:
        """Does the work that was put off, and reads the latency from its port."""
        had_work = self._do_work()
        lib = lilv.library()
        if lib.lilv_plugin_has_latency(self._plugin):
            value = float(self._ports.controls[lib.lilv_plugin_get_latency_port_index(self._plugin)])
            self.latency = max(round(value), 0) if np.isfinite(value) else 0
        return had_work

    def _worker(self) -> WorkerInterface | None:
        """What the plugin wants called for work that it puts off; None if it puts off none."""
        if self._instance is None or not self._instance.descriptor.contents.extension_data:
            return None
        data = EXTENSION_DATA(self._instance.descriptor.contents.extension_data)
        address = data(f"{WORKER}interface".encode())
        return WorkerInterface.from_address(address) if address else None

    def _do_work(self) -> bool:
        """Calls the plugin's worker for everything in the queue; its answers go back at once. Whether there was any."""
        if self._instance is None or not self._queue[0]:
            return False
        used = int(self._queue[0])
        content = self._queue.view(np.uint8)[16 : 16 + used].tobytes()
        self._queue[0] = 0
        worker = self._worker()
        if worker is None:
            return False
        handle = self._instance.handle
        respond = RESPOND(lambda _, size, data: worker.work_response(handle, size, data) if worker.work_response else 0)
        at = 0
        while at < used:
            size = int(np.frombuffer(content, "<i8", 1, at)[0])
            piece = c.create_string_buffer(content[at + 8 : at + 8 + size], max(size, 1))
            worker.work(handle, c.cast(respond, c.c_void_p), None, size, c.addressof(piece))
            at += 8 + (size + 7) // 8 * 8
        if worker.end_run:
            worker.end_run(handle)
        return True

    def close(self) -> None:
        if self._instance is not None:
            descriptor = self._instance.descriptor.contents
            if descriptor.deactivate:
                descriptor.deactivate(self._instance.handle)
            lilv.library().lilv_instance_free(self._address)
            self._instance = None


def _midi_event(message: bytes, at: int, kind: int) -> bytes:
    """A message as an event so many samples into a block; `kind` is the number of what it is."""
    return struct.pack("<qII8s", at, len(message), kind, message)


def _written(labels: Mapping[float, str], unit: str, value: float) -> str:
    """A port's value: the name that it has, or the number with its unit; empty if there is neither."""
    named = labels.get(value)
    return named if named is not None else f"{value:.4g} {unit}" if unit else ""


def describe_all() -> Iterator[Described]:
    """Every LV2 plugin that is installed, as its bundle describes it."""
    lib = lilv.library()
    for plugin in lilv.plugins():
        uri = lilv.text(lib.lilv_plugin_get_uri(plugin))
        name, author = lilv.text(lib.lilv_plugin_get_name(plugin)), lilv.text(lib.lilv_plugin_get_author_name(plugin))
        bundle = lilv.text(lib.lilv_plugin_get_bundle_uri(plugin)).removeprefix("file://")
        code = lib.lilv_plugin_get_library_uri(plugin)
        classes = lilv.classes(plugin)
        yield Described(uri, name or uri, author, "", classes, bundle, lilv.file_of(code) if code else "")


def load(
    use: PluginUse, path: str, rate: int, longest: int, frames: int = 0, rows: Rows = own_rows
) -> Lv2Hosted:  # fmt: skip
    """Loads one use at a rate (Hz), made for blocks of `frames` samples (0: of `longest`); lilv knows where.

    Its buffers (from `rows`) take blocks of up to `longest` samples. PluginError says why not.
    """
    return Lv2Hosted(use, rate, longest, frames or longest, rows)
