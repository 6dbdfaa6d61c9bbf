"""The cost library from a shell: out, in, and readings typed in."""

from __future__ import annotations

from pathlib import Path

import click

from ..core.card import Cell, CostCard
from ..core.session import deadline
from ..store import atomic, spreadsheet
from ..store.library import TYPED, LibraryError
from .common import cli, library, opened, refuse


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
        count = spreadsheet.import_(Path(file).read_text(encoding="utf-8-sig"), library())
    except (OSError, UnicodeDecodeError, LibraryError) as error:
        refuse(error)
    click.echo(f"{count} rows taken in.")


@library_.command("reading")
@click.argument("file")
@click.argument("plugin")
@click.argument("per_cent", type=click.FloatRange(0, 10_000))
@click.option("--buffer", type=click.IntRange(16, 8192), required=True, help="The buffer size of the reading.")
def type_reading(file: str, plugin: str, per_cent: float, buffer: int) -> None:
    """Type in what a host's meter said: PER_CENT of one core for PLUGIN (by name) of session FILE."""
    session = opened(file).saved.session
    keys = {use.card_key(): use for s in session.strips for use in s.uses() if use.label.lower() == plugin.lower()}
    if not keys:
        raise click.ClickException(f"{session.name} has no plugin named {plugin!r}.")
    seconds = per_cent / 100 * deadline(buffer, session.rate)
    store = library()
    for key, use in keys.items():
        store.store(CostCard(key, use.label), [Cell(session.rate, buffer, "sounding", seconds)], TYPED)
    click.echo(f"{len(keys)} settings of {plugin}: {per_cent:g} % of one core at {buffer} samples, typed in.")
