"""Watching a running host from a shell: which plugin takes how much, how full its blocks are."""

from __future__ import annotations

import csv
import io
import os
import select
import sys
import time
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import click

from ..core.load.seen import session_of
from ..core.session.plugins import PluginUse
from ..core.survey import Compared, compared_with, instant
from ..core.told import watching as told
from ..core.told.dropouts import Line, line, past_words
from ..core.told.held_up import SLEPT_FOR
from ..core.units import as_sentence, count, percent
from ..core.watching.asleep import sleepers
from ..core.watching.before import Before
from ..core.watching.blocks import Seen, see
from ..core.watching.core_clocks import clock
from ..core.watching.dropouts import Dropout
from ..core.watching.held_memory import Held, grows
from ..core.watching.history import History, Past, past_of
from ..core.watching.larger import TIMES
from ..core.watching.late import why_late
from ..core.watching.outside import taken_outside
from ..core.watching.pattern import at_work_with, regular
from ..core.watching.records import Heard, Recording
from ..core.watching.shares import parts
from ..core.watching.xruns import xruns
from ..machine import processes, sound_servers, threads_only
from ..machine.listening import ListeningError
from ..machine.perf import NotAllowedError
from ..machine.sound_servers import Running
from ..machine.time_of_day import when_it_was_zero
from ..machine.watcher import Watcher
from ..probe import catalogue
from ..probe.catalogue import Scanned
from ..probe.choosing import held_in
from ..store import recording_file, session_file
from ..store.session_file import Saved, SessionFileError
from .common import FiniteRange, as_json, cli, opened, refuse_if_there, show_json
from .session import second_at, survey_of

# Records are kept for so long; so often it is looked for dropouts, in the records of the last seconds; so many of them
# are listed.
KEPT_SECONDS, LOOK_EVERY, LOOKED_AT, SHOWN_DROPOUTS = 120.0, 5.0, 10.0, 20
# Exit codes for scripts: blocks were late; no cycle was found; nothing can be watched.
LATE, NO_CYCLE = 3, 4


@cli.command()
@click.argument("process", type=int, nargs=-1)
@click.option("--all", "together", is_flag=True, help="Watch all hosts that run as one: a server with its clients.")
@click.option("--jack", is_flag=True, help="Watch the sound server that runs (JACK or PipeWire) with its clients.")
@click.option("--seconds", type=FiniteRange(0.5, 3600), default=10.0, help="For how long (default: 10).")
@click.option("--close", is_flag=True, help="Look ten times as often: finer figures, for ten seconds or so.")
@click.option("--keep", type=click.Path(dir_okay=False), help="Keep the recording in this file (.nimblewatch).")
@click.option("--from", "source", type=click.Path(exists=True, dir_okay=False), help="Read a recording that was kept.")
@click.option("--session", type=click.Path(dir_okay=False), help="Make a session of what was seen (.nimbleload).")
@click.option("--against", metavar="FILE", help="Compare with what the session FILE predicts, which the host plays.")
@click.option("--at", metavar="M:SS", help="Where in the piece it plays (default: the worst moment).")
@click.option("--before", type=click.Path(exists=True, dir_okay=False), help="Compare with a recording kept before.")
@click.option("--csv", "as_csv", is_flag=True, help="Print the table of who takes what as CSV.")
@as_json
def watch(
    process: tuple[int, ...],
    together: bool,
    jack: bool,
    seconds: float,
    close: bool,
    keep: str | None,
    source: str | None,
    session: str | None,
    against: str | None,
    at: str | None,
    before: str | None,
    as_csv: bool,
    json: bool,
) -> None:
    """Watch a running host: which plugin takes how much, how full each block is, which were late.

    PROCESS is the host's number, or several; without it the hosts that run are listed,
    and the only one is watched. Each dropout is told as it comes, with what else was at
    work then; on a terminal press Enter when you hear one. Watched for longer than two
    minutes, shares are of the last two. Exit code 3: a block was late; 4: no cycle was
    found.
    """
    other = opened(against).saved if against is not None else None
    refuse_at_once(keep, session, other, at)
    try:
        then = held_before(Path(before)) if before is not None else None
        if source is not None:
            recording, names, past = recording_file.read_all(Path(source))
            events: list[str] = []
        else:
            names = catalogue.names_by_file(catalogue.remembered())
            server = running_server() if jack else None
            numbers = () if server is not None else process or chosen(names, together, json or as_csv)
            names = names or catalogue.names_by_file(looked_for())
            recording, past, events = watched(numbers, seconds, close, names, server)
        if keep is not None:
            recording_file.write(Path(keep), recording, names, past)
    except recording_file.RecordingFileError as error:
        raise click.ClickException(str(error)) from error
    seen = see(recording)
    past = past or past_of(seen)
    plugins = held_in(recording.files, names, catalogue.remembered())
    compared = compare(seen, other, at, plugins) if other is not None else None
    taken = keep_session(seen, Path(session), plugins) if session is not None else ""
    if json:
        told_too = compared_figures(seen, names, compared, then)
        show_json(figures(seen, names) | {"past": past_figures(past, seen, names), "events": events} | told_too)
    elif as_csv:
        click.echo(as_table(seen, names), nl=False)
    else:
        show(seen, past, names, events)
        if then is not None:
            show_changes(then, seen, names)
        for words in filter(None, (told.compared_table(compared) if compared is not None else "", taken)):
            click.echo(words)
    if seen.blocks is None and not past.played:
        raise SystemExit(NO_CYCLE)
    raise SystemExit(LATE if past.number else 0)


