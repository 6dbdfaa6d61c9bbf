"""A session on one computer at one buffer size: what everything else is asked of.

Costs are seconds per block; loads are fractions of the deadline (1.0 = the block just fits).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from ..block.play import Played, play
from ..cards.card import Provenance
from ..piece.moments import SILENT, Moments
from ..session.computer import Host, Machine, deadline, threads
from ..session.plugins import PluginUse
from ..session.session import Session
from .costs import (
    Among,
    Costs,
    States,
    as_on_alike,
    calls_of,
    costs,
    doubt,
    host_time,
    in_states,
    provenance,
    use_seconds,
)
from .prepared import Prepared


@dataclass(frozen=True, eq=False)
class Case:
    """A prepared session of S strips on a machine, with what everything costs at one buffer size (samples)."""

    prepared: Prepared
    machine: Machine
    costs: Costs

    @property
    def session(self) -> Session:
        return self.prepared.session

    @property
    def host(self) -> Host:
        return self.prepared.session.host

    @property
    def buffer(self) -> int:
        return self.costs.buffer

    @cached_property
    def threads(self) -> int:
        """How many threads share a block."""
        return threads(self.host, self.machine)

    @cached_property
    def deadline(self) -> float:
        """The duration of a block in seconds."""
        return deadline(self.buffer, self.session.rate)

    @cached_property
    def moments(self) -> Moments:
        """The moments of the piece as they are played: what is shorter than a block has none of its own."""
        return self.prepared.moments.lasting(self.deadline)

    def rows(self, states: States) -> NDArray[np.float64]:
        """What strips cost (…, S, seconds) where they are in these states, or sound or not (…, S)."""
        return in_states(self.costs.by_state, states)

    def beside(self, states: States) -> NDArray[np.float64]:
        """What strips cost more while all other cores compute (…, S, seconds)."""
        return in_states(self.costs.beside, states)

    def aside(self, states: States) -> NDArray[np.float64]:
        """What plugins' own threads and processes compute in a block, all together (…, seconds)."""
        if not self.costs.aside.any():
            return np.zeros(states.shape[:-1])
        return np.asarray(in_states(self.costs.aside, states).sum(axis=-1), np.float64)

    def played(self, states: States) -> Played:
        """Plays blocks in which the strips are in these states (M, S)."""
        return self.played_rows(self.rows(states), self.beside(states), self.aside(states))

    def played_rows(
        self, rows: NDArray[np.float64], beside: NDArray[np.float64], aside: NDArray[np.float64] | None = None
    ) -> Played:
        """Plays blocks in which the strips cost this much, and this much more beside others (M, S each, seconds), while
        plugins' own threads compute `aside` (M, seconds; None: nothing)."""
        return play(self.prepared.tasks, self.host, self.prepared.live, rows, beside, self.threads, aside)

    def provenance(self, states: NDArray[np.int16]) -> dict[Provenance, float]:
        """Which share of the plugins' cost in a moment (states: S) rests on which kind of figure."""
        return provenance(self.prepared, self.costs, self.use_seconds, states)

    def doubt(self, states: NDArray[np.int16]) -> float:
        """Which share of the plugins' cost in a moment (states: S) may be the work of others."""
        return doubt(self.prepared, self.buffer, self.use_seconds, states)

    def as_on_alike(self, states: NDArray[np.int16]) -> float:
        """Which share of the plugins' cost in a moment (states: S) counts as if all cores were alike, and they are
        not."""
        return as_on_alike(self.prepared, self.machine, self.use_seconds, states)

    @cached_property
    def use_seconds(self) -> NDArray[np.float64]:
        """What each use costs in each state (N, U, seconds), whether it is live or not."""
        return use_seconds(self.prepared, self.costs)

    def overheads(self, strips: NDArray[np.int64]) -> NDArray[np.float64]:
        """What the host itself takes for each of these strips, and for each plugin on it (2, n; seconds a block)."""
        calls, whole = self.costs.calls[strips], self.prepared.uses.whole[strips]
        found = [host_time(self.host, self.machine, calls, *of) for of in ((whole, 0), (0, 1))]
        return np.array(found) * (1 + self.costs.interrupted)

    def strip_cost(
        self, uses: Sequence[PluginUse], is_live: bool, suspended: bool = False, is_on: bool = True
    ) -> NDArray[np.float64]:
        """What a strip with these live plugins would cost, and cost more beside others (2, N, seconds), in this case.

        `is_live` says whether it is computed in the live thread.
        """
        figures, of = self.prepared.figures, self.costs
        per_key = of.each if is_live else of.ahead
        card = [figures.index[use.card_key()] for use in uses]
        found = np.array([per_key.seconds[:, card].sum(axis=1), per_key.beside[:, card].sum(axis=1)])
        if suspended:
            found[:, SILENT] = 0.0
        calls = calls_of(self.prepared, of.buffer)[0 if is_live else 1]
        found[0] += host_time(self.host, self.machine, calls, is_on, len(card))
        return found * (1 + of.interrupted)


def case(prepared: Prepared, machine: Machine, buffer: int, among: Among | None = None) -> Case:
    """The case of a session at a buffer size. `among` is taken for what plugins do to each other."""
    return Case(prepared, machine, costs(prepared, machine, buffer, among))
