"""One window of the X Window System, through the system's libX11, which plugins' own windows are drawn with as well.

The plugin's window is put into it. No toolkit of ours comes into the plugin's process: it would meet the plugin's own.
"""

from __future__ import annotations

import ctypes as c
import ctypes.util
from functools import cache
from typing import Any, Literal, NamedTuple

from ..formats.hosted import PluginError

POINTER, LONG, ULONG, INT, UINT, TEXT = c.c_void_p, c.c_long, c.c_ulong, c.c_int, c.c_uint, c.c_char_p
STRUCTURE_NOTIFY = 1 << 17
DESTROYED, CONFIGURED, MESSAGE = 17, 22, 33
# What a window can be told of in one look; the rest is left for the next.
MOST_EVENTS = 256
# Sizes in pixels that a window can have: what a plugin asks for beyond them is cut off.
SMALLEST, LARGEST = 16, 16384
# That the least and the largest size in a window's hints hold.
SIZE_FIXED = 1 << 4 | 1 << 5

SIGNATURES: dict[str, tuple[Any, list[Any]]] = {
    "XOpenDisplay": (POINTER, [TEXT]),
    "XCloseDisplay": (INT, [POINTER]),
    "XDefaultRootWindow": (ULONG, [POINTER]),
    "XConnectionNumber": (INT, [POINTER]),
    "XCreateSimpleWindow": (ULONG, [POINTER, ULONG, INT, INT, UINT, UINT, UINT, ULONG, ULONG]),
    "XDestroyWindow": (INT, [POINTER, ULONG]),
    "XStoreName": (INT, [POINTER, ULONG, TEXT]),
    "XInternAtom": (ULONG, [POINTER, TEXT, INT]),
    "XSetWMProtocols": (INT, [POINTER, ULONG, POINTER, INT]),
    "XSelectInput": (INT, [POINTER, ULONG, LONG]),
    "XMapRaised": (INT, [POINTER, ULONG]),
    "XResizeWindow": (INT, [POINTER, ULONG, UINT, UINT]),
    "XPending": (INT, [POINTER]),
    "XNextEvent": (INT, [POINTER, POINTER]),
    "XFlush": (INT, [POINTER]),
    "XSync": (INT, [POINTER, INT]),
    "XGetGeometry": (INT, [POINTER, ULONG, *[POINTER] * 7]),
    "XSetErrorHandler": (POINTER, [POINTER]),
    "XChangeProperty": (INT, [POINTER, ULONG, ULONG, ULONG, INT, INT, POINTER, INT]),
    "XSetWMNormalHints": (None, [POINTER, ULONG, POINTER]),
}


class AnyEvent(c.Structure):
    """What all events begin with."""

    _fields_ = (("kind", INT), ("serial", ULONG), ("sent", INT), ("display", POINTER), ("window", ULONG))


class ConfigureEvent(c.Structure):
    _fields_ = (
        ("kind", INT), ("serial", ULONG), ("sent", INT), ("display", POINTER), ("event", ULONG), ("window", ULONG),
        ("x", INT), ("y", INT), ("width", INT), ("height", INT), ("border", INT), ("above", ULONG), ("override", INT),
    )  # fmt: skip


class MessageEvent(c.Structure):
    _fields_ = (
        ("kind", INT), ("serial", ULONG), ("sent", INT), ("display", POINTER), ("window", ULONG), ("message", ULONG),
        ("form", INT), ("data", LONG * 5),
    )  # fmt: skip


class Event(c.Union):
    _fields_ = (("any", AnyEvent), ("configure", ConfigureEvent), ("message", MessageEvent), ("padding", LONG * 24))


class SizeHints(c.Structure):
    _fields_ = (
        ("flags", LONG), ("x", INT), ("y", INT), ("width", INT), ("height", INT), ("min_width", INT),
        ("min_height", INT), ("max_width", INT), ("max_height", INT), ("rest", INT * 9),
    )  # fmt: skip


ERROR_HANDLER = c.CFUNCTYPE(INT, POINTER, POINTER)
# The library's own handler ends the process: a window that its plugin has closed meanwhile is no reason for that.
pass_over = ERROR_HANDLER(lambda display, error: 0)


@cache
def library() -> c.CDLL:
    """The system's libX11 with its functions declared. PluginError if it is not installed."""
    name = ctypes.util.find_library("X11")
    if name is None:
        raise PluginError("A plugin's own window needs the system's libX11 (Debian: apt-get install libx11-6).")
    found = c.CDLL(name)
    for function, (result, arguments) in SIGNATURES.items():
        getattr(found, function).restype = result
        getattr(found, function).argtypes = arguments
    return found


