"""What a VST3 plugin meets of its host while nothing is timed: an application that makes messages, and a handler.

What it may call in a block is compiled, in `vst3_abi`.
"""

from __future__ import annotations

import ctypes as c
from collections.abc import Callable
from typing import Any

import numpy as np

from .objects import INTERFACE_BYTES, NO_INTERFACE, OK, POINTER, CObject, Function
from .vst3_abi import INT, make_instance, uid

HOST_APPLICATION = uid(0x58E595CC, 0xDB2D4969, 0x8B6AAF8C, 0x36A664E5)
MESSAGE = uid(0x936F033B, 0xC6C047DB, 0xBB0882F8, 0x13C1E613)
ATTRIBUTES = uid(0x1E5F0AEB, 0xCC7F4533, 0xA2544011, 0x38AD5EE4)
HANDLER = uid(0x93A0BEA3, 0x0BD045DB, 0x8E890B0C, 0xC1E46AC6)
CONNECTION = uid(0x70A4156F, 0x6E6E4026, 0x989148BF, 0xAA60D8D1)
DOUBLE, TEXT = c.c_double, c.c_char_p
# What a plugin says has changed, when it asks to be looked at anew.
BUSES_CHANGED, LATENCY_CHANGED = 1 << 1, 1 << 3


class Attributes(CObject):
    """An `IAttributeList`: values by name, of four kinds, each kept as it was given."""

    def __init__(self) -> None:
        self._values: dict[tuple[str, bytes], Any] = {}
        put, found = self._put, self._found
        super().__init__([
            Function(INT, (TEXT, c.c_int64), put("whole")), Function(INT, (TEXT, POINTER), found("whole", c.c_int64)),
            Function(INT, (TEXT, DOUBLE), put("real")), Function(INT, (TEXT, POINTER), found("real", DOUBLE)),
            Function(INT, (TEXT, POINTER), self._put_text), Function(INT, (TEXT, POINTER, c.c_uint32), self._text),
            Function(INT, (TEXT, POINTER, c.c_uint32), self._put_bytes),
            Function(INT, (TEXT, POINTER, POINTER), self._bytes),
        ])  # fmt: skip
        self.offers[ATTRIBUTES] = self.address

    def clear(self) -> None:
        self._values.clear()

    def _put(self, kind: str) -> Callable[[bytes, Any], int]:
        def put(name: bytes, value: Any) -> int:
            self._values[kind, name] = value
            return OK

        return put

    def _found(self, kind: str, of: Any) -> Callable[[bytes, int], int]:
        def found(name: bytes, place: int) -> int:
            if (kind, name) not in self._values:
                return NO_INTERFACE
            of.from_address(place).value = self._values[kind, name]
            return OK

        return found

    def _put_text(self, name: bytes, text: int) -> int:
        length = 0
        while c.c_uint16.from_address(text + 2 * length).value:
            length += 1
        self._values["text", name] = c.string_at(text, 2 * length) + b"\0\0"
        return OK

    def _text(self, name: bytes, place: int, size: int) -> int:
        if ("text", name) not in self._values:
            return NO_INTERFACE
        kept = self._values["text", name][:size]
        c.memmove(place, kept, len(kept))
        return OK

    def _put_bytes(self, name: bytes, data: int, size: int) -> int:
        self._values["bytes", name] = c.create_string_buffer(c.string_at(data, size), max(size, 1)), size
        return OK

    def _bytes(self, name: bytes, place: int, size: int) -> int:
        if ("bytes", name) not in self._values:
            return NO_INTERFACE
        kept, length = self._values["bytes", name]
        c.c_int64.from_address(place).value = c.addressof(kept)
        c.c_uint32.from_address(size).value = length
        return OK


class PluginMessage(CObject):
    """An `IMessage`: a name and attributes, which parts of a plugin send each other through the host."""

    def __init__(self) -> None:
        self._name: Any = c.create_string_buffer(b"")
        self.attributes = Attributes()
        super().__init__([
            Function(POINTER, (), lambda: c.addressof(self._name)), Function(None, (TEXT,), self.rename),
            Function(POINTER, (), lambda: self.attributes.address),
        ])  # fmt: skip
        self.offers[MESSAGE] = self.address

    def rename(self, name: bytes | None) -> None:
        self._name = c.create_string_buffer(name or b"")


class Application(CObject):
    """An `IHostApplication`, which makes messages. One that nobody holds any more is given out again: some plugins send
    dozens a second for as long as their window is open. One that holds more than it can need gets none, nor does one
    that asks in a block: `busy` is where it says that it is in one."""

    MOST = 4096

    def __init__(self, busy: int) -> None:
        self._messages: list[PluginMessage] = []
        super().__init__([
            Function(INT, (POINTER,), self._name), Function(INT, (POINTER, POINTER, POINTER), self._make),
        ])  # fmt: skip
        # In a block it is answered by compiled code.
        self._object = np.array([self._table.ctypes.data, busy, self._table[-1]], np.int64)
        self._table[-1] = make_instance.address  # type: ignore[assignment]
        self.offers[HOST_APPLICATION] = self.address

    def _name(self, place: int) -> int:
        name = "Nimble Load\0".encode("utf-16-le")
        c.memmove(place, name, len(name))
        return OK

    def _make(self, kind: int, _: int, place: int) -> int:
        message = self._free() if c.string_at(kind, INTERFACE_BYTES) == MESSAGE else None
        c.c_int64.from_address(place).value = message.address if message is not None else 0
        return OK if message is not None else NO_INTERFACE

    def _free(self) -> PluginMessage | None:
        for message in self._messages:
            if message.holders <= 0:
                break
        else:
            if len(self._messages) >= self.MOST:
                return None
            message = PluginMessage()
            self._messages.append(message)
        message.rename(b"")
        message.attributes.clear()
        message.holders = 1
        return message


class Handler(CObject):
    """An `IComponentHandler`: `edited` hears of parameters that the plugin changes by itself, `changed` are the flags
    of what it says has changed."""

    def __init__(self, edited: Callable[[int, float], int]) -> None:
        self.changed = 0
        super().__init__([
            Function(INT, (c.c_uint32,), lambda _: OK), Function(INT, (c.c_uint32, DOUBLE), edited),
            Function(INT, (c.c_uint32,), lambda _: OK), Function(INT, (INT,), self._take),
        ])  # fmt: skip
        self.offers[HANDLER] = self.address

    def _take(self, flags: int) -> int:
        self.changed |= flags
        return OK
