"""Compiling everything once, as a part of setting up: so that no first click waits for it."""

from __future__ import annotations

from collections.abc import Callable

import click

from ..core.decisions.price import Weights
from ..core.optimise.candidates import KINDS, wishes_for
from ..core.optimise.suggest import suggest
from ..core.survey import instant, survey
from ..core.told.outlook import band, outlook
from ..core.watching.blocks import see
from ..demo.compiled import filtered, plucked
from ..demo.recording import recording
from ..house.instance import load_all
from ..machine import hold, test_load, watcher
from ..probe import nursery
from ..probe.standards import STANDARDS
from . import ready
from .common import cli, demo_saved


@cli.command(hidden=True)
def prepare() -> None:
    """Compile what is compiled, and keep it; done by ./nimble setup."""
    for words, compile_ in STEPS.items():
        click.echo(f"  {words}")
        compile_()
    ready.note()


def _load() -> None:
    saved = demo_saved()
    of = survey(saved.session, saved.plan, {card.key: card for card in saved.cards}, saved.machine, saved.buffer)
    outlook(of, instant(of))
    band(of)
    suggest(of, wishes_for(of, Weights(), KINDS))
    filtered(plucked(110.0, 1, 48000), 1.0, 0.0, 0.0)


def _plugins() -> None:
    for module in STANDARDS.values():
        module()
    load_all()
    nursery.make_ready()


def _watching() -> None:
    see(recording({card.key: card for card in demo_saved().cards}))
    watcher.get_ready()
    asked = hold.Asked(64, 48000, (0,), 0.01)
    hold.hold(asked, 0.1, hold.unit_ns(1, 1))
    test_load.make_ready(asked)


STEPS: dict[str, Callable[[], None]] = {
    "the load": _load, "plugins and the house’s own processors": _plugins, "watching": _watching,
}  # fmt: skip
