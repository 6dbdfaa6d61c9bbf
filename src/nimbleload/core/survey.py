"""Everything that the Balance page and the shell say about a session: one computation, so that all figures agree."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from typing import NamedTuple

import msgspec
import numpy as np
from numpy.typing import NDArray

from .block.play import Played, placed
from .block.schedule import Block, remaining
from .cards.card import PROVENANCES, Cards, Provenance
from .decisions.plan import Decision, KeptPlan, Plan, apply
from .decisions.regroup import tail_traps
from .load.costs import Costs, at_moments, by_provenance, costs, provenance_shares, use_seconds
from .load.host_fit import HostFit, MeterReading, fit_host
from .load.latency import Bypass, Latencies, bypass_for, latencies, round_trip
from .load.load_map import LoadMap, Rung, load_map, played, waking_strips, word, worst_moments
from .load.peaks import DRAWS, Peaks, draw
from .load.prepared import Prepared, prepare
from .load.rehearsal import Prediction
from .piece.moments import FULL, SILENT
from .session.computer import BUFFER_SIZES, Host, Machine, deadline, threads
from .session.session import Session
from .told.verdict import Verdict, judge
from .units import clock, percent


class Survey(NamedTuple):
    """A session with a plan, at one buffer size, through the whole piece.

    `now` is the session as it is, `planned` with the plan. `costs` holds the planned session's costs at every size of
    the ladder, `before` and `after` the loads of both at the chosen `buffer`.
    """

    session: Session
    plan: Plan
    machine: Machine
    buffer: int
    now: Prepared
    planned: Prepared
    costs: dict[int, Costs]
    before: LoadMap
    after: LoadMap
    warnings: tuple[str, ...]
    latencies: Latencies

    @property
    def threads(self) -> int:
        return threads(self.session.host, self.machine)

    @property
    def deadline(self) -> float:
        return deadline(self.buffer, self.session.rate)

    def worst_second(self) -> float:
        """The middle of the moment with the highest load under the plan."""
        return middle(self.after, self.after.worst)


class Instant(NamedTuple):
    """One moment of a survey. `second` is the position asked for; `moment` holds it.

    `states` (S) is what each strip does there (see `Moments`), `notes` (S) how many notes its instrument plays at most.
    `strip_costs` (S, seconds) is what each strip costs,
    `use_costs` what each live plugin does, by use id. `load_before` is the load of the same second without the plan.
    """

    second: float
    moment: int
    states: NDArray[np.int16]
    notes: NDArray[np.int64]
    rungs: list[Rung]
    block: Block
    verdict: Verdict
    strip_costs: NDArray[np.float64]
    use_costs: dict[str, float]
    shares: dict[Provenance, float]
    load_before: float

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
    planned = now if applied.session is session else prepare(applied.session, cards, like.planned if like else now)
    sizes = (*BUFFER_SIZES, buffer) if buffer not in BUFFER_SIZES else BUFFER_SIZES
    if like is not None and same and like.plan == plan and like.machine == machine and buffer in like.costs:
        by_size = like.costs
    else:
        by_size = {size: costs(planned, machine, size) for size in sizes}
    after = load_map(planned, machine, buffer, by_size[buffer])
    if planned is now:
        before = after
    elif like is not None and same and like.machine == machine and like.buffer == buffer:
        before = like.before
    else:
        before = load_map(now, machine, buffer)
    delays = latencies(planned.session, planned.graph, cards)
    warnings = (*applied.warnings, *tail_traps(session, plan, cards), *spikes(planned, after))
    return Survey(session, plan, machine, buffer, now, planned, by_size, before, after, warnings, delays)


def spikes(planned: Prepared, loads: LoadMap) -> list[str]:
    """A sentence for the worst border at which waking up makes a block late that would else have fitted."""
    late = np.where(loads.load <= 1.0, loads.waking, 0.0)
    worst = int(np.argmax(late)) if len(late) else 0
    if not len(late) or late[worst] <= 1.0:
        return []
    names = [planned.session.strips[i].name for i in np.flatnonzero(waking_strips(planned)[worst])]
    more = f" and {len(names) - 3} more" if len(names) > 3 else ""
    count = int(np.count_nonzero(late > 1.0))
    often = f"; so do {count - 1} other borders" if count > 1 else ""
    return [
        f"{', '.join(names[:3])}{more}: waking up at {clock(float(loads.times[worst]))} takes one block to "
        f"{percent(float(late[worst]))}{often}."
    ]


def instant(of: Survey, second: float | None = None) -> Instant:
    """One moment of a survey; without a second, the worst one."""
    if second is None:
        second = of.worst_second()
    planned = of.planned
    moment = planned.moments.at(second)
    states = planned.moments.states[moment]
    blocks = {size: played(planned, of.machine, of.costs[size], states[None, :]) for size in sorted(of.costs)}
    rungs = [_rung(of, size, block) for size, block in blocks.items()]
    chosen, factor = of.costs[of.buffer], float(blocks[of.buffer].factor[0])
    row = at_moments(chosen, states) * factor
    block = placed(planned.tasks, planned.session.host, planned.live, row, of.threads)
    use_costs, known = _use_costs(of, states, factor)
    rung = next(r for r in rungs if r.buffer == of.buffer)
    verdict = judge(planned.session, rung, second, block, len(chosen.missing), known, rungs, _overhead(chosen, states))
    if verdict.kind == "unknown":
        rungs = [each._replace(word="not known") for each in rungs]
    return Instant(
        second, moment, states, notes_played(planned, states), rungs, block, verdict, row, use_costs,
        provenance_shares(chosen, states), float(of.before.load[of.now.moments.at(second)]),
    )  # fmt: skip


def notes_played(planned: Prepared, states: NDArray[np.int16]) -> NDArray[np.int64]:
    """How many notes the instrument of each strip plays at most in these states (S); 0 without one."""
    most = [strip.instrument.voices if strip.instrument is not None else 0 for strip in planned.session.strips]
    by_state = [np.zeros(len(most), np.int64), np.array(most, np.int64)]
    by_state += [np.full(len(most), count, np.int64) for count in planned.moments.notes]
    return np.array(by_state)[states, np.arange(len(most))]


def _overhead(of: Costs, states: NDArray[np.int16]) -> float:
    """The host's own share of a moment's work."""
    work = float(at_moments(of, states).sum())
    plugins = float(by_provenance(of, states).sum())
    return max(1 - plugins / work, 0.0) if work > 0 else 0.0


def _rung(of: Survey, size: int, found: Played) -> Rung:
    """One buffer size at one moment, whose block was played."""
    block_time = deadline(size, of.session.rate)
    load, chain, work, live = (float(x[0]) / block_time for x in (found.makespan, found.chain, found.work, found.live))
    trip = round_trip(size, of.session.rate, of.session.device, of.latencies.longest)
    return Rung(size, load, chain, work / of.threads, trip, word(load, of.session.limit), live)


def _use_costs(of: Survey, states: NDArray[np.int16], factor: float) -> tuple[dict[str, float], int]:
    """What each use costs at a moment, in seconds by use id; and how many live ones have a figure.

    A use that is off or frozen is shown with what it would cost if it were live.
    """
    uses = of.planned.uses
    if not uses.uses:
        return {}, 0
    costs = of.costs[of.buffer]
    seconds = use_seconds(of.planned, costs)[states[uses.strip], np.arange(len(uses.uses))]
    known = costs.each.source[FULL] != PROVENANCES.index("unknown")
    spent = seconds * factor / of.machine.speed
    by_id = dict(zip([use.id for use in uses.uses], spent.tolist(), strict=True))
    return by_id, int(np.count_nonzero(known[uses.card] & uses.live))


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
    return prepare(apply(of.session, plan).session, of.planned.cards, like or of.planned)


def kept_load(of: Survey, kept: KeptPlan) -> float:
    """The worst load through the piece with a plan that was put by, at its own buffer size."""
    return float(load_map(with_plan(of, kept.plan), of.machine, kept.buffer).load.max())


def _block_with(of: Survey, at: Instant, plan: Plan) -> tuple[float, float, float]:
    """Makespan, work and longest chain of one block under another plan, in seconds."""
    if plan == of.plan:
        return at.block.makespan, at.block.work, at.block.chain_bound
    after = with_plan(of, plan)
    states = after.moments.states[after.moments.at(at.second)]
    found = played(after, of.machine, costs(after, of.machine, of.buffer), states[None, :])
    return float(found.makespan[0]), float(found.work[0]), float(found.chain[0])


def peaks(of: Survey, at: Instant, buffer: int | None = None, draws: int = DRAWS) -> Peaks:
    """Typical, bad and worst blocks of a moment under the plan, at the chosen or another size of the ladder."""
    return draw(of.planned, of.machine, of.costs[buffer or of.buffer], at.states, draws)


def block_with(of: Survey, row: NDArray[np.float64]) -> Block:
    """A block of the planned session in which the strips cost this much (S, seconds)."""
    return placed(of.planned.tasks, of.planned.session.host, of.planned.live, row, of.threads)


def prediction(of: Survey, at: Instant) -> Prediction:
    """What a rehearsal of this moment is expected to show."""
    drawn = peaks(of, at)
    return Prediction(drawn.typical, drawn.bad, at.strip_costs, at.use_costs)


def to_rehearse(session: Session) -> Session:
    """The session in a host that does what a rehearsal does: every block at once and as a whole, on all cores given."""
    host = msgspec.structs.replace(session.host, cores_left_free=0, read_ahead=0, parts=1)
    return msgspec.structs.replace(session, host=host)


def priority(of: Survey, at: Instant) -> NDArray[np.float64]:
    """Who goes first when several could (S): by the longest path to the block's end in seconds, or as listed."""
    if of.planned.graph.listed:
        return -np.arange(len(of.planned.session.strips), dtype=float)
    return remaining(of.planned.graph, at.strip_costs)


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
    found = bypass_for(session, graph, cards, left, compensated)
    return Tracking(device + now / rate, device + found.left / rate, found)


def fitted(of: Survey, at: Instant, readings: Sequence[MeterReading]) -> HostFit:
    """What readings of a host's meter at a moment say about the host. ValueError if they are too few."""
    bare = msgspec.structs.replace(of.session, host=Host(of.session.host.cores_left_free))
    plain = prepare(apply(bare, of.plan).session, of.planned.cards)
    states = plain.moments.states[plain.moments.at(at.second)]
    seconds = [
        float(played(plain, of.machine, costs(plain, of.machine, r.buffer), states[None, :]).makespan[0])
        for r in readings
    ]
    strips = sum(strip.enabled for strip in plain.session.strips)
    return fit_host(readings, seconds, of.session.rate, strips, of.threads)


def worst_seconds(of: LoadMap, count: int = 8) -> list[float]:
    """The middles of the worst moments, worst first."""
    return [middle(of, moment) for moment in worst_moments(of, count)]