def compared_figures(
    of: Seen, names: Mapping[str, str], compared: Compared | None, then: Before | None
) -> dict[str, Any]:  # fmt: skip
    """What was seen beside what a session predicts, and beside what was kept before, as figures."""
    found: dict[str, Any] = {} if compared is None else {"against": compared.figures()}
    if then is not None:
        changes = then.changes(told.by_name(told.table(of, names)), of)
        found["before"] = [change._asdict() for change in changes]
    return found


def held_before(path: Path) -> Before:
    """What a recording says, to compare with."""
    recording, names = recording_file.read(path)
    seen = see(recording)
    return Before.of(seen, told.by_name(told.table(seen, names)))


def show_changes(then: Before, of: Seen, names: Mapping[str, str]) -> None:
    """What has changed since then, in words and a table."""
    found = then.changes(told.by_name(told.table(of, names)), of)
    click.echo("")
    for words in filter(None, (told.change_words(found, then.slower(of)), told.blocks_before(then, of))):
        click.echo(words)
    click.echo("  plugin                              before        now   difference")
    for change in found:
        chance = "" if change.is_real else "  (chance)"
        before, after = percent(change.before), percent(change.after)
        click.echo(f"  {change.name[:34]:34} {before:>8}   {after:>8}   {told.points(change.difference):>10}{chance}")


def looked_for() -> list[Scanned]:
    """What plugins are installed, looked for now."""
    click.echo("The plugins that are installed are looked for first, once.", err=True)
    return catalogue.catalogue()


def refuse_at_once(keep: str | None, session: str | None, against: Saved | None, at: str | None) -> None:
    """Says what cannot be done with what will be seen, before it is waited for."""
    if session is not None and Path(session).suffix != session_file.SUFFIX:
        raise click.ClickException(f"{session} does not end in {session_file.SUFFIX}.")
    for target in (Path(each) for each in (keep, session) if each is not None):
        refuse_if_there(target)
        if not os.access(target.parent, os.W_OK):
            raise click.ClickException(f"{target} cannot be written: {target.parent} is no folder that lets you.")
    if against is not None:
        second_at(against.session, at)
    elif at is not None:
        raise click.UsageError("--at says at which moment it is compared; with what, --against says.")


def running_server() -> Running:
    """The sound server that runs, JACK's first."""
    found = sound_servers.servers()
    if not found:
        raise click.ClickException("No sound server of yours is running: neither JACK nor PipeWire.")
    return found[0]


