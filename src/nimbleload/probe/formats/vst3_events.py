"""The events that a VST3 plugin gets: notes, each with a name of its own, and what they do while they last."""

from __future__ import annotations

import ctypes as c
from typing import Any

from ...core.session.expressions import GAIN, PAN, PRESSED, TIMBRE, TRANSPOSE
from .hosted import Expressed, Note
from .vst3_abi import INT, OK, POINTER, Interface

NOTE_EXPRESSION = bytes.fromhex("B7F8F859 41234872 91169581 4F3721A3")
MOST_DESCRIBED = 1000
ON, OFF, KEY_PRESSED, NOTE_VALUE = 0, 1, 3, 4
# The standard's numbers of what notes can do, and how its values from 0 to 1 follow from ours: times, plus.
TYPES = {GAIN: (0, 1 / 4, 0.0), PAN: (1, 1.0, 0.0), TRANSPOSE: (2, 1 / 240, 0.5), TIMBRE: (5, 1.0, 0.0)}


class _On(c.Structure):
    _fields_ = (
        ("channel", c.c_int16), ("pitch", c.c_int16), ("tuning", c.c_float), ("velocity", c.c_float), ("length", INT),
        ("note_id", INT),
    )  # fmt: skip


class _Off(c.Structure):
    _fields_ = (
        ("channel", c.c_int16), ("pitch", c.c_int16), ("velocity", c.c_float), ("note_id", INT), ("tuning", c.c_float),
    )  # fmt: skip


class _Pressed(c.Structure):
    _fields_ = (("channel", c.c_int16), ("pitch", c.c_int16), ("pressure", c.c_float), ("note_id", INT))


class _Value(c.Structure):
    _fields_ = (("type_id", c.c_uint32), ("note_id", INT), ("value", c.c_double))


class _What(c.Union):
    # The largest that the standard has is of 24 bytes, beginning at a multiple of eight.
    _fields_ = (("on", _On), ("off", _Off), ("pressed", _Pressed), ("value", _Value), ("words", c.c_int64 * 3))


class PlayedEvent(c.Structure):
    """An `Event` of the standard (48 bytes)."""

    _fields_ = (
        ("bus", INT), ("offset", INT), ("ppq", c.c_double), ("flags", c.c_uint16), ("kind", c.c_uint16),
        ("what", _What),
    )  # fmt: skip


class _Described(c.Structure):
    """What a plugin says of something that its notes can do."""

    _fields_ = (
        ("type_id", c.c_uint32), ("title", c.c_uint16 * 128), ("short", c.c_uint16 * 128), ("unit", c.c_uint16 * 128),
        ("unit_id", INT), ("default", c.c_double), ("least", c.c_double), ("most", c.c_double), ("steps", INT),
        ("parameter", c.c_uint32), ("flags", INT),
    )  # fmt: skip


def played(event: Note | Expressed) -> PlayedEvent:
    """A note that begins or ends, or does something, as the plugin gets it. Its key and channel name it."""
    on, key, name = event.channel, event.key, event.channel << 7 | event.key
    what: dict[str, Any]
    if isinstance(event, Note) and event.on:
        kind, what = ON, {"on": _On(on, key, 0.0, event.velocity, 0, name)}
    elif isinstance(event, Note):
        kind, what = OFF, {"off": _Off(on, key, 0.0, name, 0.0)}
    elif event.kind == PRESSED:
        kind, what = KEY_PRESSED, {"pressed": _Pressed(on, key, event.value, name)}
    else:
        number, times, plus = TYPES[event.kind]
        kind, what = NOTE_VALUE, {"value": _Value(number, name, event.value * times + plus)}
    return PlayedEvent(0, event.at, 0.0, 0, kind, _What(**what))


def expressed(controller: Interface | None) -> frozenset[str]:
    """What single notes of a plugin can do: what it says itself, and be pressed, which any may be told of."""
    found = controller.query(NOTE_EXPRESSION) if controller is not None else None
    if found is None:
        return frozenset({PRESSED})
    kinds, numbers = (INT, c.c_int16, INT, POINTER), set()
    for place in range(min(found.call(3, 0, 0, kinds=(INT, c.c_int16)), MOST_DESCRIBED)):
        of = _Described()
        if found.call(4, 0, 0, place, c.addressof(of), kinds=kinds) == OK:
            numbers.add(of.type_id)
    found.release()
    return frozenset({PRESSED, *(kind for kind, (number, *_) in TYPES.items() if number in numbers)})
