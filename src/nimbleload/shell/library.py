"""The cost library from a shell: out, in, and readings typed in."""

from __future__ import annotations

from pathlib import Path

import click

from ..core.cards.stand_ins import Reading, from_readings, standing_in, suggested
from ..core.units import agreeing, count, listed
from ..store import atomic, spreadsheet
from ..store.library import STAND_IN, TYPED, LibraryError
from .cards import Found
from .common import FiniteRange, cards_of, cli, library, opened, refuse


@cli.group("library")
def library_() -> None:
    """The cost library: everything that was ever measured on this computer, or taken in from others."""


@library_.command("export")
@click.argument("file", type=click.Path(dir_okay=False))
def export_library(file: str) -> None:
    """Write the library as CSV, with units in the header."""
    store = library()
    try:
        atomic.write(Path(file), spreadsheet.export(store).encode())
    except (OSError, LibraryError) as error:
        refuse(error)
    click.echo(f"Written to {file}")


@library_.command("import")
@click.argument("file", type=click.Path(exists=True, dir_okay=False))
def import_library(file: str) -> None:
    """Take in a CSV as export writes it; figures of other machines are marked wherever they are used."""
    try:
        count = spreadsheet.read(Path(file), library())
    except (OSError, LibraryError) as error:
        refuse(error)
    click.echo(f"{count} rows taken in.")


@library_.command("reading")
@click.argument("file")
@click.argument("plugin")
@click.argument("per_cent", type=FiniteRange(0, 10_000))
@click.option("--buffer", type=click.IntRange(16, 8192), required=True, help="The buffer size of the reading.")
def type_reading(file: str, plugin: str, per_cent: float, buffer: int) -> None:
    """Type in what a host's meter said: PER_CENT of one core for PLUGIN (by name) of session FILE."""
    session = opened(file).saved.session
    keys = {use.card_key(): use for s in session.strips for use in s.uses() if use.label.lower() == plugin.lower()}
    if not keys:
        raise click.ClickException(f"{session.name} has no plugin named {plugin!r}.")
    store = library()
    for use in keys.values():
        card = from_readings(use, [Reading(buffer, per_cent / 100)], session.rate)
        store.store(card, card.cells, TYPED)
    click.echo(f"{count(len(keys), 'setting')} of {plugin}: {per_cent:g} % of one core at {buffer} samples, typed in.")


@library_.command("stand-in")
@click.argument("file")
@click.argument("plugin")
@click.argument("other")
def stand_in(file: str, plugin: str, other: str) -> None:
    """Let figures of OTHER stand in for PLUGIN in session FILE, both named by words of name and setting."""
    found = Found(file, plugin, other)
    (use, _), (source, card) = found.chosen
    if card is None or not card.cells:
        raise click.ClickException(f"{source.label} is not measured yet: it can stand in for nothing.")
    made = standing_in(use, card)
    found.store.store(made, made.cells, STAND_IN)
    click.echo(f"{source.label} stands in for {use.label}: {count(len(made.cells), 'figure')}, marked as such.")


@library_.command("stand-ins")
@click.argument("file")
@click.option("--take", is_flag=True, help="Let the likeliest stand in for each.")
def stand_ins(file: str, take: bool) -> None:
    """Who could stand in for each plugin without figures of session FILE: of the same name or family."""
    saved = opened(file).saved
    cards, store = cards_of(saved), library()
    found = suggested(saved.session.cards_needed(), cards)
    for use, others in found:
        if take:
            made = standing_in(use, cards[others[0].card_key()])
            store.store(made, made.cells, STAND_IN)
        likely = others[:1] if take else others
        names = list(dict.fromkeys(f"{other.label} ({other.plugin.made_as})" for other in likely))
        click.echo(f"  {use.label} ({use.plugin.made_as}): {listed(names)}")
    if take:
        click.echo(f"{agreeing(len(found), 'setting has', 'settings have')} a stand-in now, marked as such.")
    else:
        click.echo(f"{count(len(found), 'setting')} without figures could have a stand-in.")
