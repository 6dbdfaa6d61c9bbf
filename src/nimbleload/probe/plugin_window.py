"""A plugin's own window, as the rest of the program sees it: opened in a worker, watched, closed, and what was set in
it taken over. Whatever becomes of the worker, this program goes on."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import NamedTuple

import msgspec

from ..core.session.plugins import PluginUse, Setting
from ..core.units import said_by
from .describing import read_state, told
from .isolation import QUIET_SECONDS, Failure, Worker
from .messages import STATE, ClosedMessage, Display, OpenedMessage, ShownMessage
from .session_run import request_for

# Standards in which plugins have windows of their own.
WITH_WINDOWS = ("clap", "vst3", "lv2")
# Blocks are long: a window shows no more than some dozens of pictures a second.
FRAMES = 1024


class Opened(NamedTuple):
    """The window is open, after so many seconds."""

    seconds: float


class Takes(NamedTuple):
    """What the open window takes now, beside what the plugin computes: cores, and bytes of memory."""

    cores: float
    bytes: int


class Left(NamedTuple):
    """The window is closed; the setting in which it was left, and whether that is another one than before. Of a plugin
    that saves no state the setting holds only the values that were changed."""

    setting: Setting
    changed: bool


def taken(seen: Sequence[Takes]) -> tuple[float | None, float]:
    """What a window took while it was open: cores (median; None if it was too short for a look) and bytes (most)."""
    cores = sorted(each.cores for each in seen)
    return (cores[len(cores) // 2] if cores else None), max((each.bytes for each in seen), default=0)


def display(title: str) -> Display | Failure:
    """The display that windows open on, with a title; or why there is none."""
    name = os.environ.get("DISPLAY", "")
    if not name:
        return Failure("cannot open its window: there is no X11 display here (DISPLAY is not set)")
    authority = Path(os.environ.get("XAUTHORITY") or Path.home() / ".Xauthority")
    return Display(name, str(authority) if authority.exists() else "", title)


class OwnWindow:
    """One open window. `close` has it closed as its user would; what was set is taken then."""

    def __init__(self, use: PluginUse, rate: int, title: str) -> None:
        self._use, self._rate = use, rate
        self._worker: Worker | None = None
        self._why = Failure("has no window of its own: its standard has none")
        if use.plugin.standard in WITH_WINDOWS:
            asked, on = request_for(use, rate, FRAMES), display(title)
            if isinstance(asked, Failure):
                self._why = asked
            elif isinstance(on, Failure):
                self._why = on
            else:
                self._worker = Worker(msgspec.structs.replace(asked, shows=on))

    def events(
        self, cancelled: Callable[[], bool] = lambda: False, quiet_seconds: float = QUIET_SECONDS
    ) -> Iterator[Opened | Takes | Left | Failure]:
        """What happens, as it happens; `Left` or a failure is the last. Once `cancelled`, nothing is taken; after so
        many seconds without a sign of life it counts as hanging."""
        if self._worker is None:
            yield self._why
            return
        try:
            for message in self._worker.results(cancelled, quiet_seconds):
                if isinstance(message, OpenedMessage):
                    yield Opened(message.seconds)
                elif isinstance(message, ShownMessage):
                    yield Takes(message.cores, message.bytes)
                elif isinstance(message, ClosedMessage):
                    yield self._tried(self._left(message))
                    return
                elif isinstance(message, Failure):
                    yield message
                    return
        finally:
            worker, self._worker = self._worker, None
            worker.close()

    def _tried(self, left: Left | Failure) -> Left | Failure:
        """A changed state, given to the plugin again in a worker: some save what they do not take back, and then would
        not load in the session any more."""
        if isinstance(left, Failure) or not left.changed or left.setting.state is None:
            return left
        found = told(msgspec.structs.replace(self._use, setting=left.setting), self._rate)
        if isinstance(found, Failure):
            why = found.reason.rstrip(".")
            return Failure(f"saved a state that it does not take back ({why}): nothing was changed")
        return left

    def _left(self, message: ClosedMessage) -> Left | Failure:
        if not message.saved:
            return Left(Setting(tuple(message.values.items())), message.changed)
        assert self._worker is not None
        file = self._worker.folder / STATE
        try:
            if file.is_symlink():
                return Failure("saved its state as a link to another file, which is not followed")
            return Left(Setting((), read_state(file)), message.changed)
        except OSError as error:
            return Failure(f"saved a state that cannot be read: {said_by(error)}")

    def close(self) -> None:
        """Asks for the window to be closed, from any thread; `events` tells what was set."""
        worker = self._worker
        if worker is not None:
            worker.ask_to_close()
