"""The cost card: all that was measured of one plugin in one setting, and what it costs at any buffer size.

Seconds at interfaces; the block sequence is kept as nanoseconds, as measured.
"""

from __future__ import annotations

import math
from bisect import bisect_left
from collections.abc import Iterable, Mapping, Sequence
from typing import Literal, NamedTuple, Protocol, TypeVar

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..session.plugins import CardKey
from .slowing import Slowing
from .upkeep import Upkeep

Condition = Literal["sounding", "silent", "waking"]
# What loads are built on, and then all that is measured: waking is the first blocks after switching on.
CONDITIONS: tuple[Condition, ...] = ("sounding", "silent")
MEASURED: tuple[Condition, ...] = (*CONDITIONS, "waking")

Provenance = Literal[
    "measured", "first", "earlier", "seen", "sample", "elsewhere", "typed", "scaled", "stand-in", "unknown"
]
PROVENANCE_WORDS: dict[Provenance, str] = {
    "measured": "measured on this computer",
    "first": "first figures of this computer, taken quickly",
    "earlier": "measured on this computer in an earlier way, by which some plugins come out too cheap or too dear",
    "seen": "seen in the running host, with all that it did there",
    "sample": "sample figures, not from this computer",
    "elsewhere": "measured on another computer",
    "typed": "typed in",
    "scaled": "scaled from another size, rate, clock or number of cores",
    "stand-in": "taken from a stand-in",
    "unknown": "not known",
}
# By which way this version measures. 2: every plugin switched on for the size it is run with, by a narrow loop. 3: only
# those of its inputs and outputs in use that the strip has a signal for, once a deadline as well, the clock told.
# 4: beside busy cores by the same measure as alone; its own time from blocks that shared the core with nobody.
# 5: in a row and once a deadline the notes of an instrument are struck alike. 6: what fills up as it sounds on, from
# when it is full; what others do to the caches, over whole cycles. 7: one of one channel for each channel of its strip.
# 8: nothing is written to inputs without a signal, which lowered the clock. 9: on a fast core, its other thread free.
# 10: what answers late is waited for, and what seems to do nothing is tried at other levels.
METHOD = 10
# What may be the work of others by no larger a share is not worth measuring once more.
DOUBTFUL = 0.05
# Figures of one place that differ by no larger a share say the same.
ALIKE = 0.1

# Those of this computer.
OWN: tuple[Provenance, ...] = ("measured", "first", "earlier")
PROVENANCES: tuple[Provenance, ...] = tuple(PROVENANCE_WORDS)

# Below these (dB) what a null test leaves is told to be exact, or nearly so.
EXACT_DB, NEAR_DB = -100.0, -60.0


