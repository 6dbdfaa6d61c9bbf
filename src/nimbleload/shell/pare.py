"""A pared-down copy of a session, from a shell."""

from __future__ import annotations

from pathlib import Path

import click

from ..core.session.session import Session, SessionError
from ..deliver import pared
from ..deliver.exchange_out import WriteError
from ..demo.audio import made_if_needed
from ..store.session_file import SUFFIX
from .common import as_json, cli, opened, refuse, refuse_if_there, show_json
from .edit_verbs import strip_of
from .session import position


@cli.command()
@click.argument("file")
@click.argument("tracks", nargs=-1, required=True)
@click.option("--to", type=click.Path(dir_okay=False), required=True, help="Where to: .dawproject or .nimbleload.")
@click.option("--section", help="Only the section of this name.")
@click.option("--from", "start", help="Only from this position on, like 1:58.")
@click.option("--until", "end", help="Only up to this position.")
@click.option("--without-off", is_flag=True, help="Leave out plugins that are switched off.")
@as_json
def pare(
    file: str, tracks: tuple[str, ...], to: str, section: str | None, start: str | None, end: str | None,
    without_off: bool, json: bool,
) -> None:  # fmt: skip
    """Write a copy of session FILE with these TRACKS alone, and with what they need: buses, sends, side-chains.

    Nothing is moved in time. FILE and the exchange file it comes from stay as they are.
    """
    target, saved = Path(to), opened(file).saved
    if target.suffix not in (SUFFIX, pared.SUFFIX):
        raise click.ClickException(f"{target.name} should end in {pared.SUFFIX} or {SUFFIX}.")
    refuse_if_there(target)
    session = saved.session
    stretch = None
    if section is not None:
        stretch = _section(session, section)
    elif start is not None or end is not None:
        begin = position(start, "--from") if start is not None else 0.0
        stretch = begin, position(end, "--until") if end is not None else session.length
    try:
        made_if_needed(session.source)
        made = pared.copy(target, saved, [strip_of(session, name).id for name in tracks], stretch, without_off)
    except (SessionError, WriteError, OSError) as error:
        refuse(error)
    if json:
        show_json(made)
        return
    click.echo(f"Written to {made.path}")
    click.echo(made.words())


def _section(session: Session, name: str) -> tuple[float, float]:
    """From when to when a section lies (seconds); one that there is not ends the command."""
    found = session.section_named(name)
    if found is not None:
        return found[1:]
    names = ", ".join(each.name for each in session.sections) or "none"
    raise click.ClickException(f"{session.name} has no section {name!r}; there are: {names}.")
