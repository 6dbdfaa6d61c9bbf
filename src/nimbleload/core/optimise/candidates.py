"""Every decision that a suggested plan could take, with its price and what it saves."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..decisions.apply import KINDS as TABLE
from ..decisions.apply import apply, obstacle
from ..decisions.decision import Decision, DecisionKind
from ..decisions.freeze import places_before_shared
from ..decisions.kind import Asked, bypassed, unloaded, with_uses
from ..decisions.off import changes_nothing
from ..decisions.price import Terms, Weights, total
from ..decisions.rendering import audio_bytes
from ..load.case import Case
from ..load.memory import ROOM
from ..piece.moments import SILENT
from ..session.computer import Machine
from ..session.cut_at_sends import parts_of
from ..session.session import Session
from ..session.strips import Strip
from ..survey import Survey

KINDS: tuple[DecisionKind, ...] = ("share", "lighten", "off", "suspend", "freeze")


class Wishes(NamedTuple):
    """What a plan may do: `limit` (fraction), what hurts, strips that stay as they are, and kinds allowed.

    `disk` is how many bytes all freezes together may take, None if that does not matter. With `tracking` the plan is
    for recording only: what is put back before the render costs no sound. `memory` is how many bytes plugins may keep,
    None if that does not matter.
    """

    limit: float = 0.8
    weights: Weights = Weights()
    pinned: frozenset[str] = frozenset()
    kinds: tuple[DecisionKind, ...] = KINDS
    disk: float | None = None
    tracking: bool = False
    memory: float | None = None

    def terms(self, of: Survey) -> Terms:
        """What prices go by."""
        return Terms(of.session, of.planned.cards, of.machine, of.plan, self.weights, self.tracking)


def wishes_for(
    of: Survey, weights: Weights, kinds: Sequence[DecisionKind], disk: float | None = None
) -> Wishes:
    """What a suggestion for this survey may do: the session's own limit, its pinned tracks, so much `disk` (bytes), and
    what memory the computer has room for."""
    room = room_in(of.machine)
    return Wishes(of.session.limit, weights, frozenset(of.plan.pinned), tuple(kinds), disk, memory=room)


def room_in(machine: Machine) -> float | None:
    """How many bytes plugins may keep on a computer; None where it is not known how much memory it has."""
    return ROOM * machine.memory if machine.memory else None


class Effect(NamedTuple):
    """What a candidate does to one strip of the planned session: its number there, and what is saved of its cost and
    of what it costs more beside others, in each state (N, seconds each); the strip as it `was`, and as it is `now`."""

    strip: int
    saves: NDArray[np.float64]
    beside: NDArray[np.float64]
    was: Strip
    now: Strip


class Candidate(NamedTuple):
    """One step that a plan could take: decisions that go together, what they cost and what they save.

    `price` is in minutes; `once` names what is paid once for all candidates that share it, with its minutes. `effects`
    are those on strips that there are; `bus` (2, N, seconds) is what a bus of its own costs, and costs more beside
    others, in the place of what `members` held (numbers of strips, or of their parts). `disk` are the bytes that it
    writes.
    """

    decisions: tuple[Decision, ...]
    price: float
    once: tuple[tuple[str, float], ...]
    effects: tuple[Effect, ...]
    disk: float = 0.0
    bus: NDArray[np.float64] | None = None
    members: tuple[int, ...] = ()

    @property
    def decision(self) -> Decision:
        return self.decisions[0]

    @property
    def kind(self) -> DecisionKind:
        return self.decisions[0].kind


def candidates(of: Survey, wishes: Wishes) -> list[Candidate]:
    """Every step that could be taken in addition to the plan. One that saves nothing anywhere is left out.

    What is record-armed, pinned or decided about already stays as it is.
    """
    found = _Finder(of, wishes)
    made = [each for kind in wishes.kinds for each in found.of_kind(kind)]
    return [each for each in made if any(effect.saves.max() > 1e-12 for effect in each.effects)]


class _Finder:
    """Finds the candidates of a survey."""

    def __init__(self, of: Survey, wishes: Wishes) -> None:
        self.of, self.wishes, self.case = of, wishes, of.case
        self.terms = wishes.terms(of)
        self.numbers = {strip.id: k for k, strip in enumerate(of.planned.session.strips)}
        self.sharing = [group for group in of.sharing() if group.keeps_sound and not group.differs]
        self.taken = {d.strip for d in of.plan.decisions if d.use is None}
        self.taken_uses = {d.use for d in of.plan.decisions if d.use is not None}
        self.strips = [
            strip for strip in of.session.strips if strip.enabled and strip.id not in wishes.pinned
        ]  # fmt: skip

    def of_kind(self, kind: DecisionKind) -> Iterator[Candidate]:
        if kind == "share":
            yield from self._shared()
            return
        ways = {"freeze": self._freezes, "suspend": self._suspensions, "lighten": self._lighter, "off": self._off}
        for strip in self.strips:
            for decision in ways[kind](strip) if kind in ways else ():
                if obstacle(strip, decision, self.of.session) is None:
                    yield self._made((decision,))

    def _freezes(self, strip: Strip) -> Iterator[Decision]:
        """The source alone, the chain up to the fader, or up to what it could share."""
        if strip.id in self.taken:
            return
        last = strip.last_before_fader if strip.last_before_fader >= 0 else len(strip.inserts) - 1
        places = {-1, last} if strip.instrument is not None else {last}
        places.update(places_before_shared(strip, Asked(self.of.session, self.sharing)))
        for through in sorted(places):
            yield Decision("freeze", strip.id, through=through)

    def _suspensions(self, strip: Strip) -> Iterator[Decision]:
        if strip.id not in self.taken:
            yield Decision("suspend", strip.id)

    def _lighter(self, strip: Strip) -> Iterator[Decision]:
        known = self.of.planned.figures
        for use in strip.live_uses():
            for variant in self.of.session.variants if use.id not in self.taken_uses else ():
                if variant.of == use.card_key():
                    card = known.cards.get(variant.applied(use).card_key())
                    if card is not None and card.cells:
                        yield Decision("lighten", strip.id, use.id, variant=variant.name)

    def _off(self, strip: Strip) -> Iterator[Decision]:
        """Only what changes no sound."""
        for use in strip.live_uses():
            if use.id not in self.taken_uses and changes_nothing(use, self.of.planned.cards):
                yield Decision("off", strip.id, use.id)

    def _made(self, decisions: tuple[Decision, ...]) -> Candidate:
        price = total(TABLE[d.kind].price(self.terms, d) for d in decisions)
        strips = [self.of.session.strip(d.strip) for d in decisions]
        frozen = (s for s, d in zip(strips, decisions, strict=True) if d.kind == "freeze")
        disk = sum(audio_bytes(strip, self.of.session.rate) for strip in frozen)
        effects = tuple(effect for decision in decisions for effect in self._effects(decision))
        once = tuple((name, part.minutes) for name, part in price.once)
        return Candidate(decisions, price.own, once, effects, disk)

    def _effects(self, decision: Decision) -> list[Effect]:
        """What a decision saves of each part of its strip."""
        before = whole_strip(self.of, decision.strip)
        return strip_effects(self.case, self.numbers, before, changed(before, decision, self.of.session))

    def _shared(self) -> Iterator[Candidate]:
        """Sharing as one candidate with all its members that are neither pinned nor decided about."""
        for group in self.sharing:
            members = [(s, u) for s, u in group.members if s not in self.wishes.pinned and s not in self.taken]
            if len(members) < 2 or any(d.strip in dict(members) for d in self.of.plan.decisions):
                continue
            decisions = tuple(d for d in group._replace(members=tuple(members)).decisions())
            made = self._made(decisions)
            numbers = tuple(number for decision in decisions for number in self._parts_shared(decision))
            live = bool(self.of.planned.live[list(numbers)].any())
            yield made._replace(bus=self.case.strip_cost(group.chain, live), members=numbers)

    def _parts_shared(self, decision: Decision) -> list[int]:
        """The parts of a strip, where sends cut it, that hold what is shared."""
        strip = whole_strip(self.of, decision.strip)
        gone = {use.id for use in strip.inserts[strip.place_of(decision.use or "") :]}
        return [self.numbers[part.id] for part in parts_of(strip) if gone & {use.id for use in part.uses()}]


def changed(strip: Strip, decision: Decision, session: Session) -> Strip:
    """A strip with a decision about it; what is shared is off there."""
    if decision.kind != "share":
        return TABLE[decision.kind].change(strip, decision, session)
    place = strip.place_of(decision.use or "")
    return with_uses(strip, {use.id: unloaded(bypassed(use)) for use in strip.inserts[place:]})


def whole_strip(of: Survey, strip_id: str) -> Strip:
    """A strip of the planned session, its parts joined again where sends cut it: as the plan's `apply` made it."""
    planned = {strip.id: strip for strip in of.planned.session.strips}
    strip = planned[strip_id]
    rest = [part for part in of.planned.session.strips if part.part_of == strip_id]
    if not rest:
        return strip
    return apply(of.session, of.plan).session.strip(strip_id)


