"""What a plugin's window waits for: files that become readable, and times that come, as plugins register them."""

from __future__ import annotations

import select
import time
from collections.abc import Callable
from typing import NamedTuple

READ, WRITE, ERROR = 1, 2, 4
# Timers come no more often than this, in seconds: what a plugin asks for beyond would only fill a core.
SHORTEST = 0.001


class Timer(NamedTuple):
    """A call that comes every so many seconds."""

    seconds: float
    call: Callable[[], object]


class Loop:
    """Files and timers of one thread; `turn` waits for what comes next and calls what it is for.

    `files` holds, by descriptor, what is waited for (READ, WRITE) and what is called with what came.
    """

    def __init__(self) -> None:
        self.files: dict[int, tuple[int, Callable[[int], object]]] = {}
        self._timers: dict[int, Timer] = {}
        self._due: dict[int, float] = {}
        self._made = 0

    def every(self, seconds: float, call: Callable[[], object]) -> int:
        """A timer; its number, by which it is ended."""
        self._made += 1
        self._timers[self._made] = Timer(max(seconds, SHORTEST), call)
        self._due[self._made] = time.monotonic() + self._timers[self._made].seconds
        return self._made

    def end(self, number: int) -> bool:
        """Ends a timer; whether there was one of this number."""
        self._due.pop(number, None)
        return self._timers.pop(number, None) is not None

    def turn(self, longest: float) -> None:
        """Waits for at most so many seconds, and calls all that has come."""
        now = time.monotonic()
        wait = min((due - now for due in self._due.values()), default=longest)
        for file, came in self._ready(min(max(wait, 0.0), longest)):
            if file in self.files:
                self.files[file][1](came)
        now = time.monotonic()
        for number in [number for number, due in self._due.items() if due <= now]:
            if number in self._timers:
                # One that was late comes once, not as often as it was missed.
                self._due[number] = now + self._timers[number].seconds
                self._timers[number].call()

    def _ready(self, seconds: float) -> list[tuple[int, int]]:
        poll = select.poll()
        for file, (wanted, _) in self.files.items():
            poll.register(file, (select.POLLIN if wanted & READ else 0) | (select.POLLOUT if wanted & WRITE else 0))
        found = []
        for file, events in poll.poll(seconds * 1000):
            if events & select.POLLNVAL:
                # It was closed without being taken back: it would be ready for ever.
                self.files.pop(file, None)
                continue
            came = READ if events & (select.POLLIN | select.POLLHUP) else 0
            came |= WRITE if events & select.POLLOUT else 0
            came |= ERROR if events & (select.POLLERR | select.POLLHUP) else 0
            found.append((file, came))
        return found
