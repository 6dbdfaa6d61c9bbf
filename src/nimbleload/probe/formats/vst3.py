"""VST3: interfaces as tables of C functions, reached through ctypes; the host's own tables hold compiled ones.

Only what measuring needs: the factory, the component and its buses, processing, note events, state and latency.
"""

from __future__ import annotations

import ctypes as c
import os
import platform
import struct
from collections.abc import Iterator, Sequence
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ...core.session.plugins import PluginUse
from .files import files_in
from .hosted import (
    ARGUMENTS_KEPT,
    Control,
    Described,
    Event,
    Move,
    Moves,
    Parameter,
    PluginError,
    Preset,
    Rows,
    own_rows,
    parameter,
    text,
    wired,
)
from .piece import BEAT_UNIT, BEATS_A_BAR, TEMPO, Piece, Place
from .vst3_abi import (
    AUDIO,
    AUX,
    BOOL,
    BUSY,
    BYPASS,
    COMPONENT,
    CONTEXT,
    CONTROLLER,
    DEFAULT_ACTIVE,
    EVENT,
    FACTORY_2,
    INPUT,
    INT,
    MIDI_MAPPING,
    OK,
    OUTPUT,
    OWN,
    PIECE,
    PLAYS,
    POINTER,
    PROCESSOR,
    PROGRAM,
    READ_ONLY,
    RECORD,
    RUN,
    BusBuffers,
    BusInfo,
    ClassInfo,
    ClassInfo2,
    Context,
    HostObject,
    Interface,
    ParameterDescription,
    ProcessBlock,
    Setup,
    Stream,
    change_at,
    event_at,
    event_count,
    nothing,
    point_at,
    point_count,
    refuse_four,
    refuse_two,
    run_block,
    take_changes,
    take_point,
    wide,
)
from .vst3_events import PlayedEvent, expressed, played
from .vst3_host import CONNECTION, LATENCY_CHANGED, Application, Handler
from .vst3_state import component_state, preset_file, saved

# One main bus as wide as a strip: mono, stereo.
SPEAKERS = {1: 1 << 19, 2: 3}


def preset_folders() -> list[Path]:
    """Where preset files lie, by maker and plugin, as the standard has it for Linux."""
    return [Path.home() / ".vst3" / "presets", Path("/usr/share/vst3/presets"), Path("/usr/local/share/vst3/presets")]


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


def changed(moves: Sequence[Move]) -> HostObject:
    """What a plugin is told of parameters that move: each with its points, in order of time."""
    points: dict[int, list[tuple[int, int]]] = {}
    for move in moves:
        bits = struct.unpack("<q", struct.pack("<d", move.value))[0]
        points.setdefault(int(move.key), []).append((move.at, bits))
    rows = [np.array(each, np.int64) for each in points.values()]
    functions = [event_count.address, point_count.address, point_at.address, refuse_four.address]
    queues = [
        HostObject(functions, [number, len(row), row.ctypes.data], row)
        for number, row in zip(points, rows, strict=True)
    ]  # fmt: skip
    addresses = np.array([queue.address for queue in queues], np.int64)
    own = [len(queues), addresses.ctypes.data]
    return HostObject([event_count.address, change_at.address, nothing.address], own, (queues, addresses))