class Held(NamedTuple):
    """What strips hold before and after each of the E effects of n candidates: how many live plugins of each key (E, K
    each), and which of the strips are suspended (E, bool each). `by` (E) are the numbers of the candidates."""

    effects: tuple[Effect, ...]
    by: NDArray[np.int64]
    before: NDArray[np.float64]
    after: NDArray[np.float64]
    slept: NDArray[np.bool_]
    sleeps: NDArray[np.bool_]

    def freed(self, amounts: NDArray[np.float64]) -> NDArray[np.float64]:
        """What each candidate takes away (n) of something of which a plugin of each key takes so much (K): none, rather
        than less."""
        return np.maximum(np.bincount(self.by, (self.before - self.after) @ amounts), 0.0)


def held(of: Case, found: Sequence[Candidate]) -> Held:
    """What strips hold in a case before and after all effects of candidates, of which each has one at least."""
    index = of.prepared.figures.index
    effects = tuple(effect for candidate in found for effect in candidate.effects)
    before, after = np.zeros((2, len(effects), len(index)))
    for number, effect in enumerate(effects):
        for counts, strip in ((before, effect.was), (after, effect.now)):
            for use in strip.live_uses():
                counts[number, index[use.card_key()]] += 1
    by = np.array([number for number, candidate in enumerate(found) for _ in candidate.effects], np.int64)
    slept = np.array([effect.was.suspended for effect in effects], np.bool_)
    sleeps = np.array([effect.now.suspended for effect in effects], np.bool_)
    return Held(effects, by, before, after, slept, sleeps)


