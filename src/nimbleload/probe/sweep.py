"""Which settings of a plugin move its cost: single ones tried out, one at a time, each in a fresh instance.

Switches, named choices and counts first, then numbers at their ends and middle; within a time that is given. A value
that makes the plugin crash or hang is a result like any other, and the rest is tried in another process.
"""

from __future__ import annotations

import math
import time
from collections.abc import Callable, Iterator, Sequence
from typing import NamedTuple

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..core.cards.card import Effect, Sweep
from ..core.cards.comparison import VOICES_NAME
from ..core.session.plugins import PluginUse, Setting
from .company import least_mean
from .filling import LONGEST, find_filling
from .formats.hosted import Hosted, Parameter, PluginError
from .pace import Pace
from .signal import again, blocks_in_cycle, chord, musical
from .timed import TimedLoop, overhead_ns

ORDER = ("switch", "choice", "count", "number")
MOST_CHOICES = 8
VOICES = (1, 2, 4, 8, 16, 32, 64)
LEAD_SECONDS = 0.2
# So many seconds are taken with each value to see whether the plugin gets dearer as it sounds on.
FILLING = 0.2


class Trial(NamedTuple):
    """One value to try of one parameter; `words` names it for the reader."""

    key: str
    value: float
    words: str


def trials(parameters: Sequence[Parameter], voices: int = 0) -> list[Trial]:
    """What to try: every other value of a switch, up to eight of a choice or count, the ends and middle of a number.

    For an instrument (`voices` > 0) also other numbers of notes.
    """
    found = [Trial(VOICES_NAME, v, f"{v} voices") for v in VOICES if voices and v != voices]
    for each in sorted(parameters, key=lambda p: ORDER.index(p.kind)):
        values = sorted({v for v in _values(each) if not math.isclose(v, each.value, rel_tol=1e-6, abs_tol=1e-9)})
        found += [Trial(each.key, v, f"{each.name} {v:g}") for v in values]
    return found


def _values(of: Parameter) -> Sequence[float]:
    if of.choices or of.kind != "number":
        every = of.choices or tuple(np.arange(of.least, of.most + 1).tolist()[:4096])
        if len(every) <= MOST_CHOICES:
            return every
        return [every[round(k)] for k in np.linspace(0, len(every) - 1, MOST_CHOICES)]
    return (of.least, (of.least + of.most) / 2, of.most)


def changed(use: PluginUse, trial: Trial) -> PluginUse:
    """The use with this one value in place of its own."""
    if trial.key == VOICES_NAME:
        return msgspec.structs.replace(use, voices=int(trial.value))
    others = tuple((name, value) for name, value in use.setting.values if name != trial.key)
    setting = Setting((*others, (trial.key, trial.value)), use.setting.state)
    return msgspec.structs.replace(use, setting=setting)


class Meter:
    """Measures the mean cost of a hosted plugin at one rate and buffer size, quickly."""

    def __init__(self, rate: int, frames: int, filling: float = 0.0) -> None:
        """So many seconds (`filling`) are taken to see whether a plugin gets dearer as it sounds on."""
        self._rate, self._frames, self._filling = rate, frames, filling
        self._overhead, self._pace = overhead_ns(), Pace()

    def cost(self, hosted: Hosted, voices: int) -> float:
        """Seconds per block: the least of three runs, block by block, over whole cycles of 8192 samples."""
        loop = TimedLoop(hosted, musical(len(hosted.inputs), self._rate, 1.0))
        notes = chord(voices) if voices else ()
        cycle = blocks_in_cycle(self._frames, notes)
        blocks = math.ceil(24 / cycle) * cycle
        lead = math.ceil(LEAD_SECONDS * self._rate / self._frames / cycle) * cycle

        if self._filling:
            find_filling(loop, notes, self._rate, self._frames, LONGEST, self._filling)
        if loop.filling:
            loop.fill(self._frames, notes)

        def run() -> NDArray[np.int64]:
            if loop.filling:
                loop.rewind()
                return loop.run(self._frames, blocks, again(notes))
            loop.refresh(self._frames)
            return loop.run(self._frames, lead + blocks, notes)[lead:]

        return least_mean(self._pace, run, self._overhead) / 1e9


def sweep(
    use: PluginUse,
    rate: int,
    frames: int,
    load: Callable[[PluginUse], Hosted],
    seconds: float,
    tried: Sequence[Effect] = (),
) -> Iterator[Sweep]:
    """Tries one value after the other until all are tried or the time is over; yields all that is known each time.

    What stands in `tried` is not tried again. PluginError if the use itself cannot be loaded.
    """
    until = time.monotonic() + seconds
    meter = Meter(rate, frames, FILLING)
    hosted = load(use)
    todo = trials(hosted.parameters(), use.voices)
    known = {(e.parameter, e.value) for e in tried}
    effects = list(tried)
    base = meter.cost(hosted, use.voices)
    hosted.close()
    left = [t for t in todo if (t.key, t.value) not in known]
    yield Sweep(rate, frames, base, tuple(effects), len(left))
    for number, trial in enumerate(left, 1):
        if time.monotonic() > until:
            return
        # Named before it is tried: if it ends this process, it is known which one it was.
        pending = Effect(trial.key, trial.value, 0.0, trial.words, "ended the plugin")
        yield Sweep(rate, frames, base, (*effects, pending), len(left) - number)
        effects.append(_tried(trial, use, load, meter))
        yield Sweep(rate, frames, base, tuple(effects), len(left) - number)


def _tried(trial: Trial, use: PluginUse, load: Callable[[PluginUse], Hosted], meter: Meter) -> Effect:
    other = changed(use, trial)
    try:
        hosted = load(other)
        seconds = meter.cost(hosted, other.voices)
    except PluginError as error:
        return Effect(trial.key, trial.value, 0.0, trial.words, str(error))
    hosted.close()
    return Effect(trial.key, trial.value, seconds, trial.words)
