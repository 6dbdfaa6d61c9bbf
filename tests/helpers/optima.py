"""Sessions whose cheapest plan is known by other means: knapsacks and their like, solved by dynamic programming."""

from __future__ import annotations

import itertools
import random
from collections.abc import Iterator, Sequence
from typing import NamedTuple

import msgspec

from nimbleload.core.cards.card import Truth
from nimbleload.core.decisions.decision import Plan
from nimbleload.core.decisions.price import Weights
from nimbleload.core.optimise.candidates import Wishes
from nimbleload.core.session.computer import Machine
from nimbleload.core.session.session import Session
from nimbleload.core.survey import Survey, survey
from tests.helpers.sessions import RATE, bus, card, session, track, use

BLOCK = 256 / RATE
# A minute for each second of a track that is frozen: 48000 samples of two channels and 32 bits.
PER_SECOND = Weights(rendering=0.0, returning=0.0, locked=0.0, disk=1e8 / (RATE * 8), bus=0.5, member=0.1, suspend=1e6)
# A minute for each plugin that is locked.
PER_PLUGIN = msgspec.structs.replace(PER_SECOND, disk=0.0, locked=1.0)


class Known(NamedTuple):
    """A session with a wish, and the least price of a plan that fulfils it."""

    name: str
    of: Survey
    wishes: Wishes
    least: float


def knapsack(costs: Sequence[int], prices: Sequence[float], needed: int) -> float:
    """The least price of items whose costs come to `needed` at least."""
    best = [0.0] + [float("inf")] * needed
    for cost, price in zip(costs, prices, strict=True):
        for so_far in range(needed, 0, -1):
            best[so_far] = min(best[so_far], best[max(so_far - cost, 0)] + price)
    return best[needed]


def surveyed(of: Session, units: dict[str, float], cores: int, unit: float) -> Survey:
    """Plugins cost so many units of a block while they sound, and nothing in silence."""
    cards = {}
    for key, uses in of.card_keys().items():
        made = card(uses[0], units[key.identifier] * unit, 0.0, 0.0)
        cards[key] = msgspec.structs.replace(made, truth=Truth(linear_db=-120.0))
    return survey(of, Plan(), cards, Machine(cores), 256)


def items(rng: random.Random, count: int, start: float = 0.0) -> list[tuple[int, int]]:
    """Costs in units and lengths in seconds, in no simple proportion."""
    return [(rng.randint(5, 40), rng.randint(10, 90)) for _ in range(count)]


def freezing(rng: random.Random, count: int = 30) -> Known:
    found = items(rng, count)
    strips = [track(f"t{k}", f"c{k}", clips=((0.0, float(s)),)) for k, (_, s) in enumerate(found)]
    costs = [c for c, _ in found]
    needed = int(0.37 * sum(costs))
    unit = BLOCK / 1000
    of = surveyed(session(*strips, length=100.0), {f"c{k}": c for k, c in enumerate(costs)}, 1, unit)
    limit = (sum(costs) - needed) / 1000
    return Known(
        "knapsack", of, Wishes(limit, PER_SECOND, kinds=("freeze",)), knapsack(costs, [s for _, s in found], needed)
    )


def choosing(rng: random.Random, count: int = 18) -> Known:
    """The instrument alone, or the whole chain: the more is frozen, the more is locked."""
    strips, options, units = [], [], {}
    for k in range(count):
        source, inserts = rng.randint(5, 40), [rng.randint(2, 12) for _ in range(rng.randint(1, 4))]
        names = [f"i{k}.{n}" for n in range(len(inserts))]
        strips.append(track(f"t{k}", *names, instrument=use(f"s{k}", f"t{k}/s", voices=0), clips=((0.0, 10.0),)))
        units |= {f"s{k}": source, **dict(zip(names, inserts, strict=True))}
        options.append([(0, 0.0), (source, 1.0), (source + sum(inserts), 1.0 + len(inserts))])
    total = sum(units.values())
    needed = int(0.45 * total)
    best = {0: 0.0}
    for choices in options:
        after: dict[int, float] = {}
        for (so_far, price), (cost, more) in itertools.product(best.items(), choices):
            reached = min(so_far + cost, needed)
            after[reached] = min(after.get(reached, float("inf")), price + more)
        best = after
    of = surveyed(session(*strips), units, 1, BLOCK / 1000)
    return Known("multiple choice", of, Wishes((total - needed) / 1000, PER_PLUGIN, kinds=("freeze",)), best[needed])


