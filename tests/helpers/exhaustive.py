"""The cheapest plan by trying all of them, in the order of their price; and small random sessions to try that on."""

from __future__ import annotations

import itertools
import random
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from unittest.mock import patch

import msgspec

from nimbleload.core.cards.card import Company, Polyphony, Truth
from nimbleload.core.cards.slowing import Slowing
from nimbleload.core.cards.upkeep import Upkeep
from nimbleload.core.decisions.apply import apply, price
from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.load.case import case
from nimbleload.core.load.load_map import load_map
from nimbleload.core.load.prepared import prepare
from nimbleload.core.optimise import evaluate, proof, search, suggest
from nimbleload.core.optimise.candidates import Candidate, Wishes
from nimbleload.core.session.computer import Host, Machine
from nimbleload.core.session.plugins import Variant
from nimbleload.core.session.session import Session
from nimbleload.core.session.strips import Clip, Send, Strip
from nimbleload.core.survey import Survey
from tests.helpers.sessions import RATE, bus, card, session, setting, use

BLOCK = 256 / RATE


def worst(of: Session, plan: Plan, cards: dict, machine: Machine) -> float:
    """The worst load under a plan, by the load computation alone."""
    planned = prepare(apply(of, plan).session, cards, now=prepare(of, cards))
    return float(load_map(case(planned, machine, 256)).load.max())


def clashes(of: Session, one: Decision, other: Decision) -> bool:
    """Whether two decisions are about the same plugin, or both about one strip as a whole."""
    if one.strip != other.strip:
        return False
    if one.use is None and other.use is None:
        return True
    strip = of.strip(one.strip)

    def about(d: Decision) -> set[str]:
        places = dict(strip.places())
        if d.kind == "freeze":
            last = len(strip.inserts) - 1 if d.through is None else d.through
            return {use.id for place, use in places.items() if place <= last}
        if d.kind == "suspend":
            return set()
        if d.kind == "share":
            return {use.id for place, use in places.items() if place >= strip.place_of(d.use or "")}
        return {d.use or ""}

    return bool(about(one) & about(other))


def cheapest(of: Survey, found: list[Candidate], wishes: Wishes) -> float | None:
    """The least price of all sets of candidates that keep the limit; None if none does. Every set is tried, cheapest
    first, so that the first that holds is the answer."""
    session_of, terms = of.session, wishes.terms(of)
    clash = {
        (i, j)
        for i, j in itertools.combinations(range(len(found)), 2)
        if any(clashes(session_of, a, b) for a in found[i].decisions for b in found[j].decisions)
    }
    sets = []
    for count in range(len(found) + 1):
        for chosen in itertools.combinations(range(len(found)), count):
            if not any(pair in clash for pair in itertools.combinations(chosen, 2)):
                minutes = sum(found[k].price for k in chosen)
                minutes += sum({name: m for k in chosen for name, m in found[k].once}.values())
                sets.append((minutes, chosen))
    for minutes, chosen in sorted(sets):
        decisions = [d for k in chosen for d in found[k].decisions]
        if worst(session_of, Plan().with_all(decisions), of.planned.cards, of.machine) <= wishes.limit + 1e-9:
            told = price(terms, *decisions).minutes
            assert abs(told - minutes) < 1e-9, "a plan's price is the sum of its parts"
            return minutes
    return None


def one_by_one(of: Survey, found: list[Candidate], wishes: Wishes) -> float:
    """The price of a plan that takes the cheapest candidate again and again, of those of one price what leaves least,
    until the limit holds (minutes). Each must be about a strip of its own."""
    taken: list[Candidate] = []

    def left(more: list[Candidate]) -> float:
        plan = Plan().with_all(d for each in (*taken, *more) for d in each.decisions)
        return worst(of.session, plan, of.planned.cards, of.machine)

    while left([]) > wishes.limit + 1e-9:
        others = [each for each in found if each not in taken]
        cheapest_price = min(each.price for each in others)
        taken.append(min((each for each in others if each.price == cheapest_price), key=lambda each: left([each])))
    return sum(each.price for each in taken)


@contextmanager
def as_many() -> Iterator[None]:
    """Small sessions go through what those of many candidates go through, where something is given up for speed."""
    with ExitStack() as stack:
        for module in (evaluate, proof, search, suggest):
            stack.enter_context(patch.object(module, "FEW", 0))
        yield


