"""The rehearsal from a shell: real plugins on real threads, and how the prediction held."""

from __future__ import annotations

import os
import time

import click

from ..core.rehearsal import Rehearsal, StripCheck, checks, conditions, taken, verdict
from ..core.session import Machine, SessionError
from ..core.survey import instant, prediction, priority, survey
from ..core.verdict import clock, microseconds, percent
from ..probe import rehearsal
from ..probe.isolation import Failure
from ..probe.worker import LoadingMessage, PlayedMessage
from ..store.opening import known_cards
from .common import as_json, cli, library, opened, refuse, show_json
from .session import position

SHOWN = 12


@cli.command()
@click.argument("file")
@click.option("--buffer", type=click.IntRange(16, 8192), help="Buffer size in samples (default: as saved).")
@click.option("--cores", type=click.IntRange(1, 1024), help="On how many cores (default: all of this computer).")
@click.option("--at", metavar="M:SS", help="A position in the piece (default: the worst moment).")
@click.option("--seconds", type=click.FloatRange(0.5, 600), default=10.0, help="For how long (default: 10).")
@as_json
def rehearse(file: str, buffer: int | None, cores: int | None, at: str | None, seconds: float, json: bool) -> None:
    """Play a session's plugins on real threads against real deadlines, and compare with the prediction."""
    saved = opened(file).saved
    here = len(os.sched_getaffinity(0))
    machine = Machine(min(cores or here, here))
    found = known_cards(saved.session, library(), {card.key: card for card in saved.cards})
    try:
        of = survey(saved.session, saved.plan, found, machine, buffer or saved.buffer)
    except SessionError as error:
        refuse(error)
    moment = instant(of, None if at is None else position(at))
    outcome: Rehearsal | None = None
    told = 0.0
    for message in rehearsal.run(
        of.planned.session, moment.sounding, priority(of, moment), moment.second, of.buffer, machine.cores, seconds
    ):
        if isinstance(message, Failure):
            raise click.ClickException(f"The rehearsal {message.reason}.")
        if isinstance(message, PlayedMessage):
            outcome = message.rehearsal
        elif isinstance(message, LoadingMessage) and time.monotonic() - told > 2:
            told = time.monotonic()
            click.echo(f"Loading {message.done} of {message.total}: {message.name}", err=True)
    if outcome is None:
        raise click.ClickException("The rehearsal ended without an outcome.")
    predicted = prediction(of, moment)
    compared = checks(of.planned.session, predicted, outcome)
    if json:
        show_json({
            "rehearsal": outcome, "predicted": {"typical": predicted.typical, "bad": predicted.bad},
            "rehearsed": {"typical": outcome.typical, "bad": outcome.bad, "worst": outcome.worst},
            "strips": [{**check._asdict(), "off": check.off} for check in compared],
        })  # fmt: skip
        return
    click.echo(f"{of.session.name} at {clock(moment.second)}")
    click.echo(f"{verdict(outcome)} {taken(outcome)}")
    say(predicted.typical, predicted.bad, outcome, compared)


def say(typical: float, bad: float, outcome: Rehearsal, compared: list[StripCheck]) -> None:
    """Predicted against rehearsed, in words and figures."""
    off = agreement_words(typical, outcome.typical), agreement_words(bad, outcome.bad)
    click.echo(f"Predicted: typical {percent(typical)} ({off[0]}), one block in a hundred {percent(bad)} ({off[1]}).")
    for sentence in conditions(outcome):
        click.echo(sentence)
    click.echo()
    click.echo("  strip                      predicted  rehearsed")
    for check in compared[:SHOWN]:
        before, after = microseconds(check.predicted), microseconds(check.rehearsed)
        click.echo(f"  {check.name[:24]:24}  {before:>10} {after:>10}  {check.reason}")


def agreement_words(predicted: float, rehearsed: float) -> str:
    """By how much a predicted figure is off."""
    if rehearsed <= 0:
        return "nothing was played"
    off = predicted / rehearsed - 1
    return f"{percent(abs(off))} too {'high' if off > 0 else 'low'}"
