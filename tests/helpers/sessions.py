"""Small sessions and cards with known costs, made for tests."""

from __future__ import annotations

import random

import msgspec

from nimbleload.core.cards.card import Cell, CostCard, Made, Polyphony
from nimbleload.core.cards.slowing import Slowing
from nimbleload.core.cards.upkeep import Upkeep
from nimbleload.core.session.computer import BUFFER_SIZES, Host
from nimbleload.core.session.plugins import CardKey, PluginRef, PluginUse, Setting
from nimbleload.core.session.session import Session
from nimbleload.core.session.strips import Clip, Send, Strip, within

RATE = 48000


def use(name: str, use_id: str | None = None, **more) -> PluginUse:
    """A use of a made-up plugin; uses of the same name share a card."""
    return PluginUse(use_id or name, PluginRef("test", name, name), **more)


def card(of: PluginUse, seconds: float, silent: float | None = None, tail: float | None = None) -> CostCard:
    """A card that costs `seconds` at 256 samples and in proportion at every other size."""
    cells = []
    for buffer in BUFFER_SIZES:
        scale = buffer / 256
        cells.append(Cell(RATE, buffer, "sounding", seconds * scale))
        cells.append(Cell(RATE, buffer, "silent", (seconds if silent is None else silent) * scale))
    upkeep = Upkeep(1 << 20, 1 << 14, 0.01, 0.0, 0.0, pool=0)
    return CostCard(of.card_key(), of.label, tuple(cells), tail=tail, upkeep=upkeep, made=Made(),
                    slowing=(Slowing(RATE, 256),))  # fmt: skip


def cards_for(session: Session, costs: dict[str, float], **more) -> dict[CardKey, CostCard]:
    """A card for every plugin of a session, by plugin identifier; those not named get none."""
    found = {}
    for key, uses in session.card_keys().items():
        if key.identifier in costs:
            found[key] = card(uses[0], costs[key.identifier], **more)
    return found


def track(name: str, *plugins: str, output: str | None = "main", clips=((0.0, 10.0),), **more) -> Strip:
    """A track whose plugins are named; their ids are "track/plugin"."""
    inserts = tuple(use(plugin, f"{name}/{plugin}") for plugin in plugins)
    return Strip(name, name, inserts=inserts, output=output, clips=tuple(Clip(a, b) for a, b in clips), **more)


def bus(name: str, *plugins: str, output: str | None = "main", kind="bus", **more) -> Strip:
    inserts = tuple(use(plugin, f"{name}/{plugin}") for plugin in plugins)
    return Strip(name, name, kind, inserts=inserts, output=output, **more)


def session(*strips: Strip, length: float = 10.0, **more) -> Session:
    """A session of these strips, with a main output if none of them is one."""
    if all(strip.kind != "main" for strip in strips):
        strips = (*strips, Strip("main", "Main", "main"))
    return Session("Test", RATE, length, strips, **more)


def random_session(rng: random.Random, tracks: int = 6) -> Session:
    """A session with random buses, sends and clips; its routing has no circle, since it only runs forward."""
    buses = [f"b{k}" for k in range(rng.randint(1, 3))]
    strips = []
    for t in range(tracks):
        plugins = [f"p{rng.randint(0, 4)}" for _ in range(rng.randint(0, 3))]
        inserts = tuple(use(plugin, f"t{t}/{k}") for k, plugin in enumerate(plugins))
        spans = [(start, start + rng.uniform(0.5, 4)) for start in (rng.uniform(0, 8) for _ in range(2))]
        clips = tuple(Clip(start, end) for start, end in spans)
        sends = tuple(Send(rng.choice(buses)) for _ in range(rng.randint(0, 1)))
        instrument = use("synth", f"t{t}/synth", voices=3) if rng.random() < 0.4 or t == 0 else None
        if instrument is not None:
            profile = tuple((2.0 * bar, rng.randint(0, 3)) for bar in range(6))
            clips = tuple(Clip(start, end, "notes", voices=within(profile, start, end)) for start, end in spans)
        strips.append(
            Strip(f"t{t}", f"Track {t}", "track", instrument, inserts, sends, rng.choice([*buses, "main"]), clips=clips)
        )
    for k, name in enumerate(buses):
        output = rng.choice([*buses[k + 1 :], "main"])
        strips.append(Strip(name, name, "bus", None, (use(f"p{k}", f"{name}/0"),), (), output))
    strips.append(Strip("main", "Main", "main", None, (use("p4", "main/0"),)))
    rng.shuffle(strips)
    return Session("Random", RATE, 12.0, tuple(strips), host=Host(0, rng.uniform(0, 1e-5), rng.uniform(0, 1e-6)))


def random_cards(rng: random.Random, of: Session) -> dict[CardKey, CostCard]:
    """A card for every plugin; those of instruments say what fewer notes cost."""
    found = {
        key: card(uses[0], rng.uniform(1e-5, 1e-3), rng.uniform(0, 1e-4), rng.choice([None, 0.0, 0.7]))
        for key, uses in of.card_keys().items()
    }
    curve = Polyphony(RATE, 256, (1, 2, 3), (1e-4, 2.5e-4, 3e-4))
    return {k: msgspec.structs.replace(c, polyphony=(curve,)) if k.voices else c for k, c in found.items()}


def setting(**values: float) -> Setting:
    return Setting(tuple(sorted(values.items())))
