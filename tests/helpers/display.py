"""A display of the tests' own (Xvfb), and hands on it: clicks and drags into windows, as X tells of them."""

from __future__ import annotations

import ctypes as c
import os
import shutil
import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager

from nimbleload.probe.shown.x11 import POINTER, UINT, ULONG, Size, library, pass_over, size_of

PRESS, RELEASE, MOVE, MESSAGE = 4, 5, 6, 33
# In what Xlib tells of a window: which of its numbers says whether it is shown, and what it is then.
MAP_STATE, VIEWABLE = 23, 2
MASKS = {PRESS: 1 << 2, RELEASE: 1 << 3, MOVE: 1 << 6}
BUTTON_HELD = 1 << 8
# A display server that does not come up is started again, so often.
TRIES = 5


class Pointer(c.Structure):
    """A press, a release or a movement: they have one form."""

    _fields_ = (
        ("kind", c.c_int), ("serial", ULONG), ("sent", c.c_int), ("display", POINTER), ("window", ULONG),
        ("root", ULONG), ("inner", ULONG), ("time", ULONG), ("x", c.c_int), ("y", c.c_int), ("x_root", c.c_int),
        ("y_root", c.c_int), ("state", UINT), ("button", UINT), ("same", c.c_int),
    )  # fmt: skip


class Message(c.Structure):
    _fields_ = (
        ("kind", c.c_int), ("serial", ULONG), ("sent", c.c_int), ("display", POINTER), ("window", ULONG),
        ("message", ULONG), ("form", c.c_int), ("data", c.c_long * 5), ("padding", c.c_long * 24),
    )  # fmt: skip


@contextmanager
def display() -> Iterator[str]:
    """A display without a screen; its name. None is started where there is no Xvfb: FileNotFoundError."""
    server = shutil.which("Xvfb")
    if server is None:
        raise FileNotFoundError("Xvfb")
    for _ in range(TRIES):
        running, number = _started(server)
        if number and opens(f":{number}"):
            break
        # Two that start at once may want the same number: one of them gives up.
        running.terminate()
        running.wait(10)
    else:
        raise AssertionError(f"{server} did not start")
    try:
        yield f":{number}"
    finally:
        running.terminate()
        running.wait(10)


def _started(server: str) -> tuple[subprocess.Popen[bytes], str]:
    """A display server that was started, and the number that it gave itself; empty if it has ended."""
    told, tell = os.pipe()
    # It would begin anew whenever nobody is connected any more.
    command = [server, "-displayfd", str(tell), "-screen", "0", "1280x800x24", "-nolisten", "tcp", "-noreset"]
    running = subprocess.Popen(command, pass_fds=(tell,), stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    os.close(tell)
    with os.fdopen(told, "rb") as answer:
        return running, answer.readline().decode().strip()


def opens(name: str) -> bool:
    """Whether a display answers."""
    lib = library()
    found = lib.XOpenDisplay(name.encode())
    if found:
        lib.XCloseDisplay(found)
    return bool(found)


class Hands:
    """Finds windows on a display and acts on them."""

    def __init__(self, name: str) -> None:
        self._lib = library()
        # Windows go while they are looked at; X would end this whole process for it.
        self._lib.XSetErrorHandler(c.cast(pass_over, POINTER))
        for function in ("XSendEvent", "XFetchName"):
            getattr(self._lib, function).restype = c.c_int
        self._lib.XSendEvent.argtypes = [POINTER, ULONG, c.c_int, c.c_long, POINTER]
        self._lib.XQueryTree.argtypes = [POINTER, ULONG, POINTER, POINTER, POINTER, POINTER]
        self._lib.XFetchName.argtypes = [POINTER, ULONG, c.POINTER(c.c_char_p)]
        self._display = self._lib.XOpenDisplay(name.encode())
        assert self._display, f"the display {name} does not answer"
        self.root = self._lib.XDefaultRootWindow(self._display)

    def below(self, window: int) -> list[int]:
        root, parent, count, listed = ULONG(), ULONG(), UINT(), c.POINTER(ULONG)()
        places = [c.addressof(each) for each in (root, parent, listed, count)]
        if not self._lib.XQueryTree(self._display, window, *places) or not listed:
            return []
        return [int(listed[k]) for k in range(count.value)]

    def title(self, window: int) -> str:
        name = c.c_char_p()
        self._lib.XFetchName(self._display, window, c.byref(name))
        return (name.value or b"").decode(errors="replace")

    def are_there(self, title: str) -> bool:
        """Whether any window has a title."""
        return any(self.title(window) == title for window in self.below(self.root))

    def find(self, title: str, seconds: float = 20.0) -> int:
        """The window of a title, waited for."""
        until = time.monotonic() + seconds
        while time.monotonic() < until:
            for window in self.below(self.root):
                if self.title(window) == title and self.below(window):
                    return window
            time.sleep(0.05)
        raise AssertionError(f"no window is called {title!r}")

    def is_seen(self, window: int) -> bool:
        """Whether a window is shown, and not only there."""
        state = (c.c_int * 64)()
        self._lib.XGetWindowAttributes(POINTER(self._display), ULONG(window), c.byref(state))
        return state[MAP_STATE] == VIEWABLE

    def size(self, window: int) -> Size | None:
        return size_of(self._display, window)

    def _send(self, window: int, kind: int, x: int, y: int, held: bool) -> None:
        event = (c.c_char * 192)()
        made = Pointer.from_buffer(event)
        made.kind, made.display, made.window, made.root = kind, self._display, window, self.root
        made.x, made.y, made.x_root, made.y_root, made.same = x, y, x, y, 1
        made.state, made.button = BUTTON_HELD if held else 0, 0 if kind == MOVE else 1
        made.time = int(time.monotonic() * 1000) & 0xFFFFFFFF
        self._lib.XSendEvent(self._display, window, 1, MASKS[kind], c.addressof(event))
        self._lib.XSync(self._display, 0)
        time.sleep(0.05)

    def drag(self, window: int, x: int, y: int, by: int) -> None:
        """Presses at a place, moves up by so many pixels, and lets go."""
        self._send(window, MOVE, x, y, False)
        self._send(window, PRESS, x, y, False)
        for step in range(1, 11):
            self._send(window, MOVE, x, y - by * step // 10, True)
        self._send(window, RELEASE, x, y - by, True)

    def ask_to_close(self, window: int) -> None:
        """What a window manager sends when its user closes a window."""
        made = Message(MESSAGE, 0, 0, self._display, window, 0, 32)
        made.message = self._lib.XInternAtom(self._display, b"WM_PROTOCOLS", 0)
        made.data[0] = self._lib.XInternAtom(self._display, b"WM_DELETE_WINDOW", 0)
        self._lib.XSendEvent(self._display, window, 0, 0, c.addressof(made))
        self._lib.XSync(self._display, 0)

    def close(self) -> None:
        self._lib.XCloseDisplay(self._display)
