"""Carrying a plan out from a shell: render, prove, write the changed session; and null tests of any two files."""

from __future__ import annotations

import sys
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import NoReturn

import click
import msgspec

from ..core.cards.card import Cards
from ..core.decisions.decision import Plan
from ..core.told import carrying as told
from ..core.units import about, count, percent, told_by
from ..deliver import carrying, difference, exchange_out, lasting, whole_mix
from ..deliver import stems as stems_of
from ..deliver.against import Kept
from ..deliver.lasting import Effort, TimeLeft
from ..deliver.proof import Proof
from ..deliver.render import THERE_ALREADY, Job, Rendered, Step
from ..deliver.there import there
from ..demo import audio as demo_audio
from ..store import audio, session_file
from ..store.audio import AudioError
from ..store.session_file import Saved
from .common import as_json, cards_of, cli, opened, refuse_unknown, show_json

SESSIONS = (session_file.SUFFIX, carrying.SUFFIX)
FILE_KIND = click.option(
    "--format", "kind", type=click.Choice(list(audio.FORMATS)), default="wav",
    help="; ".join(f"{name}: {form.words}" for name, form in audio.FORMATS.items()) + ".",
)  # fmt: skip


@cli.command("carry-out")
@click.argument("file")
@click.option(
    "--to", type=click.Path(file_okay=False), help="Where the audio goes (default: beside the exchange file)."
)
@click.option("--only", multiple=True, metavar="TRACK", help="Only the track of this name; repeatable.")
@FILE_KIND
@click.option(
    "--buffer", type=click.IntRange(16, 8192), help="The host's block size when it renders (default: as saved)."
)
@click.option("--no-proof", is_flag=True, help="Do not render again at another block size to compare.")
@click.option("--no-session", is_flag=True, help="Do not write the changed session.")
@click.option("--mix", is_flag=True, help="Prove the mix of the changed session, too: what differs is rendered.")
@click.option("--dry-run", is_flag=True, help="Only say what there is to do, and what lies there already.")
@as_json
def carry_out(
    file: str, to: str | None, only: tuple[str, ...], kind: str, buffer: int | None, no_proof: bool, no_session: bool,
    mix: bool, dry_run: bool, json: bool,
) -> None:  # fmt: skip
    """Carry out the plan of session FILE: render what is frozen or bounced, prove it, and write the changed session.

    Neither FILE nor the exchange file it comes from is changed. What is there already and made of the same is left.
    Exit code 1 if something was not rendered, or its mix not proven; 3 if the mix sounds different.
    """
    saved = opened(file).saved
    prepared = prepared_for(saved, saved.plan, buffer, file)
    folder = Path(to) if to else carrying.folder_of(prepared.beside)
    there = [*(job.name for job in prepared.jobs), *(name for name, _ in prepared.refused)]
    refuse_unknown(only, there, "The plan renders nothing called “{}”, but: {}.")
    jobs = [job for job in prepared.jobs if not only or job.name in only]
    if only or no_proof:
        prepared = prepared._replace(checks=[])
    cards = cards_of(saved)
    takes = lasting.efforts(prepared._replace(jobs=jobs), cards, not no_proof)
    if dry_run:
        show_todo(prepared, jobs, folder, kind, takes, json)
        return
    left = TimeLeft(takes, cards)
    rendered, ended, shared = rendered_in(prepared, jobs, folder, kind, not no_proof, left, json)
    written = None
    if (rendered or prepared.is_written) and not no_session:
        target = carrying.file_of(prepared.beside)
        try:
            written = exchange_out.write(
                target, prepared.source, saved.session, saved.plan, rendered, folder, cards
            )
        except exchange_out.WriteError as error:
            raise click.ClickException(f"{error}.") from error
    if not json:
        show_carried(prepared, len(rendered), len(jobs), len(ended), written)
    proof = None
    if mix and written is not None:
        target, buffer = Path(written.path), buffer or saved.buffer
        proof, trouble = proven(
            whole_mix.prove_written(saved.session, buffer, Path(file).absolute(), target, folder), cards, json
        )  # fmt: skip
        ended |= {carrying.MIX.name: trouble} if trouble else {}
    if json:
        show_json({"folder": str(folder), "rendered": list(rendered.values()), "ended": ended,
                   "refused": dict(prepared.refused), "shared": shared, "session": written, "mix": proof})  # fmt: skip
    raise SystemExit(1 if ended else 3 if proof is not None and proof.verdict == "different" else 0)


def show_carried(
    prepared: carrying.Prepared, done: int, total: int, ended: int, written: exchange_out.Written | None
) -> None:  # fmt: skip
    """Says how far a plan was carried out, and where the changed session is."""
    for name, reason in prepared.refused:
        click.echo(f"  {name}: not rendered: {reason}")
    click.echo(told.headline(done, total, ended, len(prepared.refused), prepared.is_written))
    if written is not None:
        click.echo(f"Written to {written.path}")
        for line in written.by_hand:
            click.echo(f"  by hand: {line}")


