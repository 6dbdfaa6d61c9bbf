"""What every plugin and strip costs in one block, in each state, with where the figures come from. Seconds."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..cards.card import PROVENANCES, Cards, Condition, CostCard, Figure, Provenance
from ..piece.moments import FEWER, FULL, SILENT
from ..session.computer import Machine, threads
from ..session.plugins import CardKey, PluginUse
from .prepared import Prepared

# Rows of what strips do: their states (int16, see `Moments`), or only whether they sound (bool).
States = NDArray[np.int16] | NDArray[np.bool_]


class PerKey(NamedTuple):
    """What one use of each of K keys costs in a block (N, K, seconds) in each of the N states (see `Moments`).

    On the computer measured on. `source` (N, K) are provenances by number; `beside` (N, K) what it costs more while
    all other cores compute.
    """

    seconds: NDArray[np.float64]
    source: NDArray[np.int64]
    beside: NDArray[np.float64]


class Costs(NamedTuple):
    """What each of S strips costs in one block of `buffer` samples, in seconds.

    `by_state` (N, S) is what it costs in each of the N states (see `Moments`): row 0 silent, row 1 sounding, then with
    fewer notes. `by_provenance` (N, P, S) splits the same sums by where the figures come from, in the order of
    `card.PROVENANCES`, without the host's own overhead. `missing` are the uses that have no figure at all and count as
    nothing. `beside` (N, S) is what each strip costs more while all other cores compute. `each` and `ahead` are what
    one use of each of the session's keys costs: on a live strip, and on one that the host computes ahead (elsewhere
    the same). `calls` (S) is how often a strip's plugins are called for one block of the device.
    """

    buffer: int
    by_state: NDArray[np.float64]
    by_provenance: NDArray[np.float64]
    missing: tuple[PluginUse, ...]
    beside: NDArray[np.float64]
    each: PerKey
    ahead: PerKey
    calls: NDArray[np.float64]


def costs(prepared: Prepared, machine: Machine, buffer: int) -> Costs:
    """What each strip costs at this buffer size on this computer, among all the others that share its caches.

    With a host that reads ahead, what is not live costs what it does in the longer block, shared out. What is computed
    in parts costs what as many blocks of a part's length do.
    """
    session, uses, host = prepared.session, prepared.uses, prepared.session.host
    each, ahead = keys_at(prepared, machine, buffer, uses.keys)
    calls = np.where(prepared.live, *_calls(prepared, buffer))
    card, strip = uses.card[uses.live], uses.strip[uses.live]
    on_live = prepared.live[strip]
    count, kinds = len(session.strips), len(PROVENANCES)
    states = len(each.seconds)
    split = np.zeros((states, kinds, count))
    beside = np.zeros((states, count))
    for row in range(states):
        spent, source, lost = (np.where(on_live, a[row][card], b[row][card]) for a, b in zip(each, ahead, strict=True))
        split[row] = np.bincount(source * count + strip, spent, minlength=kinds * count).reshape(kinds, count)
        beside[row] = np.bincount(strip, lost, minlength=count)
    unknown = (each.source == PROVENANCES.index("unknown")).any(axis=0)
    without = np.flatnonzero(unknown[uses.card] & uses.live) if unknown.any() else ()
    missing = tuple(uses.uses[k] for k in without)
    asleep = np.array([strip.suspended for strip in session.strips], np.bool_)
    split[SILENT][:, asleep] = 0.0
    beside[SILENT][asleep] = 0.0
    overhead = np.where(uses.on, calls * (host.strip_overhead + host.plugin_overhead * uses.live_in), 0.0)
    total = (split.sum(axis=1) + overhead) / machine.speed
    return Costs(buffer, total, split / machine.speed, missing, beside / machine.speed, each, ahead, calls)


def _calls(prepared: Prepared, buffer: int) -> tuple[float, float]:
    """How often plugins are called for a block of the device: on live strips, and on those computed ahead."""
    host = prepared.session.host
    if not (host.read_ahead and prepared.live.any()):
        return float(host.parts), float(host.parts)
    return 1.0, host.parts * buffer / max(host.read_ahead, buffer)


def keys_at(prepared: Prepared, machine: Machine, buffer: int, keys: Sequence[CardKey]) -> tuple[PerKey, PerKey]:
    """What uses with these keys cost for a block of the device: on live strips, and on those computed ahead."""

    def called(calls: float) -> PerKey:
        each = _per_key(prepared, machine, max(round(buffer / calls), 1), keys)
        return each._replace(seconds=each.seconds * calls, beside=each.beside * calls)

    on_live, ahead = _calls(prepared, buffer)
    found = called(on_live)
    return found, found if ahead == on_live else called(ahead)


def use_seconds(prepared: Prepared, of: Costs) -> NDArray[np.float64]:
    """What each use costs in each state (N, U, seconds), on the computer measured on."""
    uses = prepared.uses
    on_live = of.each.seconds[:, uses.card]
    if of.ahead is of.each:
        return on_live
    return np.where(prepared.live[uses.strip], on_live, of.ahead.seconds[:, uses.card])


def _per_key(prepared: Prepared, machine: Machine, buffer: int, keys: Sequence[CardKey]) -> PerKey:
    """What uses with these keys cost in the company of the session's plugins, whether they are among them or not."""
    cards, rate, memory = prepared.cards, prepared.session.rate, touched(prepared, machine)
    column = {name: i for i, name in enumerate(PROVENANCES)}
    conditions: tuple[Condition, ...] = ("silent", "sounding")
    found = [[figure(cards, key, rate, buffer, condition) for key in keys] for condition in conditions]
    notes = prepared.moments.notes
    shape = (FEWER, len(keys))
    seconds = np.array([[cost.seconds for cost in row] for row in found]).reshape(shape)
    source = np.array([[column[cost.provenance] for cost in row] for row in found], np.int64).reshape(shape)
    found_cards = [cards.get(key) for key in keys]
    seconds = np.vstack((seconds, _with_notes(keys, found_cards, rate, buffer, notes, seconds)))
    source = np.vstack((source, *(source[FULL:FEWER] for _ in notes)))
    company = np.array([card.in_company(rate, buffer, memory) if card is not None else 0.0 for card in found_cards])
    seconds = seconds * (1 + company) * prepared.session.host.plugin_factor
    if prepared.session.host.suspends:
        seconds[SILENT] = 0.0
    beside = np.array([_beside(card) - 1.0 for card in found_cards])
    return PerKey(seconds, source, seconds * beside)


