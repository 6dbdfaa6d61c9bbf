"""Two cost cards side by side in words: what differs, and why; and what trying out the settings has shown."""

from __future__ import annotations

import math
from collections.abc import Iterable

from ..cards.card import Cards, CostCard, Sweep
from ..cards.comparison import TELLING, Lighter, savings
from ..cards.families import squeezed
from ..session.computer import deadline
from ..session.plugins import CardKey, made_as
from ..units import compared, count, microseconds, percent

# Two standards agree on a plugin's cost when it is no further apart.
AGREEING = 0.10


def sweep_sentences(sweep: Sweep) -> list[str]:
    """What trying out the settings has shown."""
    found = savings(sweep)
    tried = len(sweep.effects)
    said = [f"{tried} other values were tried, one at a time, at {sweep.buffer} samples."]
    if not found and tried:
        said.append("None of them saves anything worth telling.")
    dearest = max((e for e in sweep.effects if e.failure is None), key=lambda e: e.seconds, default=None)
    if dearest is not None and sweep.base > 0 and dearest.seconds > (1 + TELLING) * sweep.base:
        said.append(f"Dearest: {dearest.words}, {percent(dearest.seconds / sweep.base)} of the cost as it is.")
    failed = [e for e in sweep.effects if e.failure is not None]
    said += [f"{e.words}: {e.failure}." for e in failed[:3]]
    if len(failed) > 3:
        said.append(f"{len(failed) - 3} more values failed.")
    if sweep.skipped:
        said.append(f"{sweep.skipped} more values were left out: the time was over.")
    return said


def comparison(one: CostCard, other: CostCard, rate: int, buffers: Iterable[int]) -> list[list[str]]:
    """Rows of a table, heading first: the cost of both in per cent of one core and in µs, and the second's share."""
    rows = [["buffer", one.name, other.name, "second against first"]]
    for buffer in buffers:
        costs = [card.cost(rate, buffer, "sounding") for card in (one, other)]
        if any(cost.provenance == "unknown" for cost in costs):
            continue
        block = deadline(buffer, rate)
        first, second = (f"{percent(c.seconds / block)}, {microseconds(c.seconds)}" for c in costs)
        share = percent(costs[1].seconds / costs[0].seconds) if costs[0].seconds > 0 else "—"
        rows.append([str(buffer), first, second, share])
    return rows


def other_standards(cards: Cards, of: CostCard, rate: int, buffer: int) -> list[str]:
    """What the same plugin costs in each other standard that was measured, and why it costs something else there."""
    said = []
    for key, card in cards.items():
        if key.standard == of.key.standard or not _same_plugin(card, of) or _played_otherwise(of.key, key):
            continue
        costs = [c.cost(rate, buffer, "sounding") for c in (of, card)]
        if any(cost.provenance == "unknown" or cost.seconds <= 0 for cost in costs):
            continue
        share = costs[1].seconds / costs[0].seconds
        standard = key.standard.upper()
        if abs(share - 1) <= AGREEING:
            said.append(f"As {standard} it costs the same: {microseconds(costs[1].seconds)}.")
            continue
        much = f"{compared(1 - share)} less" if share < 1 else f"{compared(share - 1)} more"
        why = "; ".join(reasons(of, card, rate, buffer))
        said.append(f"As {standard} it costs {microseconds(costs[1].seconds)}, {much}: {why}.")
    return said


def lighter_words(found: Lighter) -> str:
    """A plugin that costs less, in words: "Sluice (built in), 1.9 µs: 91 % less"."""
    name = f"{found.card.name or found.card.key.identifier} ({made_as(found.card.key.standard)})"
    return f"{name}, {microseconds(found.seconds)}: {compared(found.saved)} less"


def reasons(one: CostCard, other: CostCard, rate: int, buffer: int) -> list[str]:
    """Why two cards of one plugin need not agree, each a clause; there is always one.

    Other channels or notes, parameters that stand elsewhere, another latency, another price of each call, and a
    computer that was not quiet.
    """
    found = _played_otherwise(one.key, other.key) + _elsewhere(one, other)
    if one.latency != other.latency:
        found.append(f"it reports {other.latency} samples of latency, not {one.latency}")
    quiet = (card.cell(rate, buffer, "sounding") for card in (one, other))
    if not all(cell is None or cell.quiet for cell in quiet):
        found.append("the computer was not quiet while it was measured")
    lines = [card.fit(rate, "sounding") for card in (one, other)]
    if lines[0] is not None and lines[1] is not None:
        costs = [card.cost(rate, buffer, "sounding").seconds for card in (one, other)]
        apart, fixed = costs[1] - costs[0], lines[1].fixed - lines[0].fixed
        if apart and fixed / apart > 0.5:
            found.append(f"each call costs {microseconds(lines[1].fixed)} there, {microseconds(lines[0].fixed)} here")
    if not found:
        built = ", so it is how the plugin was built for that standard"
        found.append(f"nothing else that is known differs{built if one.key.standard != other.key.standard else ''}")
    return found


def _played_otherwise(one: CardKey, other: CardKey) -> list[str]:
    """In which other surroundings the second was measured than the first, in clauses."""
    found = []
    if one.channels != other.channels:
        found.append(f"its track has {count(other.channels, 'channel')}, not {one.channels}")
    if one.voices != other.voices:
        found.append(f"it plays {count(other.voices, 'note')}, not {one.voices}")
    if one.keyed != other.keyed:
        found.append("its side-chain hears something" if other.keyed else "its side-chain hears nothing")
    return found


def _elsewhere(one: CostCard, other: CostCard) -> list[str]:
    """The parameters that do not stand alike in two cards, in one clause that names the first three."""
    stood = {p.name: p.value for p in one.positions}
    apart = [
        f"{p.name} {p.value:.4g} there, {stood[p.name]:.4g} here"
        for p in other.positions
        if p.name in stood and not math.isclose(p.value, stood[p.name], rel_tol=1e-3, abs_tol=1e-4)
    ]
    if not apart:
        return []
    more = f", and {len(apart) - 3} more" if len(apart) > 3 else ""
    return [f"not set alike ({', '.join(apart[:3])}{more})"]


def _same_plugin(one: CostCard, other: CostCard) -> bool:
    """Whether two cards are of one plugin in two standards: by its name, or by the names of all its parameters."""
    first, second = squeezed(one.name), squeezed(other.name)
    names = [{p.name for p in card.positions} for card in (one, other)]
    return (first == second and first != "") or (len(names[0]) > 3 and names[0] == names[1])
