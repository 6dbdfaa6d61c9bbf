"""Blocks for everything that speaks CLAP's `process`: audio buffers, event lists, and native functions behind them.

What a plugin calls on the audio thread is compiled code without Python in it.
"""

from __future__ import annotations

import ctypes as c

import numpy as np
from numba import cfunc, types

from ...core.session.expressions import GAIN, PAN, PRESSED, TIMBRE, TRANSPOSE
from ...native.memory import load_i64
from .hosted import ARGUMENTS_KEPT, Control, Event, Expressed, Move, Rows, midi, own_rows

NOTE_ON, NOTE_OFF, NOTE_EXPRESSION, PARAM_VALUE, MIDI = 0, 1, 4, 5, 10
CLAP_DIALECT, MIDI_DIALECT = 1, 2
# The standard's numbers of what notes can do; its values are counted as ours.
EXPRESSIONS = {GAIN: 0, PAN: 1, TRANSPOSE: 2, TIMBRE: 5, PRESSED: 6}


class EventHeader(c.Structure):
    _fields_ = (
        ("size", c.c_uint32), ("time", c.c_uint32), ("space_id", c.c_uint16), ("type", c.c_uint16),
        ("flags", c.c_uint32),
    )  # fmt: skip


class NoteEvent(c.Structure):
    _fields_ = (
        ("header", EventHeader), ("note_id", c.c_int32), ("port", c.c_int16), ("channel", c.c_int16),
        ("key", c.c_int16), ("velocity", c.c_double),
    )  # fmt: skip


class ExpressionEvent(c.Structure):
    _fields_ = (
        ("header", EventHeader), ("expression", c.c_int32), ("note_id", c.c_int32), ("port", c.c_int16),
        ("channel", c.c_int16), ("key", c.c_int16), ("value", c.c_double),
    )  # fmt: skip


class MidiEvent(c.Structure):
    _fields_ = (("header", EventHeader), ("port", c.c_uint16), ("bytes", c.c_uint8 * 3))


class ParamEvent(c.Structure):
    _fields_ = (
        ("header", EventHeader), ("param_id", c.c_uint32), ("cookie", c.c_void_p), ("note_id", c.c_int32),
        ("port", c.c_int16), ("channel", c.c_int16), ("key", c.c_int16), ("value", c.c_double),
    )  # fmt: skip


class AudioBuffer(c.Structure):
    _fields_ = (
        ("data32", c.c_void_p), ("data64", c.c_void_p), ("channel_count", c.c_uint32), ("latency", c.c_uint32),
        ("constant_mask", c.c_uint64),
    )  # fmt: skip


class InputEvents(c.Structure):
    _fields_ = (("ctx", c.c_void_p), ("size", c.c_void_p), ("get", c.c_void_p))


class OutputEvents(c.Structure):
    _fields_ = (("ctx", c.c_void_p), ("try_push", c.c_void_p))


class Process(c.Structure):
    _fields_ = (
        ("steady_time", c.c_int64), ("frames_count", c.c_uint32), ("transport", c.c_void_p),
        ("audio_inputs", c.c_void_p), ("audio_outputs", c.c_void_p), ("audio_inputs_count", c.c_uint32),
        ("audio_outputs_count", c.c_uint32), ("in_events", c.c_void_p), ("out_events", c.c_void_p),
    )  # fmt: skip


# The list's context is an int64 array: the count, then the address of each event.
@cfunc(types.uint32(types.int64), cache=True)
def _event_count(listing):
    return load_i64(load_i64(listing))


@cfunc(types.int64(types.int64, types.uint32), cache=True)
def _event_at(listing, index):
    return load_i64(load_i64(listing) + 8 + 8 * index)


@cfunc(types.boolean(types.int64, types.int64), cache=True)
def _take_event(listing, event):
    return True


# What a plugin sends to the host: taken, and forgotten.
FORGOTTEN = OutputEvents(None, _take_event.address)


