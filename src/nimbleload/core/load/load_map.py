"""The load: what every strip costs in every moment, and whether the block fits its deadline.

There is one load computation. "Now" and "with this plan" are two sessions that go through the same functions.
Costs are seconds per block; loads are fractions of the deadline (1.0 = the block just fits).
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..block.play import Played, live_strips, play
from ..cards.card import PROVENANCES, Cards, Condition, CostCard, Figure, Provenance
from ..piece.moments import FEWER, FULL, SILENT, Moments, cut, same_activity
from ..session.cut_at_sends import split
from ..session.routing import Graph, build, divided
from ..session.strips import CardKey, Machine, PluginUse, Session, Strip, deadline, threads

# Rows of what strips do: their states (int16, see `Moments`), or only whether they sound (bool).
States = NDArray[np.int16] | NDArray[np.bool_]


class Uses(NamedTuple):
    """The U plugins of a session: `strip` and `card` (U, int64) say where each sits and which card it has.

    `card` counts along `keys`; `live` (U, bool) says which of them cost something. `live_in` (S, int64) is how many
    of those each strip has, and `on` (S, bool) which strips are on.
    """

    uses: tuple[PluginUse, ...]
    strip: NDArray[np.int64]
    card: NDArray[np.int64]
    keys: tuple[CardKey, ...]
    live: NDArray[np.bool_]
    live_in: NDArray[np.int64]
    on: NDArray[np.bool_]


class Prepared(NamedTuple):
    """A session with its graph, moments and plugins; no buffer size changes them. `live` (S, bool): `live_strips`.

    `tasks` is the graph of what is computed in a block: the same, or all parts of it (see `divided`).
    """

    session: Session
    cards: Cards
    graph: Graph
    moments: Moments
    uses: Uses
    live: NDArray[np.bool_]
    tasks: Graph


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


class LoadMap(NamedTuple):
    """The load through the piece at one buffer size, M moments in all.

    `times` (M + 1, seconds) are the borders; `load`, `chain` and `spread` (M, fractions of the deadline) the finishing
    time, the longest chain, and all work divided by the threads. `waking` (M) is the load of a moment's first block,
    in which what was asleep wakes up: the same as `load` where nothing does.
    """

    buffer: int
    threads: int
    deadline: float
    times: NDArray[np.float64]
    load: NDArray[np.float64]
    chain: NDArray[np.float64]
    spread: NDArray[np.float64]
    waking: NDArray[np.float64]

    @property
    def worst(self) -> int:
        """The moment with the highest load; of equal ones the longest, then the first."""
        length = np.diff(self.times)
        highest = np.flatnonzero(self.load == self.load.max())
        return int(highest[np.argmax(length[highest])])


class Rung(NamedTuple):
    """One buffer size of the ladder at one moment: loads as fractions, round trip in seconds.

    `live` is the load of the live thread alone, 0 where the host computes everything at one go.

    `word` is "fits", "tight" or "overload"; "not known" where no plugin has a figure, and the loads mean nothing.
    """

    buffer: int
    load: float
    chain: float
    spread: float
    round_trip: float
    word: str
    live: float = 0.0


def prepare(session: Session, cards: Cards, like: Prepared | None = None) -> Prepared:
    """Graph and moments of a session; those of `like` are taken over where they must be the same.

    Chains that sends leave before their end are cut there (see `split`).

    SessionError if the routing runs in a circle or leads nowhere.
    """
    session = split(session)
    if like is not None and like.cards is cards and same_activity(like.session, session):
        graph = like.graph._replace(listed=session.host.listed)
        same = graph.listed == like.graph.listed and session.host.parts == like.session.host.parts
        tasks = like.tasks if same else divided(graph, session.host.parts)
        return Prepared(session, cards, graph, like.moments, list_uses(session, like), like.live, tasks)
    graph = build(session)
    moments, live = cut(session, graph, cards), live_strips(session, graph)
    tasks = divided(graph, session.host.parts)
    return Prepared(session, cards, graph, moments, list_uses(session), live, tasks)


def list_uses(session: Session, like: Prepared | None = None) -> Uses:
    """All plugins of a session, in session order. Where `like` has the very same plugins, only what is live is new."""
    if like is not None and _same_uses(like.session, session):
        live = like.uses.live.copy()
        for i, (old, new) in enumerate(zip(like.session.strips, session.strips, strict=True)):
            if old is not new:
                live[like.uses.strip == i] = _live(new)
        return _counted(session, like.uses.uses, like.uses.strip, like.uses.card, like.uses.keys, live)
    numbers: dict[CardKey, int] = {}
    uses: list[PluginUse] = []
    strip: list[int] = []
    card: list[int] = []
    flags: list[bool] = []
    for i, each in enumerate(session.strips):
        own = each.uses()
        uses.extend(own)
        strip.extend([i] * len(own))
        card.extend(numbers.setdefault(use.card_key(), len(numbers)) for use in own)
        flags.extend(_live(each))
    where = np.array(strip, np.int64)
    return _counted(
        session, tuple(uses), where, np.array(card, np.int64), tuple(numbers), np.array(flags, np.bool_)
    )  # fmt: skip


def _live(strip: Strip) -> list[bool]:
    """Which of a strip's plugins cost something, in their order."""
    return [strip.enabled and use.enabled and not strip.is_frozen(place) for place, use in strip.places()]