def shown(steps: Iterator[Step], left: TimeLeft, quiet: bool) -> Iterator[Step]:
    """The same steps, each in place of the one before on a terminal, where nothing of it stays; and how long it goes
    on."""
    on_terminal, before = not quiet and sys.stderr.isatty(), ""
    for step in steps:
        left.take(step)
        seconds = left.seconds()
        goes_on = f", {about(seconds)} left" if seconds else ""
        words = f"{step.job.name}: {step.doing} {percent(step.share)}{goes_on}"
        if on_terminal and words != before:
            click.echo(f"\r\033[K  {words}", nl=False, err=True)
            before = words
        if before and step.share >= 1.0:
            click.echo("\r\033[K", nl=False, err=True)
        yield step


def proven(steps: Iterator[Step], cards: Cards, quiet: bool) -> tuple[Proof | None, str]:
    """What the proof of a mix has found, or why there is none; told, unless it is to be quiet."""
    *_, last = shown(steps, TimeLeft({}, cards), quiet)
    proof = last.compared
    if not quiet:
        words = carrying.mix_words(proof) + to_hear(proof) if proof else ""
        click.echo(f"  {carrying.MIX.name}: {words or last.trouble}")
    return proof, last.trouble


def to_hear(proof: Proof) -> str:
    """Where what differs, and what was compared, can be listened to, behind a sentence."""
    files = [*filter(None, [proof.residual]), *(side.file for side in proof.sides)]
    return f"; to listen to: {', '.join(files)}" if files else ""


def show_todo(
    prepared: carrying.Prepared, jobs: Sequence[Job], folder: Path, kind: str, takes: Mapping[str, Effort], json: bool
) -> None:
    """Says where each job stands, and how long it takes, with nothing done."""
    lies = there(jobs, prepared.source, folder, kind)
    stands = {}
    for job in jobs:
        known, when = lies.rendered.get(job.strip.id), lies.older.get(job.strip.id)
        again = f"{told.AGAIN}: {told.older_words(when)}" if when is not None else "to render"
        again += took(takes[job.strip.id])
        stands[job.name] = again if known is None else f"{THERE_ALREADY}, {words_of(known)}"
    if json:
        show_json({"folder": str(folder), "jobs": stands, "refused": dict(prepared.refused),
                   "to_prove": [check.bus.name for check in prepared.checks],
                   "seconds": {of.name: takes[of.strip.id].alone for of in prepared.all_jobs
                               if of.strip.id in takes and takes[of.strip.id].known}})  # fmt: skip
        return
    for name, words in stands.items():
        click.echo(f"  {name}: {words}")
    for check in prepared.checks:
        click.echo(f"  {check.bus.name}: to prove, on {count(len(check.members), 'track')}{took(takes[check.bus.id])}")
    for name, reason in prepared.refused:
        click.echo(f"  {name}: not rendered: {reason}")
    done = len(lies.rendered)
    click.echo(told.headline(done, len(jobs), 0, len(prepared.refused), prepared.is_written))


def took(of: Effort) -> str:
    """How long something takes, behind a sentence; nothing where that is not known."""
    return f", which takes {about(of.alone)}" if of.known else ""


def prepared_for(
    saved: Saved, plan: Plan, buffer: int | None, file: str, stems_of: Sequence[str] = ()
) -> carrying.Prepared:
    """What there is to do in what FILE holds, with the example's audio made if it is that. ClickException if nothing
    can be done."""
    try:
        demo_audio.made_if_needed(saved.session.source)
        return carrying.prepare(saved.session, plan, buffer or saved.buffer, stems_of, Path(file).absolute())
    except carrying.NothingToDoError as error:
        raise click.ClickException(str(error)) from error
    except OSError as error:
        raise click.ClickException(f"The example's audio could not be made: {told_by(error)}.") from error


def rendered_in(
    prepared: carrying.Prepared, jobs: list, folder: Path, kind: str, prove: bool, left: TimeLeft, quiet: bool
) -> tuple[dict[str, Rendered], dict[str, str], dict[str, Proof]]:
    """What was rendered, by strip, what ended early, and what shared buses sound like, by name; told as it goes."""
    rendered: dict[str, Rendered] = {}
    shared: dict[str, Proof] = {}
    ended: dict[str, str] = {}
    for step in shown(carrying.run(prepared, folder, kind, prove, jobs=left.longest_first(jobs)), left, quiet):
        if step.trouble:
            ended[step.job.name] = step.trouble
            if not quiet:
                click.echo(f"  {step.job.name}: {step.trouble}")
        elif step.rendered is not None:
            rendered[step.rendered.strip] = step.rendered
            if not quiet:
                click.echo(f"  {step.job.name}: {step.doing}, {words_of(step.rendered)}")
        elif step.compared is not None:
            proof = shared[step.job.name] = step.compared
            if not quiet:
                click.echo(f"  {step.job.name}: {carrying.compared_words(prepared, step)}{to_hear(proof)}")
    return rendered, ended, shared