def watched(
    process: tuple[int, ...], seconds: float, close: bool, names: Mapping[str, str], server: Running | None = None
) -> tuple[Recording, Past, list[str]]:
    """Watches for so long, or until the host ends; what was recorded at last, all that was seen, and what happened
    meanwhile. Dropouts are told as they come."""
    kept = min(seconds, KEPT_SECONDS) + 1
    try:
        if server is not None:
            watcher = Watcher.of_server(server, close, kept, catalogue.parts())
        else:
            watcher = Watcher(process, close, kept, parts=catalogue.parts())
    except ListeningError as error:
        raise click.ClickException(f"{server.kind if server else ''} cannot be listened to: {error}.") from error
    except ProcessLookupError as error:
        raise click.ClickException(f"{error.strerror}.") from error
    except NotAllowedError as error:
        click.echo("Without it only this can be seen:")
        for line in told.threads_words(threads_only.seen(process, min(seconds, 5.0))):
            click.echo(f"  {line}")
        raise click.ClickException(not_allowed()) from error
    listens = sys.stdin is not None and sys.stdin.isatty()
    if listens:
        click.echo("Press Enter when you hear a dropout.", err=True)
    history = History()
    try:
        until = time.monotonic() + seconds
        looked = time.monotonic()
        while time.monotonic() < until and not watcher.is_over:
            if _waited(min(0.1, max(until - time.monotonic(), 0.01)), listens):
                history.mark(time.monotonic_ns())
            watcher.poll()
            if time.monotonic() - looked >= LOOK_EVERY:
                looked = time.monotonic()
                tell(history, see(watcher.recording(LOOKED_AT)), names)
        events = [event.words for event in watcher.events]
        if watcher.unseen:
            events.append(f"{count(watcher.unseen, 'thread')} could not be watched: no more room for records")
        recording = watcher.recording()
        tell(history, see(recording), names, last=True)
        return recording, history.past, events
    finally:
        watcher.close()


def _waited(seconds: float, listens: bool) -> bool:
    """Waits for so long; whether Enter was pressed meanwhile, if that is listened for."""
    if not listens:
        time.sleep(seconds)
        return False
    pressed, _, _ = select.select([sys.stdin], [], [], seconds)
    return bool(pressed) and bool(sys.stdin.readline())


def tell(history: History, of: Seen, names: Mapping[str, str], last: bool = False) -> None:
    """Takes in what was seen, and tells of new dropouts at once."""
    found = history.take(of, when_it_was_zero(), last)
    if found and sys.stderr.isatty():
        past, called, threads = history.past, told.calling(of, names), told.thread_names(of)
        for each in found:
            click.echo(line(each, past, called, threads).whole, err=True)


def keep_session(of: Seen, target: Path, plugins: Mapping[str, PluginUse]) -> str:
    """Writes a session of what was seen; what to say of it."""
    found = told.buffer_of(of.blocks.period) if of.blocks is not None else None
    try:
        if found is None:
            raise ValueError("the cycle belongs to no usual buffer size")
        made = session_of(of, *found, plugins, target.stem)
        session_file.write(target, Saved(made.session, cards=made.cards, machine=made.machine, buffer=made.buffer))
    except (ValueError, SessionFileError) as error:
        raise click.ClickException(f"No session was made: {error}.") from error
    return f"{told.taken_words(made)} Written to {target}"


def compare(of: Seen, saved: Saved, at: str | None, plugins: Mapping[str, PluginUse]) -> Compared:
    """What a session predicts for a moment, at the buffer size that was seen, against what was seen."""
    found = told.buffer_of(of.blocks.period) if of.blocks is not None else None
    whole = survey_of(saved, found[0] if found is not None else None)
    return compared_with(whole, instant(whole, second_at(whole.session, at)), of, plugins)


