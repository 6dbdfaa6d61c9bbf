"""The verdict on one moment in words: what is wrong, how bad, and what stands in the way.

What would help is said only with its effect, as the block computation finds it (see `outlook`).
"""

from __future__ import annotations

from typing import Literal, NamedTuple

from ..load.judged import Judged, JudgedKind
from ..survey import Instant, Parts, Survey
from ..units import all_of, clock, milliseconds, percent
from . import memory
from .as_known import counted_as_nothing, without_figure

VerdictKind = JudgedKind | Literal["peaks", "memory"]

# A larger buffer is worth its own reason if it takes off this share of the load.
MATTERS = 0.15


class Verdict(NamedTuple):
    """`headline` says what is wrong and how bad, `advice` what would help; `overload` is true past the deadline."""

    kind: VerdictKind
    headline: str
    advice: str
    overload: bool


def verdict(of: Survey, at: Instant) -> Verdict:
    """The verdict on a moment at the survey's buffer size, and on whether there is memory for all plugins."""
    return with_memory(of, of_blocks(of, at))


def with_memory(of: Survey, said: Verdict) -> Verdict:
    """A verdict, and that there is no room for what plugins keep, where there is none."""
    trouble = memory.trouble(of)
    if not trouble:
        return said
    headline = f"{said.headline}  There is not enough memory."
    kind: VerdictKind = "memory" if said.kind == "fits" else said.kind
    overload = said.overload or of.memory.bytes > of.machine.memory
    return Verdict(kind, headline, f"{trouble} {said.advice}", overload)


def of_blocks(of: Survey, at: Instant) -> Verdict:
    """The verdict on a moment at the survey's buffer size."""
    judged, session = at.judged, of.planned.session
    block_time = milliseconds(of.deadline)
    if judged.kind == "unknown":
        advice = f"{without_figure(judged.missing)}: measure first."
        return Verdict("unknown", "Nothing is measured yet.", advice, False)
    load = f"{'At least ' if judged.missing else ''}{percent(judged.rung.load)}"
    gap = f" {counted_as_nothing(judged.missing)}." if judged.missing else ""
    if judged.kind == "fits" and not any(strip.uses() for strip in session.strips):
        own = f" The host itself takes {load} of the {block_time} deadline." if judged.rung.load >= 0.0005 else ""
        advice = f"Tracks that only play cost next to nothing.{own} Plugins are added on Session."
        return Verdict("fits", "There are no plugins in this session.", advice, False)
    if judged.kind == "fits":
        room = f"{'At most ' if judged.missing else ''}{percent(1 - judged.rung.load)}"
        advice = f"{room} of the deadline stays free; the limit is {percent(session.limit)}.{gap}"
        headline = f"Fits at {clock(at.second)}.  {load} of the {block_time} deadline."
        return Verdict("fits", headline, advice, False)
    verb = "Overloads" if judged.is_overload else "Tight"
    headline = f"{verb} at {clock(at.second)}.  {load} of the {block_time} deadline."
    reasons = (_reason(of, at), _aside(of, at), _computer(at), _larger(judged, session.rate))
    advice = " ".join(reason for reason in reasons if reason)
    return Verdict(judged.kind, headline, advice + gap, judged.is_overload)


def _reason(of: Survey, at: Instant) -> str:
    """Which bound stands in the way, and so what can help at all."""
    judged, rung, session = at.judged, at.judged.rung, of.planned.session
    limit = percent(session.limit)
    surplus = f"{percent(judged.over * of.threads)} of one core"
    if judged.kind == "live":
        armed = _listed([strip.name for strip in session.strips if strip.armed and strip.enabled])
        return (
            f"The live thread alone takes {percent(rung.live)}: it computes {armed} and all that comes after at the "
            f"device's buffer. {percent(judged.over)} of the deadline must leave it to reach {limit}; "
            "what is computed ahead does not matter."
        )
    if judged.kind == "chain":
        names = " → ".join(session.strips[i].name for i in at.block.strips(at.block.chain) if session.strips[i].uses())
        both = f" Evenly spread, all work would need {percent(rung.spread)}." if rung.spread > session.limit else ""
        return (
            f"One chain is too long: {names} takes {percent(rung.chain)} one after the other. It must shrink to "
            f"{limit}; more cores do not help.{both}"
        )
    if judged.kind in ("work", "overhead"):
        if of.threads == 1:
            said = f"One core does all the work: {percent(judged.over)} of the deadline must go to reach {limit}."
        else:
            said = (
                f"There is too much work: even perfectly spread over {of.threads} threads it needs "
                f"{percent(rung.spread)}. Moving it does not help; {surplus} must go, wherever, to reach {limit}."
            )
        if judged.kind == "overhead":
            said += f" {percent(judged.overhead)} of it is the host's own, for each strip and plugin."
        return said
    return (
        f"The cores wait for each other: evenly spread, the work would need {percent(rung.spread)}, and no chain takes "
        f"more than {percent(rung.chain)}. {percent(rung.load - max(rung.spread, rung.chain))} is waiting."
    )


def _aside(of: Survey, at: Instant) -> str:
    """What plugins' own threads compute, where it is worth a word."""
    share = float(of.case.aside(at.states)) / of.deadline
    return f"Plugins' own threads compute {percent(share)} of one core of it." if share >= 0.005 else ""


def adds(of: Parts) -> tuple[tuple[float, str], ...]:
    """What the computer adds to a load (fractions of the deadline), each with the reason."""
    return (
        (of.computer, "because it interrupts"),
        (of.cold, "because it keeps no caches between two blocks"),
        (of.slowed, "because it lowers its clock beside plugins that compute with wide vectors"),
        (of.beside, "because its cores slow each other down"),
        (of.uneven, "because some of its cores are slow"),
    )  # fmt: skip


def _computer(at: Instant) -> str:
    """What the computer adds, where it is worth a word."""
    told = [(share, words) for share, words in adds(at.parts) if share >= 0.005]
    if not told:
        return ""
    if len(told) == 1:
        return f"{percent(told[0][0])} of it is this computer's, {told[0][1]}."
    parts = all_of([f"{percent(share)} {words}" for share, words in told], len(told))
    return f"{percent(sum(share for share, _ in told))} of it is this computer's: {parts}."


def _larger(judged: Judged, rate: int) -> str:
    """The next larger buffer at which it would fit, with what that costs."""
    larger, rung, late = judged.larger, judged.rung, judged.late
    if larger is None and late is not None:
        return (
            f"At {late.buffer} samples it would take {percent(late.load)}, but who records would hear himself "
            f"after {milliseconds(late.heard)}."
        )
    if larger is None:
        return ""
    said = (
        f"At {larger.buffer} samples it would take {percent(larger.load)} here, for a round trip of "
        f"{milliseconds(larger.round_trip)} in place of {milliseconds(rung.round_trip)}."
    )
    if judged.kind in ("work", "overhead") and larger.load < (1 - MATTERS) * rung.load:
        return f"Much of it is the price of each call, whatever its length. {said}"
    return said


def _listed(names: list[str]) -> str:
    return ", ".join(names[:-1]) + f" and {names[-1]}" if len(names) > 1 else "".join(names)
