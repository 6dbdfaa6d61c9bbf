"""Sessions from a shell: read an exchange file, say what Balance says."""

from __future__ import annotations

import math
from pathlib import Path
from typing import Any

import click
from msgspec.structs import replace

from ..core.cards.card import Cards
from ..core.load.host_fit import HostFit, MeterReading
from ..core.load.host_seen import HostSeen
from ..core.load.opening import opening
from ..core.load.peaks import Peaks
from ..core.session.session import Session, SessionError
from ..core.session.strips import Strip
from ..core.survey import Instant, Survey, fitted, host_seen, instant, survey, tracking, worst_seconds
from ..core.told import memory
from ..core.told.as_known import is_unknown, share_words
from ..core.told.basis import basis_words, updated_words
from ..core.told.cores import cores_words
from ..core.told.host_fit import seen_sentence, sentence
from ..core.told.lasting import in_the_end_words
from ..core.told.newer import offered
from ..core.told.outlook import Outlook, outlook
from ..core.told.verdict import adds
from ..core.told.versions import against_held, sections_against
from ..core.told.warnings import STILL_LATE, warnings
from ..core.units import as_sentence, clock, count, from_clock, milliseconds, percent
from ..probe import catalogue
from ..probe.choosing import recorded
from ..probe.session_run import of_other_files
from ..store import ceiling_file, session_file
from ..store.recording_file import RecordingFileError
from ..store.this_computer import from_here
from ..store.written_anew import is_written_anew
from .common import FiniteRange, On, as_json, cards_of, cli, on_cores, opened, refuse, show_json, written


@cli.command()
@click.argument("file")
@click.option("--buffer", type=click.IntRange(16, 8192), help="Buffer size in samples (default: as saved).")
@on_cores
@click.option("--at", metavar="M:SS", help="A position in the piece (default: the worst moment).")
@click.option("--against", metavar="FILE", help="Another version of the session, to compare with.")
@as_json
def load(file: str, buffer: int | None, on: On, at: str | None, against: str | None, json: bool) -> None:
    """Say what Balance says: the load at the worst moment, why, and at every buffer size."""
    of = surveyed(file, buffer, on)
    here = instant(of, second_at(of.session, at))
    seen = outlook(of, here)
    other = surveyed(against, of.buffer, lambda _: of.machine) if against is not None else None
    if json:
        show_json(figures(of, here, seen) | ({"against": compared(of, other)} if other is not None else {}))
        return
    say(of, here, seen)
    if other is not None:
        click.echo()
        click.echo(f"Against {against}: {against_held(other.after, of.after, here.second)}")
        for name, was, now in sections_against(of.session, other.after, of.after):
            click.echo(f"  {percent(was):>7} → {percent(now):>7}  {name}")


def compared(of: Survey, other: Survey) -> dict[str, Any]:
    """A session against another version of it, as plain values: the highest loads as fractions."""
    sections = [
        {"name": name, "against": was, "load": now}
        for name, was, now in sections_against(of.session, other.after, of.after)
    ]
    return {"session": other.session.name, "worst": other.after.highest, "sections": sections}


@cli.command()
@click.argument("file")
@click.option("--buffer", type=click.IntRange(16, 8192), help="Buffer size in samples (default: as saved).")
@click.option("--under", type=FiniteRange(0.1), metavar="MS", help="What to bypass to hear oneself this soon.")
@click.option("--own-way", is_flag=True, help="Only the armed tracks' own way counts: nothing waits for the others.")
@as_json
def latency(file: str, buffer: int | None, under: float | None, own_way: bool, json: bool) -> None:
    """Say how long it takes from input to output, and what to bypass to track under a limit."""
    of = surveyed(file, buffer)
    limit = of.session.length + 1e6 if under is None else under / 1e3
    found = tracking(of, limit, not own_way)
    names = {use.id: f"{use.label} on {strip.name}" for strip in of.session.strips for use in strip.uses()}
    ways = {of.session.strip(strip).name: samples / of.session.rate for strip, samples in of.latencies.way.items()}
    bypass = [names[use] for use in found.bypass.uses]
    if json:
        show_json({
            "buffer": of.buffer, "now": found.now, "armed": ways, "under": limit if under is not None else None,
            "possible": found.bypass.possible, "then": found.then, "bypass": bypass,
        })  # fmt: skip
        return
    click.echo(f"{of.session.name}: {milliseconds(found.now)} from input to output at {of.buffer} samples.")
    for name, seconds in ways.items():
        click.echo(f"  {name}: {milliseconds(seconds)} of it in its own plugins and those after it.")
    if under is None:
        return
    if not found.bypass.possible:
        click.echo("The device's own buffers take longer than that: a smaller buffer is needed.")
    else:
        plugins = count(len(bypass), "plugin")
        click.echo(f"Bypass {plugins}, and it takes {milliseconds(found.then)}:" if bypass else "It is.")
        for name in bypass:
            click.echo(f"  {name}")
        if bypass:
            click.echo(STILL_LATE)


