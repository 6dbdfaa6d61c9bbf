"""Making and changing sessions from a shell: new, add, edit, howmany, export."""

from __future__ import annotations

import sys
from pathlib import Path

import click
from msgspec.structs import replace

from ..core.decisions.after_edit import after_edit
from ..core.decisions.apply import apply
from ..core.decisions.decision import Plan
from ..core.load.how_many import Copies, Fit, how_many, of_plugin, of_strips, unmeasured
from ..core.load.memory import room_for
from ..core.session.edits import empty
from ..core.session.joined import joined
from ..core.session.session import Session, SessionError, TempoPoint
from ..core.session.time_edits import set_length, set_rate, set_tempo
from ..core.survey import foreseen, instant, survey, to_rehearse
from ..core.told.how_many import beyond_words, how_often, not_known, sentence
from ..core.told.memory import room_words
from ..core.told.rehearsal import tried_words
from ..core.units import count, milliseconds, percent, said_by
from ..deliver import exporting
from ..probe import catalogue
from ..probe.choosing import Lookup, choices
from ..store import track_table
from ..store.found import NothingFoundError
from ..store.opening import EXCHANGE_SUFFIX, made_here
from ..store.session_file import SUFFIX
from ..store.taking_in import take_in
from ..store.this_computer import part_of_it
from .common import (
    LIMIT,
    FiniteRange,
    On,
    as_json,
    cards_of,
    cli,
    on_cores,
    opened,
    refuse,
    refuse_if_there,
    show_json,
    written,
)
from .edit_verbs import VERBS, edited, strip_of, use_of
from .prove import rehearsed
from .session import position


def installed() -> Lookup:
    """Finds plugins by what they are called, of those installed here and the house's own."""
    return Lookup(choices(catalogue.catalogue()))


def target_of(file: str, to: str | None) -> Path:
    """Where to write a session: `to`, or FILE itself if it is a session file."""
    target = Path(to) if to else Path(file)
    if target.suffix != SUFFIX:
        raise click.ClickException(f"{target.name} does not end in {SUFFIX}: --to says where to write the session.")
    return target


@cli.command()
@click.argument("file", type=click.Path(dir_okay=False))
@click.option("--name", help="What the session is called (default: as its file).")
@click.option("--rate", type=int, default=48000, show_default=True, help="Sample rate in hertz.")
@click.option("--bpm", type=FiniteRange(0), default=120.0, show_default=True, help="Tempo.")
@click.option("--length", default="3:00", show_default=True, metavar="M:SS", help="How long the piece is.")
@click.option("--cores", type=click.IntRange(1, 1024), help="How many cores the computer has (default: as here).")
@click.option("--replace", "over", is_flag=True, help="Write over a session file that is there.")
def new(file: str, name: str | None, rate: int, bpm: float, length: str, cores: int | None, over: bool) -> None:
    """Make an empty session FILE, with nothing but its main output."""
    target = target_of(file, None)
    if not over:
        refuse_if_there(target, " --replace writes over it.")
    try:
        session = set_length(set_rate(empty(name or target.stem), rate), position(length, "--length"))
        session = set_tempo(session, [TempoPoint(0.0, bpm)])
    except SessionError as error:
        refuse(error)
    written(target, made_here(session, cores))
    click.echo(f"Written to {target}")


@cli.command()
@click.argument("file", required=False)
@click.argument("source", required=False, type=click.Path())
@click.option("--to", type=click.Path(dir_okay=False), help="Where to write the session (default: into FILE).")
@click.option("--show", is_flag=True, help="Only say what would be added.")
@click.option("--template", is_flag=True, help="Print a table to fill in, and do nothing else.")
@as_json
def add(file: str | None, source: str | None, to: str | None, show: bool, template: bool, json: bool) -> None:
    """Add SOURCE to the session FILE: a folder of audio files, a MIDI file, a table, or another session.

    If there is no FILE yet, it is made, and the session is called as it. SOURCE is not changed.
    """
    if template:
        click.echo(track_table.TEMPLATE, nl=False)
        return
    if file is None or source is None:
        raise click.UsageError("It takes a session FILE and a SOURCE to add to it.")
    saved = opened(file).saved if Path(file).exists() or file == "demo" else None
    notes: tuple[str, ...] = ()
    try:
        found = take_in(Path(source), installed(), saved.session.rate if saved is not None else 48000)
        if saved is None:
            made = made_here(replace(found.session, name=Path(to or file).stem))
        else:
            whole, notes = joined(saved.session, found.session)
            made = replace(saved, session=whole)
    except (NothingFoundError, SessionError) as error:
        refuse(error)
    left_out = (*found.report.left_out, *notes)
    target = None
    if not show:
        target = target_of(file, to)
        written(target, made)
    if json:
        show_json({
            "written": target and str(target), "understood": found.report.understood, "left_out": left_out,
            "tracks": [strip.name for strip in found.session.strips],
        })  # fmt: skip
        return
    for line in found.report.understood:
        click.echo(f"  understood: {line}")
    for line in left_out:
        click.echo(f"  mind:       {line}")
    click.echo(f"Written to {target}" if target is not None else "Nothing was written.")


def list_verbs(context: click.Context, _: click.Parameter, on: bool) -> None:
    """Lists all verbs and ends the command."""
    if on:
        for name, verb in VERBS.items():
            click.echo(f"{name} {verb.takes}\n    {verb.does}")
        context.exit()