def small(rng: random.Random) -> tuple[Session, dict]:
    """Two to four tracks with clips here and there, variants, meters, sends, and cards, some with company curves."""
    strips = []
    for t in range(rng.randint(2, 4)):
        start = rng.uniform(0, 4)
        plugins = tuple(use(f"p{rng.randint(0, 3)}", f"t{t}/{k}") for k in range(rng.randint(1, 2)))
        instrument = use("synth", f"t{t}/synth", voices=2) if rng.random() < 0.3 else None
        end = start + rng.uniform(2, 5)
        clips = (Clip(start, end),)
        if instrument is not None and rng.random() < 0.5:
            clips = (Clip(start, end, "notes", voices=((start, 1), (start + 1, 2))),)
        sends = (Send("ret", 0.5, after=rng.choice((None, 0))),) if rng.random() < 0.3 else ()
        strips.append(
            Strip(f"t{t}", f"Track {t}", "track", instrument, plugins, sends, rng.choice(("b", "main")), clips=clips)
        )
    of = session(*strips, bus("b", "p0"), bus("ret", "p1", kind="return"), length=10.0)
    keys = of.card_keys()
    costs = {
        key: card(uses[0], rng.uniform(0.05, 0.35) * BLOCK, rng.uniform(0, 0.1) * BLOCK, rng.choice((0.0, 0.6)))
        for key, uses in keys.items()
    }
    curve = Polyphony(RATE, 256, (1, 2), (0.6, 1.0))
    costs = {k: msgspec.structs.replace(c, polyphony=(curve,)) if k.voices else c for k, c in costs.items()}
    if rng.random() < 0.5:  # some plugins may stand once for several
        costs = {k: msgspec.structs.replace(c, truth=Truth(linear_db=-120.0)) for k, c in costs.items()}
    if rng.random() < 0.3:  # one changes nothing
        idle = rng.choice(list(costs))
        costs[idle] = msgspec.structs.replace(costs[idle], truth=Truth(linear_db=-120.0, idle=not idle.voices))
    if rng.random() < 0.4:  # cores slow each other, and caches are shared
        for key, each in costs.items():
            upkeep = Upkeep(0, rng.randint(0, 1 << 20), 0.0, 0.0, 0.0, rng.uniform(1.0, 1.5))
            company = (Company(RATE, 256, (0, 1 << 20, 1 << 22), (1.0, rng.uniform(1, 1.2), 1.3)),)
            costs[key] = msgspec.structs.replace(each, upkeep=upkeep, company=company)
    pairs = random.Random(f"{costs[next(iter(keys))].cells[0].mean} in pairs")
    for key, each in costs.items():
        if each.company:
            more = {"others": pairs.choice((0, 1, 3)), "paired": pairs.uniform(1, 1.8), "slower": pairs.uniform(1, 2.2)}
            costs[key] = msgspec.structs.replace(each, upkeep=msgspec.structs.replace(each.upkeep, **more))
    first = rng.choice(list(keys))
    apart = random.Random(costs[first].cells[0].mean)
    if apart.random() < 0.4:  # some lower the clock of their core
        for key in apart.sample(list(costs), apart.randint(1, len(costs))):
            by, row = apart.uniform(1.05, 1.4), apart.choice((1.0, apart.uniform(1.0, 1.2)))
            slowing = (Slowing(RATE, 256, by, apart.uniform(0, 0.4) * BLOCK, row),)
            costs[key] = msgspec.structs.replace(costs[key], slowing=slowing)
    variant = Variant(first, "light", setting(q=0))
    lighter = variant.applied(keys[first][0])
    # Set another way it may ring on for another while.
    rings = costs[first].tail if apart.random() < 0.5 else apart.choice((0.0, 0.3, 1.5))
    costs[lighter.card_key()] = card(lighter, 0.02 * BLOCK, 0.01 * BLOCK, rings)
    return msgspec.structs.replace(of, variants=(variant,)), costs


def computer(rng: random.Random, most: int) -> Machine:
    """One of so many cores at most, some of which may be second threads of others, and some slow."""
    cores = rng.randint(1, most)
    apart = random.Random(f"{rng.getstate()[1][:4]} {cores}")
    second = apart.choice((0, apart.randint(0, cores // 2)))
    return Machine(cores, second=second, slow=apart.choice((0, apart.randint(0, cores - 2 * second))))


def hosted(of: Session, rng: random.Random) -> Session:
    """The same session in a host that divides blocks, reads ahead of an armed track, suspends or goes by the list."""
    host = Host(
        0, 0.01 * BLOCK, 0.002 * BLOCK, rng.choice((0, 1024)), rng.random() < 0.2, listed=rng.random() < 0.3,
        parts=rng.choice((1, 2, 4)),
    )  # fmt: skip
    armed = rng.randrange(2)
    strips = tuple(
        msgspec.structs.replace(s, armed=k == armed and host.read_ahead > 0) for k, s in enumerate(of.strips)
    )
    return msgspec.structs.replace(of, strips=strips, host=host)
