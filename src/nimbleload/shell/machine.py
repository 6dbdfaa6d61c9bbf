"""The computer from a shell: what is seen, why it matters, what to do."""

from __future__ import annotations

import contextlib
import os
import select
import sys
import termios
import time
import tty
from collections.abc import Callable, Iterator

import click
from msgspec import to_builtins

from ..core.computer.by_ear import ByEar
from ..core.computer.ceiling import STEP, Ceiling, Held
from ..core.computer.lasting import Lasting
from ..core.told import computer as told
from ..core.told.ceiling import by_ear_words, ceiling_words, load_words, trial_words
from ..core.told.finding import GRADE_WORDS
from ..core.told.lasting import goes_on_words, lasting_words
from ..core.units import told_by
from ..machine import hold, lasting
from ..machine.look import look
from ..machine.test_load import MOST, TestLoad
from ..native.cores import cores
from ..store import ceiling_file
from .common import FiniteRange, as_json, cli, show_json

# Exit code for scripts: something matters.
MATTERS = 3
SIZES = (64, 128, 256, 512, 1024)


@cli.command()
@click.option("--seconds", type=FiniteRange(0, 600), default=10.0, help="How long to watch (default: 10).")
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
        click.echo(f"{GRADE_WORDS[each.grade]}: {each.name}")
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
@click.option("--cores", "count", type=click.IntRange(1, 1024), help="On how many cores (default: all).")
@click.option(
    "--seconds", type=FiniteRange(0.2, 600), default=3.0, help="How long each of six loads is held (default: 3)."
)
@as_json
def ceiling(buffers: tuple[int, ...], rate: int, count: int | None, seconds: float, json: bool) -> None:
    """Find the load that this computer holds: real threads, real deadlines, work of known size.

    With more than that, blocks are late in more than one second of ten.
    """
    used = cores().order[:count]
    found: list[Ceiling] = []
    try:
        for step in hold.ask([hold.Asked(size, rate, used, seconds) for size in buffers or SIZES]):
            if not json:
                click.echo(f"  {step.buffer:5d}  {trial_words(step.trial)}", err=True)
            if step.ceiling is not None:
                found.append(step.ceiling)
                ceiling_file.keep(found)
                if not json:
                    click.echo(ceiling_words(step.ceiling))
    except (RuntimeError, OSError) as error:
        raise click.ClickException(f"The ceiling was not found: {told_by(error)}.") from error
    if json:
        show_json(found)
    elif found and not all(trial.real_time for each in found for trial in each.trials):
        click.echo("Real time was refused: what other programs do is in these figures (see nimble-load machine).")


@cli.command()
@click.option("--load", "level", type=FiniteRange(10, 90), default=100 * lasting.LOAD,
              help="Of each real core, in per cent (default: 50).")
@click.option("--minutes", type=FiniteRange(0.1, 120), default=lasting.MOST / 60,
              help="For how long at most (default: 15); it ends when the pace is level.")
@as_json
def pace(level: float, minutes: float, json: bool) -> None:
    """Find out how long this computer keeps its pace: the same work on all cores, in real time, for minutes.

    Processors may draw more power for half a minute than for an hour, and slow down when they are hot. What is measured
    in a short while is from before that.
    """
    known: Lasting | None = None
    try:
        for known in lasting.ask(level / 100, 60 * minutes):
            if not json:
                click.echo(f"  {goes_on_words(known)}", err=True)
        if known is not None and known.is_known:
            ceiling_file.keep_lasting(known)
    except (RuntimeError, OSError) as error:
        raise click.ClickException(f"How long the pace lasts was not found: {told_by(error)}.") from error
    assert known is not None
    if json:
        figures = {name: getattr(known, name) for name in ("slower", "since", "is_level", "is_known", "hot", "seconds")}
        show_json(to_builtins(known) | figures | {"clocks": known.clocks})
    else:
        click.echo(lasting_words(known))


@cli.command("test-load")
@click.option("--load", "level", type=FiniteRange(0, 100 * MOST), default=30.0, help="Of each core, in per cent.")
@click.option("--buffer", type=click.IntRange(16, 8192), default=256, help="The host's buffer size (default: 256).")
@click.option("--rate", type=click.IntRange(8000, 384000), default=48000, help="Sample rate in Hz (default: 48000).")
@click.option("--cores", "count", type=click.IntRange(1, 1024), help="On how many cores (default: all).")
@click.option("--seconds", type=FiniteRange(0.5, 3600), default=20.0, help="For how long (default: 20).")
@as_json
def test_load(level: float, buffer: int, rate: int, count: int | None, seconds: float, json: bool) -> None:
    """Hold a load of known size beside your own host, and before it, while you listen: does it crackle?

    Where a terminal is used: + and - raise and lower it by 5 %, c notes that it crackles, q ends.
    """
    used = cores().order[:count]
    reports: list[Held] = []
    heard, now = ByEar(), level / 100

    def take(held: Held | None) -> None:
        if held is not None and held.blocks:
            reports.append(held)
            if not json:
                click.echo(f"  {load_words(held, buffer, len(used))}", err=True)

    load = TestLoad(hold.Asked(buffer, rate, used, seconds), now, take)
    try:
        with keys() as key:
            while not load.is_over and (load.begun is None or time.monotonic() < load.begun + seconds):
                pressed = key(0.1)
                if pressed in ("+", "-"):
                    heard = heard.run(now, load.lasted)
                    now = min(max(now + (STEP if pressed == "+" else -STEP), 0.0), MOST)
                    load.set(now)
                elif pressed == "c":
                    heard = heard.crackle(now)
                elif pressed == "q":
                    break
    finally:
        load.close()
    heard = heard.run(now, load.lasted)
    if json:
        show_json({"reports": reports, "clean_to": heard.clean_to, "crackles_from": heard.crackles_from})
    elif sys.stdin.isatty():
        click.echo(by_ear_words(heard))


@contextlib.contextmanager
def keys() -> Iterator[Callable[[float], str]]:
    """Single keys from a terminal, each awaited for so many seconds ("": none); without a terminal it only waits."""
    if not sys.stdin.isatty():

        def wait(seconds: float) -> str:
            time.sleep(seconds)
            return ""

        yield wait
        return
    file = sys.stdin.fileno()
    before = termios.tcgetattr(file)
    tty.setcbreak(file)

    def key(seconds: float) -> str:
        return os.read(file, 1).decode(errors="replace") if select.select([file], [], [], seconds)[0] else ""

    try:
        yield key
    finally:
        termios.tcsetattr(file, termios.TCSADRAIN, before)
