"""What every plugin and strip costs in one block, in each state. Seconds per block, on the computer that is to play."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..cards.card import PROVENANCES, Provenance
from ..cards.upkeep import Upkeep
from ..piece.moments import FEWER, FULL, SILENT
from ..session.computer import Host, Machine, threads
from ..session.plugins import PluginUse
from .figures import NUMBERS, Figures
from .prepared import Prepared

# Rows of what strips do: their states (int16, see `Moments`), or only whether they sound (bool).
States = NDArray[np.int16] | NDArray[np.bool_]


class PerKey(NamedTuple):
    """What one use of each of K keys costs in a block (N, K, seconds) in each of the N states (see `Moments`).

    In the company of all others, without what the machine adds by interrupting. `source` (N, K) are provenances by
    number; `beside` (N, K) is what it costs more while all other cores compute, `aside` (N, K) what its own threads and
    processes compute meanwhile, on whichever core is free. `cold` (N, K) is the part of `seconds` that goes to what
    this computer does to the caches between two blocks, beyond what the session's own plugins do, `slowed` (N, K) the
    part that goes to the lower clock beside plugins that lower it, `uneven` (N, K) the part that goes to slow cores.
    """

    seconds: NDArray[np.float64]
    source: NDArray[np.int64]
    beside: NDArray[np.float64]
    aside: NDArray[np.float64]
    cold: NDArray[np.float64]
    slowed: NDArray[np.float64]
    uneven: NDArray[np.float64]


class Among(NamedTuple):
    """What plugins do to each other on a core: the bytes of its caches that are `touched` in a block, and which share
    of what the live ones do to its clock counts (`lowers`)."""

    touched: float
    lowers: float = 1.0


class Costs(NamedTuple):
    """What each of S strips costs in one block of `buffer` samples, in seconds.

    `by_state` (N, S) is what it costs in each of the N states (see `Moments`): row 0 silent, row 1 sounding, then with
    fewer notes. In it are the host's own `overhead` (S) and what the machine adds by interrupting: the share
    `interrupted` of all the rest. `missing` are the uses that have no figure at all and count as nothing. `beside`
    (N, S) is what each strip costs more while all other cores compute. `each` and `ahead` are what one use of each of
    the session's keys costs: on a live strip, and on one that the host computes ahead (elsewhere the same). `calls` (S)
    is how often a strip's plugins are called for one block of the device. `aside` (N, S) is what the plugins' own
    threads and processes compute beside each strip, `cold` (N, S) the part of `by_state` that goes to what this
    computer does to the caches between two blocks, `slowed` (N, S) the part that goes to a lower clock.
    """

    buffer: int
    by_state: NDArray[np.float64]
    overhead: NDArray[np.float64]
    interrupted: float
    missing: tuple[PluginUse, ...]
    beside: NDArray[np.float64]
    each: PerKey
    ahead: PerKey
    calls: NDArray[np.float64]
    aside: NDArray[np.float64]
    cold: NDArray[np.float64]
    slowed: NDArray[np.float64]
    uneven: NDArray[np.float64]


def costs(prepared: Prepared, machine: Machine, buffer: int, among: Among | None = None) -> Costs:
    """What each strip costs at this buffer size on this computer, among all the others that share its caches.

    With a host that reads ahead, what is not live costs what it does in the longer block, shared out. What is computed
    in parts costs what as many blocks of a part's length do. `among` is taken for what plugins do to each other.
    """
    uses, host = prepared.uses, prepared.session.host
    on_live, ahead_calls = calls_of(prepared, buffer)
    among = Among(touched(prepared, machine)) if among is None else among
    each = _called(prepared, machine, buffer, on_live, among)
    ahead = each if ahead_calls == on_live else _called(prepared, machine, buffer, ahead_calls, among)
    calls = np.where(prepared.live, on_live, ahead_calls)
    count = len(prepared.session.strips)
    card, strip = uses.card[uses.live], uses.strip[uses.live]
    is_live = prepared.live[strip]
    own, beside, aside, cold, slowed, uneven = (np.zeros((len(each.seconds), count)) for _ in range(6))
    kinds = (
        (own, each.seconds, ahead.seconds), (beside, each.beside, ahead.beside), (aside, each.aside, ahead.aside),
        (cold, each.cold, ahead.cold), (slowed, each.slowed, ahead.slowed), (uneven, each.uneven, ahead.uneven),
    )  # fmt: skip
    for row in range(len(own)):
        for found, one, other in kinds:
            spent = one[row][card] if ahead is each else np.where(is_live, one[row][card], other[row][card])
            found[row] = np.bincount(strip, spent, minlength=count)
    asleep = np.array([each.suspended for each in prepared.session.strips], np.bool_)
    for found, _, _ in kinds:
        found[SILENT][asleep] = 0.0
    overhead = host_time(host, machine, calls, uses.whole, uses.live_in)
    interrupted = interrupted_share(prepared, buffer)
    total = (own + overhead) * (1 + interrupted)
    return Costs(
        buffer, total, overhead, interrupted, _missing(prepared, each), beside * (1 + interrupted), each, ahead, calls,
        aside * (1 + interrupted), cold * (1 + interrupted), slowed * (1 + interrupted), uneven * (1 + interrupted),
    )  # fmt: skip


def host_time(
    host: Host, machine: Machine, calls: NDArray[np.float64] | float, strips: NDArray[np.bool_] | bool | int,
    plugins: NDArray[np.int64] | int,
) -> NDArray[np.float64]:  # fmt: skip
    """What a host itself takes for so many strips with so many plugins (n each, or one for all), which it calls so
    often for a block (seconds)."""
    return np.asarray(calls * (host.strip_overhead * strips + host.plugin_overhead * plugins) / machine.speed)


def _missing(prepared: Prepared, each: PerKey) -> tuple[PluginUse, ...]:
    uses = prepared.uses
    unknown = (each.source[: FULL + 1] == NUMBERS["unknown"]).any(axis=0)
    without = np.flatnonzero(unknown[uses.card] & uses.live) if unknown.any() else ()
    return tuple(uses.uses[k] for k in without)


def calls_of(prepared: Prepared, buffer: int) -> tuple[float, float]:
    """How often plugins are called for a block of the device: on live strips, and on those computed ahead."""
    host = prepared.session.host
    if not (host.read_ahead and prepared.live.any()):
        return float(host.parts), float(host.parts)
    return 1.0, host.parts * buffer / max(host.read_ahead, buffer)


def _called(prepared: Prepared, machine: Machine, buffer: int, calls: float, among: Among) -> PerKey:
    """What uses cost for a block of the device if they are called so often for it."""
    figures, notes, host = prepared.figures, prepared.moments.notes, prepared.session.host
    size = max(round(buffer / calls), 1)
    sized = figures.at(size)
    full = np.repeat(sized.seconds[FULL:], len(notes), axis=0) * figures.with_notes(size, notes)
    if notes and notes[0] == 0:
        # With no note an instrument costs as if silent, if that is less.
        quiet = np.minimum(sized.seconds[SILENT], sized.seconds[FULL])
        full[0] = np.where(figures.has_notes, quiet, full[0])
    # What the others use and what this computer takes from the caches is the same memory: the dearer of both counts. Of
    # another computer only the first is known.
    company = figures.company(size, among.touched)
    paced = np.zeros_like(company) if machine.is_another else figures.paced(size)
    dearer = np.maximum(company, paced)
    seconds = np.vstack((sized.seconds, full)) * (host.plugin_factor * calls / machine.speed)
    slower = np.ones_like(company) if machine.is_another else at_lower_clock(prepared, size, among.lowers)
    cold = seconds * (dearer - company)
    slowed = seconds * (1 + dearer) * (slower - 1)
    seconds = seconds * (1 + dearer) * slower
    uneven = seconds * ((figures.slower - 1) * machine.on_slow)
    seconds = seconds + uneven
    source = np.vstack((sized.source, np.repeat(sized.source[FULL:], len(notes), axis=0)))
    if machine.is_another:
        source = np.where(source == NUMBERS["measured"], NUMBERS["scaled"], source)
    if host.suspends:
        seconds[SILENT] = cold[SILENT] = slowed[SILENT] = uneven[SILENT] = 0.0
    aside = np.vstack((sized.aside, np.repeat(sized.aside[FULL:], len(notes), axis=0)))
    # What other cores take was measured in a row: what coming back costs anyway they cannot take again.
    beside = beside_share(figures, machine, threads(host, machine), paced)
    return PerKey(seconds, source, seconds * beside, seconds * aside, cold, slowed, uneven)


def beside_share(
    of: Figures | Upkeep, machine: Machine, count: int, paced: NDArray[np.float64] | float = 0.0
) -> NDArray[np.float64]:
    """Which share of its own time a block of each key (K), or of one plugin, takes more while so many threads compute,
    beyond what coming back costs anyway (`paced`, K).

    Beside other real cores as many count as the threads lie on, of those beside which it was measured; beside more of
    them it is not known to take more. Beside the other thread of its core: with what chance one computes there.
    """
    there = (machine.real_for(count) - 1) / np.maximum(of.others, 1)
    part = np.where(np.greater(of.others, 0), np.minimum(there, 1.0), 1.0)
    others = np.maximum(of.beside / (1 + paced) - 1, 0.0) * part
    return np.asarray(others + (of.paired - 1) * machine.in_pairs(count), np.float64)


def use_seconds(prepared: Prepared, of: Costs) -> NDArray[np.float64]:
    """What each use costs in each state (N, U, seconds), with its part of what the machine adds.

    A use that is off or frozen is given what it would cost if it were live; one on a suspended strip nothing in
    silence.
    """
    uses = prepared.uses
    found = of.each.seconds[:, uses.card]
    if of.ahead is not of.each:
        found = np.where(prepared.live[uses.strip], found, of.ahead.seconds[:, uses.card])
    found = found * (1 + of.interrupted)
    asleep = np.array([strip.suspended for strip in prepared.session.strips], np.bool_)
    found[SILENT] = np.where(asleep[uses.strip], 0.0, found[SILENT])
    return found


def at_lower_clock(prepared: Prepared, size: int, lowers: float = 1.0) -> NDArray[np.float64]:
    """How many times as long a block of each key (K) takes beside plugins that lower the clock of its core, of whose
    doing a share counts.

    With H the seconds at a lower clock that the live plugins bring in a block, one after the other, and W the work of
    all, as if they came at random: a share 1 − exp(−H/W) of the work falls into them. W is that of the session without
    a plan, so that no decision makes what stays live dearer. Who lowers the clock by himself was measured so.
    """
    uses, figures, every = prepared.uses, prepared.figures, prepared.counts
    by, seconds, row = figures.slowing(size)
    if not seconds.any():
        return np.ones(len(by))
    live = np.bincount(uses.card[uses.live], minlength=len(by))
    brought, work = every * seconds, float(every @ figures.at(size).seconds[FULL])
    if brought.sum() <= 0 or work <= 0:
        return np.ones(len(by))
    share = 1 - np.exp(-lowers * float(live @ seconds) / work)
    return np.asarray(np.maximum((1 + share * (float(brought @ by) / brought.sum() - 1)) / row, 1.0))


def touched(prepared: Prepared, machine: Machine) -> float:
    """Bytes of cache that all plugins together use in a block, for each real core on which the work is shared."""
    uses = prepared.uses
    footprint = prepared.figures.footprint[uses.card[uses.live]]
    return float(footprint.sum()) / shared_by(prepared.session.host, machine)


def shared_by(host: Host, machine: Machine) -> float:
    """On how many real cores, each with its own caches, the work is shared."""
    return machine.real_for(threads(host, machine))


def interrupted_share(prepared: Prepared, buffer: int) -> float:
    """What the machine adds to a block by interrupting, as a share of the plugins' own time: as measured with them.

    It is the machine's, so it goes by all plugins that were measured, whatever of them a plan leaves live.
    """
    sized = prepared.figures.at(buffer)
    own = float(sized.seconds[FULL].sum())
    return float(sized.jitter[FULL].sum()) / own if own > 0 else 0.0


def in_states(of: NDArray[np.float64], states: States) -> NDArray[np.float64]:
    """Of figures for each state (N, S), those of the states that strips are in (…, S)."""
    if states.dtype == np.bool_ or len(of) == FEWER:
        rows: NDArray[np.float64] = np.where(states, of[FULL], of[SILENT])
        return rows
    # As places in one row: that is looked up in half of the time.
    places = states * np.intp(of.shape[1]) + np.arange(of.shape[1])
    return np.asarray(of.ravel()[places], np.float64)


def provenance(
    prepared: Prepared, of: Costs, every: NDArray[np.float64], states: NDArray[np.int16]
) -> dict[Provenance, float]:
    """Which share of the plugins' cost in a moment (states: S) rests on which kind of figure; empty if all is 0.
    `every` is what `use_seconds` tells, here and below."""
    seconds, rows, card = _live_seconds(prepared, every, states)
    by_source = np.bincount(of.each.source[rows, card], seconds, minlength=len(PROVENANCES))
    total = float(by_source.sum())
    if total <= 0:
        return {}
    return {name: float(part / total) for name, part in zip(PROVENANCES, by_source, strict=True) if part > 0}


def doubt(prepared: Prepared, buffer: int, every: NDArray[np.float64], states: NDArray[np.int16]) -> float:
    """Which share of the plugins' cost in a moment (states: S) may be the work of others, who shared the core when it
    was measured: so much too high it is at most."""
    seconds, rows, card = _live_seconds(prepared, every, states)
    doubted = prepared.figures.at(buffer).doubt[np.minimum(rows, FULL), card]
    return float(seconds @ doubted) / max(float(seconds.sum()), 1e-12)


def as_on_alike(
    prepared: Prepared, machine: Machine, every: NDArray[np.float64], states: NDArray[np.int16]
) -> float:  # fmt: skip
    """Which share of the plugins' cost in a moment (states: S) counts as if all cores were alike, though they are not:
    of those it was not measured what the others do."""
    if not (machine.second or machine.slow):
        return 0.0
    seconds, _, card = _live_seconds(prepared, every, states)
    return float(seconds @ ~prepared.figures.knows_cores[card]) / max(float(seconds.sum()), 1e-12)


def _live_seconds(
    prepared: Prepared, every: NDArray[np.float64], states: NDArray[np.int16]
) -> tuple[NDArray[np.float64], NDArray[np.int64], NDArray[np.int64]]:
    """What each live use costs in a moment (states: S), the state it is in, and its card."""
    uses = prepared.uses
    rows = states[uses.strip[uses.live]].astype(np.int64)
    return every[rows, np.flatnonzero(uses.live)], rows, uses.card[uses.live]