def _with_notes(
    keys: Sequence[CardKey],
    cards: Sequence[CostCard | None],
    rate: int,
    buffer: int,
    notes: tuple[int, ...],
    known: NDArray[np.float64],
) -> NDArray[np.float64]:
    """What uses cost while their instruments play so many notes (N, K, seconds); others cost as when they sound.

    `known` (2, K, seconds) is what they cost silent and sounding. With no note an instrument costs as if silent; one
    whose cost was not measured against its notes is taken to cost the same with any number of them.
    """
    found = np.repeat(known[FULL:], len(notes), axis=0)
    for k, (key, card) in enumerate(zip(keys, cards, strict=True)):
        if notes and card is not None and card.polyphony:
            fewer = np.array(notes) < key.voices
            found[:, k] *= np.where(fewer, card.with_notes(rate, buffer, notes), 1.0)
            if notes[0] == 0:
                found[0, k] = min(known[SILENT, k], known[FULL, k])
    return found


def _beside(card: CostCard | None) -> float:
    return card.upkeep.beside if card is not None and card.upkeep is not None else 1.0


def touched(prepared: Prepared, machine: Machine) -> float:
    """Bytes of cache that all plugins together use in a block, for each thread that shares the work."""
    uses = prepared.uses
    footprints = np.array([_footprint(prepared.cards.get(key)) for key in uses.keys])
    if not len(footprints):
        return 0.0
    return float(footprints[uses.card[uses.live]].sum()) / threads(prepared.session.host, machine)


def _footprint(card: CostCard | None) -> float:
    return float(card.upkeep.footprint) if card is not None and card.upkeep is not None else 0.0


def figure(cards: Cards, key: CardKey, rate: int, buffer: int, condition: Condition) -> Figure:
    """What one use with this key costs per block; 0 s and "unknown" where there is no card."""
    card = cards.get(key)
    return card.cost(rate, buffer, condition) if card is not None else Figure(0.0, "unknown")


def in_states(of: NDArray[np.float64], states: States) -> NDArray[np.float64]:
    """Of figures for each state (N, S), those of the states that strips are in (…, S)."""
    if states.dtype == np.bool_ or len(of) == FEWER:
        rows: NDArray[np.float64] = np.where(states, of[FULL], of[SILENT])
        return rows
    return np.asarray(of[states, np.arange(of.shape[1])], np.float64)


def at_moments(of: Costs, states: States) -> NDArray[np.float64]:
    """Costs (…, S, seconds) for rows of states, or of who sounds (…, S)."""
    return in_states(of.by_state, states)


def beside_at(of: Costs, states: States) -> NDArray[np.float64]:
    """What strips cost more while all other cores compute (…, S, seconds), for rows of states or who sounds (…, S)."""
    return in_states(of.beside, states)


def provenance_shares(of: Costs, states: States) -> dict[Provenance, float]:
    """Which share of the plugins' cost in a moment (states: S) rests on which kind of figure; empty if all is 0."""
    by_source = by_provenance(of, states).sum(axis=1)
    total = by_source.sum()
    if total <= 0:
        return {}
    return {name: float(part / total) for name, part in zip(PROVENANCES, by_source, strict=True) if part > 0}


def by_provenance(of: Costs, states: States) -> NDArray[np.float64]:
    """What plugins cost in a moment (states: S) by where the figures come from (P, S, seconds)."""
    return np.array([in_states(part, states) for part in np.moveaxis(of.by_provenance, 1, 0)])