class Size(NamedTuple):
    """Width and height in pixels."""

    width: int
    height: int

    def within(self) -> Size:
        """The nearest size that a window can have."""
        return Size(*(min(max(side, SMALLEST), LARGEST) for side in self))


# What a window has until its plugin says what it wants.
UNKNOWN = Size(640, 480)


def size_of(display: int, window: int) -> Size | None:
    """The size of a window on a display (a connection); None if there is none of that number."""
    root, x, y, width, height, border, depth = ULONG(), INT(), INT(), UINT(), UINT(), UINT(), UINT()
    places = [c.addressof(each) for each in (root, x, y, width, height, border, depth)]
    return Size(width.value, height.value) if library().XGetGeometry(display, window, *places) else None


Happened = Literal["closed", "resized"]


class Window:
    """A window with a title, to be filled by a plugin. `number` is what the plugin is given to put its own into."""

    def __init__(self, title: str, size: Size, display: str) -> None:
        lib = library()
        lib.XSetErrorHandler(c.cast(pass_over, POINTER))
        self._display = lib.XOpenDisplay(display.encode())
        if not self._display:
            raise PluginError(f"The display {display} does not let a plugin's window open on it.")
        self.title, self.size = title, size.within()
        root = lib.XDefaultRootWindow(self._display)
        self.number = lib.XCreateSimpleWindow(self._display, root, 0, 0, *self.size, 0, 0, 0)
        self._closing = lib.XInternAtom(self._display, b"WM_DELETE_WINDOW", 0)
        protocols = (ULONG * 1)(self._closing)
        lib.XSetWMProtocols(self._display, self.number, c.addressof(protocols), 1)
        # Window managers show the older name, or this one, which takes every letter.
        lib.XStoreName(self._display, self.number, title.encode())
        name, kind = (lib.XInternAtom(self._display, each, 0) for each in (b"_NET_WM_NAME", b"UTF8_STRING"))
        text = title.encode()
        lib.XChangeProperty(self._display, self.number, name, kind, 8, 0, c.c_char_p(text), len(text))
        lib.XSelectInput(self._display, self.number, STRUCTURE_NOTIFY)
        lib.XSync(self._display, 0)

    @property
    def file(self) -> int:
        """The descriptor that is readable when something has happened."""
        return int(library().XConnectionNumber(self._display))

    def show(self) -> None:
        library().XMapRaised(self._display, self.number)
        library().XFlush(self._display)

    def resize(self, size: Size, fixed: bool) -> None:
        """Takes another size; `fixed` says that the user may not change it."""
        self.size = size.within()
        hints = SizeHints()
        if fixed:
            hints.flags = SIZE_FIXED
            hints.min_width = hints.max_width = self.size.width
            hints.min_height = hints.max_height = self.size.height
        library().XSetWMNormalHints(self._display, self.number, c.addressof(hints))
        library().XResizeWindow(self._display, self.number, *self.size)
        library().XFlush(self._display)

    def size_of(self, window: int) -> Size | None:
        """The size of a window on the same display; None if there is none of that number."""
        return size_of(self._display, window)

    def happened(self) -> list[Happened]:
        """What the user has done with it since the last look; its size is the new one then."""
        found: list[Happened] = []
        event = Event()
        for _ in range(MOST_EVENTS):
            if not library().XPending(self._display):
                break
            library().XNextEvent(self._display, c.addressof(event))
            kind = event.any.kind
            is_asked = kind == MESSAGE and event.message.data[0] == self._closing
            if is_asked or (kind == DESTROYED and event.configure.window == self.number):
                found.append("closed")
            elif kind == CONFIGURED and event.configure.window == self.number:
                size = Size(event.configure.width, event.configure.height)
                if size != self.size:
                    self.size = size
                    found.append("resized")
        return found

    def close(self) -> None:
        library().XDestroyWindow(self._display, self.number)
        library().XCloseDisplay(self._display)


class Wishes:
    """What a plugin with a window has asked its host for: another size, or to be closed. `resizable` says whether its
    user may change the size, `floats` that its window is one of its own, and not in ours."""

    closed = False
    resizable = False
    floats = False
    _wanted_size: Size | None = None

    def wanted_size(self) -> Size | None:
        """The size that it has asked for since the last look, if it has."""
        wanted, self._wanted_size = self._wanted_size, None
        return wanted
