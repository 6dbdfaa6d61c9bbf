"""Everything that is asked of a session with a plan: one computation, so that all figures agree."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from typing import NamedTuple

import msgspec
import numpy as np
from numpy.typing import NDArray

from .block.bounds import spread
from .block.play import Played, placed
from .block.schedule import Block
from .cards.card import OWN, Cards, Provenance
from .decisions.alike import Group, groups, similar
from .decisions.apply import apply, tail_traps
from .decisions.decision import Decision, KeptPlan, Plan
from .load.case import Case, case
from .load.costs import in_states
from .load.figures import NUMBERS
from .load.host_fit import HostFit, MeterReading, fit_host
from .load.host_seen import HostSeen, buffer_of, host_of
from .load.judged import Judged, Rung, judge
from .load.latency import Bypass, Latencies, bypass_for, latencies, round_trip
from .load.load_map import LoadMap, load_map, word, worst_load, worst_moments
from .load.memory import Memory, kept_by, memory, played_uses
from .load.opening import opening_of
from .load.peaks import DRAWS, Peaks, draw
from .load.prepared import Prepared, prepare
from .load.ranking import Basis, Ranking, Stretch, at_moment, ranking
from .load.rehearsal import Prediction, Rehearsal
from .load.seen import Against, against, played
from .piece.moments import FULL, SILENT
from .session.computer import BUFFER_SIZES, Machine, deadline
from .session.plugins import PluginUse
from .session.session import Session
from .watching.blocks import Seen
from .watching.held_memory import Held
from .watching.shares import computing


class Survey(NamedTuple):
    """A session with a plan, at one buffer size, through the whole piece.

    `now` is the session as it is, `planned` with the plan. `cases` holds the planned session's cases at every size of
    the ladder, `now_case` the case without the plan at the chosen `buffer`; `before` and `after` are the loads of both.
    `memory` is what plugins keep under the plan.
    """

    session: Session
    plan: Plan
    machine: Machine
    buffer: int
    now: Prepared
    planned: Prepared
    now_case: Case
    cases: dict[int, Case]
    before: LoadMap
    after: LoadMap
    warnings: tuple[str, ...]
    latencies: Latencies
    memory: Memory

    @property
    def case(self) -> Case:
        """The planned session at the chosen buffer size."""
        return self.cases[self.buffer]

    @property
    def threads(self) -> int:
        return self.case.threads

    @property
    def deadline(self) -> float:
        return self.case.deadline

    @property
    def known(self) -> int:
        """How many plugins that run under the plan have a figure."""
        known = self.case.costs.each.source[FULL] != NUMBERS["unknown"]
        return int(np.count_nonzero(known[self.planned.uses.card] & self.planned.uses.live))

    @property
    def missing(self) -> int:
        """How many have none, and count as nothing."""
        return len(self.case.costs.missing)

    @property
    def lacking(self) -> frozenset[str]:
        """Those that have none, by the ids of their uses."""
        return frozenset(use.id for use in self.case.costs.missing)

    def worst_second(self) -> float:
        """The middle of the moment with the highest load under the plan."""
        return middle(self.after, self.after.worst)

    def sharing(self) -> list[Group]:
        """The strips that could share the ends of their chains."""
        return groups(self.session, self.planned.cards) + similar(self.session, self.planned.cards)


class Parts(NamedTuple):
    """What a load is made of, as fractions of the deadline: the plugins' own work, the host's, and what the computer
    adds by interrupting (`computer`), by what it does to the caches between two blocks (`cold`), by lowering the clock
    beside plugins that compute with wide vectors (`slowed`), by its slow cores (`uneven`), and by cores that slow each
    other down while they compute at once (`beside`)."""

    own: float
    host: float
    computer: float
    cold: float = 0.0
    slowed: float = 0.0
    uneven: float = 0.0
    beside: float = 0.0


class Instant(NamedTuple):
    """One moment of a survey. `second` is the position asked for; `moment` holds it.

    `states` (S) is what each strip does there (see `Moments`), `notes` (S) how many notes its instrument plays at most.
    `strip_costs` (S, seconds) is what each strip costs, `use_costs` what each plugin does or would, by use id.
    `load_before` is the load of the same second without the plan; `doubt` which share of the plugins' cost may be the
    work of others, who shared the core when it was measured, and `as_on_alike` which counts as if all cores were alike.
    """

    second: float
    moment: int
    states: NDArray[np.int16]
    notes: NDArray[np.int64]
    rungs: list[Rung]
    block: Block
    judged: Judged
    strip_costs: NDArray[np.float64]
    use_costs: dict[str, float]
    shares: dict[Provenance, float]
    load_before: float
    parts: Parts
    doubt: float
    as_on_alike: float = 0.0

    @property
    def sounding(self) -> NDArray[np.bool_]:
        """Who sounds there (S)."""
        return np.asarray(self.states != SILENT)

    def rung(self, buffer: int) -> Rung:
        """The rung of one buffer size. KeyError if the ladder does not have it."""
        for rung in self.rungs:
            if rung.buffer == buffer:
                return rung
        raise KeyError(f"the ladder has no rung for {buffer} samples")


def middle(of: LoadMap, moment: int) -> float:
    """The second in the middle of a moment."""
    return float(of.times[moment : moment + 2].mean())


def survey(
    session: Session, plan: Plan, cards: Cards, machine: Machine, buffer: int, like: Survey | None = None
) -> Survey:
    """Computes the load through the piece, now and with the plan. What `like` has in common is taken over.

    SessionError if the session cannot be computed.
    """
    same = like is not None and like.session is session and like.now.cards is cards
    now = like.now if like is not None and same else prepare(session, cards, like.now if like else None)
    applied = apply(session, plan)
    planned = now
    if applied.session is not session:
        planned = prepare(applied.session, cards, like.planned if like else now, now)
    sizes = (*BUFFER_SIZES, buffer) if buffer not in BUFFER_SIZES else BUFFER_SIZES
    as_before = same and like is not None and like.machine == machine
    if like is not None and as_before and like.plan == plan and buffer in like.cases:
        cases = like.cases
    else:
        cases = {size: case(planned, machine, size) for size in sizes}
    after = load_map(cases[buffer])
    if planned is now:
        now_case, before = cases[buffer], after
    elif like is not None and as_before and like.buffer == buffer:
        now_case, before = like.now_case, like.before
    else:
        now_case = case(now, machine, buffer)
        before = load_map(now_case)
    delays = latencies(planned.session, planned.graph, cards, buffer)
    warnings = (*applied.warnings, *tail_traps(session, plan, cards))
    kept = like.memory if like is not None and same and like.plan == plan else memory(applied.session, cards)
    return Survey(
        session, plan, machine, buffer, now, planned, now_case, cases, before, after, warnings, delays, kept
    )  # fmt: skip


def instant(of: Survey, second: float | None = None) -> Instant:
    """One moment of a survey; without a second, the worst one."""
    if second is None:
        second = of.worst_second()
    planned, chosen = of.planned, of.case
    moment = chosen.moments.at(second)
    states = chosen.moments.states[moment]
    blocks = {size: each.played(each.moments.states[moment][None, :]) for size, each in sorted(of.cases.items())}
    rungs = [_rung(of, size, block) for size, block in blocks.items()]
    here = at_moment(chosen, states)
    block = block_with(of, here.strips)
    block = block._replace(spread_bound=_even(blocks[of.buffer], of.threads))
    rung = next(r for r in rungs if r.buffer == of.buffer)
    parts = _parts(of, states, rung.load, float(blocks[of.buffer].factor[0]))
    share = parts.host / max(parts.own + parts.host, 1e-12)
    judged = judge(rung, of.session.limit, of.threads, of.missing, of.known, share, rungs)
    if judged.kind == "unknown":
        rungs = [each._replace(word="not known") for each in rungs]
    before = of.now_case.moments
    return Instant(
        second, moment, states, notes_played(planned, states), rungs, block, judged, here.strips, here.uses,
        chosen.provenance(states), float(of.before.load[before.at(second)]), parts,
        chosen.doubt(states), chosen.as_on_alike(states),
    )  # fmt: skip


def notes_played(planned: Prepared, states: NDArray[np.int16]) -> NDArray[np.int64]:
    """How many notes the instrument of each strip plays at most in these states (S); 0 without one."""
    most = [strip.instrument.voices if strip.instrument is not None else 0 for strip in planned.session.strips]
    by_state = [np.zeros(len(most), np.int64), np.array(most, np.int64)]
    by_state += [np.full(len(most), count, np.int64) for count in planned.moments.notes]
    return np.array(by_state)[states, np.arange(len(most))]


def _parts(of: Survey, states: NDArray[np.int16], load: float, factor: float) -> Parts:
    """What the load of a moment is made of: each part as it stands in the work, which takes `factor` times as long
    because cores slow each other down."""
    chosen = of.case
    work = float(chosen.rows(states).sum())
    if work <= 0:
        return Parts(load, 0.0, 0.0)
    load, beside = load / factor, load * (1 - 1 / factor)
    computer = load * chosen.costs.interrupted / (1 + chosen.costs.interrupted)
    host = load * float(chosen.costs.overhead.sum()) / work
    cold, slowed, uneven = (
        load * float(in_states(each, states).sum()) / work / (1 + chosen.costs.interrupted)
        for each in (chosen.costs.cold, chosen.costs.slowed, chosen.costs.uneven)
    )
    own = load - computer - host - cold - slowed - uneven
    return Parts(own, host, computer, cold, slowed, uneven, beside)


def _even(found: Played, threads: int) -> float:
    """The least that an even spread of one block's work could reach, in seconds."""
    return float(spread(found.own_work, found.beside, threads, found.aside)[0])


