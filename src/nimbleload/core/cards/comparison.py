"""Cost cards side by side: two plugins or settings against each other, and what is lighter in the same family."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from typing import NamedTuple

from ..session.strips import CardKey, Family, PluginUse, Setting, Variant, deadline
from ..told.verdict import microseconds, percent
from .card import Cards, CostCard, Effect, Sweep
from .families import squeezed

# Less than this is within what two measurements differ by.
TELLING = 0.05
# Two standards agree on a plugin's cost when it is no further apart.
AGREEING = 0.10
VOICES_NAME = "voices played"


class Lighter(NamedTuple):
    """A plugin that costs less: its card, seconds per block, and the share of the other's cost that it saves."""

    card: CostCard
    seconds: float
    saved: float


def lighter(
    cards: Cards, families: dict[tuple[str, str], Family], of: PluginUse, rate: int, buffer: int, most: int = 5
) -> list[Lighter]:
    """What costs less than a use among the other plugins of its family, each at its lightest, most saving first.

    `families` says the family of each (standard, identifier); what it does not name is left out.
    """
    own = cards.get(of.card_key())
    cost = own.cost(rate, buffer, "sounding").seconds if own is not None else 0.0
    if cost <= 0 or of.family == "other":
        return []
    same = (of.plugin.standard, of.plugin.identifier)
    best: dict[tuple[str, str], Lighter] = {}
    for key, card in cards.items():
        place = (key.standard, key.identifier)
        figure = card.cost(rate, buffer, "sounding")
        if families.get(place) != of.family or place == same or figure.provenance == "unknown":
            continue
        saved = 1 - figure.seconds / cost
        if saved > TELLING and (place not in best or figure.seconds < best[place].seconds):
            best[place] = Lighter(card, figure.seconds, saved)
    return sorted(best.values(), key=lambda found: found.seconds)[:most]


def savings(sweep: Sweep) -> list[tuple[Effect, float]]:
    """The tried settings that save something worth telling, with the share that they save, most first."""
    if sweep.base <= 0:
        return []
    found = [(effect, 1 - effect.seconds / sweep.base) for effect in sweep.ranked()]
    return [(effect, share) for effect, share in found if share > TELLING]


def variant_of(use: PluginUse, effects: Sequence[Effect]) -> Variant:
    """The variant of a use with these values; of several for one parameter the last counts."""
    values = dict(use.setting.values)
    words: dict[str, str] = {}
    voices = 0
    for effect in effects:
        words[effect.parameter] = effect.words
        if effect.parameter == VOICES_NAME:
            voices = int(effect.value)
        else:
            values[effect.parameter] = effect.value
    setting = Setting(tuple(values.items()), use.setting.state)
    return Variant(use.card_key(), ", ".join(words.values()), setting, voices)


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
        if key.standard == of.key.standard or not _same_plugin(card, of):
            continue
        costs = [c.cost(rate, buffer, "sounding") for c in (of, card)]
        if any(cost.provenance == "unknown" or cost.seconds <= 0 for cost in costs):
            continue
        share = costs[1].seconds / costs[0].seconds
        standard = key.standard.upper()
        if abs(share - 1) <= AGREEING:
            said.append(f"As {standard} it costs the same: {microseconds(costs[1].seconds)}.")
            continue
        much = f"{percent(1 - share)} less" if share < 1 else f"{percent(share - 1)} more"
        why = "; ".join(reasons(of, card, rate, buffer))
        said.append(f"As {standard} it costs {microseconds(costs[1].seconds)}, {much}: {why}.")
    return said


def _same_plugin(one: CostCard, other: CostCard) -> bool:
    """Whether two cards are of one plugin in two standards: by its name, or by the names of all its parameters."""
    first, second = squeezed(one.name), squeezed(other.name)
    names = [{p.name for p in card.positions} for card in (one, other)]
    return (first == second and first != "") or (len(names[0]) > 3 and names[0] == names[1])


def reasons(one: CostCard, other: CostCard, rate: int, buffer: int) -> list[str]:
    """Why two cards of one plugin need not agree, each a clause; there is always one.

    Parameters that stand elsewhere, another latency, another price of each call, and a computer that was not quiet.
    """
    found = _elsewhere(one, other)
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
        found.append("nothing else that is known differs, so it is how the plugin was built for that standard")
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


def card_named(cards: Cards, uses: dict[CardKey, PluginUse], words: str) -> list[tuple[PluginUse, CostCard | None]]:
    """The uses whose name and setting hold every one of these words, with their cards; a number must be whole."""
    wanted = words.lower().split()
    found = []
    for key, use in uses.items():
        text = f"{use.label} {use.setting.words()} {use.plugin.standard} {use.plugin.identifier}".lower()
        numbers = set(text.replace(",", " ").split())
        if all(word in (numbers if word[0].isdigit() else text) for word in wanted):
            found.append((use, cards.get(key)))
    return found