class EventList:
    """A list of events for the first sample of a block, kept alive with everything it points to."""

    def __init__(self, events: list[c.Structure]) -> None:
        self._events = events
        self._context = np.array([len(events), *(c.addressof(e) for e in events)], np.int64)
        self.listing = InputEvents(self._context.ctypes.data, _event_count.address, _event_at.address)

    @property
    def address(self) -> int:
        return c.addressof(self.listing)


def header(kind: type[c.Structure], event_type: int) -> EventHeader:
    return EventHeader(c.sizeof(kind), 0, 0, event_type, 0)


def note_event(note: Event, dialect: int) -> c.Structure:
    """A note in the dialect that the plugin understands, what it does, or a controller, for which there is only MIDI.
    """
    made: MidiEvent | NoteEvent | ExpressionEvent
    if dialect == MIDI_DIALECT or isinstance(note, Control):
        made = MidiEvent(header(MidiEvent, MIDI), 0, (c.c_uint8 * 3)(*midi(note)))
    elif isinstance(note, Expressed):
        number, kind = EXPRESSIONS[note.kind], header(ExpressionEvent, NOTE_EXPRESSION)
        made = ExpressionEvent(kind, number, -1, 0, note.channel, note.key, note.value)
    else:
        begins = header(NoteEvent, NOTE_ON if note.on else NOTE_OFF)
        made = NoteEvent(begins, -1, 0, note.channel, note.key, note.velocity)
    made.header.time = note.at
    return made


def param_event(param_id: int, value: float, at: int = 0) -> c.Structure:
    made = ParamEvent(header(ParamEvent, PARAM_VALUE), param_id, None, -1, -1, -1, -1, value)
    made.header.time = at
    return made


class Blocks:
    """The buffers of one plugin, and a `clap_process` for every block length and set of notes that is asked for.

    `ins` and `outs` are the channel counts of its ports; `longest` is the longest block in samples; `transport` the
    address of a `clap_event_transport`.
    """

    def __init__(
        self, ins: list[int], outs: list[int], longest: int, dialect: int = CLAP_DIALECT, transport: int | None = None,
        rows: Rows = own_rows,
    ) -> None:  # fmt: skip
        self.inputs = rows(sum(ins), longest)
        self.outputs = rows(sum(outs), longest)
        self._ports = [self._buffers(ins, self.inputs), self._buffers(outs, self.outputs)]
        self._counts = (len(ins), len(outs))
        self._dialect, self._transport = dialect, transport
        self._made: dict[tuple[int, tuple[Event, ...], tuple[Move, ...]], tuple[Process, EventList]] = {}

    def _buffers(self, ports: list[int], samples: np.ndarray) -> tuple[c.Array, list[c.Array]]:
        pointers, first = [], 0
        for count in ports:
            rows = [samples[first + k].ctypes.data for k in range(count)]
            pointers.append((c.c_void_p * max(count, 1))(*rows))
            first += count
        buffers = (AudioBuffer * max(len(ports), 1))(
            *(AudioBuffer(c.addressof(p), None, n, 0, 0) for p, n in zip(pointers, ports, strict=True))
        )
        return buffers, pointers

    def argument(self, frames: int, notes: tuple[Event, ...] = (), moves: tuple[Move, ...] = ()) -> int:
        """The address of a `clap_process` of so many samples with these notes and controllers, and parameters that
        move."""
        key = (frames, notes, moves)
        if key not in self._made:
            made = [param_event(int(move.key), move.value, move.at) for move in moves]
            made += [note_event(note, self._dialect) for note in notes]
            # In order of time; a note hears what changes at the same sample.
            events = EventList(sorted(made, key=lambda event: event.header.time))
            ins, outs = (c.addressof(buffers) for buffers, _ in self._ports)
            process = Process(
                -1, frames, self._transport, ins, outs, *self._counts, events.address, c.addressof(FORGOTTEN)
            )
            while len(self._made) >= ARGUMENTS_KEPT:
                del self._made[next(iter(self._made))]
            self._made[key] = (process, events)
        return c.addressof(self._made[key][0])
