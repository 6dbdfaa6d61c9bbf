"""How long a suggestion takes, and how far from the least it may be.

The example with every preset, at other limits, with one that no plan reaches, and on other computers; sessions of up
to 500 strips that nearly fit or do not, with a limit that hardly anything reaches, and one out of reach; sessions
whose cheapest plan is known; a few tracks of the example on one core or two; and random ones of plugins that all cost
something else, in hosts of every kind, on one core to eight.

.venv/bin/python -m bench.plan [SEEDS]
"""

from __future__ import annotations

import random
import sys
import time

import msgspec

from bench.block import cards, large_session
from nimbleload.core.cards.card import Company, Truth
from nimbleload.core.cards.upkeep import Upkeep
from nimbleload.core.decisions.decision import Plan
from nimbleload.core.decisions.price import PRESETS
from nimbleload.core.load.case import case
from nimbleload.core.load.load_map import worst_load
from nimbleload.core.optimise.candidates import Wishes
from nimbleload.core.optimise.suggest import suggest
from nimbleload.core.session.computer import Machine
from nimbleload.core.survey import Survey, survey, with_plan
from nimbleload.core.told.steps import in_the_way
from nimbleload.shell.common import demo_saved
from tests.helpers.exhaustive import BLOCK, hosted
from tests.helpers.few_tracks import few_tracks
from tests.helpers.optima import known as known_optima
from tests.helpers.sessions import RATE, card, random_session

# Of these random sessions a suggestion took longest (up to 80 seconds).
HARDEST = (0, 5, 7, 8, 17, 20, 21, 22, 26, 27)
# Of a few tracks of the example these took longest (up to 120 seconds).
FEW_TRACKS = (3, 11, 12, 16, 25, 33, 44, 47, 52)


def mixed(seed: int) -> tuple[Survey, Wishes]:
    """A session of 30 to 200 tracks whose plugins all cost something else, some of which mind each other or may stand
    once for several; and a limit that it is a little or far over."""
    rng = random.Random(seed)
    session = random_session(rng, rng.choice((30, 70, 120, 200)))
    found = {
        key: card(
            uses[0], rng.lognormvariate(-3.5, 1) * BLOCK, rng.choice((None, 0.0, 0.002)) and 0.002 * BLOCK,
            rng.choice((0.0, 0.0, 0.6, None)),
        )
        for key, uses in session.card_keys().items()
    }  # fmt: skip
    if rng.random() < 0.6:
        found = {key: msgspec.structs.replace(each, truth=Truth(linear_db=-120.0)) for key, each in found.items()}
    if rng.random() < 0.4:
        for key, each in found.items():
            upkeep = Upkeep(0, rng.randint(0, 1 << 20), 0.0, 0.0, 0.0, rng.uniform(1, 1.4))
            company = (Company(RATE, 256, (0, 1 << 20, 1 << 22), (1.0, rng.uniform(1, 1.2), 1.3)),)
            found[key] = msgspec.structs.replace(each, upkeep=upkeep, company=company)
    session = hosted(session, rng) if rng.random() < 0.4 else session
    of = survey(session, Plan(), found, Machine(rng.choice((1, 2, 4, 8))), 256)
    share = rng.choice((0.5, 0.7, 0.85, 0.95, 0.99))
    return of, Wishes(share * float(of.after.load.max()), rng.choice(list(PRESETS.values())))


def tell(name: str, of: Survey, wishes: Wishes) -> None:
    begun = time.perf_counter()
    found = suggest(of, wishes)
    seconds = time.perf_counter() - begun
    needless = 0
    for step in found.steps:
        without = with_plan(of, found.plan.without(*step.decisions))
        needless += worst_load(case(without, of.machine, of.buffer)) <= wishes.limit
    outcome = "reached" if found.reached else in_the_way(of, found)
    loads = f"{100 * float(of.after.load.max()):4.0f} % → {100 * found.load:4.1f} %"
    price = f"price {found.price:.2f}, at least {found.least:.2f} (gap {100 * found.gap:.1f} %)"
    steps = f"{len(found.steps):3d} decisions, {needless} of them needless"
    print(f"{name:38} {seconds:6.2f} s  {loads}  {steps}; {price}; {outcome}", flush=True)


def main() -> None:
    saved = demo_saved()
    known = {card.key: card for card in saved.cards}
    of = survey(saved.session, saved.plan, known, saved.machine, saved.buffer)
    tell("warming up", of, Wishes(0.8))
    for name, weights in PRESETS.items():
        tell(f"the example, {name}", of, Wishes(0.8, weights, frozenset(saved.plan.pinned)))
    for limit in (1.0, 0.95, 0.9, 0.85, 0.75, 0.7):
        tell(f"the example, at most {100 * limit:.0f} %", of, Wishes(limit, pinned=frozenset(saved.plan.pinned)))
    tell("the example, at most 1 %", of, Wishes(0.01))
    for cores, buffer in ((1, 1024), (2, 256), (2, 1024), (3, 256), (3, 1024), (4, 256), (8, 64), (12, 64)):
        of = survey(saved.session, saved.plan, known, Machine(cores), buffer)
        tell(f"the example on {cores}, at {buffer}", of, Wishes(0.8, pinned=frozenset(saved.plan.pinned)))
    for strips in (100, 200, 250, 500):
        session = large_session(strips, 600)
        of = survey(session, Plan(), cards(session), Machine(8), 256)
        for share in (0.8, 0.95, 0.98):
            limit = share * float(of.after.load.max())
            tell(f"{strips} strips, at most {100 * limit:.0f} %", of, Wishes(limit))
    tell("500 strips, at most 1 %", of, Wishes(0.01))
    tell("500 strips, half of them pinned", of, Wishes(0.01, pinned=frozenset(s.id for s in session.strips[::2])))
    for name, of, wishes, least in known_optima():
        tell(f"{name} (known: {least:.2f})", of, wishes)
    for seed in FEW_TRACKS:
        of, wishes = few_tracks(seed)
        tell(f"few tracks {seed}, {len(of.session.strips)} strips", of, wishes)
    for seed in [int(each) for each in sys.argv[1:]] or HARDEST:
        of, wishes = mixed(seed)
        tell(f"random {seed}, {len(of.session.strips)} strips", of, wishes)


if __name__ == "__main__":
    main()
