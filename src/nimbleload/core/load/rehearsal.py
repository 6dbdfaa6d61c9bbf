"""A rehearsal's outcome in figures, and how it compares with what was predicted."""

from __future__ import annotations

from typing import NamedTuple

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..session.computer import Host, deadline
from ..session.session import Session
from .helped import Helped
from .load_map import hundredth
from .missed import Missed

# So many undisturbed blocks, and such a share of all, are enough to go by.
FEWEST_UNDISTURBED, LEAST_UNDISTURBED = 20, 0.02


class Loads:
    """What is told of blocks by their `loads` (fractions of the deadline, in order)."""

    __slots__ = ()
    loads: tuple[float, ...]

    @property
    def typical(self) -> float:
        """The median load; 0 where there is none."""
        return float(np.median(self.loads)) if self.loads else 0.0

    @property
    def bad(self) -> float:
        """What one block in a hundred reaches."""
        return hundredth(np.array(self.loads))


class Undisturbed(Loads, msgspec.Struct, frozen=True):
    """The blocks in which the computer was as fast as at its best, by what a known piece of arithmetic took beside
    each: which `share` of all they are, and their `loads`, `strips`, `uses` and `clock` as in a `Rehearsal`."""

    share: float = 0.0
    loads: tuple[float, ...] = ()
    strips: dict[str, float] = {}
    uses: dict[str, float] = {}
    clock: float = 0.0

    @property
    def is_telling(self) -> bool:
        """Whether there are enough of them to go by."""
        return len(self.loads) >= FEWEST_UNDISTURBED and self.share >= LEAST_UNDISTURBED


class Streamed(msgspec.Struct, frozen=True):
    """What was played from files on the disk, read ahead by a thread of its own: `tracks` (ids of strips), while others
    that are frozen had no file (`without`). So many bytes a second (`rate`) were read, which took a `share` of one core
    beside the blocks; `late` times a track's next block had not been read yet. `unread` files could not be played, and
    why (by id of strip)."""

    tracks: tuple[str, ...] = ()
    without: tuple[str, ...] = ()
    rate: float = 0.0
    share: float = 0.0
    late: int = 0
    unread: dict[str, str] = {}


class Rehearsal(Loads, msgspec.Struct, frozen=True):
    """What real threads needed for real blocks of `buffer` samples at `second` of the piece; times in seconds.

    `loads` are the blocks' durations over the deadline, in order; `missed` how many ended after their deadline.
    `strips` (by id) is the mean time of each strip, `strip_peaks` what one block in a hundred reaches; `uses` (by id)
    the mean of each plugin. `busy` is each core's share of the time. `overhead` is the mean time of a strip beside its
    plugins, `wake` how late a block begins after it is due (one in a hundred). `slowdown` is how much slower a core
    computes while all compute at once, `rested` how much slower it is after it has slept as long as between these
    blocks. `real_time` and `locked` say whether the system allowed real-time scheduling and locked memory. `refused`
    gives a reason for each plugin that could not be loaded. `clock` is what a known chain of steps took beside the
    blocks as a rule (seconds; 0: not known), which goes by the clock of the cores; `units` how many times longer than
    at best other arithmetic took, by what other threads on the same cores take of their units. `undisturbed` are the
    blocks in which that was hardly longer; `streamed` what was read from files meanwhile. `memory` is what came with
    all plugins until they were loaded (bytes; 0: not looked at), `loaded_in` how long that took (seconds; 0: likewise).
    `why` says what made blocks late, `helped` what would have kept them from it.
    """

    buffer: int
    rate: int
    second: float
    cores: int
    real_time: bool
    locked: bool
    loads: tuple[float, ...]
    missed: int
    strips: dict[str, float]
    strip_peaks: dict[str, float]
    uses: dict[str, float]
    busy: tuple[float, ...]
    overhead: float
    wake: float
    slowdown: float
    rested: float = 1.0
    refused: dict[str, str] = {}
    clock: float = 0.0
    units: float = 1.0
    undisturbed: Undisturbed = Undisturbed()
    streamed: Streamed = Streamed()
    memory: int = 0
    why: Missed = Missed()
    loaded_in: float = 0.0
    helped: Helped = Helped()

    @property
    def worst(self) -> float:
        return max(self.loads, default=0.0)

    @property
    def missed_per_minute(self) -> float:
        seconds = len(self.loads) * deadline(self.buffer, self.rate)
        return 60 * self.missed / seconds if seconds > 0 else 0.0


class Prediction(NamedTuple):
    """What was predicted for the same moment: loads as fractions, strips (S) and plugins (by id) in seconds.

    `is_foreign` says that most of it rests on figures that are not from this computer. `clock` is how many times as
    long as beside the cards a known chain of steps took in the rehearsal: what is predicted has been brought to that.
    `alone` and `alone_bad` are the loads of blocks that nothing interrupts. `memory` is what the plugins that are
    loaded keep (bytes; 0: not known of all), `loaded_in` how long they take to load (seconds; 0: likewise).
    """

    typical: float
    bad: float
    strips: NDArray[np.float64]
    uses: dict[str, float]
    is_foreign: bool = False
    clock: float = 1.0
    alone: float = 0.0
    alone_bad: float = 0.0
    memory: int = 0
    loaded_in: float = 0.0


def agreement(predicted: Prediction, of: Rehearsal) -> tuple[float, float]:
    """By how much the predicted typical and bad loads are off, as fractions of the rehearsed ones."""
    typical = predicted.typical / of.typical - 1 if of.typical > 0 else 0.0
    bad = predicted.bad / of.bad - 1 if of.bad > 0 else 0.0
    return typical, bad


def own_error(predicted: Prediction, of: Rehearsal) -> float | None:
    """By how much the predicted typical load is off by itself, as a fraction: that of blocks which nothing interrupts,
    against the blocks in which the computer was as fast as when plugins are measured. None where there were too few."""
    quiet = of.undisturbed
    return predicted.alone / quiet.typical - 1 if quiet.is_telling and quiet.typical > 0 else None


def learned(session: Session, predicted: Prediction, of: Rehearsal) -> Host:
    """The session's host with what the rehearsal has shown of plugins: how dear they are, where the computer was as
    fast as when they were measured, if it was. What a host takes beside them it cannot show, being another one."""
    seen = of.undisturbed.uses if of.undisturbed.is_telling else of.uses
    both = [use for use in seen if predicted.uses.get(use, 0.0) > 0]
    before, after = sum(predicted.uses[use] for use in both), sum(seen[use] for use in both)
    factor = session.host.plugin_factor * (after / before if before > 0 else 1.0)
    return msgspec.structs.replace(session.host, plugin_factor=factor)
