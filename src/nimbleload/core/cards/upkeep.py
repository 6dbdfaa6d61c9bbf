"""What an instance of a plugin takes beside time."""

from __future__ import annotations

import msgspec


class Upkeep(msgspec.Struct, frozen=True):
    """What one instance takes beside time. `memory` and `footprint` in bytes: kept, and used in a block's caches.

    `pool` bytes more are kept once for all instances in its setting (None: that was not looked for), `code` once for
    all of the plugin; `grows` is what an instance takes more for each second that it sounds, without an end (bytes; 0:
    nothing).

    `load` is the time that the first one takes to load (seconds), `again` what one takes beside it (−1: not timed by
    itself, in an earlier way); `faults` the page faults and `read` the bytes read from files,
    each per second of sound, while it runs. `beside` is how many times dearer a block gets while so many `others`, one
    thread of each other real core, compute as well (0: in an earlier way, all other threads). `paired` is how many
    times dearer it gets while the other thread of its own core does, `slower` how many times as long it takes on one of
    the computer's slow cores (1: not at all, or there is none). `graphics` names what it has loaded to compute on a
    graphics card with; what it does there cannot be seen. `refused` says why no second instance could be loaded beside
    the first, of which everything is then; empty if one could.
    """

    memory: int
    footprint: int
    load: float
    faults: float
    read: float
    beside: float = 1.0
    graphics: str = ""
    others: int = 0
    paired: float = 1.0
    slower: float = 1.0
    pool: int | None = None
    code: int = 0
    grows: float = 0.0
    again: float = -1.0
    refused: str = ""

    @property
    def further(self) -> float:
        """What an instance takes to load beside another one (seconds); what the first does where that was not timed."""
        return self.again if self.again >= 0 else self.load