def words_of(of: Rendered) -> str:
    """A rendered file in words."""
    heard = to_hear(of.proof) if of.proof is not None else ""
    return "; ".join([f"peak {told.levels(of.peak_db, of.lufs)}", *carrying.told_of(of)]) + heard


@cli.command()
@click.argument("file")
@click.option("--to", type=click.Path(file_okay=False), help="Where the stems go (default: beside the session).")
@click.option("--only", multiple=True, metavar="TRACK", help="Only the stem of this track or bus; repeatable.")
@click.option("--mix", is_flag=True, help="The whole mix as well, through the main output.")
@FILE_KIND
@click.option("--buffer", type=click.IntRange(16, 8192), help="The host's block size when it renders.")
@click.option("--no-proof", is_flag=True, help="Do not render again to compare.")
@as_json
def stems(
    file: str, to: str | None, only: tuple[str, ...], mix: bool, kind: str, buffer: int | None, no_proof: bool,
    json: bool,
) -> None:  # fmt: skip
    """Render what each track and bus of session FILE gives to the main output, behind its fader, as a file of its own.

    All begin with the piece. That they add up to the mix is proven with the files themselves. Any other track or bus
    can be named with --only.
    """
    saved = opened(file).saved
    there = stems_of.choices(saved.session)
    refuse_unknown(only, [strip.name for strip in there], "Nothing called “{}” is heard here. There are: {}.")
    usual = [] if only else stems_of.leading(saved.session)
    wanted = [s.id for s in there if s.name in only or s.id in usual or (mix and s.kind == "main")]
    prepared = prepared_for(saved, Plan(), buffer, file, wanted)
    folder = Path(to) if to else prepared.beside.with_name(f"{prepared.beside.stem} stems")
    cards = cards_of(saved)
    if no_proof:
        prepared = prepared._replace(together=None)
    left = TimeLeft(lasting.efforts(prepared, cards, not no_proof), cards)
    rendered, ended, shared = rendered_in(prepared, prepared.jobs, folder, kind, not no_proof, left, json)
    if json:
        show_json({"folder": str(folder), "rendered": list(rendered.values()), "ended": ended,
                   "refused": dict(prepared.refused), "together": next(iter(shared.values()), None)})  # fmt: skip
    else:
        for name, reason in prepared.refused:
            click.echo(f"  {name}: not rendered: {reason}")
        click.echo(f"{len(rendered)} of {len(wanted)} stems are in {folder}")
    raise SystemExit(1 if ended or prepared.refused else 0)


@cli.command()
@click.argument("one", type=click.Path(exists=True, dir_okay=False))
@click.argument("other", type=click.Path(exists=True, dir_okay=False))
@click.option(
    "--residual",
    type=click.Path(dir_okay=False),
    help="Write what is left as WAV (float), at its true level, to listen to.",
)
@as_json
def null(one: str, other: str, residual: str | None, json: bool) -> None:
    """Take audio file OTHER from ONE: what is left, in dBFS, and where the most of it lies.

    Of two sessions (.nimbleload or .dawproject) the mix, without what they plan: what differs is rendered in full.
    Exit code 3 if more than −120 dBFS are left.
    """
    if Path(one).suffix in SESSIONS and Path(other).suffix in SESSIONS:
        null_of_mixes(one, other, Path(residual) if residual else None, json)
    try:
        found = difference.of_files(Path(one), Path(other), Path(residual) if residual else None)
    except AudioError as error:
        raise click.ClickException(f"{error}.") from error
    if json:
        show_json({"peak_db": found.peak_db, "rms_db": found.rms_db, "sample": found.place, "samples": found.samples})
    else:
        click.echo(
            f"What is left: {told.level(found.peak_db)} at most, at sample {found.place}; "
            f"{told.level(found.rms_db)} on average."
        )
        if residual:
            click.echo(f"Written to {residual}")
    raise SystemExit(3 if found.peak_db > -120 else 0)


def null_of_mixes(one: str, other: str, residual: Path | None, json: bool) -> NoReturn:
    """The mix of one session against that of another, in the host and the blocks of the first."""
    first, second = opened(one).saved, opened(other).saved
    try:
        before = whole_mix.side(first.session, first.buffer, Path(one).absolute())
        session = msgspec.structs.replace(second.session, host=first.session.host)
        after = whole_mix.side(session, first.buffer, Path(other).absolute())
    except carrying.NothingToDoError as error:
        raise click.ClickException(str(error)) from error
    proof, trouble = proven(whole_mix.prove(before, after, Kept(residual)), cards_of(first), json)
    if proof is None:
        raise click.ClickException(trouble)
    if json:
        show_json(proof)
    raise SystemExit(3 if proof.peak_db > -120 else 0)