class Cell(msgspec.Struct, frozen=True):
    """One measured condition at one rate (Hz) and buffer size (samples); all times in seconds per block.

    `mean` of the plugin's own block times is what loads are built on. `jitter` is the mean of what the machine added on
    top, in the same blocks. `sequence` holds the own times as little-endian int32 nanoseconds, in block order. `quiet`
    is false where too few blocks had the core to themselves to tell the plugin's own time: others shared it, and known
    arithmetic took `shared` times as long as at best meanwhile. So much too high the figure may be. `watched` is how
    long the timed blocks took together, `interruptions` how many of them the machine clearly interrupted, and
    `interrupted` by how much (int32 nanoseconds, ascending, evenly picked where there were many). `aside` is what the
    plugin's own threads and child processes computed on other cores meanwhile, in seconds per block. `clock` is what a
    known chain of steps took on the core meanwhile (seconds; 0: not known), which tells its clock. `latency` is what
    the plugin reported meanwhile (samples; None: not known): with some it goes by the buffer size.
    """

    rate: int
    buffer: int
    condition: Condition
    mean: float
    median: float = 0.0
    p95: float = 0.0
    p99: float = 0.0
    p999: float = 0.0
    largest: float = 0.0
    jitter: float = 0.0
    quiet: bool = True
    provenance: Provenance = "measured"
    sequence: bytes = b""
    watched: float = 0.0
    interruptions: int = 0
    interrupted: bytes = b""
    aside: float = 0.0
    clock: float = 0.0
    shared: float = 1.0
    latency: int | None = None

    @property
    def doubt(self) -> float:
        """Which share of it may be the work of others."""
        return 0.0 if self.quiet else 1 - 1 / max(self.shared, 1.0)

    @property
    def is_doubtful(self) -> bool:
        """Whether so much of it may be that measuring it once more is worth the while."""
        return self.doubt >= DOUBTFUL and self.provenance == "measured" and self.condition in CONDITIONS

    def is_better(self, before: Cell) -> bool:
        """Whether it tells more of the plugin than a figure of the same place. Others only ever add to it, so the lower
        one does; of two that are nearly the same, the one from a quiet core."""
        same = before.clock / self.clock if self.clock > 0 and before.clock > 0 else 1.0
        if self.quiet != before.quiet and abs(same * self.mean - before.mean) <= ALIKE * before.mean:
            return self.quiet
        return same * self.mean < before.mean

    def interrupted_ns(self) -> NDArray[np.int32]:
        """By how much the machine interrupted blocks, in nanoseconds, ascending; empty if that was not kept."""
        return np.frombuffer(self.interrupted, "<i4")

    def sequence_ns(self) -> NDArray[np.int32]:
        """The own time of each block in nanoseconds, in order; empty if none was kept."""
        return np.frombuffer(self.sequence, "<i4")


class Figure(NamedTuple):
    """A cost in seconds per block, and where it comes from."""

    seconds: float
    provenance: Provenance


class Fit(NamedTuple):
    """Cost as fixed + per_sample × buffer (seconds); `worst` is the largest relative miss over the sizes."""

    fixed: float
    per_sample: float
    worst: float


class Truth(msgspec.Struct, frozen=True):
    """Whether a plugin keeps to what it says. `latency` is its true one in samples, None where it could not be heard.

    `null_db` is what is left when its sound at 64 samples is taken from that at 512 (dB; None: it never sounds the
    same twice). `idle`: what comes out is what went in; `silent`: nothing comes out; `finite` false: NaN or infinity.
    `linear_db` is what is left when its sounds of two signals are taken from its sound of their sum (dB): how exact it
    is to have one of it on a bus in place of one on each track; None where it was not tried or cannot be.
    `pan_db` is the same where its input is 10 dB softer on one side, against its output made so, and `ride_db` where
    the level glides: what moving it behind a pan or a riding fader changes. None where not tried, or not to be
    tried. `hot_peak` is the highest output (dBFS) while the input just reaches full scale; None where it was not tried.
    """

    latency: int | None = None
    null_db: float | None = None
    finite: bool = True
    silent: bool = False
    idle: bool = False
    hot_peak: float | None = None
    linear_db: float | None = None
    pan_db: float | None = None
    ride_db: float | None = None


class Null(msgspec.Struct, frozen=True):
    """What a null test of this setting against another one of the same plugin left, in dB.

    `setting` and `voices` are those of the other one's key.
    """

    setting: str
    voices: int
    db: float


class Company(msgspec.Struct, frozen=True):
    """What one block costs when others have used memory since the last one: `seconds` after `touched` bytes each.

    The first entry is 0 bytes: the plugin alone, in caches of its own.
    """

    rate: int
    buffer: int
    touched: tuple[int, ...]
    seconds: tuple[float, ...]

    def extra(self, touched: float) -> float:
        """The share of its cost that `touched` bytes add to a block, on the line between the measured levels.

        Never negative, and never less than what fewer bytes add.
        """
        return float(np.interp(touched, self.touched, self.added()))

    def added(self) -> NDArray[np.float64]:
        """The share of its cost that each measured level adds, never falling."""
        if self.seconds[0] <= 0:
            return np.zeros(len(self.seconds))
        shares = np.array(self.seconds) / self.seconds[0] - 1
        return np.asarray(np.maximum.accumulate(np.maximum(shares, 0.0)), np.float64)


