"""The same processors of zam-plugins as LADSPA, LV2, CLAP and VST3, set alike: how far their costs agree, and why not.

    .venv/bin/python -m bench.standards

All parameters are set to where LV2 starts. All are measured one after the other, three times round, and the
quieter and cheaper card counts: the machine is noisy.
"""

from __future__ import annotations

import math

from nimbleload.core.cards.card import CostCard
from nimbleload.core.session.plugins import CardKey, PluginRef, PluginUse, Setting
from nimbleload.core.session.session import Session
from nimbleload.core.session.strips import Strip
from nimbleload.core.told.card_comparison import AGREEING, reasons
from nimbleload.probe import catalogue, session_run
from nimbleload.probe.effort import Effort
from nimbleload.probe.formats.hosted import Parameter
from nimbleload.probe.standards import STANDARDS as HOSTED

ROUNDS = 3
BUFFER = 256
BUFFERS = (64, 256)
NANOSECONDS = 200
STANDARDS = ("ladspa", "lv2", "clap", "vst3")
EFFORT = Effort(5, 0.04, rounds=1)


def parameters(plugin: catalogue.Installed) -> tuple[Parameter, ...]:
    """Every parameter where it stands after loading."""
    hosted = HOSTED[plugin.standard]().load(use_of(plugin, Setting()), plugin.path, 48000, BUFFER)
    return hosted.parameters()  # never closed: one of these plugins crashes then


def use_of(plugin: catalogue.Installed, setting: Setting) -> PluginUse:
    return PluginUse("x", PluginRef(plugin.standard, plugin.identifier, plugin.name), setting)


def alike(plugin: catalogue.Installed, like: tuple[Parameter, ...]) -> Setting:
    """The setting that puts every parameter where its namesake stands, by its share of the range."""
    shares = {p.name: (p.value - p.least) / (p.most - p.least) for p in like if p.most > p.least}
    own = [p for p in parameters(plugin) if p.name in shares]
    return Setting(tuple((p.key, p.least + shares[p.name] * (p.most - p.least)) for p in own))


def measured(uses: list[PluginUse]) -> dict[CardKey, CostCard]:
    """The cards of all these, from one run: how fast the core can be is known from the second one on."""
    of = Session("x", 48000, 1.0, tuple(Strip(str(k), str(k), inserts=(use,)) for k, use in enumerate(uses)))
    todo = [job._replace(details=False) for job in session_run.jobs(of, {}, BUFFERS)]
    steps = session_run.run(todo, {}, effort=EFFORT)
    return {step.job.key: step.card for step in steps if step.finished}


def order(card: CostCard) -> tuple[bool, float]:
    """Cards of one plugin are taken by this: those measured in quiet first, then by seconds per block."""
    cell = card.cell(48000, BUFFER, "sounding")
    return (not cell.quiet, cell.mean) if cell else (True, math.inf)


def agree(one: float, other: float) -> bool:
    """Whether two costs (seconds) are within a tenth of the smaller one, or within 200 ns."""
    return abs(one - other) <= max(AGREEING * min(one, other), NANOSECONDS * 1e-9)


def main() -> None:
    by_name: dict[str, dict[str, catalogue.Installed]] = {}
    for plugin in catalogue.paths_by_identifier(catalogue.catalogue()).values():
        name = plugin.name.replace(" ", "")
        if name.lower().startswith("zam"):
            by_name.setdefault(name, {})[plugin.standard] = plugin
    everywhere = {name: found for name, found in sorted(by_name.items()) if set(found) == set(STANDARDS)}
    uses = {}
    for name, found in everywhere.items():
        like = parameters(found["lv2"])
        uses[name] = [use_of(found[s], alike(found[s], like)) for s in STANDARDS]
    rounds = [measured([use for row in uses.values() for use in row]) for _ in range(ROUNDS)]
    print("µs a block of 256 samples" + "".join(f"{s:>9}" for s in STANDARDS) + "   apart")
    within = 0
    for name, row in uses.items():
        cards = [min((known[use.card_key()] for known in rounds), key=order) for use in row]
        costs = [order(card)[1] for card in cards]
        there = [cost for cost in costs if cost < math.inf]
        apart = max(there) / min(there) - 1
        within += agree(max(there), min(there))
        print(f"{name:25}" + "".join(f"{c * 1e6:9.2f}" for c in costs) + f"  {100 * apart:5.1f} %", flush=True)
        for card, cost in zip(cards, costs, strict=True):
            if card.failure:
                print(f"    {card.key.standard}: {card.failure}")
            elif not agree(cost, costs[1]):
                print(f"    {card.key.standard}: {'; '.join(reasons(cards[1], card, 48000, BUFFER))}")
    print(f"{within} of {len(uses)} within {AGREEING:.0%} or {NANOSECONDS} ns in all the standards in which they run")


if __name__ == "__main__":
    main()
