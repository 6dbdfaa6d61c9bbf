"""Shows a plugin's own window, plays the plugin meanwhile, and tells what the window takes and what was set in it."""

from __future__ import annotations

import contextlib
import ctypes as c
import os
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any, Protocol

from ...core.session.plugins import PluginUse
from ..formats.hosted import Hosted
from ..messages import STATE, ClosedMessage, LoadedMessage, Message, OpenedMessage, ReadyMessage, Request, ShownMessage
from ..signal import musical
from .clap import ClapShown
from .loop import READ, Loop
from .lv2 import Lv2Shown
from .vst3 import Vst3Shown
from .x11 import Size, Window

# What this process takes without the window is looked at for so long before, in seconds; then the window's part each
# so many seconds.
BEFORE_SECONDS, TOLD_SECONDS, BEAT_SECONDS = 0.5, 1.0, 0.5
# Blocks that are late are left out beyond so many: nobody hears them.
MOST_AT_ONCE = 4
# The line by which whoever asked for the window has it closed.
CLOSE = b"close"
BLOCK = c.CFUNCTYPE(c.c_int32, c.c_void_p, c.c_void_p)


class Shown(Hosted, Protocol):
    """A plugin with a host that has a window for it (see `x11.Wishes`)."""

    closed: bool
    resizable: bool
    floats: bool

    def open(self, window: Callable[[Size], Window]) -> Window:
        """Puts its window into the one that it is given for a size. PluginError says why not."""

    def wanted_size(self) -> Size | None:
        """The size that the plugin has asked for since the last look, if it has."""

    def resized(self, size: Size) -> None:
        """Its window has another size now."""

    def idle(self) -> None:
        """Between blocks: passes on what window and plugin have for each other."""

    def hide(self) -> None:
        """Takes its window away."""

    def saved_state(self) -> bytes | None:
        """The state that it is in, as a session saves it; None if it saves none. PluginError if it fails to."""


KINDS: dict[str, Callable[[PluginUse, str, int, int, Loop], Any]] = {
    "clap": ClapShown, "vst3": Vst3Shown, "lv2": Lv2Shown,
}  # fmt: skip


class Player:
    """Plays a plugin in time, and knows what CPU time that has taken."""

    def __init__(self, hosted: Hosted, rate: int, frames: int) -> None:
        self._hosted, self._frames, self._seconds = hosted, frames, frames / rate
        self._block = BLOCK(hosted.call)
        self._sound = hosted.wiring.carried(musical(len(hosted.inputs), rate))
        self._at, self._next = 0, time.monotonic()
        self.spent = 0.0

    def due(self) -> float:
        """Seconds until the next block is due."""
        return max(self._next - time.monotonic(), 0.0)

    def play(self) -> bool:
        """Plays the blocks that are due; whether there were any."""
        now, played = time.monotonic(), 0
        while self._next <= now and played < MOST_AT_ONCE:
            self._hosted.inputs[:, : self._frames] = self._sound[:, self._at : self._at + self._frames]
            self._at = (self._at + self._frames) % self._sound.shape[1]
            argument = self._hosted.argument(self._frames)
            before = time.thread_time()
            self._block(self._hosted.handle, argument)
            self.spent += time.thread_time() - before
            self._next, played = self._next + self._seconds, played + 1
        self._next = max(self._next, now)
        return played > 0


class Cost:
    """What this process takes beyond the blocks that it plays, since the last look."""

    def __init__(self, player: Player) -> None:
        self._player = player
        self._last = self._now()

    def _now(self) -> tuple[float, float]:
        return time.monotonic(), time.process_time() - self._player.spent

    def cores(self) -> float:
        """CPU time in a second, in cores."""
        last, self._last = self._last, self._now()
        return max((self._last[1] - last[1]) / max(self._last[0] - last[0], 1e-6), 0.0)

    @property
    def age(self) -> float:
        """Seconds since the last look."""
        return time.monotonic() - self._last[0]


def resident() -> int:
    """The memory that this process has in use, in bytes."""
    return int(Path("/proc/self/statm").read_text().split()[1]) * os.sysconf("SC_PAGE_SIZE")