def _same_uses(before: Session, after: Session) -> bool:
    """Whether two sessions hold the same plugins in the same places, but for what is switched off."""
    if len(before.strips) != len(after.strips):
        return False
    return all(
        old is new or (old.instrument is new.instrument and old.inserts is new.inserts)
        for old, new in zip(before.strips, after.strips, strict=True)
    )


def _counted(
    session: Session,
    uses: tuple[PluginUse, ...],
    strip: NDArray[np.int64],
    card: NDArray[np.int64],
    keys: tuple[CardKey, ...],
    live: NDArray[np.bool_],
) -> Uses:
    live_in = np.bincount(strip[live], minlength=len(session.strips))
    on = np.array([each.enabled for each in session.strips], np.bool_)
    return Uses(uses, strip, card, keys, live, live_in, on)


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


def played(prepared: Prepared, machine: Machine, of: Costs, states: States) -> Played:
    """Plays blocks in which the strips are in these states, or sound or not (M, S)."""
    return played_rows(prepared, machine, at_moments(of, states), beside_at(of, states))


def played_rows(prepared: Prepared, machine: Machine, rows: NDArray[np.float64], beside: NDArray[np.float64]) -> Played:
    """Plays blocks in which the strips cost this much, and this much more beside others (M, S each, seconds)."""
    host = prepared.session.host
    return play(prepared.tasks, host, prepared.live, rows, beside, threads(host, machine))


def load_map(prepared: Prepared, machine: Machine, buffer: int, of: Costs | None = None) -> LoadMap:
    """The load of every moment at one buffer size. Moments in which the same strips sound are computed once.

    `of` are the costs at this size, where they are known already.
    """
    session, moments = prepared.session, prepared.moments
    limit = deadline(buffer, session.rate)
    cores = threads(session.host, machine)
    each = of or costs(prepared, machine, buffer)
    found = played(prepared, machine, each, moments.distinct)
    load, chain, spread = (part[moments.of] / limit for part in (found.makespan, found.chain, found.work / cores))
    waking = load.copy()
    wakes = waking_strips(prepared)
    moved = np.flatnonzero(wakes.any(axis=1))
    if len(moved):
        states = moments.states[moved]
        rows = at_moments(each, states) + wakes[moved] * waking_costs(prepared, machine, buffer)
        first = played_rows(prepared, machine, rows, beside_at(each, states))
        waking[moved] = np.maximum(load[moved], first.makespan / limit)
    return LoadMap(buffer, cores, limit, moments.times, load, chain, spread, waking)


def waking_strips(prepared: Prepared) -> NDArray[np.bool_]:
    """Which strips come back from suspension at the start of each moment (M, S)."""
    session, sounding = prepared.session, prepared.moments.sounding
    asleep = np.array([session.host.suspends or strip.suspended for strip in session.strips], np.bool_)
    wakes = np.zeros_like(sounding)
    if asleep.any():
        wakes[1:] = sounding[1:] & ~sounding[:-1] & asleep
    return wakes


def waking_costs(prepared: Prepared, machine: Machine, buffer: int) -> NDArray[np.float64]:
    """What the dearest of each strip's first blocks costs beyond a usual one (S, seconds); 0 where not measured."""
    uses, rate = prepared.uses, prepared.session.rate
    beyond = np.zeros(len(uses.keys))
    for k, key in enumerate(uses.keys):
        card = prepared.cards.get(key)
        first = card.cell(rate, buffer, "waking") if card is not None else None
        if card is not None and first is not None:
            beyond[k] = max(first.largest - card.cost(rate, buffer, "sounding").seconds, 0.0)
    factor = prepared.session.host.plugin_factor / machine.speed
    live = uses.live
    extra = np.bincount(uses.strip[live], beyond[uses.card[live]], minlength=len(prepared.session.strips))
    return np.asarray(extra, np.float64) * factor


def word(load: float, limit: float) -> str:
    """What a load means, in a word: "fits" up to the limit, "tight" up to the deadline, then "overload"."""
    if load > 1.0:
        return "overload"
    return "tight" if load > limit else "fits"


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


def worst_moments(of: LoadMap, count: int = 8) -> list[int]:
    """Up to `count` moments, worst first, no two nearer to each other than a fortieth of the piece."""
    length = np.diff(of.times)
    middles = (of.times[:-1] + of.times[1:]) / 2
    apart = (of.times[-1] - of.times[0]) / 40
    found = [of.worst]
    for moment in np.argsort(-of.load, kind="stable"):
        if len(found) >= count:
            break
        if length[moment] > 0 and all(abs(middles[moment] - middles[other]) >= apart for other in found):
            found.append(int(moment))
    return found[:count]