def _rung(of: Survey, size: int, found: Played) -> Rung:
    """One buffer size at one moment, whose block was played."""
    block_time = deadline(size, of.session.rate)
    load, chain, live = (float(x[0]) / block_time for x in (found.makespan, found.chain, found.live))
    even = _even(found, of.threads) / block_time
    delays = of.latencies
    if delays.vary and size != delays.buffer:
        delays = latencies(of.planned.session, of.planned.graph, of.planned.cards, size)
    trip = round_trip(size, of.session.rate, of.session.device, delays.longest)
    heard = _heard(of, size, delays)
    late = 0 < of.session.device.heard_within < heard - 1e-9
    return Rung(size, load, chain, even, trip, word(load, of.session.limit), live, heard, late)


def _heard(of: Survey, size: int, delays: Latencies) -> float:
    """When the last of those that are recorded hears himself (seconds): device and own chain; 0 if nobody is."""
    ways = delays.way.values()
    return round_trip(size, of.session.rate, of.session.device, max(ways)) if ways else 0.0


def ranked(of: Survey, at: Instant, basis: Basis, stretch: Stretch | None = None) -> Ranking:
    """What everything costs at the moment, at its own dearest, or on average over a stretch (or the whole piece)."""
    if basis == "moment":
        return Ranking(at.strip_costs, at.use_costs)
    return ranking(of.case, basis, stretch)


