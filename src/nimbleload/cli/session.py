"""Sessions from a shell: read an exchange file, say what Balance says."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from ..core.card import PROVENANCE_WORDS
from ..core.session import Machine, SessionError
from ..core.survey import Instant, Survey, instant, survey, worst_seconds
from ..core.verdict import clock, milliseconds, percent
from ..store import session_file
from ..store.opening import known_cards
from ..store.session_file import SessionFileError
from .common import as_json, cli, library, opened, refuse, show_json


@cli.command("import")
@click.argument("file", type=click.Path(exists=True, dir_okay=False))
@click.option("--to", type=click.Path(dir_okay=False), help="Where to write the session file (default: beside FILE).")
@as_json
def import_(file: str, to: str | None, json: bool) -> None:
    """Read an exchange file (.dawproject) and write it as a Nimble Load session; FILE itself is not changed."""
    result = opened(file)
    target = Path(to) if to else Path(file).with_suffix(session_file.SUFFIX)
    if target.suffix != session_file.SUFFIX:
        raise click.ClickException(f"{target.name} should end in {session_file.SUFFIX}.")
    try:
        session_file.write(target, result.saved)
    except SessionFileError as error:
        refuse(error)
    if json:
        show_json({"written": str(target), "report": result.report})
        return
    if result.report is not None:
        by = f", written by {result.report.program}" if result.report.program else ""
        click.echo(f"{result.report.file}{by}")
        for line in result.report.understood:
            click.echo(f"  understood: {line}")
        for line in result.report.left_out:
            click.echo(f"  left out:   {line}")
    click.echo(f"Written to {target}")


@cli.command()
@click.argument("file")
@click.option("--buffer", type=click.IntRange(16, 8192), help="Buffer size in samples (default: as saved).")
@click.option("--cores", type=click.IntRange(1, 1024), help="How many cores the computer has (default: as saved).")
@click.option("--at", metavar="M:SS", help="A position in the piece (default: the worst moment).")
@as_json
def load(file: str, buffer: int | None, cores: int | None, at: str | None, json: bool) -> None:
    """Say what Balance says: the load at the worst moment, why, and at every buffer size."""
    saved = opened(file).saved
    machine = Machine(cores, saved.machine.speed) if cores else saved.machine
    own = {card.key: card for card in saved.cards}
    found = known_cards(saved.session, library(), own)
    try:
        of = survey(saved.session, saved.plan, found, machine, buffer or saved.buffer)
    except SessionError as error:
        refuse(error)
    here = instant(of, None if at is None else position(at))
    if json:
        show_json(figures(of, here))
    else:
        say(of, here)


def position(text: str) -> float:
    """A position given as minutes:seconds or seconds."""
    minutes, _, seconds = text.rpartition(":")
    try:
        value = 60 * int(minutes or 0) + float(seconds)
    except ValueError:
        raise click.BadParameter(f"{text!r} is no position; write it like 2:14.", param_hint="--at") from None
    return value


def dearest(of: Survey, here: Instant, count: int = 8) -> list[tuple[str, float]]:
    """The strips that cost most at a moment, with what they take of one core."""
    order = sorted(range(len(here.strip_costs)), key=lambda i: -here.strip_costs[i])[:count]
    return [(of.session.strips[i].name, float(here.strip_costs[i]) / of.deadline) for i in order]


def figures(of: Survey, here: Instant) -> dict[str, Any]:
    """Everything `load` says, as plain values: loads and shares as fractions, times in seconds."""
    rung = here.rung(of.buffer)
    return {
        "session": of.session.name,
        "rate": of.session.rate,
        "buffer": of.buffer,
        "cores": of.machine.cores,
        "threads": of.threads,
        "deadline": of.deadline,
        "second": here.second,
        "load": rung.load,
        "longest_chain": rung.chain,
        "spread": rung.spread,
        "verdict": here.verdict.kind,
        "headline": here.verdict.headline,
        "advice": here.verdict.advice,
        "limit": of.session.limit,
        "work_of_one_core": here.block.work / of.deadline,
        "chain": [of.session.strips[i].name for i in here.block.chain],
        "ladder": [r._asdict() for r in here.rungs],
        "worst_moments": worst_seconds(of.after),
        "tracks_by_cost": dearest(of, here),
        "figures_from": here.shares,
        "not_measured": len(of.costs[of.buffer].missing),
        "warnings": of.warnings,
    }


def say(of: Survey, here: Instant) -> None:
    """The same in words."""
    click.echo(f"{of.session.name}   {of.session.rate} Hz, {of.buffer} samples, {of.machine.cores} cores")
    click.echo(here.verdict.headline)
    click.echo(here.verdict.advice)
    click.echo()
    click.echo("  buffer     load   longest chain   evenly spread   in and out")
    for r in here.rungs:
        mark = ">" if r.buffer == of.buffer else " "
        click.echo(
            f"{mark} {r.buffer:6d}  {percent(r.load):>7}  {percent(r.chain):>14}  {percent(r.spread):>14}"
            f"  {milliseconds(r.round_trip):>11}   {r.word}"
        )
    click.echo()
    click.echo(f"Tracks by cost at {clock(here.second)}, in per cent of one core:")
    for name, share in dearest(of, here):
        click.echo(f"  {percent(share):>7}  {name}")
    for line in provenance_lines(here):
        click.echo(line)
    for warning in of.warnings:
        click.echo(f"Mind: {warning}")


def provenance_lines(here: Instant) -> list[str]:
    """What the load rests on, if not all of it was measured on this computer."""
    return [
        f"{percent(share)} of this load: {PROVENANCE_WORDS[name]}."
        for name, share in here.shares.items()
        if name != "measured"
    ]
