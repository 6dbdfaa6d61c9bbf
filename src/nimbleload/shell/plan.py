"""The plan that gives up least, from a shell."""

from __future__ import annotations

import contextlib
import os
import sys
from collections.abc import Iterator
from pathlib import Path

import click
from msgspec.structs import replace

from ..core.decisions.price import PRESETS
from ..core.optimise.alternatives import alternatives, first_alike
from ..core.optimise.candidates import KINDS, Wishes, room_in
from ..core.optimise.steps import Step, Stepped, stepped, steps_of, worst_block
from ..core.optimise.suggest import Suggestion, suggest
from ..core.survey import Survey, instant, survey
from ..core.told.as_known import fits_words, is_unknown, load_words
from ..core.told.cores import cores_words
from ..core.told.findings import weighed
from ..core.told.plans import alike_words
from ..core.told.restore_list import restore_list
from ..core.told.steps import how_good, in_the_way, price_words, step_words, why, words
from ..core.told.warnings import warnings
from ..core.units import count, minutes, percent
from ..deliver.report import write_report, write_table
from ..store import session_file
from ..store.session_file import SessionFileError
from .common import LIMIT, FiniteRange, On, as_json, cli, on_cores, opened, refuse, show_json
from .session import surveyed


@cli.command()
@click.argument("file")
@click.option("--limit", type=LIMIT, help="The load to stay under, in per cent (default: as saved).")
@click.option("--buffer", type=click.IntRange(16, 8192), help="Buffer size in samples (default: as saved).")
@on_cores
@click.option("--hurts", type=click.Choice(list(PRESETS)), default="balanced", help="What hurts.")
@click.option("--kind", "kinds", type=click.Choice(KINDS), multiple=True, help="Only this kind; repeatable.")
@click.option("--pin", "pins", multiple=True, metavar="NAME", help="A strip to leave as it is; repeatable.")
@click.option("--disk", type=FiniteRange(0), help="How many megabytes all freezes may take together.")
@click.option("--memory", type=FiniteRange(0),
              help="How many gigabytes plugins may keep (default: 80 % of the computer's, where that is known).")
@click.option("--compare", is_flag=True, help="Show three plans: least given up, fewest steps, most headroom.")
@click.option("--html", type=click.Path(dir_okay=False), help="Write a report that prints well.")
@click.option("--csv", "table", type=click.Path(dir_okay=False), help="Write the steps as a table.")
@click.option("--keep", is_flag=True, help="Write the plan into FILE, which must be a session file.")
@as_json
def plan(
    file: str, limit: float | None, buffer: int | None, on: On, hurts: str, kinds: tuple[str, ...],
    pins: tuple[str, ...], disk: float | None, memory: float | None, compare: bool, html: str | None, table: str | None,
    keep: bool, json: bool,
) -> None:  # fmt: skip
    """Suggest the plan that gives up least so that no moment of session FILE exceeds the limit."""
    if compare and (html or table or keep):
        raise click.UsageError("--compare shows three plans; --html, --csv and --keep are about one.")
    of = surveyed(file, buffer, on)
    by_name = {strip.name.lower(): strip.id for strip in of.session.strips}
    unknown = [name for name in pins if name.lower() not in by_name]
    if unknown:
        raise click.ClickException(f"{of.session.name} has no strip named {unknown[0]!r}.")
    pinned = frozenset(of.plan.pinned) | {by_name[name.lower()] for name in pins}
    allowed = tuple(kind for kind in KINDS if not kinds or kind in kinds)
    target = limit / 100 if limit is not None else of.session.limit
    room = memory * 2**30 if memory is not None else room_in(of.machine)
    wishes = Wishes(target, PRESETS[hurts], pinned, allowed, disk * 1e6 if disk is not None else None, memory=room)
    if compare:
        say_three(of, wishes, json)
        return
    with silent_output():
        found = suggest(of, wishes)
    made, steps = found.plan.pin(pinned, True), brought(of, found, wishes)
    after = survey(of.session, made, of.planned.cards, of.machine, of.buffer)
    try:
        if html:
            write_report(Path(html), after, instant(after), stepped(after))
        if table:
            write_table(Path(table), of, Stepped(steps, worst_block(of)))
        if keep:
            session_file.write(Path(file), replace(opened(file).saved, plan=made))
    except (OSError, SessionFileError) as error:
        refuse(error)
    if json:
        show_json(figures(of, found, steps))
    else:
        say(of, found, steps)
        for warning in warnings(after):
            click.echo(f"Mind: {warning}")