def without_plan(of: Survey, found: Ranking) -> NDArray[np.float64]:
    """What strips (S) would cost if the plugins that the plan spares were live, in seconds per block: all of them, and
    the host's part with them. What is off or frozen in the session itself counts as nothing, as it does in their
    figures."""
    now, planned = of.now.uses, of.planned.uses
    was_live = {use.id for use, live in zip(now.uses, now.live, strict=True) if live}
    spared = np.array([use.id in was_live for use in planned.uses], np.bool_) & ~planned.live
    seconds = np.array([found.uses.get(use.id, 0.0) for use in planned.uses])
    kept, back = (np.bincount(planned.strip, seconds * each, len(found.strips)) for each in (planned.live, spared))
    left, added = of.case.costs.overhead, np.zeros(len(found.strips))
    had = np.concatenate((of.now_case.costs.overhead, left[len(of.now_case.costs.overhead) :]))
    # What the host takes now is slowed down as everything is; where it takes nothing, by how much is not known.
    shown = left > 0
    added[shown] = (found.strips - kept)[shown] * (had[shown] / left[shown] - 1)
    added[~shown] = had[~shown] * (1 + of.case.costs.interrupted)
    return np.asarray(found.strips + np.where(back > 0, back + added, 0.0), np.float64)


class Saving(NamedTuple):
    """What decisions save at one moment, as fractions: `load` of the deadline, `work` of one core (1.0 = one core).

    `chain` is by how much the longest chain gets shorter, of the deadline.
    """

    load: float
    work: float
    chain: float = 0.0


def saving(of: Survey, at: Instant, decisions: Iterable[Decision]) -> Saving:
    """What decisions save at a moment, against leaving the same strips live and with the rest of the plan as it is.

    By the same block computation as everything else.
    """
    live = with_decisions = of.plan
    for decision in decisions:
        live = live.decide(Decision("live", decision.strip, decision.use))
        with_decisions = with_decisions.decide(decision)
    if live == with_decisions:
        return Saving(0.0, 0.0)
    before, after = _block_with(of, at, live), _block_with(of, at, with_decisions)
    return Saving(*((was - now) / of.deadline for was, now in zip(before, after, strict=True)))


