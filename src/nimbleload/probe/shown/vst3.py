"""A VST3 plugin with its own window: `IPlugView`, and the host's run loop, component handler and messages."""

from __future__ import annotations

import ctypes as c
from collections.abc import Callable
from typing import Any

from ...core.session.plugins import PluginUse
from ..formats.hosted import PluginError
from ..formats.objects import CObject, Function
from ..formats.vst3 import Vst3Hosted
from ..formats.vst3_abi import INT, OK, POINTER, Interface, uid
from .loop import ERROR, READ, Loop
from .x11 import UNKNOWN, Size, Window, Wishes

X11 = b"X11EmbedWindowID"
FRAME = uid(0x367FAF01, 0xAFA94693, 0x8D4DA2A0, 0xED0882A3)
RUN_LOOP = uid(0x18C35366, 0x97764F1A, 0x9C5B8385, 0x7A871389)
DOUBLE, TEXT = c.c_double, c.c_char_p


class Rectangle(c.Structure):
    _fields_ = (("left", INT), ("top", INT), ("right", INT), ("bottom", INT))

    @property
    def size(self) -> Size:
        return Size(self.right - self.left, self.bottom - self.top)


class Vst3Shown(Wishes, Vst3Hosted):
    """One VST3 plugin with a host that has a window for it (see `show.Shown`)."""

    def __init__(self, use: PluginUse, path: str, rate: int, longest: int, loop: Loop) -> None:
        self._loop = loop
        self._changed: dict[int, float] = {}
        # By handler: the numbers of its timers, and the files that it waits for.
        self._timers: dict[int, list[int]] = {}
        self._files: dict[int, list[int]] = {}
        super().__init__(use, path, rate, longest, longest)

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