def chosen(names: Mapping[str, str], together: bool, quiet: bool) -> tuple[int, ...]:
    """The only host that runs, or all of them together, or a list of them to choose from."""
    found = processes.hosts()
    if not found:
        raise click.ClickException(
            "No host is running: no program of yours has plugins loaded or threads in real time. "
            "Give the number of a process to watch that one."
        )
    with_plugins = [each for each in found if each.plugins] or found
    if together or len(with_plugins) == 1:
        watched = found if together else with_plugins
        if not quiet:
            click.echo(f"Watching {', '.join(f'{each.name} ({each.number})' for each in watched)}", err=True)
        return tuple(each.number for each in watched)
    lines = [f"  {each.number:>7}  {told.host_words(each.name, each.plugins, each.real_time_threads, names)}"
             for each in found]  # fmt: skip
    raise click.ClickException("\n".join(["Several hosts are running; give the numbers, or --all for all:", *lines]))


def not_allowed() -> str:
    """Why nothing can be seen, and what to do about it."""
    return (
        "The kernel does not let you see what threads do (kernel.perf_event_paranoid is above 2). For now:  "
        "sudo sysctl kernel.perf_event_paranoid=2   and for good:  echo kernel.perf_event_paranoid=2 | "
        "sudo tee /etc/sysctl.d/60-watching.conf"
    )


def show(of: Seen, past: Past, names: Mapping[str, str], events: Sequence[str]) -> None:
    """The answer in words and a table."""
    rows, roles = told.table(of, names), parts(of)
    called, threads = told.calling(of, names), told.thread_names(of)
    click.echo(told.headline(of))
    findings = told.findings(of, rows, roles, names, with_late=not past.number)
    for sentence in (*past_words(past, called, threads), *findings, *map(as_sentence, events)):
        click.echo(sentence)
    if past.number:
        click.echo()
        for each in past.dropouts[-SHOWN_DROPOUTS:]:
            click.echo(f"  {line(each, past, called, threads).whole}")
    click.echo()
    click.echo("  plugin                            of a core   95 of 100 times   in the worst blocks")
    for row in rows:
        share = row.share
        worst = percent(share.worst) if of.blocks is not None and share.looks else ""
        interval = told.between(share) if share.looks else ""
        click.echo(f"  {row.name[:34]:34} {percent(share.core):>8}   {interval:>15}   {worst:>19}")
    click.echo()
    for part in roles:
        click.echo(f"  {told.part_words(part)}, {count(part.threads, 'thread')}")
    click.echo(told.watching_costs(of))


def figures(of: Seen, names: Mapping[str, str]) -> dict[str, Any]:
    """The same as figures; shares are of one core, times in seconds."""
    blocks, recording = of.blocks, of.recording
    found = told.buffer_of(blocks.period) if blocks is not None else None
    return {
        "seconds": recording.seconds,
        "cycle": None if blocks is None else {
            "seconds": blocks.period, "buffer": found[0] if found else None, "rate": found[1] if found else None,
            "was": of.was or None, "blocks": blocks.number, "late": blocks.dropouts,
            "typical": blocks.typical, "one_in_a_hundred": blocks.bad, "worst": blocks.worst,
            "late_because": _late_figures(of, names),
        },
        "rows": [
            {"name": row.name, "is_plugin": row.is_plugin,
             "file": recording.files[row.share.owner - 1] if row.is_plugin else None, "core": row.share.core,
             "low": row.share.low, "high": row.share.high, "in_worst_blocks": row.share.worst, "looks": row.share.looks,
             "threads": [recording.threads[k].name for k in row.share.threads]}
            for row in told.table(of, names)
        ],
        "roles": [part._asdict() for part in parts(of)],
        "threads": [
            {"process": t.process, "number": t.number, "name": t.name, "is_real_time": t.is_real_time,
             "role": role, "waited": t.waited if t.waited >= 0 else None}
            for t, role in zip(recording.threads, of.roles, strict=True)
        ],
        "asleep": [
            {"name": told.owner_words(each.owner, recording.files, names), "for": SLEPT_FOR[each.why],
             "looks": each.looks, "part": each.part} for each in sleepers(of)
        ],
        "taken_from_outside": taken_outside(of), "clock": None if (ran := clock(of)) is None else ran._asdict(),
        "lost": recording.lost, "look_costs": recording.price, "memory": _memory_figures(recording.memory),
        "server": None if recording.heard is None else _server_figures(of, recording.heard),
    }  # fmt: skip


