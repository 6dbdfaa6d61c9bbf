"""What is asked of work while it goes on."""

from __future__ import annotations

import threading
import time

# How often what stands still looks whether it is to go on (seconds).
LOOKS = 0.1


class Asked:
    """To stop for good, or to stand still for a while; any thread may ask. What is asked of one that is `within`
    another is asked of that part of the work only."""

    def __init__(self, within: Asked | None = None) -> None:
        self._within = within
        self._stop, self._still = threading.Event(), threading.Event()

    def stop(self) -> None:
        """Asks it to end; nothing takes that back."""
        self._stop.set()

    def stand_still(self, still: bool) -> None:
        """Asks it to wait where it is, or to go on."""
        (self._still.set if still else self._still.clear)()

    def is_stopped(self) -> bool:
        return self._stop.is_set() or (self._within is not None and self._within.is_stopped())

    def is_still(self) -> bool:
        return self._still.is_set() or (self._within is not None and self._within.is_still())

    def goes_on(self) -> bool:
        """Waits while it is to stand still; whether it is to go on then, and not to end."""
        while self.is_still() and not self.is_stopped():
            time.sleep(LOOKS)
        return not self.is_stopped()


# Nobody asks anything of it.
NOTHING_ASKED = Asked()
