"""Plans, options and what hurts, in words."""

from __future__ import annotations

from ..load.memory import fits
from ..optimise.suggest import Suggestion
from ..optimise.weigh import Weighed
from ..survey import Survey
from ..units import minutes, percent, size
from .as_known import fits_words, is_unknown, load_words
from .memory import kept_words
from .steps import in_the_way, number, price_words

# What can hurt more or less, as it stands in `Weights`, and what one unit of its scale is there.
HURTS = {
    "rendering": "waiting for renders", "returning": "coming back to what is frozen", "sound": "another sound",
    "tails": "tails that are cut", "locked": "a plugin that cannot be touched", "bus": "a bus to set up",
    "disk": "a hundred megabytes of disk",
}  # fmt: skip
UNIT = {"rendering": 1.0, "returning": 1.0, "sound": 1.0, "tails": 1.0, "locked": 0.1, "bus": 0.5, "disk": 0.1}
FACTORS = ("rendering", "returning", "sound", "tails")


def weight_words(name: str, value: float) -> str:
    """A weight as it is shown: a factor, or minutes."""
    return f"× {value:.1f}" if name in FACTORS else f"{value:.2f} min"


def plan_words(of: Survey, plan: Suggestion) -> str:
    """A plan in a sentence: where it leads from the session as it is, and what it gives up."""
    if not plan.reached:
        return in_the_way(of, plan)
    kinds: dict[str, int] = {}
    for step in plan.steps:
        kinds[step.decision.kind] = kinds.get(step.decision.kind, 0) + 1
    made = ", ".join(f"{number(count)} × {kind}" for kind, count in sorted(kinds.items())) or "no steps"
    before = load_words(of, of.before.highest)
    in_place = ""
    if of.plan.decisions:
        in_place = f" The plan in place: {load_words(of, of.after.highest)}."
    if is_unknown(of):
        return fits_words(of)
    is_short = not fits(of.memory, of.machine.memory)
    memory = f" Plugins keep {kept_words(of.memory)} → {size(plan.kept)}." if is_short else ""
    return f"{before} → {percent(plan.load)} at worst, for {minutes(plan.price)}: {made}.{memory}{in_place}"


def alike_words(other: str) -> str:
    """That a plan is the one that stands beside it under another name."""
    return f"The same plan as “{other}”."


def option_words(weighed: Weighed) -> str:
    """What an option costs, and what it gives up."""
    said = weighed.option.gives_up
    if weighed.price.minutes > 0:
        said = f"{minutes(weighed.price.minutes)} · {said}"
    if weighed.disk:
        said += f"; {weighed.disk / 1e6:.0f} MB, {max(weighed.rendering, 1):.0f} s to render"
    if 0 < weighed.possible < weighed.strips:
        said += f"; possible for {weighed.possible} of {weighed.strips}"
    return said


def option_price(weighed: Weighed) -> list[str]:
    """The price of an option as a sum, if it has one."""
    return [price_words(weighed.price)] if weighed.price.minutes > 0 else []


def savings_words(weighed: Weighed) -> list[str]:
    """What a decision saves beyond the load of the moment: at the worst moment, on the longest chain, in memory."""
    said = []
    if weighed.saving is not None and weighed.worst is not None and not weighed.taken:
        said.append(f"at the worst moment: {percent(weighed.worst.load)} of load")
        said.append(f"on the longest chain here: {percent(weighed.saving.chain)}")
        said.append(f"of all work here: {percent(weighed.saving.work)} of one core")
    if weighed.memory >= 1 << 20:
        said.append(f"if it is unloaded: {size(weighed.memory)} of memory")
    return said