def cheaper(holds: Held, of: Case, at: Case) -> list[Effect]:
    """Effects by the costs of another case (`at`) of the same session, where plugins do less to each other, in the
    place of those of the case `of`."""
    live = of.prepared.live[[effect.strip for effect in holds.effects]]
    found = []
    for one, other in (
        ((of.costs.each.seconds, of.costs.ahead.seconds), (at.costs.each.seconds, at.costs.ahead.seconds)),
        ((of.costs.each.beside, of.costs.ahead.beside), (at.costs.each.beside, at.costs.ahead.beside)),
    ):
        less = np.zeros((len(holds.effects), len(one[0])))
        for was, now, here in ((one[0], other[0], live), (one[1], other[1], ~live)):
            for counts, asleep, sign in ((holds.before, holds.slept, 1.0), (holds.after, holds.sleeps, -1.0)):
                spent = sign * counts @ (was - now).T
                spent[asleep, SILENT] = 0.0
                less[here] += spent[here]
        found.append(less * (1 + of.costs.interrupted))
    return [
        effect._replace(saves=effect.saves - saves, beside=effect.beside - beside)
        for effect, saves, beside in zip(holds.effects, *found, strict=True)
    ]


def strip_effects(of: Case, numbers: dict[str, int], before: Strip, after: Strip) -> list[Effect]:
    """What changing a strip saves of each of its parts, by the costs of a case."""
    found = []
    for was, now in zip(parts_of(before), parts_of(after), strict=True):
        number = numbers[was.id]
        saved = part_cost(of, number, was) - part_cost(of, number, now)
        if np.abs(saved).max() > 0:
            found.append(Effect(number, saved[0], saved[1], was, now))
    return found


def part_cost(of: Case, number: int, strip: Strip) -> NDArray[np.float64]:
    """What a part of a strip costs, and costs more beside others, in each state (2, N, seconds)."""
    live = bool(of.prepared.live[number])
    return of.strip_cost(strip.live_uses(), live, strip.suspended, strip.enabled and strip.part_of is None)
