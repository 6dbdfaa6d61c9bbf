"""The whole example without a display: open, measure, find the worst block, freeze, look again, save, report."""

from __future__ import annotations

import os
from pathlib import Path

import click
import msgspec

from ..core.optimise.steps import stepped
from ..core.optimise.suggest import suggest
from ..core.survey import Instant, Survey, instant, survey
from ..core.told.verdict import verdict
from ..core.units import count, percent, said_by
from ..deliver.report import write_report
from ..probe import session_run
from ..probe.effort import Effort
from ..store import session_file
from ..store.opening import known_cards
from ..store.session_file import Saved
from .cards import result_of
from .common import cards_of, demo_saved, library

BUFFERS = (64, 256, 1024)


def run(folder: Path) -> None:
    """Writes report, pictures and session into a folder, and says where they are."""
    os.environ["QT_QPA_PLATFORM"] = "offscreen"
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        reason = said_by(error)
        raise click.ClickException(f"{folder} cannot be written: {reason}. Name another folder with --to.") from error
    saved = demo_saved()
    measured = _measure(saved)
    cards = cards_of(saved)
    of = survey(saved.session, saved.plan, cards, saved.machine, saved.buffer)
    click.echo(verdict(of, instant(of)).headline)
    of, at = _suggested(of)
    click.echo(_told(of))
    session_path = folder / f"example{session_file.SUFFIX}"
    kept = msgspec.structs.replace(saved, plan=of.plan, cards=tuple(cards.values()))
    session_file.write(session_path, kept)
    if session_file.read(session_path).plan != of.plan:
        raise click.ClickException(f"{session_path} does not hold what was written to it.")
    from .screenshots import take_all

    pictures = list(take_all(folder))
    write_report(folder / "report.html", of, at, stepped(of), measured, pictures)
    click.echo(f"Report:   {(folder / 'report.html').absolute()}")
    for picture in pictures:
        click.echo(f"Picture:  {picture.absolute()}")
    click.echo(f"Session:  {session_path.absolute()}")


def _told(of: Survey) -> str:
    """What the plan brings."""
    before, after = of.before.highest, of.after.highest
    if not of.plan.steps():
        return f"The plan is empty; the worst load stays at {percent(before)}."
    told = percent(before), percent(after)
    if len(set(told)) == 1:
        # A plan that gives up least brings no more than it must.
        told = f"{100 * before:.1f} %", f"{100 * after:.1f} %"
    return f"With {count(len(of.plan.steps()), 'step')} the worst load falls from {told[0]} to {told[1]}."


def _measure(saved: Saved) -> list[tuple[str, str]]:
    """Measures the example's plugins at three sizes; what each brought, in a line."""
    store = library()
    known = known_cards(saved.session, store)
    todo = [job._replace(details=False) for job in session_run.jobs(saved.session, known, BUFFERS)]
    settings = f"{len(todo)} plugin settings on this computer"
    click.echo(f"Measuring {settings}: about a minute, several where others share its cores…")
    lines = []
    for step in session_run.run(todo, known, effort=Effort(3, 0.05)):
        store.store(step.card, [step.cell] if step.cell else [])
        if step.finished:
            name, result = result_of(step)
            lines.append((name, result))
            click.echo(f"  {name}: {result}")
    return lines


def _suggested(of: Survey) -> tuple[Survey, Instant]:
    """The survey with the plan that gives up least."""
    found = suggest(of)
    of = survey(of.session, found.plan, of.now.cards, of.machine, of.buffer, of)
    return of, instant(of)
