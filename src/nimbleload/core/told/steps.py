"""The steps of a plan in words: what each does, what it costs as a sum, and what speaks for it."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ..decisions.apply import told_as
from ..decisions.decision import Decision
from ..decisions.kind import chain_called, named_use
from ..decisions.price import Price
from ..decisions.share import shared_end
from ..optimise.steps import Step, WorstBlock
from ..optimise.suggest import Suggestion
from ..session.strips import Strip
from ..survey import Survey
from ..units import clock, listed, minutes, percent, size

# A plan that none can undercut but for rounding, and by so little that it is told as a share of its price (fractions).
PROVEN, NEARLY = 1e-6, 0.005
# What gives back less memory is not told by it (bytes).
WORTH_TELLING = 1 << 20
NUMBERS = ("no", "one", "two", "three", "four", "five", "six", "seven", "eight", "nine", "ten", "eleven", "twelve")


def number(count: int) -> str:
    """A number as it is written in a sentence: words up to twelve."""
    return NUMBERS[count] if count < len(NUMBERS) else str(count)


def words(of: Survey, decisions: Sequence[Decision]) -> str:
    """A step in words: "One Vault on a bus for these nine: Nyckelharpa, Fiddle, Cello and 6 more"."""
    first = decisions[0]
    strips = [of.session.strip(d.strip) for d in decisions]
    label = next((use.label for s, d in zip(strips, decisions, strict=True) if (use := named_use(s, d.use))), "")
    if first.kind == "share":
        shared = chain_called(shared_end(strips[0], first))
        return f"One {shared} on a bus for {number(len(decisions))}: {_names([s.name for s in strips])}"
    if len(decisions) == 1:
        return told_as(of.session, first)
    if first.kind == "lighten":
        return f"{label} at {first.variant} {_on(strips)}"
    if first.kind == "off":
        made = {use.label for s, d in zip(strips, decisions, strict=True) if (use := named_use(s, d.use))}
        what = label if len(made) == 1 else f"{label} and others"
        return f"Switch off {what} {_on(strips)}"
    if first.kind == "suspend":
        return f"Suspend {number(len(decisions))} while they are silent: {_names([s.name for s in strips])}"
    return f"{told_as(of.session, first)} and {len(decisions) - 1} more"


def _on(strips: Sequence[Strip]) -> str:
    """On which tracks plugins are; of one track several may be."""
    tracks = {strip.id: strip.name for strip in strips}
    names = list(tracks.values())
    return f"on {names[0]}" if len(names) == 1 else f"on {number(len(names))}: {_names(names)}"


def _names(names: Sequence[str], most: int = 3) -> str:
    return listed(list(dict.fromkeys(names)), most)


def price_words(price: Price) -> str:
    """A price as a sum: "6.0 min: 2.0 of rendering, 3.0 if you return to it, 1.0 for 10 plugins locked"."""
    parts = [*price.parts, *(part for _, part in price.once)]
    told = [f"{part.minutes:.1f} {part.words}" for part in parts if part.minutes >= 0.05]
    small = sum(part.minutes for part in parts if part.minutes < 0.05)
    if small >= 0.05 or (small > 0 and not told):
        told.append(f"{small:.2f} of small things")
    return minutes(price.minutes) + (f": {', '.join(told)}" if told else "")


def step_words(of: Survey, step: Step) -> str:
    """A step with what it brings: its work in shares of one core, and the worst load before and after."""
    saved = f", {percent(step.work)} of one core" if step.work > 0.0005 else ""
    if any(decision.unloaded for decision in step.decisions) and step.memory >= WORTH_TELLING:
        saved += f", {size(step.memory)} of memory"
    return f"{words(of, step.decisions)}{saved}: worst {percent(step.before)} → {percent(step.load)}"


def why(of: Survey, at: WorstBlock, decisions: Sequence[Decision]) -> str:
    """What speaks for decisions: what their strips take of the worst block, where that is, and how often they sound."""
    ids = {decision.strip for decision in decisions}
    numbers = [k for k, strip in enumerate(of.now.session.strips) if strip.id in ids]
    share = percent(float(at.strips[numbers].sum()) / of.deadline)
    who = f"{of.session.strip(decisions[0].strip).name} takes" if len(numbers) == 1 else f"the {len(numbers)} take"
    silent = "" if at.sounding[numbers].any() else ", though silent"
    times = of.now.moments.times
    seconds = float(of.now.moments.sounding[:, numbers].any(axis=1) @ np.diff(times))
    heard = f"heard in {percent(seconds / max(float(times[-1]), 1e-9))} of the piece"
    section = of.session.section_at(at.second)
    where = f" in {section.name}" if section is not None else ""
    return f"{who} {share} of one core in the worst block{where} ({clock(at.second)}){silent}; {heard}"


def how_good(found: Suggestion) -> str:
    """How much less another plan could give up, in words."""
    if found.gap < PROVEN:
        return "No plan gives up less."
    if found.gap < NEARLY:
        return f"No plan gives up {percent(NEARLY)} less."
    left = found.price - found.least
    smallest = min((step.price.minutes for step in found.steps), default=0.0)
    fraction = f", which is {_share_of_step(left / smallest)} its smallest step" if smallest > left else ""
    return f"Another plan may give up less, but by {minutes(left)} at most ({percent(found.gap)}){fraction}."


def _share_of_step(share: float) -> str:
    if share > 0.75:
        return "no more than"
    return f"at most {'a quarter' if share <= 0.25 else 'half' if share <= 0.5 else 'three quarters'} of"


def in_the_way(of: Survey, found: Suggestion) -> str:
    """Why no plan reaches the limit, as far as it was found out."""
    judged = found.in_the_way
    if judged is None:
        return _short(found)
    reasons = {
        "live": f"the live thread alone still takes {percent(judged.rung.live)}",
        "chain": f"one chain still takes {percent(judged.rung.chain)} one after the other",
        "work": f"what is left still needs {percent(judged.rung.spread)}, evenly spread",
        "overhead": f"the host's own time is {percent(judged.overhead)} of what is left",
        "waiting": f"the cores wait: its work would fit with {percent(judged.rung.spread)}",
    }
    proven = (
        "No plan of these kinds can reach it" if found.impossible else "No plan of these kinds was found to reach it"
    )
    reason = f": {reasons[judged.kind]}" if judged.kind in reasons else ""
    names = [of.session.strip(strip).name for strip in found.stays]
    stays = (
        f" {_names(names, 4)} stay{'s' if len(names) == 1 else ''} as {'it is' if len(names) == 1 else 'they are'}."
        if names
        else ""
    )
    buses = sum(1 for s in of.session.strips if s.kind != "track" and s.live_uses())
    more = " Buses and returns cannot be frozen." if buses else ""
    short = _short(found)
    return f"{percent(found.load)} is the lowest. {proven}{reason}.{stays}{more}{f' {short}' if short else ''}"


def _short(found: Suggestion) -> str:
    """That plugins keep more memory than they may, whatever is unloaded; empty if there is room."""
    if not found.short:
        return ""
    over = f"{size(found.short)} more than there is room for"
    return f"With all unloaded that can be frozen, plugins would keep {size(found.kept)} of memory: {over}."
