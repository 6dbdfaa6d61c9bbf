"""What the clock on the wall shows, for what a reader compares with his own: never for how long something takes."""

from __future__ import annotations

import time


def when_it_was_zero() -> float:
    """The Unix time at which the monotonic clock would have shown zero, by the calendar as it is set now (seconds)."""
    return time.time() - time.monotonic()