def with_plan(of: Survey, plan: Plan, like: Prepared | None = None) -> Prepared:
    """The survey's session with another plan, prepared; what it has in common with `like` is taken over."""
    return prepare(apply(of.session, plan).session, of.planned.cards, like or of.planned, of.now)


def kept_load(of: Survey, kept: KeptPlan) -> float:
    """The worst load through the piece with a plan that was put by, at its own buffer size."""
    return worst_load(case(with_plan(of, kept.plan), of.machine, kept.buffer))


def _block_with(of: Survey, at: Instant, plan: Plan) -> tuple[float, float, float]:
    """Makespan, work and longest chain of one block under another plan, in seconds."""
    if plan == of.plan:
        after = of.case
    else:
        after = case(with_plan(of, plan), of.machine, of.buffer)
    states = after.moments.states[after.moments.at(at.second)]
    found = after.played(states[None, :])
    return float(found.makespan[0]), float(found.work[0]), float(found.chain[0])


def peaks(of: Survey, at: Instant, buffer: int | None = None, draws: int = DRAWS) -> Peaks:
    """Typical, bad and worst blocks of a moment under the plan, at the chosen or another size of the ladder."""
    chosen = of.cases[buffer or of.buffer]
    return draw(chosen, chosen.moments.states[at.moment], draws)


def block_with(of: Survey, row: NDArray[np.float64]) -> Block:
    """A block of the planned session in which the strips cost this much (S, seconds)."""
    return placed(of.planned.tasks, of.planned.session.host, of.planned.live, row, of.threads)


def prediction(of: Survey, at: Instant) -> Prediction:
    """What a rehearsal of this moment is expected to show."""
    drawn = peaks(of, at)
    alone = draw(of.case, of.case.moments.states[at.moment], interrupted=False)
    here = sum(at.shares.get(name, 0.0) for name in OWN)
    is_foreign = bool(at.shares) and here < 0.5
    played_then = played_uses(of.planned.session, at.sounding)
    kept, loads = kept_by(played_then, of.planned.cards), opening_of(played_then, of.planned.cards)
    return Prediction(
        drawn.typical, drawn.bad, at.strip_costs, at.use_costs, is_foreign, 1.0, alone.typical, alone.bad,
        0 if kept.is_at_least else kept.bytes, 0.0 if loads.unknown or loads.earlier else loads.seconds,
    )  # fmt: skip


class Compared(NamedTuple):
    """The moment at `second` of a session against a host that plays it, at `buffer` samples.

    `load` is predicted, `typical` was seen of its blocks, as fractions of the deadline (None without a cycle); `work`
    is what all cores together do, as shares of one core; by plugin in `plugins`. `keeps` is what its plugins keep in
    memory, `kept` what the host had there at last, with all else that is in it (None: not seen).
    """

    second: float
    buffer: int
    load: float
    typical: float | None
    work: float
    seen_work: float
    plugins: list[Against]
    keeps: Memory
    kept: Held | None

    def figures(self) -> dict[str, object]:
        """The same as figures by their names."""
        kept = {"keeps": self.keeps.bytes, "kept": None if self.kept is None else self.kept.whole}
        return self._asdict() | {"plugins": [each._asdict() for each in self.plugins]} | kept


def compared_with(of: Survey, at: Instant, seen: Seen, plugins: Mapping[str, PluginUse]) -> Compared:
    """What is predicted for a moment, against what was seen; `plugins` says by file which plugin it holds."""
    chosen, blocks = of.case, seen.blocks
    engine = computing(seen) * played(seen)
    work = float(at.strip_costs.sum()) / chosen.deadline
    found = against(chosen, at.states, seen, plugins)
    typical = blocks.typical if blocks is not None else None
    kept = seen.recording.memory[-1] if seen.recording.memory else None
    load = at.rung(of.buffer).load
    return Compared(at.second, of.buffer, load, typical, work, engine, found, of.memory, kept)


def to_rehearse(session: Session, overhead: float = 0.0) -> Session:
    """The session in a host that does what a rehearsal does: every block at once and as a whole, on all cores given.

    It takes `overhead` (seconds) a strip beside the plugins, as the rehearsal itself has shown.
    """
    host = msgspec.structs.replace(
        session.host, cores_left_free=0, read_ahead=0, parts=1, strip_overhead=overhead, plugin_overhead=0.0
    )
    return msgspec.structs.replace(session, host=host)