def say_three(of: Survey, wishes: Wishes, json: bool) -> None:
    """Three plans, one below the other; nothing is kept of them."""
    with silent_output():
        found = alternatives(of, wishes)
    if json:
        show_json({name: figures(of, *each) for name, each in found.items()})
        return
    for name, each in found.items():
        click.echo(f"— {name}, {minutes(each.found.price)} —")
        if (other := first_alike(found, name)) != name:
            click.echo(alike_words(other))
        else:
            say(of, *each)


@cli.command()
@click.argument("file")
@click.option("--buffer", type=click.IntRange(16, 8192), help="Buffer size in samples (default: as saved).")
@as_json
def findings(file: str, buffer: int | None, json: bool) -> None:
    """Say what session FILE gives away unmeasured: unused tracks, plugins that do nothing, and the like."""
    of = surveyed(file, buffer)
    found = weighed(of, instant(of))
    if json:
        listed = [
            {"name": f.name, "sentence": f.sentence, "decisions": f.decisions, "saves": saving and saving.load}
            for f, saving in found
        ]
        show_json({"session": of.session.name, "findings": listed})
        return
    for finding, saving in found:
        figure = f"  ({percent(saving.load)} of load at the worst moment)" if saving is not None else ""
        click.echo(f"{finding.name}: {finding.sentence}{figure}")
    click.echo(f"{count(len(found), 'finding')}.")


@contextlib.contextmanager
def silent_output() -> Iterator[None]:
    """Keeps what the solver prints by itself out of the output, where JSON may be wanted."""
    sys.stdout.flush()
    kept, nowhere = os.dup(1), os.open(os.devnull, os.O_WRONLY)
    os.dup2(nowhere, 1)
    try:
        yield
    finally:
        os.dup2(kept, 1)
        os.close(kept)
        os.close(nowhere)


def brought(of: Survey, found: Suggestion, wishes: Wishes) -> list[Step]:
    """The steps of a suggestion with what each brings, beyond what was decided before it."""
    groups = [step.decisions for step in found.steps]
    return steps_of(of, found.plan.without(*(d for group in groups for d in group)), groups, wishes.terms(of))


def figures(of: Survey, found: Suggestion, steps: list[Step]) -> dict:
    """The suggestion as plain values: loads as fractions."""
    return {
        "session": of.session.name, "buffer": of.buffer, "cores": of.machine.cores, "now": of.after.highest,
        "reached": found.reached, "load": found.load, "price": found.price, "least_price": found.least,
        "gap": found.gap, "kept": found.kept, "short": found.short, "impossible": found.impossible,
        "in_the_way": in_the_way(of, found),
        "steps": [
            {
                "decisions": s.decisions, "words": words(of, s.decisions), "why": why(of, worst_block(of), s.decisions),
                "minutes": s.price.minutes, "price": price_words(s.price), "load": s.load, "work": s.work,
                "memory": s.memory,
            }
            for s in steps
        ],
        "restore": restore_list(of.session, found.plan),
    }  # fmt: skip


def say(of: Survey, found: Suggestion, steps: list[Step]) -> None:
    """The same in words."""
    at, now = worst_block(of), f"{load_words(of, of.after.highest)} at worst"
    if is_unknown(of):
        now = "what it takes is not known"
    click.echo(f"{of.session.name}   {of.buffer} samples, {cores_words(of.machine)}: {now}.")
    if not found.reached:
        click.echo(f"Not reached: {in_the_way(of, found)} This comes closest:")
    for number, step in enumerate(steps, 1):
        click.echo(f"  {number:2d}  {step_words(of, step)}")
        click.echo(f"      {price_words(step.price)}; {why(of, at, step.decisions)}")
    if found.reached and steps:
        told = f"{count(len(steps), 'step')}, {minutes(found.price)}: {percent(found.load)} at worst."
        click.echo(f"{told} {how_good(found)}")
    elif found.reached:
        click.echo(fits_words(of))
    back = restore_list(of.session, found.plan)
    if back:
        click.echo("Before the final render:")
        for line in back:
            click.echo(f"  [ ] {line}")