@cli.command()
@click.argument("file")
@click.option(
    "--reading", "given", multiple=True, metavar="SAMPLES:PERCENT", help="Of its meter. Repeat: two or more."
)
@click.option(
    "--recording", "recordings", multiple=True, type=click.Path(exists=True, dir_okay=False),
    help="What was seen of it (nimble watch --keep): one, or several at other buffer sizes.",
)
@click.option("--at", metavar="M:SS", help="Where the meter was read (default: the worst moment).")
@click.option("--keep", is_flag=True, help="Write the fit into FILE, which must be a session file.")
@as_json
def fit(
    file: str, given: tuple[str, ...], recordings: tuple[str, ...], at: str | None, keep: bool, json: bool
) -> None:  # fmt: skip
    """Fit the host to readings of its meter at two or more buffer sizes, or to recordings of it."""
    if bool(given) == bool(recordings):
        raise click.UsageError("Give readings of its meter (--reading), or recordings of it (--recording).")
    readings = [meter_reading(text) for text in given]
    of = surveyed(file, None)
    moment = instant(of, second_at(of.session, at))
    found: HostFit | HostSeen
    try:
        if recordings:
            found = host_seen(of, moment, *recorded(map(Path, recordings), catalogue.remembered()))
        else:
            found = fitted(of, moment, readings)
    except (ValueError, RecordingFileError) as error:
        raise click.ClickException(as_sentence(str(error))) from error
    if json:
        show_json(found._asdict())
    elif isinstance(found, HostSeen):
        click.echo(seen_sentence(found))
    else:
        click.echo(sentence(found, readings))
    if keep:
        saved = opened(file).saved
        host = replace(
            saved.session.host, strip_overhead=found.strip_overhead, plugin_overhead=0.0, plugin_factor=found.factor
        )
        if isinstance(found, HostSeen):
            host = replace(host, cores_left_free=found.cores_left_free, read_ahead=found.read_ahead)
        written(Path(file), replace(saved, session=replace(saved.session, host=host)))
        click.echo(f"Written to {file}", err=json)


def meter_reading(text: str) -> MeterReading:
    """A reading given as samples:per cent."""
    size, _, share = text.partition(":")
    try:
        found = MeterReading(int(size), float(share.rstrip("%")) / 100)
    except ValueError:
        found = None
    if found is None or not (16 <= found.buffer <= 8192 and 0 <= found.load < math.inf):
        raise click.BadParameter(f"{text!r} is no reading; write it like 256:74.", param_hint="--reading")
    return found


def surveyed(file: str, buffer: int | None, on: On = from_here) -> Survey:
    """The survey of a FILE argument, with every card that is known. That its mix has gone on is said beside it."""
    saved = opened(file).saved
    if is_written_anew(saved.session):
        said = f"{offered(Path(saved.session.source).name)} nimble-load renew takes it in."
        click.echo(said, err=True)
    cards = cards_of(saved)
    if updated := len(of_other_files(cards)):
        click.echo(f"{updated_words(updated)}; nimble-load measure brings that up to date.", err=True)
    return survey_of(saved, buffer, on, cards)


def survey_of(
    saved: session_file.Saved, buffer: int | None, on: On = from_here, cards: Cards | None = None
) -> Survey:
    """The same of a session that is open, with every card that is known, or with these."""
    known = cards_of(saved) if cards is None else cards
    try:
        return survey(saved.session, saved.plan, known, on(saved.machine), buffer or saved.buffer)
    except SessionError as error:
        refuse(error)


def position(text: str, option: str = "--at") -> float:
    """A position given as minutes:seconds or seconds."""
    try:
        return from_clock(text)
    except ValueError:
        raise click.BadParameter(f"{text!r} is no position; write it like 2:14.", param_hint=option) from None


def second_at(session: Session, at: str | None) -> float | None:
    """The second of a position in the piece that was given as `--at`; None for the worst moment. BadParameter if it
    lies beyond the piece's ends."""
    second = None if at is None else position(at)
    if second is not None and not 0 <= second <= session.length:
        raise click.BadParameter(f"{at} is not in the piece, which lasts {clock(session.length)}.", param_hint="--at")
    return second


def dearest(of: Survey, here: Instant, count: int = 8) -> list[tuple[Strip, float]]:
    """The strips that cost most at a moment, with what they take of one core."""
    order = sorted(range(len(here.strip_costs)), key=lambda i: -here.strip_costs[i])[:count]
    return [(of.planned.session.strips[i], float(here.strip_costs[i]) / of.deadline) for i in order]