class Vst3Hosted:
    """One VST3 plugin, active and processing (see `hosted.Hosted`)."""

    def __init__(
        self, use: PluginUse, path: str, rate: int, longest: int, frames: int, rows: Rows = own_rows
    ) -> None:  # fmt: skip
        self._factory = factory(path)
        found = [cid for cid, _, _ in class_ids(self._factory) if cid.hex().upper() == use.plugin.identifier.upper()]
        if not found:
            raise PluginError(f"{path} holds no plugin {use.plugin.identifier!r}.")
        self._cid, self._label, self._rate = found[0], use.label, rate
        self._vendor = use.plugin.vendor
        self.defers = False
        self._handler = Handler(self._take_edit)
        self._time = Context(PLAYS, rate, tempo=TEMPO, beats_a_bar=BEATS_A_BAR, beat_unit=BEAT_UNIT)
        self._record = np.zeros(RECORD, np.int64)
        self._piece = Piece(rate)
        self._record[CONTEXT], self._record[PIECE] = c.addressof(self._time), self._piece.address
        self._host = Application(self._record.ctypes.data + 8 * BUSY)
        # What the plugin says of its parameters is taken and forgotten.
        none = nothing.address
        self._point_taker = HostObject([none, none, refuse_four.address, take_point.address])
        self._changes = HostObject([event_count.address, none, take_changes.address], [0, self._point_taker.address])
        self._component = self._create()
        self._processor = self._query_processor()
        self._controller = self._find_controller()
        self._join()
        if use.setting.state is not None:
            self._load_state(use.setting.state)
        self._tell_controller()
        self._arrange(use.channels)
        buses = self._buses(AUDIO, INPUT)
        ins, outs = ([int(bus.channels) for bus in each] for each in (buses, self._buses(AUDIO, OUTPUT)))
        self._hears = use.sidechain is not None
        self.wiring = wired(use, [bus.kind == AUX for bus in buses for _ in range(bus.channels)])
        self.inputs = rows(sum(ins), longest)
        self.outputs = rows(sum(outs), longest)
        self._kept = [self._bus_buffers(ins, self.inputs), self._bus_buffers(outs, self.outputs)]
        self._counts = (len(ins), len(outs))
        self._blocks: dict[tuple[int, tuple[Event, ...], tuple[Move, ...]], tuple[Any, ...]] = {}
        self._is_active, self.expresses = False, expressed(self._controller)
        self._values = self._numbered(use.setting.values)
        self._activate(frames)
        self._record[RUN], self._record[OWN] = self._processor.function(9), self._processor.address
        self.call, self.handle, self.version = run_block.address, self._record.ctypes.data, ""

    def _take_edit(self, number: int, value: float) -> int:
        """The plugin changes a parameter by itself; the setting stays what it is."""
        return OK

    def _create(self) -> Interface:
        made = c.c_void_p()
        code = self._factory.call(6, self._cid, COMPONENT, c.byref(made), kinds=(c.c_char_p, c.c_char_p, POINTER))
        if code != OK or not made.value:
            raise PluginError(f"{self._label} could not be made.")
        component = Interface(made.value)
        if component.call(3, self._host.address, kinds=(POINTER,)) != OK:
            raise PluginError(f"{self._label} refused to start.")
        return component

    def _query_processor(self) -> Interface:
        processor = self._component.query(PROCESSOR)
        if processor is None:
            raise PluginError(f"{self._label} does not process audio.")
        return processor

    def _find_controller(self) -> Interface | None:
        """The part of the plugin that knows its parameters: the component itself, or a class of its own."""
        found = self._component.query(CONTROLLER)
        if found is not None:
            return found
        cid, made = c.create_string_buffer(16), c.c_void_p()
        if self._component.call(5, cid, kinds=(POINTER,)) != OK:
            return None
        code = self._factory.call(6, cid.raw, CONTROLLER, c.byref(made), kinds=(c.c_char_p, c.c_char_p, POINTER))
        if code != OK or not made.value:
            return None
        controller = Interface(made.value)
        return controller if controller.call(3, self._host.address, kinds=(POINTER,)) == OK else None

    def _join(self) -> None:
        """The controller hears of the host, and both parts of the plugin of each other."""
        if self._controller is None:
            return
        self._controller.call(16, self._handler.address, kinds=(POINTER,))
        one, other = self._component.query(CONNECTION), self._controller.query(CONNECTION)
        if one is not None and other is not None and one.address != other.address:
            one.call(3, other.address, kinds=(POINTER,))
            other.call(3, one.address, kinds=(POINTER,))

    def _arrange(self, channels: int) -> None:
        """Asks for main buses as wide as the strip; a plugin that refuses keeps those that it has."""
        wanted = SPEAKERS.get(channels)
        if wanted is None:
            return
        rows = []
        for direction in (INPUT, OUTPUT):
            row = (c.c_uint64 * 64)()
            count = min(self._component.call(7, AUDIO, direction, kinds=(INT, INT)), len(row))
            for number in range(count):
                place = c.addressof(row) + 8 * number
                self._processor.call(4, direction, number, place, kinds=(INT, INT, POINTER))
            if count:
                row[0] = wanted
            rows.append((row, count))
        (ins, in_count), (outs, out_count) = rows
        kinds = (POINTER, INT, POINTER, INT)
        self._processor.call(3, c.addressof(ins), in_count, c.addressof(outs), out_count, kinds=kinds)

    def _tell_controller(self) -> None:
        """The controller hears of the component's state, as from any host: its values are the state's then."""
        if self._controller is not None and (state := saved(self._component, 13)) is not None:
            stream = Stream(state)
            self._controller.call(5, stream.address, kinds=(POINTER,))

    def _described(self) -> Iterator[ParameterDescription]:
        if self._controller is None:
            return
        for number in range(self._controller.call(8)):
            found = ParameterDescription()
            if self._controller.call(9, number, c.byref(found), kinds=(INT, POINTER)) == OK:
                yield found

    def _numbered(self, values: tuple[tuple[str, float], ...]) -> dict[int, float]:
        """Values (0 … 1) by the number of their parameter, which is given as such or by its title."""
        by_title = {wide(d.title).lower(): int(d.id) for d in self._described()} if values else {}
        found = {}
        for name, value in values:
            number = int(name) if name.isdecimal() else by_title.get(name.lower())
            if number is None:
                raise PluginError(f"{self._label} has no parameter {name!r}.")
            if not 0 <= value <= 1:
                raise PluginError(f"{self._label}: {name} must be from 0 to 1, as VST3 counts, not {value:g}.")
            found[number] = value
        return found

    def presets(self) -> tuple[Preset, ...]:
        found = files_in((folder / self._vendor / self._label for folder in preset_folders()), "**/*.vstpreset")
        return tuple(sorted(Preset(path.stem, str(path)) for path in found))

    def parameters(self) -> tuple[Parameter, ...]:
        found = []
        for d in self._described():
            if d.flags & (READ_ONLY | BYPASS | PROGRAM):
                continue
            now = self._controller.call(14, d.id, kinds=(c.c_uint32,), result=c.c_double) if self._controller else 0.0
            choices = [k / d.steps for k in range(d.steps + 1)] if 0 < d.steps <= 64 else []
            now = self._values.get(d.id, now)
            made = parameter(str(d.id), wide(d.title), False, 0.0, 1.0, now, *choices)
            found.append(made._replace(plain=self._plain(d.id, now)).written(partial(self._written, d)))
        return tuple(found)

    def _written(self, of: ParameterDescription, share: float) -> str:
        """A parameter's value as the plugin writes it, with its unit; empty if it does not."""
        if self._controller is None:
            return ""
        place = (c.c_uint16 * 128)()
        kinds = (c.c_uint32, c.c_double, POINTER)
        if self._controller.call(10, of.id, share, c.addressof(place), kinds=kinds) != OK:
            return ""
        said, unit = wide(place).strip(), wide(of.unit).strip()
        return said if not said or not unit or said.endswith(unit) else f"{said} {unit}"

    def _plain(self, number: int, share: float) -> float:
        """A parameter's value in its own unit."""
        if self._controller is None:
            return share
        # Doubles and integers travel in registers of different kinds: their order among each other does not matter.
        return self._controller.call(12, number, share, kinds=(c.c_uint32, c.c_double), result=c.c_double)

    def _set_values(self) -> None:
        """Changes the parameters in a short block of silence, which is how a VST3 plugin hears of them."""
        if not self._values:
            return
        self.inputs[:] = 0
        moves = tuple(Move(str(number), value) for number, value in self._values.items())
        argument = self.argument(min(16, self.made_for), moves=moves)
        self._processor.call(9, argument, kinds=(POINTER,))

    def _load_state(self, state: bytes) -> None:
        stream = Stream(component_state(state))
        if self._component.call(12, stream.address, kinds=(POINTER,)) != OK:
            raise PluginError(f"{self._label} did not accept the state that the session saved for it.")

    def saved_state(self) -> bytes | None:
        """The state that it is in, as a preset file with the component's part and the controller's. PluginError if it
        fails to save it."""
        component, controller = saved(self._component, 13), None
        if component is None:
            raise PluginError("It could not save its state.")
        if self._controller is not None and self._controller.address != self._component.address:
            controller = saved(self._controller, 7)
        parts = [(b"Comp", component), *([(b"Cont", controller)] if controller else [])]
        return preset_file(self._cid, parts)

    def _buses(self, media: int, direction: int) -> list[BusInfo]:
        """The buses of one kind and direction, as the plugin describes them."""
        found = [BusInfo() for _ in range(self._component.call(7, media, direction, kinds=(INT, INT)))]
        for number, info in enumerate(found):
            self._component.call(8, media, direction, number, c.byref(info), kinds=(INT, INT, INT, POINTER))
        return found

    @staticmethod
    def _bus_buffers(buses: list[int], samples: np.ndarray) -> tuple[Any, list[Any]]:
        pointers, first = [], 0
        for count in buses:
            rows = [samples[first + k].ctypes.data for k in range(count)]
            pointers.append((POINTER * max(count, 1))(*rows))
            first += count
        made = [BusBuffers(n, 0, c.addressof(p)) for n, p in zip(buses, pointers, strict=True)]
        return (BusBuffers * max(len(buses), 1))(*made), pointers

    def _switch_buses(self) -> None:
        """Main buses are on, a side-chain where something was led to it, and further outputs that want to be."""
        for media in (AUDIO, EVENT):
            for direction in (INPUT, OUTPUT):
                for number, info in enumerate(self._buses(media, direction)):
                    wanted = self._hears if direction == INPUT else bool(info.flags & DEFAULT_ACTIVE)
                    on = media == EVENT or info.kind != AUX or wanted
                    self._component.call(10, media, direction, number, on, kinds=(INT, INT, INT, BOOL))

    def _activate(self, frames: int) -> None:
        setup = Setup(0, 0, frames, float(self._rate))
        if self._processor.call(7, c.byref(setup), kinds=(POINTER,)) != OK:
            raise PluginError(f"{self._label} refuses {self._rate} Hz with blocks of up to {frames} samples.")
        self.made_for = frames
        self._switch_buses()
        if self._component.call(11, True, kinds=(BOOL,)) != OK:
            raise PluginError(f"{self._label} refuses to be switched on.")
        self._processor.call(8, True, kinds=(BOOL,))
        self._is_active = True
        self._set_values()
        self.latency = int(self._processor.call(6, result=c.c_uint32))

    moves: Moves = "lines"
    is_turned = True

    def argument(self, frames: int, notes: tuple[Event, ...] = (), moves: tuple[Move, ...] = ()) -> int:
        """The address of a `ProcessData` of so many samples with these notes and controllers, and parameters that move.
        Controllers that the plugin has no parameter for reach it in no host."""
        if (frames, notes, moves) not in self._blocks:
            of_notes = [played(each) for each in notes if not isinstance(each, Control)]
            events = (PlayedEvent * max(len(of_notes), 1))(*of_notes)
            own = [len(of_notes), c.addressof(events)]
            listing = HostObject([event_count.address, event_at.address, refuse_two.address], own, events)
            ins, outs = (c.addressof(buffers) for buffers, _ in self._kept)
            moving = [*moves, *self._turned([note for note in notes if isinstance(note, Control)])]
            changes = changed(sorted(moving, key=lambda move: move.at)) if moving else self._changes
            block = ProcessBlock(
                0, 0, frames, *self._counts, ins, outs, changes.address, self._changes.address, listing.address,
                None, c.addressof(self._time),
            )  # fmt: skip
            while len(self._blocks) >= ARGUMENTS_KEPT:
                del self._blocks[next(iter(self._blocks))]
            self._blocks[frames, notes, moves] = (block, listing, changes)
        return c.addressof(self._blocks[frames, notes, moves][0])

    def _turned(self, controls: Sequence[Control]) -> Iterator[Move]:
        """Controllers as the parameters that the plugin has for them."""
        mapping = self._controller.query(MIDI_MAPPING) if controls and self._controller is not None else None
        if mapping is None:
            return
        for number, value, at, channel in controls:
            place = c.c_uint32()
            kinds = (INT, c.c_int16, c.c_int16, POINTER)
            if mapping.call(3, 0, channel, number, c.addressof(place), kinds=kinds) == OK:
                yield Move(str(place.value), value, at)
        mapping.release()

    def locate(self, place: Place) -> None:
        self._piece.goes_on(place)
        self._time.tempo = place.tempo
        self._time.beats_a_bar, self._time.beat_unit = place.bars.beats, place.bars.unit
        self._begin_with(place.sample, place.beat)

    def _begin_with(self, sample: int, beat: float) -> None:
        self._time.samples = self._time.going_on = sample
        self._time.beats, self._time.bar = beat, self._piece.bar_begins(self._piece.bar_at(beat))

    def restart(self, frames: int) -> None:
        self._deactivate()
        self._piece.rewind()
        self._begin_with(0, 0.0)
        self._activate(frames)

    def settled(self) -> bool:
        """Reads the latency anew if the plugin says that it has changed."""
        if self._handler.changed & LATENCY_CHANGED:
            self.latency = int(self._processor.call(6, result=c.c_uint32))
        self._handler.changed = 0
        return False

    def failures(self, codes: NDArray[np.int32]) -> int:
        return int(np.count_nonzero(codes != OK))

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


def load(
    use: PluginUse, path: str, rate: int, longest: int, frames: int = 0, rows: Rows = own_rows
) -> Vst3Hosted:  # fmt: skip
    """Loads one use from a bundle at a rate (Hz), switched on for blocks of `frames` samples (0: of `longest`).

    Its buffers (from `rows`) take blocks of up to `longest` samples. PluginError says why not.
    """
    return Vst3Hosted(use, path, rate, longest, frames or longest, rows)
