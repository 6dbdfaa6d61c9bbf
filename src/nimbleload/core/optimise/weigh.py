"""What it would take: for chosen strips every option with what it saves, what it costs, and whether it is taken."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import msgspec

from ..decisions.apply import price
from ..decisions.bounce import bounce_range
from ..decisions.decision import Decision, Plan
from ..decisions.kind import Option
from ..decisions.options import options
from ..decisions.price import Price, Terms, Weights
from ..decisions.rendering import audio_bytes, last_place, render_seconds
from ..load.memory import Memory, loaded_uses, memory
from ..load.opening import opening_of
from ..load.ranking import Stretch
from ..session.plugins import PluginUse
from ..session.session import Session
from ..session.strips import Strip
from ..survey import Instant, Saving, Survey, instant, saving


class Weighed(NamedTuple):
    """One option for the chosen strips: the decisions that it takes, what they would save, and whether all are taken.

    Without decisions the option is impossible for every one of them, and there is no saving. `worst` is what they save
    at the worst moment; `memory` (bytes) what their plugins would give back if they were unloaded. `disk` (bytes) and
    `rendering` (seconds) are what renders take; `possible` of `strips` strips allow it.
    """

    option: Option
    decisions: tuple[Decision, ...]
    saving: Saving | None
    taken: bool
    price: Price = Price()
    worst: Saving | None = None
    memory: float = 0.0
    disk: float = 0.0
    rendering: float = 0.0
    possible: int = 0
    strips: int = 1


def weigh(
    of: Survey, at: Instant, strip_ids: Sequence[str], stretch: Stretch | None = None, weights: Weights | None = None
) -> list[Weighed]:
    """Every option of the chosen strips with its saving. For several strips, those options that they share by title.

    Strips that only the plan has made have none.
    """
    known = {strip.id for strip in of.session.strips}
    sharing = of.sharing()
    each = [options(of.session.strip(s), of.session, sharing, stretch) for s in strip_ids if s in known]
    if not each:
        return []
    worst = at if at.moment == of.after.worst else instant(of)
    terms = Terms(of.session, of.planned.cards, of.machine, of.plan, weights or Weights())
    kept = memory(of.session, of.planned.cards)
    if len(each) == 1:
        return [_weighed(of, at, worst, [option], terms, kept) for option in each[0]]
    grouped: dict[str, list[Option]] = {}
    for found in each:
        for option in found:
            title = "Freeze the whole chain" if _is_whole(of.session, option) else option.title
            grouped.setdefault(title, []).append(option._replace(title=title))
    return [_weighed(of, at, worst, group, terms, kept) for group in grouped.values()]


def _is_whole(session: Session, option: Option) -> bool:
    """Whether an option freezes a strip to the end of its chain."""
    d = option.decision
    return (
        d.kind == "freeze"
        and d.through != -1
        and last_place(session.strip(d.strip), d) == len(session.strip(d.strip).inserts) - 1
    )


def _weighed(
    of: Survey, at: Instant, worst: Instant, group: list[Option], terms: Terms, kept: Memory
) -> Weighed:  # fmt: skip
    """One option for all strips of a group: possible if it is for at least one of them. `kept` is what the session's
    plugins keep without its plan."""
    possible = [option for option in group if option.reason is None]
    first = possible[0] if possible else group[0]
    decisions = tuple(dict.fromkeys(d for option in possible for d in option.decisions()))
    if not decisions:
        return Weighed(first, (), None, False, strips=len(group))
    taken = all(is_taken(of.session, of.plan, decision) for decision in decisions)
    here = saving(of, at, decisions)
    there = here if worst is at else saving(of, worst, decisions)
    renders = [decision for decision in decisions if decision.kind in ("freeze", "bounce")]
    disk = sum(audio_bytes(_printed(of, d), of.session.rate) for d in renders)
    seconds = sum(_render_seconds(of, d) for d in renders)
    back = float(kept.given_back(use for d in decisions for use in _taken_out(of, d)))
    return Weighed(
        first, decisions, here, taken, price(terms, *decisions), there, back, disk, seconds, len(possible), len(group)
    )  # fmt: skip


def _printed(of: Survey, decision: Decision) -> Strip:
    """A strip with only the clips that a freeze or bounce renders."""
    strip = of.session.strip(decision.strip)
    if decision.stretch is None:
        return strip
    return msgspec.structs.replace(strip, clips=bounce_range(strip, *decision.stretch)[1].clips)


def _render_seconds(of: Survey, decision: Decision) -> float:
    strip = _printed(of, decision)
    return render_seconds(of.session, of.planned.cards, of.machine, strip, last_place(strip, decision))


def is_taken(session: Session, plan: Plan, decision: Decision) -> bool:
    """Whether the plan holds a decision, or says live what it holds nothing about."""
    if decision.use is not None:
        return decision in plan.decisions
    current = plan.for_strip(decision.strip)
    if current is None or current.kind != decision.kind:
        return current is None and decision.kind == "live"
    strip = session.strip(decision.strip)
    same = (current.start, current.end) == (decision.start, decision.end)
    if decision.kind in ("freeze", "bounce"):
        return same and last_place(strip, current) == last_place(strip, decision)
    return same


def _taken_out(of: Survey, decision: Decision) -> list[PluginUse]:
    """The loaded plugins that a decision takes out."""
    strip = of.session.strip(decision.strip)
    if decision.kind not in ("freeze", "off", "bounce") or not strip.enabled:
        return []
    if decision.start is not None or decision.muted:
        return []  # outside the stretch, or muted, its plugins still play
    through = len(strip.inserts) if decision.kind == "off" else last_place(strip, decision)
    inside = (u for p, u in strip.places() if (p <= through if decision.use is None else u.id == decision.use))
    return [use for use in inside if use.loaded]


class Given(NamedTuple):
    """What the unloaded plugins of a plan give back: bytes, and seconds to load them again, as far as measured."""

    memory: float
    seconds: float


def given_back(of: Survey) -> Given:
    """The memory that the plan's unloaded freezes give back, and how long their plugins take to load again."""
    uses = [use for decision in of.plan.decisions if decision.unloaded for use in _taken_out(of, decision)]
    if not uses:
        return Given(0.0, 0.0)
    cards, gone = of.planned.cards, {use.id for use in uses}
    loaded = loaded_uses(of.session)
    left = opening_of((use for use in loaded if use.id not in gone), cards)
    seconds = opening_of(loaded, cards).seconds - left.seconds
    return Given(float(memory(of.session, cards).given_back(uses)), seconds)