class Polyphony(msgspec.Struct, frozen=True):
    """What one block of an instrument costs with more and more notes: `seconds` for `voices` held together, ascending.

    The last entry is the full chord that everything else was measured with.
    """

    rate: int
    buffer: int
    voices: tuple[int, ...]
    seconds: tuple[float, ...]

    def shares(self, voices: Sequence[int]) -> NDArray[np.float64]:
        """The shares of the full chord's cost that so many notes each take: on the line between those measured, 0 to 1.

        Fewer than the fewest measured take what those do; more notes never cost less.
        """
        if self.seconds[-1] <= 0:
            return np.ones(len(voices))
        shares = np.minimum(np.maximum.accumulate(np.array(self.seconds)) / self.seconds[-1], 1.0)
        return np.interp(voices, self.voices, shares)


class Silence(msgspec.Struct, frozen=True):
    """A block of `buffer` samples through ten seconds of silence: seconds per block.

    `sounding` is the cost before; `after` that at 0.1, 1 and 10 s; `dearest` the dearest stretch of 8192 samples in
    the tail, with denormal numbers flushed to zero as hosts do, `unflushed` the same without.
    """

    rate: int
    buffer: int
    sounding: float
    after: tuple[float, float, float]
    dearest: float
    unflushed: float

    @property
    def sleeps(self) -> bool:
        """Whether it stops working by itself when nothing comes in."""
        return self.after[2] < 0.1 * self.sounding


class Inputs(msgspec.Struct, frozen=True):
    """A block of `buffer` samples with different input, in seconds: `dense` as in the cells (−18 dBFS), `short` sounds
    with gaps between them, and `hot` with peaks at full scale."""

    rate: int
    buffer: int
    dense: float
    short: float
    hot: float


class Paced(msgspec.Struct, frozen=True):
    """The mean cost of a block of `buffer` samples (seconds): called in a `row`, as for the cells, and called once a
    deadline while the core computes something else in between, as in a session (`paced`). Where others shared the core
    all the while, known arithmetic took `shared` times as long meanwhile."""

    rate: int
    buffer: int
    row: float
    paced: float
    shared: float = 1.0

    @property
    def added(self) -> float:
        """The share of its cost that coming back once a deadline adds; never negative."""
        return max(self.paced / self.row - 1, 0.0) if self.row > 0 else 0.0

    def is_better(self, before: Paced) -> bool:
        """Whether it tells more of the plugin than a figure of the same place: others only ever add to a block."""
        return (self.shared, self.row) < (before.shared, before.row)


class Effect(msgspec.Struct, frozen=True):
    """What one changed setting does to the cost: `parameter` at `value`, `seconds` a block; why not, if it failed."""

    parameter: str
    value: float
    seconds: float
    words: str = ""
    failure: str | None = None


class Sweep(msgspec.Struct, frozen=True):
    """Single settings tried out at one rate and buffer size. `base` is the cost as it is; `skipped` were not tried."""

    rate: int
    buffer: int
    base: float
    effects: tuple[Effect, ...] = ()
    skipped: int = 0

    def ranked(self) -> list[Effect]:
        """The settings that were measured, by what they save, most first."""
        return sorted((e for e in self.effects if e.failure is None), key=lambda e: (e.seconds, e.parameter, e.value))


class Position(msgspec.Struct, frozen=True):
    """Where one parameter stood while the card was measured, in the parameter's own unit."""

    name: str
    value: float


class Made(msgspec.Struct, frozen=True):
    """How a card was made: by which `method` (see METHOD), from which file (`path`, its `size` in bytes and when it was
    `modified`, in ns; empty and 0 for a plugin without one), in which `version` of the plugin.

    `real_time` says that its blocks had a core for themselves; `held` names the protections that were active. It stood
    there in so many `instances`: one for each channel of its strip where it has only one itself. It `hears` so many of
    those (0: none, or not known).
    """

    method: int = METHOD
    path: str = ""
    size: int = 0
    modified: int = 0
    version: str = ""
    real_time: bool = False
    held: tuple[str, ...] = ()
    instances: int = 1
    hears: int = 0