def chaining(rng: random.Random, count: int = 24) -> Known:
    """More cores than tracks: each that is too long by itself must be frozen, however cheap another is."""
    found = items(rng, count)
    strips = [track(f"t{k}", f"c{k}", clips=((0.0, float(s)),)) for k, (_, s) in enumerate(found)]
    of = surveyed(session(*strips, length=100.0), {f"c{k}": c for k, (c, _) in enumerate(found)}, 64, BLOCK / 50)
    least = sum(s for c, s in found if c > 25)
    return Known("chains", of, Wishes(0.5, PER_SECOND, kinds=("freeze",)), float(least))


def sections(rng: random.Random, count: int = 10, each: int = 9) -> Known:
    """Ten sections one after the other, each a knapsack of its own."""
    strips, units, least, limit = [], {}, 0.0, 120
    for section in range(count):
        found = items(rng, each)
        begin = 100.0 * section
        for k, (c, s) in enumerate(found):
            name = f"{section}.{k}"
            strips.append(track(name, name, clips=((begin, begin + s),)))
            units[name] = c
        least += knapsack([c for c, _ in found], [s for _, s in found], max(sum(c for c, _ in found) - limit, 0))
    of = surveyed(session(*strips, length=1000.0), units, 1, BLOCK / 1000)
    return Known("ten sections", of, Wishes(limit / 1000, PER_SECOND, kinds=("freeze",)), least)


def rows(rng: random.Random, cores: int = 4, deep: int = 6) -> Known:
    """Equal tracks that fill the cores in rows: a row less means as many tracks as there are cores, the cheapest."""
    lengths = sorted(rng.randint(10, 90) for _ in range(cores * deep))
    strips = [track(f"t{k}", "p", clips=((0.0, float(s)),)) for k, s in enumerate(lengths)]
    of = surveyed(session(*strips, length=100.0), {"p": 1}, cores, BLOCK / 10)
    return Known(
        "rows of cores", of, Wishes((deep - 2) / 10, PER_SECOND, kinds=("freeze",)), float(sum(lengths[: 2 * cores]))
    )


def tail(rng: random.Random, cores: int = 4, deep: int = 5) -> Known:
    """The same rows before a bus, a group and the main output, which can only run when all is done."""
    lengths = sorted(rng.randint(10, 90) for _ in range(cores * deep))
    strips = [track(f"t{k}", "p", output="bus", clips=((0.0, float(s)),)) for k, s in enumerate(lengths)]
    of = session(
        *strips, bus("bus", "b", output="group"), bus("group", "g"), bus("main", "m", kind="main", output=None),
        length=100.0,
    )  # fmt: skip
    found = surveyed(of, {"p": 2, "b": 1, "g": 1, "m": 1}, cores, BLOCK / 20)
    limit = (2 * (deep - 2) + 3) / 20
    return Known(
        "bus–group–main tail", found, Wishes(limit, PER_SECOND, kinds=("freeze",)), float(sum(lengths[: 2 * cores]))
    )


def sharing(rng: random.Random, count: int = 9) -> Known:
    """Groups of tracks with one effect each: all but one of its costs, for half a minute and a tenth a track."""
    strips, units, costs, prices = [], {}, [], []
    for group in range(count):
        members, cost = rng.randint(2, 6), rng.randint(4, 30)
        strips += [track(f"{group}.{k}", f"e{group}", output=f"b{group}") for k in range(members)]
        strips.append(bus(f"b{group}"))
        units[f"e{group}"] = cost
        costs.append((members - 1) * cost)
        prices.append(0.5 + 0.1 * members)
    total = sum(units[s.inserts[0].plugin.identifier] for s in strips if s.inserts)
    needed = int(0.5 * sum(costs))
    of = surveyed(session(*strips), units, 1, BLOCK / 1000)
    return Known(
        "sharing", of, Wishes((total - needed) / 1000, PER_SECOND, kinds=("share",)), knapsack(costs, prices, needed)
    )


def known(seed: int = 1) -> Iterator[Known]:
    """Seven sessions, one of each sort."""
    for make in (freezing, choosing, chaining, sections, rows, tail, sharing):
        yield make(random.Random(seed))
