"""The same work from a shell: import, measure, load; JSON on request."""

from __future__ import annotations

import time
from pathlib import Path
from typing import Any, NoReturn

import click
import msgspec

from . import __version__
from .core.card import PROVENANCE_WORDS, Cell, CostCard
from .core.session import BUFFER_SIZES, Machine, SessionError, deadline
from .core.survey import Instant, Survey, instant, survey, worst_seconds
from .core.verdict import clock, milliseconds, percent
from .demo import cards as demo_cards
from .demo import session as demo_session
from .probe import catalogue, session_run
from .probe.measure import Effort
from .store import atomic, session_file, spreadsheet
from .store.archive import ImportRefusedError
from .store.library import TYPED, Library, LibraryError
from .store.opening import Opened, known_cards, open_session
from .store.session_file import Saved, SessionFileError

REFUSALS = (ImportRefusedError, SessionFileError, SessionError, LibraryError)

as_json = click.option("--json", "json", is_flag=True, help="Print figures as JSON.")


@click.group(context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(__version__, prog_name="nimble-load")
def cli() -> None:
    """Find out why a heavy mix session overloads, and what it would take to make the block fit."""


def refuse(error: Exception) -> NoReturn:
    """Ends the command with a sentence and exit code 1."""
    raise click.ClickException(str(error))


def opened(file: str) -> Opened:
    """The session of a FILE argument; the word "demo" is the example, unless a file of that name exists."""
    path = Path(file)
    if file == "demo" and not path.exists():
        return Opened(demo_saved())
    try:
        return open_session(path)
    except REFUSALS as error:
        refuse(error)


def demo_saved() -> Saved:
    """The example session with its sample cards."""
    return Saved(
        demo_session.session(),
        cards=tuple(demo_cards.sample_cards().values()),
        machine=demo_session.MACHINE,
        buffer=demo_session.BUFFER,
    )


def library() -> Library:
    try:
        return Library()
    except LibraryError as error:
        refuse(error)


def show_json(figures: Any) -> None:
    click.echo(msgspec.json.format(msgspec.json.encode(figures), indent=2).decode())


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
@click.option("--again", is_flag=True, help="Measure also what is known already, and what failed before.")
@click.option("--buffer", "buffers", type=click.IntRange(16, 8192), multiple=True, help="Only this size; repeatable.")
@click.option("--quick", is_flag=True, help="Fewer runs: faster, noisier.")
@as_json
def measure(file: str, again: bool, buffers: tuple[int, ...], quick: bool, json: bool) -> None:
    """Measure every plugin of a session on this computer; each result is stored as it is made."""
    session = opened(file).saved.session
    store = library()
    known = known_cards(session, store)
    todo = session_run.jobs(session, known, buffers or BUFFER_SIZES, again)
    begun = time.monotonic()
    failed: dict[str, str] = {}
    if not json:
        click.echo(f"{len(session.card_keys())} cost cards, {len(todo)} to measure.")
    done = 0
    for step in session_run.run(session, todo, known, effort=Effort(3, 0.05) if quick else None):
        store.store(step.card, [step.cell] if step.cell else [])
        if not step.finished:
            continue
        done += 1
        if step.card.failure:
            failed[step.card.name] = step.card.failure
        if not json:
            name, said = result_of(step, session.rate)
            click.echo(f"  {done:3d} of {len(todo)}  {name}: {said}")
    seconds = time.monotonic() - begun
    if json:
        show_json(
            {"cards": len(session.card_keys()), "measured": done - len(failed), "failed": failed, "seconds": seconds}
        )
    else:
        click.echo(f"{done - len(failed)} measured, {len(failed)} failed, {seconds:.1f} s. Kept in {store.path}")


def result_of(step: session_run.Progress, rate: int) -> tuple[str, str]:
    """A finished job in words: the plugin with its setting, and its cost at 256 samples or why there is none."""
    cell = step.card.cell(rate, 256, "sounding")
    said = step.card.failure or (f"{cell.mean * 1e6:.1f} µs at 256 samples" if cell else "measured")
    return f"{step.card.name} ({step.job.use.setting.words()})", said


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


@cli.command()
@click.argument("words", nargs=-1)
@click.option("--standard", type=click.Choice(["clap", "ladspa", "lv2", "vst3"]), help="Only plugins of this standard.")
@as_json
def plugins(words: tuple[str, ...], standard: str | None, json: bool) -> None:
    """List the installed plugins whose name, maker or identifier holds every one of WORDS."""
    scanned = catalogue.catalogue()
    wanted = [word.lower() for word in words]
    found = [
        plugin
        for file in scanned
        for plugin in file.plugins
        if (standard is None or plugin.standard == standard)
        and all(word in f"{plugin.name} {plugin.vendor} {plugin.identifier}".lower() for word in wanted)
    ]
    failed = {file.path: file.failure for file in scanned if file.failure}
    if json:
        show_json({"plugins": found, "failed": failed})
        return
    for plugin in sorted(found, key=lambda p: (p.standard, p.name.lower())):
        click.echo(f"  {plugin.standard:6}  {plugin.name}  {plugin.vendor}  {plugin.identifier}")
    click.echo(f"{len(found)} plugins.")
    for path, reason in failed.items():
        click.echo(f"Not readable: {path}: {reason}")


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