class CostCard(msgspec.Struct, frozen=True):
    """All cells measured for one key. `tail` is the time to −90 dBFS in seconds, None where it was not found:
    `listened` then says how long it was listened for (seconds), None if it was not tried.

    `truth`, `silence`, `upkeep`, `sweep` and `inputs` are None where they were not tried; `company`, `paced` and
    `slowing` have an entry for each size at which they were, and so has `polyphony`, of instruments. `positions` are
    those of all parameters. `nulls` compare its sound with other settings of the same plugin. `failure` says in plain
    words why there is nothing, or why the rest is missing; None if all went well. `made` is how it was made, None where
    that was not kept. Before it has sounded for `filled` seconds a block costs less than its cells say.
    """

    key: CardKey
    name: str = ""
    cells: tuple[Cell, ...] = ()
    latency: int = 0
    tail: float | None = None
    failure: str | None = None
    truth: Truth | None = None
    company: tuple[Company, ...] = ()
    silence: Silence | None = None
    upkeep: Upkeep | None = None
    sweep: Sweep | None = None
    positions: tuple[Position, ...] = ()
    polyphony: tuple[Polyphony, ...] = ()
    listened: float | None = None
    nulls: tuple[Null, ...] = ()
    made: Made | None = None
    inputs: Inputs | None = None
    paced: tuple[Paced, ...] = ()
    slowing: tuple[Slowing, ...] = ()
    filled: float = 0.0

    @property
    def lasting(self) -> float:
        """How long it sounds on (seconds): infinite if it still did at the end of the trial, 0 if it was not tried."""
        if self.tail is not None:
            return self.tail
        return math.inf if self.listened is not None else 0.0

    def latencies(self, rate: int) -> dict[int, int]:
        """What it reported at a rate (samples), by the buffer sizes at which that is known."""
        return {c.buffer: c.latency for c in self.cells if c.rate == rate and c.latency is not None}

    def latency_at(self, rate: int, buffer: int) -> int:
        """What it reports at a rate and buffer size (samples): between sizes at which that is known on the line, beyond
        them as at the nearest; where it is known at none, what it reported when it was last measured."""
        known = sorted(self.latencies(rate).items())
        if not known:
            return self.latency
        return round(float(np.interp(buffer, [size for size, _ in known], [samples for _, samples in known])))

    def against(self, other: CardKey) -> float | None:
        """What a null test against another setting of the same plugin left (dB); None if it was not made."""
        same = (null.db for null in self.nulls if (null.setting, null.voices) == (other.setting, other.voices))
        return next(same, None)

    def with_notes(self, rate: int, buffer: int, voices: Sequence[int]) -> NDArray[np.float64]:
        """The shares of its full cost that so many notes each take; 1.0 where that was not measured.

        Between the measured sizes it is read on the line over the logarithm of the size, beyond them at the nearest.
        """
        curves = sorted((c for c in self.polyphony if c.rate == rate), key=lambda c: c.buffer)
        curves = curves or sorted(self.polyphony, key=lambda c: c.buffer)
        if not curves:
            return np.ones(len(voices))
        low, high, part = around(curves, buffer)
        return (1 - part) * low.shares(voices) + part * high.shares(voices)

    def in_company(self, rate: int, buffer: int, touched: float) -> float:
        """The share that a block costs more when others touch so many bytes in between; 0.0 where it was not measured.

        Between the measured sizes it is read on the line over the logarithm of the size, beyond them at the nearest.
        """
        curves = sorted((c for c in self.company if c.rate == rate), key=lambda c: c.buffer)
        if not curves:
            return 0.0
        low, high, part = around(curves, buffer)
        return (1 - part) * low.extra(touched) + part * high.extra(touched)

    def cell(self, rate: int, buffer: int, condition: Condition) -> Cell | None:
        """The cell measured at exactly this rate, buffer size and condition, if there is one."""
        for cell in self.cells:
            if cell.rate == rate and cell.buffer == buffer and cell.condition == condition:
                return cell
        return None

    def cost(self, rate: int, buffer: int, condition: Condition) -> Figure:
        """What one block costs: as measured, else scaled from the nearest sizes, else from another rate.

        A silent cost that was not measured is taken to be the sounding one, and counts as scaled. Without any cell
        the figure is 0 s, provenance "unknown".
        """
        exact = self.cell(rate, buffer, condition)
        if exact is not None:
            return Figure(exact.mean, exact.provenance)
        at_rate = [c for c in self.cells if c.rate == rate and c.condition == condition]
        if not at_rate:
            others = {c.rate for c in self.cells if c.condition == condition}
            if others:
                nearest = min(others, key=lambda r: (abs(r - rate), r))
                return _scaled(self.cost(nearest, buffer, condition))
            if condition == "silent" and self.cells:
                return _scaled(self.cost(rate, buffer, "sounding"))
            return Figure(0.0, "unknown")
        return Figure(_between(at_rate, buffer), "scaled")

    def fit(self, rate: int, condition: Condition) -> Fit | None:
        """Fixed and per-sample part over the measured sizes; None with fewer than two of them."""
        cells = [c for c in self.cells if c.rate == rate and c.condition == condition]
        return fit_line(cells) if len(cells) > 1 else None


