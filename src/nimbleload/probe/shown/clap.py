"""A CLAP plugin with its own window: the extension `clap.gui`, and what its host must offer for it on Linux."""

from __future__ import annotations

import ctypes as c
from collections.abc import Callable

from ...core.session.plugins import PluginUse
from ..formats.clap import ClapHosted
from ..formats.clap_host import BOOL, POINTER, TEXT, UINT, VOID, FileSupport, TimerSupport
from ..formats.hosted import PluginError
from ..formats.objects import CTable, Function
from .loop import Loop
from .x11 import UNKNOWN, Size, Window, Wishes

X11 = b"x11"
READ_AND_WRITE = 3


class WindowHandle(c.Structure):
    _fields_ = (("api", TEXT), ("number", c.c_ulong))


class Gui(c.Structure):
    _fields_ = (
        ("is_supported", c.CFUNCTYPE(BOOL, POINTER, TEXT, BOOL)), ("get_preferred", POINTER),
        ("create", c.CFUNCTYPE(BOOL, POINTER, TEXT, BOOL)), ("destroy", c.CFUNCTYPE(VOID, POINTER)),
        ("set_scale", POINTER), ("get_size", c.CFUNCTYPE(BOOL, POINTER, c.POINTER(UINT), c.POINTER(UINT))),
        ("can_resize", c.CFUNCTYPE(BOOL, POINTER)), ("get_resize_hints", POINTER), ("adjust_size", POINTER),
        ("set_size", c.CFUNCTYPE(BOOL, POINTER, UINT, UINT)),
        ("set_parent", c.CFUNCTYPE(BOOL, POINTER, c.POINTER(WindowHandle))), ("set_transient", POINTER),
        ("suggest_title", c.CFUNCTYPE(VOID, POINTER, TEXT)), ("show", c.CFUNCTYPE(BOOL, POINTER)),
        ("hide", c.CFUNCTYPE(BOOL, POINTER)),
    )  # fmt: skip


class ClapShown(Wishes, ClapHosted):
    """One CLAP plugin with a host that has a window for it (see `show.Shown`)."""

    def __init__(self, use: PluginUse, path: str, rate: int, longest: int, loop: Loop) -> None:
        self._loop, self._label = loop, use.label
        super().__init__(use, path, rate, longest, longest)

    def _more_offered(self) -> dict[bytes, int]:
        """What windows need; timers and files are served by their loop."""
        nothing = Function(None, (), lambda: None)
        self._tables = {
            b"clap.gui": CTable(
                nothing, Function(BOOL, (UINT, UINT), self._take_size), Function(BOOL, (), lambda: False),
                Function(BOOL, (), lambda: False), Function(None, (BOOL,), self._closed_itself),
            ),
            b"clap.timer-support": CTable(
                Function(BOOL, (UINT, c.POINTER(UINT)), self._begin_timer), Function(BOOL, (UINT,), self._loop.end)
            ),
            b"clap.posix-fd-support": CTable(
                Function(BOOL, (c.c_int, UINT), self._watch_file), Function(BOOL, (c.c_int, UINT), self._watch_file),
                Function(BOOL, (c.c_int,), lambda file: self._loop.files.pop(file, None) is not None),
            ),
        }  # fmt: skip
        return {name: table.address for name, table in self._tables.items()}

    def _take_size(self, width: int, height: int) -> bool:
        self._wanted_size = Size(width, height)
        return True

    def _closed_itself(self, was_destroyed: bool) -> None:
        self.closed = True

    def _begin_timer(self, milliseconds: int, number: object) -> bool:
        support = self._extension(b"clap.timer-support", TimerSupport)
        if support is None:
            return False
        made_number = self._loop.every(milliseconds / 1000, lambda: support.on_timer(self._address, made_number))
        number[0] = made_number  # type: ignore[index]
        return True

    def _watch_file(self, file: int, wanted: int) -> bool:
        support = self._extension(b"clap.posix-fd-support", FileSupport)
        if support is None:
            return False
        self._loop.files[file] = wanted & READ_AND_WRITE, lambda came: support.on_file(self._address, file, came)
        return True

    def open(self, window: Callable[[Size], Window]) -> Window:
        gui = self._extension(b"clap.gui", Gui)
        if gui is None:
            raise PluginError(f"{self._label} has no window of its own.")
        self.floats = not gui.is_supported(self._address, X11, False)
        if self.floats and not gui.is_supported(self._address, X11, True):
            raise PluginError(f"{self._label} has a window of its own, but none for X11.")
        if not gui.create(self._address, X11, self.floats):
            raise PluginError(f"{self._label} could not make its window.")
        self._gui = gui
        if self.floats:
            # Ours stays hidden: it only holds what there is to know of one.
            held = window(UNKNOWN)
            gui.suggest_title(self._address, held.title.encode())
            gui.show(self._address)
            return held
        width, height = UINT(), UINT()
        has_size = gui.get_size(self._address, c.byref(width), c.byref(height))
        held = window(Size(width.value, height.value) if has_size else UNKNOWN)
        if not gui.set_parent(self._address, c.byref(WindowHandle(X11, held.number))):
            raise PluginError(f"{self._label} refused the window that was made for it.")
        self.resizable = bool(gui.can_resize(self._address))
        held.resize(held.size, not self.resizable)
        # Some answer that they could not, and are seen all the same.
        gui.show(self._address)
        return held

    def resized(self, size: Size) -> None:
        self._gui.set_size(self._address, *size)

    def idle(self) -> None:
        self.settled()

    def hide(self) -> None:
        self._gui.hide(self._address)
        self._gui.destroy(self._address)
