"""The rehearsal from a shell: real plugins on real threads, and how the prediction held."""

from __future__ import annotations

import time
from collections.abc import Mapping
from pathlib import Path

import click
import msgspec

from ..core.decisions.decision import Plan
from ..core.load.in_part import in_part, only
from ..core.load.rehearsal import Rehearsal
from ..core.survey import Instant, Survey, foreseen, instant, to_rehearse
from ..core.told.rehearsal import checks, conditions, followed, helped_words, offered, taken, verdict, why_late
from ..core.units import clock, microseconds
from ..deliver.there import files_of
from ..probe import rehearsal
from ..probe.isolation import Failure
from ..probe.messages import LoadingMessage, PlayedMessage
from ..store.this_computer import part_of_it, this_computer
from .common import FiniteRange, as_json, cli, opened, show_json
from .session import second_at, survey_of

SHOWN = 12


@cli.command()
@click.argument("file")
@click.option("--buffer", type=click.IntRange(16, 8192), help="Buffer size in samples (default: as saved).")
@click.option("--cores", type=click.IntRange(1, 1024), help="On how many cores (default: all of this computer).")
@click.option("--at", metavar="M:SS", help="A position in the piece (default: the worst moment).")
@click.option("--seconds", type=FiniteRange(0.5, 600), default=10.0, help="For how long (default: 10).")
@click.option("--rendered", metavar="DIR", help="Where its plan was carried out to, if that was named then.")
@as_json
def rehearse(
    file: str, buffer: int | None, cores: int | None, at: str | None, seconds: float, rendered: str | None, json: bool
) -> None:
    """Play a session's plugins on real threads against real deadlines, and compare with the prediction.

    What its plan freezes or bounces is played from the disk, if it has been carried out.
    """
    on = part_of_it(cores or this_computer().cores)
    here = on.cores
    saved = opened(file).saved
    planned = survey_of(saved, buffer)
    there = instant(planned, second_at(planned.session, at))
    size = planned.buffer
    files = files_of(saved.session, saved.plan, size, Path(file).absolute(), Path(rendered) if rendered else None)
    part = in_part(planned.planned.session, there.block, planned.deadline, here)
    if part is not None:
        click.echo(offered(part, here), err=True)
        saved = msgspec.structs.replace(saved, session=only(planned.planned.session, part.ids), plan=Plan())
    to_play = msgspec.structs.replace(saved, session=to_rehearse(saved.session))
    of = survey_of(to_play, buffer, lambda _: on)
    moment = instant(of, there.second)
    outcome = rehearsed(of, moment, seconds, files)
    predicted = foreseen(of, moment, outcome)
    compared = checks(of.planned.session, predicted, outcome)
    if json:
        show_json({
            "rehearsal": outcome, "predicted": {"typical": predicted.typical, "bad": predicted.bad},
            "rehearsed": {"typical": outcome.typical, "bad": outcome.bad, "worst": outcome.worst},
            "strips": [{**check._asdict(), "off": check.off} for check in compared],
            "part": None if part is None else {"cores": part.cores, "of": part.threads, "strips": len(part.ids)},
        })  # fmt: skip
        return
    click.echo(f"{of.session.name} at {clock(moment.second)}")
    click.echo(f"{verdict(outcome)} {taken(predicted, outcome)}")
    for sentence in (*why_late(of.planned.session, outcome), *helped_words(of.planned.session, outcome)):
        click.echo(sentence)
    if part is not None:
        click.echo(followed(part, predicted, outcome))
    for sentence in conditions(predicted, outcome):
        click.echo(sentence)
    click.echo()
    click.echo("  strip                      predicted  rehearsed")
    for check in compared[:SHOWN]:
        before, after = microseconds(check.predicted), microseconds(check.rehearsed)
        click.echo(f"  {check.name[:24]:24}  {before:>10} {after:>10}  {check.reason}")


def rehearsed(
    of: Survey, at: Instant, seconds: float, files: Mapping[str, tuple[str, float]] = rehearsal.NO_FILES
) -> Rehearsal:
    """Plays a moment of a survey for so many seconds, tracks from their `files` (see `rehearsal.run`), and tells on
    standard error what it loads. ClickException if it has no outcome."""
    told = 0.0
    for message in rehearsal.run(of, at, seconds, files=files):
        if isinstance(message, Failure):
            raise click.ClickException(f"The rehearsal {message.reason}.")
        if isinstance(message, PlayedMessage):
            return message.rehearsal
        if isinstance(message, LoadingMessage) and time.monotonic() - told > 2:
            told = time.monotonic()
            click.echo(f"Loading {message.done} of {message.total}: {message.name}", err=True)
    raise click.ClickException("The rehearsal ended without an outcome.")