@cli.command()
@click.argument("file")
@click.argument("lines", nargs=-1, required=True, metavar="EDIT…")
@click.option("--to", type=click.Path(dir_okay=False), help="Where to write the session (default: into FILE).")
@click.option("--verbs", is_flag=True, is_eager=True, expose_value=False, callback=list_verbs, help="List all edits.")
@as_json
def edit(file: str, lines: tuple[str, ...], to: str | None, json: bool) -> None:
    """Change the session FILE, an EDIT an argument: 'add track "Pad" 2', 'route Pad Voices', 'bypass Pad/2'.

    All of them, or none: if one cannot be, nothing is written. "-" reads them from standard input, a line each.
    """
    saved, target = opened(file).saved, target_of(file, to)
    if lines == ("-",):
        lines = tuple(line for line in sys.stdin.read().splitlines() if line.strip())
    session, find = saved.session, installed()
    for number, line in enumerate(lines, 1):
        try:
            session = edited(session, line, find)
        except SessionError as error:
            raise click.ClickException(f"Edit {number}, {line}: {error}. Nothing was written.") from error
    written(target, replace(saved, session=session, plan=after_edit(saved.plan, saved.session, session)))
    counts = len(session.strips), sum(len(strip.uses()) for strip in session.strips)
    if json:
        show_json({"written": str(target), "edits": len(lines), "tracks": counts[0], "plugins": counts[1]})
    else:
        there = f"{count(counts[0], 'track')}, {count(counts[1], 'plugin')}"
        click.echo(f"{count(len(lines), 'edit')}; {there}. Written to {target}")


@cli.command()
@click.argument("file")
@click.argument("what", nargs=-1, required=True, metavar="TRACK…|TRACK/PLUGIN")
@click.option("--limit", type=LIMIT, metavar="PERCENT", help="Stay under this (default: as saved).")
@on_cores
@click.option("--without-plan", is_flag=True, help="Leave the plan out.")
@click.option("--try", "seconds", type=FiniteRange(0.5, 600), metavar="SECONDS",
              help="Rehearse the session with as many more as fit at the saved buffer, for so long.")
@as_json
def howmany(
    file: str, what: tuple[str, ...], limit: float | None, on: On, without_plan: bool,
    seconds: float | None, json: bool,
) -> None:  # fmt: skip
    """Say how many more of these fit at each buffer size: tracks, a bus with its tracks, or one plugin."""
    saved = opened(file).saved
    machine = on(saved.machine)
    session = saved.session if without_plan else apply(saved.session, saved.plan).session
    most = limit / 100 if limit is not None else session.limit
    try:
        copies, name = copies_of(session, what)
        cards = cards_of(saved)
        found, missing = how_many(session, cards, machine, copies, most), unmeasured(session, cards, copies)
        room = room_for(copies, cards, machine.memory)
    except SessionError as error:
        refuse(error)
    here = next((fit for fit in found if fit.buffer == saved.buffer), None)
    tried = None
    if seconds is not None and here is not None:
        # What is predicted is this computer, whatever the session is planned for.
        of = survey(to_rehearse(copies(here.more)), Plan(), cards, part_of_it(machine.cores), saved.buffer)
        outcome = rehearsed(of, instant(of), seconds)
        tried = of.planned.session, foreseen(of, instant(of), outcome), outcome
    if json:
        figures = {"of": name, "limit": most, "fits": [fit._asdict() for fit in found], "not_measured": missing,
                   "room_in_memory": room}
        show_json(figures | ({"rehearsal": tried[-1]} if tried is not None else {}))
        return
    click.echo(sentence(found, name, most, saved.buffer))
    if words := room_words(room, here.more if here is not None else 0):
        click.echo(words)
    if missing:
        click.echo(not_known(missing))
    for fit in found:
        click.echo(f"  {fit.buffer:5} samples  {_figure(fit, session.rate, most)}")
    if tried is not None and here is not None:
        click.echo(tried_words(here.more, machine.cores, *tried))


def copies_of(session: Session, what: tuple[str, ...]) -> tuple[Copies, str]:
    """What is to be copied, and what it is called."""
    if len(what) == 1 and "/" in what[0] and not any(strip.name == what[0] for strip in session.strips):
        use = use_of(session, what[0])
        return of_plugin(session, use.id), use.label
    strips = [strip_of(session, name) for name in what]
    return of_strips(session, [strip.id for strip in strips]), " and ".join(strip.name for strip in strips)


def _figure(fit: Fit, rate: int, limit: float) -> str:
    time = milliseconds(fit.buffer / rate)
    if fit.beyond is None:
        return f"{time:>8}  {how_often(fit)}   {percent(fit.now)} → {percent(fit.load)}"
    reached = f"{percent(fit.now)} → {percent(fit.load)}, one more {beyond_words(fit.beyond, limit)}"
    return f"{time:>8}  {fit.more:3} more       {reached}"


@cli.command()
@click.argument("file")
@click.option("--to", type=click.Path(dir_okay=False), required=True, help="Where to write it; ends in .dawproject.")
def export(file: str, to: str) -> None:
    """Write the session FILE as an exchange file (.dawproject), without its plan: carry-out writes that."""
    target = Path(to)
    if target.suffix != EXCHANGE_SUFFIX:
        raise click.ClickException(f"{target.name} should end in {EXCHANGE_SUFFIX}.")
    refuse_if_there(target)
    found = opened(file)
    try:
        left_out = exporting.export(target, found.saved.session, cards_of(found.saved))
    except OSError as error:
        raise click.ClickException(f"{target} was not written: {said_by(error)}.") from error
    except NothingFoundError as error:
        refuse(error)
    click.echo(f"Written to {target}")
    for line in left_out:
        click.echo(f"Not said in it: {line}")