class _Sized(Protocol):
    """What was measured at one buffer size."""

    @property
    def buffer(self) -> int: ...


Curve = TypeVar("Curve", bound=_Sized)


def around(curves: Sequence[Curve], buffer: int) -> tuple[Curve, Curve, float]:
    """The two curves whose sizes lie around a size, in order, and how far it is from the first to the second (0 to 1).

    On the logarithm of the size; beyond the outermost ones, these. `curves` are sorted by size, and not empty.
    """
    above = min(bisect_left([c.buffer for c in curves], buffer), len(curves) - 1)
    low, high = curves[max(above - 1, 0)], curves[above]
    if buffer >= high.buffer or low is high:
        return high, high, 1.0
    return low, high, max(math.log2(buffer / low.buffer) / math.log2(high.buffer / low.buffer), 0.0)


def _scaled(figure: Figure) -> Figure:
    return figure if figure.provenance == "unknown" else Figure(figure.seconds, "scaled")


def _between(cells: list[Cell], buffer: int) -> float:
    """Cost at a size that was not measured: on the line between its neighbours, beyond them on the fitted line."""
    cells = sorted(cells, key=lambda c: c.buffer)
    if len(cells) == 1:
        return cells[0].mean * buffer / cells[0].buffer
    if cells[0].buffer <= buffer <= cells[-1].buffer:
        return float(np.interp(buffer, [c.buffer for c in cells], [c.mean for c in cells]))
    line = fit_line(cells)
    return line.fixed + line.per_sample * buffer


def fit_line(cells: Iterable[Cell]) -> Fit:
    """Non-negative least squares of cost against buffer size, each size weighing the same in relative terms.

    Method: C. L. Lawson and R. J. Hanson, "Solving Least Squares Problems", 1974, for two unknowns in closed form:
    where the free solution has one below zero, that one is zero and the other one as if alone.
    """
    cells = list(cells)
    size = np.array([c.buffer for c in cells], float)
    cost = np.maximum(np.array([c.mean for c in cells], float), 1e-12)
    a, b = 1 / cost, size / cost
    aa, ab, bb, sum_a, sum_b = float(a @ a), float(a @ b), float(b @ b), float(a.sum()), float(b.sum())
    among = aa * bb - ab * ab
    fixed = (sum_a * bb - sum_b * ab) / among if among > 1e-12 * aa * bb else 0.0
    per_sample = (sum_b - fixed * ab) / bb
    if fixed < 0 or per_sample < 0:
        fixed, per_sample = (0.0, sum_b / bb) if fixed < 0 else (sum_a / aa, 0.0)
    worst = float(np.max(np.abs(fixed + per_sample * size - cost) / cost))
    return Fit(fixed, per_sample, worst)


Cards = Mapping[CardKey, CostCard]
