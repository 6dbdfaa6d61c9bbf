"""The computer from a shell: what is seen, why it matters, what to do."""

from __future__ import annotations

import os

import click
from msgspec import to_builtins

from ..core.computer.ceiling import Ceiling
from ..core.told import computer as told
from ..machine import hold
from ..machine.look import look
from ..store import ceiling_file
from .common import as_json, cli, show_json

# Exit code for scripts: something matters.
MATTERS = 3
SIZES = (64, 128, 256, 512, 1024)


@cli.command()
@click.option("--seconds", type=click.FloatRange(0, 600), default=10.0, help="How long to watch (default: 10).")
@click.option("--all", "everything", is_flag=True, help="Also what is in order.")
@as_json
def machine(seconds: float, everything: bool, json: bool) -> None:
    """Look at this computer: what of it makes audio blocks late, and what to do. Nothing is changed.

    Exit code 3: something matters.
    """
    if seconds and not json:
        click.echo(f"Looking for {seconds:g} s …", err=True)
    facts = look(seconds=seconds)
    found = told.findings(facts)
    matters = any(each.grade == "matters" for each in found)
    if json:
        show_json({"findings": [each._asdict() for each in found], "facts": to_builtins(facts)})
        raise SystemExit(MATTERS if matters else 0)
    click.echo(told.headline(found))
    for each in found:
        if each.grade == "well" and not everything:
            continue
        click.echo()
        click.echo(f"{told.GRADE_WORDS[each.grade]}: {each.name}")
        for line in (each.seen, each.why):
            if line:
                click.echo(click.wrap_text(line, 110, "  ", "  "))
        for words, command in (("now", each.now), ("for good", each.lasting)):
            if command:
                click.echo(f"  {words}:  {command}")
    well = [each.name for each in found if each.grade == "well"]
    if well and not everything:
        click.echo()
        click.echo(click.wrap_text(f"In order: {', '.join(well)}.", 110, "", "  "))
    raise SystemExit(MATTERS if matters else 0)


@cli.command()
@click.option(
    "--buffer", "buffers", type=click.IntRange(16, 8192), multiple=True, help="A size in samples; repeatable."
)
@click.option("--rate", type=click.IntRange(8000, 384000), default=48000, help="Sample rate in Hz (default: 48000).")
@click.option("--cores", type=click.IntRange(1, 1024), help="On how many cores (default: all).")
@click.option(
    "--seconds", type=click.FloatRange(0.2, 600), default=3.0, help="How long each load is held (default: 3)."
)
@as_json
def ceiling(buffers: tuple[int, ...], rate: int, cores: int | None, seconds: float, json: bool) -> None:
    """Find the load that this computer holds without a late block: real threads, real deadlines, work of known size."""
    here = sorted(os.sched_getaffinity(0), reverse=True)
    used = tuple(here[: cores or len(here)])
    found: list[Ceiling] = []
    try:
        for step in hold.ask([hold.Asked(size, rate, used, seconds) for size in buffers or SIZES]):
            if not json:
                click.echo(f"  {step.buffer:5d}  {told.trial_words(step.trial)}", err=True)
            if step.ceiling is not None:
                found.append(step.ceiling)
                ceiling_file.keep(found)
                if not json:
                    click.echo(told.ceiling_words(step.ceiling))
    except (RuntimeError, OSError) as error:
        raise click.ClickException(f"The ceiling was not found: {error}.") from error
    if json:
        show_json(found)
    elif found and not all(trial.real_time for each in found for trial in each.trials):
        click.echo("Real time was refused: what other programs do is in these figures (see nimble-load machine).")