def foreseen(of: Survey, at: Instant, outcome: Rehearsal) -> Prediction:
    """What was to be expected of a rehearsal of this moment, with what it took beside the plugins itself: it is a host
    of its own, and what that takes says nothing of how well plugins were predicted. It counts at the clock at which the
    cores went meanwhile: in the blocks that were undisturbed, where there are such to go by."""
    session, measured_at = to_rehearse(of.session, outcome.overhead), of.planned.figures.clock
    quiet = outcome.undisturbed
    clock = quiet.clock if quiet.is_telling and quiet.clock > 0 else outcome.clock
    slower = clock / measured_at if measured_at > 0 and clock > 0 else 1.0
    host = msgspec.structs.replace(session.host, plugin_factor=session.host.plugin_factor * slower)
    session = msgspec.structs.replace(session, host=host)
    again = survey(session, of.plan, of.planned.cards, of.machine, of.buffer)
    return prediction(again, instant(again, at.second))._replace(clock=slower)


def priority(of: Survey, at: Instant) -> NDArray[np.float64]:
    """Who goes first when several could (S): by the longest path to the block's end in seconds, or as listed."""
    if of.planned.graph.listed:
        return -np.arange(len(of.planned.session.strips), dtype=float)
    return at.block.remaining[: len(of.planned.session.strips)]


class Tracking(NamedTuple):
    """How late a musician hears himself: `now` and `then` in seconds, with what to bypass for it."""

    now: float
    then: float
    bypass: Bypass


def tracking(of: Survey, limit: float, compensated: bool = True) -> Tracking:
    """What to bypass so that from input to output it takes at most `limit` seconds at the chosen buffer size.

    Without compensation only the armed strips' own way counts.
    """
    session, graph, cards, rate = of.planned.session, of.planned.graph, of.planned.cards, of.session.rate
    device = round_trip(of.buffer, rate, session.device, 0)
    left = math.floor((limit - device) * rate + 1e-6)
    ways = of.latencies.way.values()
    now = of.latencies.longest if compensated else max(ways, default=0)
    found = bypass_for(session, graph, cards, of.buffer, left, compensated)
    return Tracking(device + now / rate, device + found.left / rate, found)


def fitted(of: Survey, at: Instant, readings: Sequence[MeterReading]) -> HostFit:
    """What readings of a host's meter at a moment say about the host. ValueError if they are too few.

    Everything else that is known of the host stays as it is: how it divides, reads ahead, orders and suspends.
    """

    def loads(factor: float, overhead: float) -> NDArray[np.float64]:
        host = msgspec.structs.replace(
            of.session.host, plugin_factor=factor, strip_overhead=overhead, plugin_overhead=0.0
        )
        session = apply(msgspec.structs.replace(of.session, host=host), of.plan).session
        tried = prepare(session, of.planned.cards, of.planned, of.now)
        found = []
        for reading in readings:
            each = case(tried, of.machine, reading.buffer)
            states = each.moments.states[each.moments.at(at.second)]
            found.append(float(each.played(states[None, :]).makespan[0]) / each.deadline)
        return np.array(found)

    strips = int(of.planned.uses.whole.sum())
    return fit_host(readings, loads, strips)


def host_seen(of: Survey, at: Instant, seen: Sequence[Seen], plugins: Mapping[str, PluginUse]) -> HostSeen:
    """What recordings of a host that plays the session's moment tell of it; `plugins` says by file which one each
    holds. ValueError says why nothing can be told."""
    bare = msgspec.structs.replace(of.session.host, plugin_factor=1.0, strip_overhead=0.0, plugin_overhead=0.0)
    session = apply(msgspec.structs.replace(of.session, host=bare), of.plan).session
    prepared = prepare(session, of.planned.cards, of.planned, of.now)
    sizes = [buffer_of(each, of.session.rate) for each in seen]
    cases = [case(prepared, of.machine, size) for size in sizes]
    states = [each.moments.states[each.moments.at(at.second)] for each in cases]
    strips = int(of.planned.uses.whole.sum())
    return host_of(list(zip(seen, cases, states, strict=True)), strips, of.machine.cores, plugins)


def worst_seconds(of: LoadMap, count: int = 8) -> list[float]:
    """The middles of the worst moments, worst first."""
    return [middle(of, moment) for moment in worst_moments(of, count)]