def past_figures(past: Past, of: Seen, names: Mapping[str, str]) -> dict[str, Any]:
    """All that was seen since watching began: times in seconds since then, `day` as Unix time (null: not known)."""
    called, threads = told.calling(of, names), told.thread_names(of)
    kept = regular(tuple(each.time / 1e9 for each in past.dropouts))
    return {
        "seconds": (past.ended - past.begun) / 1e9, "played": past.played, "unseen": past.unseen,
        "no_cycle": past.no_cycle,
        "blocks": past.blocks, "typical": past.typical, "one_in_a_hundred": past.bad, "worst": past.worst,
        "number": past.number, "regular": kept._asdict() if kept is not None else None,
        "at_work_with": [each._asdict() for each in at_work_with(past.dropouts)],
        "dropouts": [_dropout_figures(each, past, line(each, past, called, threads)) for each in past.dropouts],
        "heard": [{"at": (each.time - past.begun) / 1e9, "a_block_was_late": each.is_dropout} for each in past.marks],
    }  # fmt: skip


def _dropout_figures(of: Dropout, past: Past, told_so: Line) -> dict[str, Any]:
    """One dropout: how late (seconds), why, what was at work beside it, in which larger buffers it would have come."""
    return {
        "at": (of.time - past.begun) / 1e9, "day": of.day or None, "blocks": of.blocks, "late_by": of.by,
        "load": of.load, "xruns": of.xruns, "taken_from_outside": of.taken, "why": told_so.why,
        "beside": [other._asdict() for other in of.beside],
        "in_larger_buffers": dict(zip(map(str, TIMES), of.still, strict=True)) if of.still else None,
    }  # fmt: skip


def _late_figures(of: Seen, names: Mapping[str, str]) -> dict[str, Any] | None:
    """Why blocks were late, in blocks; None if none was."""
    found = why_late(of)
    if found is None:
        return None

    def called(owner: int | None) -> str | None:
        return None if owner is None else told.owner_words(owner, of.recording.files, names)

    return {
        "began_late": found.woken, "slept_on": found.slept, "read_from_disk": found.read,
        "core_taken_away": found.outside, "gave_way": found.pushed, "waited": found.waited,
        "took_longer": found.longer, "after_a_late_one": found.after,
        "mostly": called(found.owner), "part": found.part, "all_alike": found.alike, "reader": called(found.reader),
        "asks_for_new_memory": called(found.asks),
        "meanwhile": None if found.meanwhile is None else of.recording.threads[found.meanwhile].name,
        "asleep_meanwhile": None if found.sleeper is None else called(found.sleeper.owner), "clocks": found.clocks,
    }  # fmt: skip


def _memory_figures(of: tuple[Held, ...]) -> dict[str, Any] | None:
    """What the host keeps at last (bytes), and by how much that grows a second; None if it was not seen."""
    if not of:
        return None
    kept = of[-1]._asdict()
    del kept["time"]
    return {**kept, "grows": grows(of)}


def _server_figures(of: Seen, heard: Heard) -> dict[str, Any]:
    """What the sound server told; times in seconds from the start of the recording."""
    begun = of.recording.begun
    told = zip(heard.xrun_time.tolist(), heard.xrun_late.tolist(), xruns(of).is_late.tolist(), strict=False)
    return {
        **heard.server._asdict(), "clients": [client._asdict() for client in heard.server.clients],
        "load": float(heard.load.mean()) if len(heard.load) else None,
        "xruns": [{"at": (at - begun) / 1e9, "late": late, "with_a_late_block": block} for at, late, block in told],
    }  # fmt: skip


def as_table(of: Seen, names: Mapping[str, str]) -> str:
    """Who takes what, a line each, as CSV."""
    text = io.StringIO()
    rows = csv.writer(text, lineterminator="\n")
    rows.writerow(["name", "of one core", "at least", "at most", "in the worst blocks", "looks"])
    for row in told.table(of, names):
        share = row.share
        rows.writerow([row.name, *(f"{v:.5f}" for v in (share.core, share.low, share.high, share.worst)), share.looks])
    return text.getvalue()