def figures(of: Survey, here: Instant, seen: Outlook) -> dict[str, Any]:
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
        "verdict": seen.verdict.kind,
        "headline": seen.verdict.headline,
        "advice": seen.verdict.advice,
        "limit": of.session.limit,
        "slower_in_the_end": slower_in_the_end(of),
        "work_of_one_core": here.block.work / of.deadline,
        "chain": [of.planned.session.strips[i].name for i in here.block.strips(here.block.chain)],
        "ladder": [r._asdict() | peak_figures(seen.peaks[r.buffer]) for r in here.rungs],
        "worst_moments": worst_seconds(of.after),
        "tracks_by_cost": [(strip.name, share) for strip, share in dearest(of, here)],
        "figures_from": here.shares,
        "doubt": here.doubt, "as_on_alike": here.as_on_alike,
        "not_measured": len(of.case.costs.missing),
        "parts": here.parts._asdict(),
        "memory": kept_figures(of),
        "loading": opening_figures(of),
        "warnings": warnings(of),
    }


def slower_in_the_end(of: Survey) -> float:
    """How many times as long the same work takes when this computer has worked for a while, as far as that was found;
    1 of another computer, and where loads have it in them."""
    lasting = ceiling_file.read_lasting()
    return lasting.slower if lasting is not None and not of.machine.is_another else 1.0


def kept_figures(of: Survey) -> dict[str, Any]:
    """What plugins keep in memory, as plain values: bytes, and bytes a second where that grows without an end."""
    kept = of.memory
    kinds = [
        {"plugin": k.label, "setting": k.key.setting, "instances": k.many, "bytes": k.bytes, "each": k.each,
         "shared": k.pool, "grows": k.grows} for k in kept.kinds
    ]  # fmt: skip
    return {
        "bytes": kept.bytes, "code": kept.code, "at_least": kept.is_at_least, "room": of.machine.memory,
        "not_measured": kept.unknown, "kinds": kinds,
    }  # fmt: skip


def opening_figures(of: Survey) -> dict[str, Any]:
    """How long its plugins take to load, as plain values (seconds), by plugin."""
    found = opening(of.session, of.planned.cards)
    return {
        "seconds": found.seconds, "not_measured": found.unknown, "timed_once": found.earlier,
        "plugins": [each._asdict() for each in found.kinds],
    }  # fmt: skip


def peak_figures(of: Peaks) -> dict[str, float]:
    """Peaks as plain values: loads as fractions, dropouts a minute."""
    return {"typical": of.typical, "one_in_a_hundred": of.bad, "worst": of.worst, "dropouts_per_minute": of.dropouts}


def say(of: Survey, here: Instant, seen: Outlook) -> None:
    """The same in words."""
    click.echo(f"{of.session.name}   {of.session.rate} Hz, {of.buffer} samples, {cores_words(of.machine)}")
    click.echo(seen.verdict.headline)
    is_known = not is_unknown(of)
    rung = here.rung(of.buffer)
    later = in_the_end_words(rung.load, of.session.limit, slower_in_the_end(of)) if is_known else ""
    click.echo(seen.verdict.advice + later)
    if is_known:
        click.echo(_parts(here))
    for words in memory.lines(of):
        click.echo(words)
    click.echo()
    click.echo("  buffer     load   1 in 100   longest chain   evenly spread   in and out")
    for r in here.rungs:
        mark = ">" if r.buffer == of.buffer else " "
        loads = [r.load, seen.peaks[r.buffer].bad, r.chain, r.spread]
        load, bad, chain, spread = [percent(each) if is_known else "–" for each in loads]
        click.echo(
            f"{mark} {r.buffer:6d}  {load:>7}  {bad:>9}  {chain:>14}  {spread:>14}  {milliseconds(r.round_trip):>11}"
            f"   {r.word}"
        )
    if is_known:
        click.echo()
        click.echo(f"Tracks by cost at {clock(here.second)}, in per cent of one core:")
        lacking = of.lacking
        for strip, share in dearest(of, here):
            click.echo(f"  {share_words(strip, lacking, share, brief=True):>7}  {strip.name}")
    for line in provenance_lines(here):
        click.echo(line)
    for warning in warnings(of):
        click.echo(f"Mind: {warning}")


def _parts(here: Instant) -> str:
    """What a load is made of: the plugins' own work, the host's, and what this computer adds."""
    added = [f"{percent(share)} {words}" for share, words in adds(here.parts) if share >= 0.0005]
    computer = f"; this computer adds {'; '.join(added)}" if added else ""
    return f"Own work {percent(here.parts.own)}, the host {percent(here.parts.host)}{computer}."


def provenance_lines(here: Instant) -> list[str]:
    """What the load rests on, if not all of it was measured on this computer."""
    return [as_sentence(words) for words in basis_words(here)]
