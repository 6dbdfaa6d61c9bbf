"""The host, as recordings of it tell: its own time, how dear plugins are in it, its threads, what it computes ahead.

Everything stands in the records, so one recording is enough; of a second one at another buffer size it shows whether
both say the same.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..session.computer import BUFFER_SIZES
from ..session.plugins import PluginUse
from ..watching.blocks import Seen, ahead_by
from ..watching.core_clocks import clock
from ..watching.rhythm import beat
from ..watching.shares import computing, shares
from .case import Case
from .seen import against, played, threads_of

# A recording, the session's case at its buffer size, and the states of the strips (S) at the moment that it plays.
Played = tuple[Seen, Case, NDArray[np.int16]]
# A cycle is one of a buffer size if it agrees with it so far.
AGREES = 0.005


class HostSeen(NamedTuple):
    """What recordings at `buffers` (samples) tell of a host.

    `own` is what it takes of each block beside the plugins, by recording (seconds), `strip_overhead` the mean of that
    for each strip. `factor` is how many times dearer plugins are in it than predicted, give or take `factor_error`
    (95 %), from `plugins` plugins that both have; 1 without any. `threads` computed at the same time; `cores_left_free`
    is what they leave. `read_ahead` is the block in samples in which it computes ahead, 0 if it does not. Its cores ran
    at a `clock` (Hz, 0: not told), of `most` that they may have, in the recording in which that was least of it.
    """

    buffers: tuple[int, ...]
    own: tuple[float, ...]
    strip_overhead: float
    factor: float
    factor_error: float
    plugins: int
    threads: int
    cores_left_free: int
    read_ahead: int
    clock: float = 0.0
    most: float = 0.0


def buffer_of(seen: Seen, rate: int) -> int:
    """The buffer size (samples) of a recording at a rate (Hz). ValueError if no usual size has its cycle."""
    if seen.blocks is None:
        raise ValueError("no cycle was found in the recording, so it is not known what a block costs")
    samples = seen.blocks.period * rate
    nearest = min(BUFFER_SIZES, key=lambda size: abs(size / samples - 1))
    if abs(nearest / samples - 1) > AGREES:
        raise ValueError(f"the recording's blocks are {samples:.1f} samples at {rate} Hz long: another session's")
    return nearest


def host_of(recordings: Sequence[Played], strips: int, cores: int, plugins: Mapping[str, PluginUse]) -> HostSeen:
    """What recordings tell: each with the session's case at its buffer size, where the host takes nothing and plugins
    cost what was measured, and the moment that it plays (states: S). ValueError without a recording."""
    if not recordings:
        raise ValueError("no recording was given")
    own, predicted, met, spread, common = [], 0.0, 0.0, 0.0, set()
    for seen, case, states in recordings:
        block, factor = case.deadline, played(seen)
        of_plugins = sum(share.core for share in shares(seen) if share.owner > 0)
        own.append(max(computing(seen) - of_plugins, 0.0) * factor * block)
        for each in against(case, states, seen, plugins):
            predicted += each.predicted
            met += each.seen
            spread += ((each.high - each.low) / 2) ** 2
            common.add(each.name)
    threads = max(threads_of(seen) for seen, _, _ in recordings)
    told = [ran for seen, _, _ in recordings if (ran := clock(seen)) is not None and ran.most > 0]
    slowest = min(((ran.now, ran.most) for ran in told), key=lambda ran: ran[0] / ran[1], default=(0.0, 0.0))
    return HostSeen(
        tuple(case.buffer for _, case, _ in recordings), tuple(own), sum(own) / len(own) / max(strips, 1),
        met / predicted if predicted else 1.0, math.sqrt(spread) / predicted if predicted else 0.0, len(common),
        threads, max(cores - threads, 0), max(_read_ahead(seen, case.buffer) for seen, case, _ in recordings),
        *slowest,
    )  # fmt: skip


def _read_ahead(seen: Seen, buffer: int) -> int:
    """The block (samples) in which most of what is computed ahead is; 0 if nothing is."""
    assert seen.blocks is not None
    period = 1e9 * seen.blocks.period
    busy: dict[int, int] = {}
    for turns, role in zip(seen.turns, seen.roles, strict=True):
        if role == "ahead":
            times = ahead_by(beat(turns.begin), period)
            busy[times] = busy.get(times, 0) + int(turns.busy.sum())
    return buffer * max(busy, key=lambda times: busy[times]) if busy else 0
