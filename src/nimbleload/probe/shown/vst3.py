"""A VST3 plugin with its own window: `IPlugView`, and the host's run loop, component handler and messages."""

from __future__ import annotations

import ctypes as c
from collections.abc import Callable
from typing import Any

from ...core.session.plugins import PluginUse
from ..formats.hosted import PluginError
from ..formats.vst3 import Vst3Hosted
from ..formats.vst3_abi import INT, OK, POINTER, Interface, uid
from .loop import ERROR, READ, Loop
from .objects import INTERFACE_BYTES, NO_INTERFACE, CObject, Function
from .x11 import UNKNOWN, Size, Window, Wishes

X11 = b"X11EmbedWindowID"
HOST_APPLICATION = uid(0x58E595CC, 0xDB2D4969, 0x8B6AAF8C, 0x36A664E5)
MESSAGE = uid(0x936F033B, 0xC6C047DB, 0xBB0882F8, 0x13C1E613)
ATTRIBUTES = uid(0x1E5F0AEB, 0xCC7F4533, 0xA2544011, 0x38AD5EE4)
HANDLER = uid(0x93A0BEA3, 0x0BD045DB, 0x8E890B0C, 0xC1E46AC6)
CONNECTION = uid(0x70A4156F, 0x6E6E4026, 0x989148BF, 0xAA60D8D1)
FRAME = uid(0x367FAF01, 0xAFA94693, 0x8D4DA2A0, 0xED0882A3)
RUN_LOOP = uid(0x18C35366, 0x97764F1A, 0x9C5B8385, 0x7A871389)
DOUBLE, TEXT = c.c_double, c.c_char_p


class Rectangle(c.Structure):
    _fields_ = (("left", INT), ("top", INT), ("right", INT), ("bottom", INT))

    @property
    def size(self) -> Size:
        return Size(self.right - self.left, self.bottom - self.top)


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


class Context(CObject):
    """An `IHostApplication`, which makes messages. One that nobody holds any more is given out again: some plugins send
    dozens a second for as long as their window is open. One that holds more than it can need gets none."""

    MOST = 4096

    def __init__(self) -> None:
        self._messages: list[PluginMessage] = []
        super().__init__([
            Function(INT, (POINTER,), self._name), Function(INT, (POINTER, POINTER, POINTER), self._make),
        ])  # fmt: skip
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


class Vst3Shown(Wishes, Vst3Hosted):
    """One VST3 plugin with a host that has a window for it (see `show.Shown`)."""

    def __init__(self, use: PluginUse, path: str, rate: int, longest: int, loop: Loop) -> None:
        self._loop = loop
        self._changed: dict[int, float] = {}
        # By handler: the numbers of its timers, and the files that it waits for.
        self._timers: dict[int, list[int]] = {}
        self._files: dict[int, list[int]] = {}
        super().__init__(use, path, rate, longest, longest)

    def _make_context(self) -> Any:
        return Context()

    def _tell_controller(self) -> None:
        """Before it hears of the component's state, the two are joined, as by a host with a window for them."""
        if self._controller is None:
            return
        self._handler = CObject([
            Function(INT, (c.c_uint32,), lambda _: OK), Function(INT, (c.c_uint32, DOUBLE), self._take_edit),
            Function(INT, (c.c_uint32,), lambda _: OK), Function(INT, (INT,), lambda _: OK),
        ])  # fmt: skip
        self._handler.offers[HANDLER] = self._handler.address
        self._controller.call(16, self._handler.address, kinds=(POINTER,))
        one, other = self._component.query(CONNECTION), self._controller.query(CONNECTION)
        if one is not None and other is not None and one.address != other.address:
            one.call(3, other.address, kinds=(POINTER,))
            other.call(3, one.address, kinds=(POINTER,))
        super()._tell_controller()

    def _take_edit(self, number: int, value: float) -> int:
        self._changed[number] = value
        return OK

    def open(self, window: Callable[[Size], Window]) -> Window:
        made = self._controller.call(17, b"editor", kinds=(TEXT,), result=POINTER) if self._controller else None
        if not made:
            raise PluginError(f"{self._label} has no window of its own.")
        self._view = Interface(made)
        if self._view.call(3, X11, kinds=(TEXT,)) != OK:
            raise PluginError(f"{self._label} has a window of its own, but not one for X11 that a host can hold.")
        run_loop = CObject([
            Function(INT, (POINTER, INT), self._watch_file), Function(INT, (POINTER,), self._leave_file),
            Function(INT, (POINTER, c.c_uint64), self._begin_timer), Function(INT, (POINTER,), self._end_timer),
        ])  # fmt: skip
        self._frame = CObject([Function(INT, (POINTER, c.POINTER(Rectangle)), self._take_size)])
        self._run_loop = run_loop
        run_loop.offers |= {RUN_LOOP: run_loop.address}
        self._frame.offers |= {RUN_LOOP: run_loop.address, FRAME: self._frame.address}
        self._view.call(12, self._frame.address, kinds=(POINTER,))
        rectangle = Rectangle()
        has_size = self._view.call(9, c.byref(rectangle), kinds=(POINTER,)) == OK
        held = window(rectangle.size if has_size else UNKNOWN)
        if self._view.call(4, held.number, X11, kinds=(POINTER, TEXT)) != OK:
            raise PluginError(f"{self._label} refused the window that was made for it.")
        self.resizable = self._view.call(13) == OK
        # Some know their size only now.
        if self._view.call(9, c.byref(rectangle), kinds=(POINTER,)) == OK:
            held.resize(rectangle.size, not self.resizable)
        return held

    def _take_size(self, _: int, rectangle: Any) -> int:
        self._wanted_size = rectangle.contents.size
        return OK

    def resized(self, size: Size) -> None:
        self._view.call(10, c.byref(Rectangle(0, 0, *size)), kinds=(POINTER,))

    def _watch_file(self, handler: int, file: int) -> int:
        of = Interface(handler)
        self._loop.files[file] = READ | ERROR, lambda _: of.call(3, file, kinds=(INT,))
        self._files.setdefault(handler, []).append(file)
        return OK

    def _leave_file(self, handler: int) -> int:
        for file in self._files.pop(handler, ()):
            self._loop.files.pop(file, None)
        return OK

    def _begin_timer(self, handler: int, milliseconds: int) -> int:
        of = Interface(handler)
        number = self._loop.every(milliseconds / 1000, lambda: of.call(3, result=None))
        self._timers.setdefault(handler, []).append(number)
        return OK

    def _end_timer(self, handler: int) -> int:
        for number in self._timers.pop(handler, ()):
            self._loop.end(number)
        return OK

    def idle(self) -> None:
        """Tells the component what was changed in the window: in a block, which is how it hears of it."""
        if self._changed:
            self._values, self._changed = self._changed, {}
            self._set_values()

    def hide(self) -> None:
        self._view.call(5)
        self._view.call(12, None, kinds=(POINTER,))
        self._view.release()
        self.idle()