class Showing:
    """The loop in which a window lives: until it is closed, by the user, by the plugin, or by a line on `given`."""

    def __init__(self, hosted: Shown, player: Player, loop: Loop, send: Callable[[Message], None], given: int) -> None:
        self._hosted, self._player, self._loop, self._send, self._given = hosted, player, loop, send, given
        self._beaten = 0.0
        self.is_over = False

    def turn(self) -> None:
        """Waits for what comes next, and does it."""
        self._loop.turn(self._player.due())
        if self._player.play():
            self._hosted.idle()
        if time.monotonic() - self._beaten > BEAT_SECONDS:
            self._beaten = time.monotonic()
            self._send(ReadyMessage())

    def run(self, make: Callable[[Size], Window]) -> None:
        """Opens the window and shows it until it is closed. PluginError says why it cannot be."""
        cost = Cost(self._player)
        while cost.age < BEFORE_SECONDS:
            self.turn()
        without, memory = cost.cores(), resident()
        begun = time.monotonic()
        window = self._hosted.open(make)
        if not self._hosted.floats:
            window.show()
        self._send(OpenedMessage(time.monotonic() - begun))
        self._loop.files[window.file] = READ, lambda _: None
        self._loop.files[self._given] = READ, self._take_line
        self._settle(window)
        cost.cores()
        while not (self.is_over or self._hosted.closed):
            self.turn()
            self._attend(window)
            if cost.age >= TOLD_SECONDS:
                self._send(ShownMessage(max(cost.cores() - without, 0.0), max(resident() - memory, 0)))
        self._loop.files.pop(self._given, None)
        self._hosted.hide()
        self._hosted.idle()
        del self._loop.files[window.file]
        window.close()

    def _settle(self, window: Window) -> None:
        """The first pictures of a window are not what it takes while it is open."""
        until = time.monotonic() + TOLD_SECONDS
        while time.monotonic() < until and not (self.is_over or self._hosted.closed):
            self.turn()
            self._attend(window)

    def _attend(self, window: Window) -> None:
        for what in window.happened():
            if what == "closed":
                self.is_over = True
            elif self._hosted.resizable:
                self._hosted.resized(window.size)
        wanted = self._hosted.wanted_size()
        if wanted is not None and wanted.within() != window.size:
            window.resize(wanted, not self._hosted.resizable)
            self._hosted.resized(window.size)

    def _take_line(self, _: int) -> None:
        """Whoever asked for the window wants it closed; if there is nobody any more, too."""
        said = os.read(self._given, 4096)
        self.is_over = self.is_over or not said or CLOSE in said


def show(request: Request, send: Callable[[Message], None]) -> None:
    """Loads the plugin of a request, and shows its window until it is closed. What was set stands in `folder`/STATE.

    PluginError says why not.
    """
    on = request.shows
    assert on is not None
    os.environ["DISPLAY"] = on.name
    if on.authority:
        os.environ["XAUTHORITY"] = on.authority
    os.environ.pop("QT_QPA_PLATFORM", None)
    loop = Loop()
    begun = time.monotonic()
    (frames,) = request.buffers
    hosted = KINDS[request.use.plugin.standard](request.use, request.path, request.rate, frames, loop)
    send(LoadedMessage(time.monotonic() - begun))
    # As it starts: what it saves now is compared with what it saves in the end.
    before, values_before = hosted.saved_state(), _values(hosted)
    player = Player(hosted, request.rate, frames)
    Showing(hosted, player, loop, send, sys.stdin.fileno()).run(lambda size: Window(on.title, size, on.name))
    after = hosted.saved_state()
    values: dict[str, float] = {}
    if after is None:
        values = {key: value for key, value in _values(hosted).items() if values_before.get(key) != value}
    else:
        (Path(request.folder) / STATE).write_bytes(after)
    send(ClosedMessage(after is not None, after != before or bool(values), values))
    with contextlib.suppress(Exception):
        hosted.close()


def _values(hosted: Shown) -> dict[str, float]:
    """The values of all parameters, by their keys."""
    return {each.key: each.value for each in hosted.parameters()}
