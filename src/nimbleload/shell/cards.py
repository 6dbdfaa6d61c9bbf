"""Plugins and cost cards from a shell: what is installed, measure, show a card, compare two."""

from __future__ import annotations

import time

import click
from msgspec import to_builtins
from msgspec.structs import replace

from ..core.cards.card import CostCard
from ..core.cards.comparison import card_named, lighter, savings
from ..core.cards.families import kind
from ..core.session.computer import BUFFER_SIZES
from ..core.session.plugins import FAMILIES, CardKey, PluginUse
from ..core.session.session import SessionError
from ..core.told.card import card_sentences
from ..core.told.card_comparison import comparison, lighter_words, other_standards, reasons, sweep_sentences
from ..core.units import count, microseconds, percent
from ..probe import catalogue, session_run
from ..probe.effort import Effort
from ..store import allowed
from ..store.allowed import PERMISSIONS
from ..store.opening import known_cards
from .common import FiniteRange, as_json, cards_of, cli, library, opened, refuse, show_json
from .edit_verbs import use_of

WORDS_OF = {"files": "all your files", "network": "the network"}


@cli.command()
@click.argument("file")
@click.option("--again", is_flag=True, help="Measure also what is known already, and what failed before.")
@click.option("--buffer", "buffers", type=click.IntRange(16, 8192), multiple=True, help="Only this size; repeatable.")
@click.option("--rate", type=click.IntRange(8000, 384000), help="Sample rate in Hz (default: the session's).")
@click.option("--quick", is_flag=True, help="Fewer runs: faster, noisier.")
@click.option("--doubtful", is_flag=True, help="Only figures that others disturbed; the better are kept.")
@as_json
def measure(
    file: str, again: bool, buffers: tuple[int, ...], rate: int | None, quick: bool, doubtful: bool, json: bool
) -> None:
    """Measure every plugin of a session on this computer; each result is stored as it is made."""
    saved = opened(file).saved
    session = saved.session
    store = library()
    known = known_cards(session, store)
    if doubtful and (again or buffers or rate):
        raise click.UsageError("--doubtful is all that is measured; it goes with none of --again, --buffer and --rate.")
    todo = session_run.jobs(session, known, buffers or BUFFER_SIZES, again, rate)
    if doubtful:
        todo = session_run.doubtful(session, known)
    begun = time.monotonic()
    failed: dict[str, str] = {}
    failures = 0
    if not json:
        click.echo(f"{len(session.cards_needed())} cost cards, {len(todo)} to measure.")
    done = 0
    said_first = json or not todo
    for step in session_run.run(todo, known, effort=Effort(3, 0.05) if quick else None, first=saved.buffer):
        store.store(step.card, step.lasting)
        if not said_first and (step.lasting or step.finished):
            said_first = True
            click.echo(f"  First figures at {saved.buffer} samples after {time.monotonic() - begun:.1f} s.")
        if not step.finished:
            continue
        done += 1
        if step.card.failure:
            # Several settings of one plugin may fail.
            failed[step.card.name] = step.card.failure
            failures += 1
        if not json:
            name, said = result_of(step)
            click.echo(f"  {done:3d} of {len(todo)}  {name}: {said}")
    seconds = time.monotonic() - begun
    if json:
        show_json(
            {"cards": len(session.cards_needed()), "measured": done - failures, "failed": failed, "seconds": seconds}
        )
    else:
        click.echo(f"{done - failures} measured, {failures} failed, {seconds:.1f} s. Kept in {store.path}")
        left = session_run.doubtful(session, known_cards(session, store))
        if left:
            figures = count(sum(job.steps - 1 for job in left), "figure")
            click.echo(f"Others shared the core during {figures}: once more when little else runs, with --doubtful.")


def result_of(step: session_run.Progress) -> tuple[str, str]:
    """A finished job in words: the plugin with its setting, and its cost at 256 samples or why there is none."""
    cell = step.card.cell(step.job.rate, 256, "sounding")
    said = step.card.failure or (f"{cell.mean * 1e6:.1f} µs at 256 samples" if cell else "measured")
    return f"{step.card.name} ({step.job.use.words_with_standard()})", said


@cli.command()
@click.argument("words", nargs=-1)
@click.option("--family", type=click.Choice(FAMILIES), help="Only plugins of this family.")
@click.option("--retry", is_flag=True, help="Look again into files that could not be read before.")
@click.option("--standard", type=click.Choice(["clap", "ladspa", "lv2", "vst3"]), help="Only plugins of this standard.")
@as_json
def plugins(words: tuple[str, ...], family: str | None, retry: bool, standard: str | None, json: bool) -> None:
    """List the installed plugins whose name, maker or identifier holds every one of WORDS."""
    scanned = catalogue.catalogue(retry=retry)
    found = catalogue.matching(scanned, words, family, standard)
    failed = {file.path: file.failure for file in scanned if file.failure}
    if json:
        listed = [{**to_builtins(plugin), **of._asdict()} for plugin, of in found]
        show_json({"plugins": listed, "failed": failed})
        return
    for plugin, of in found:
        click.echo(f"  {plugin.standard:6}  {plugin.name}  {plugin.vendor}  {of.words()}  {plugin.identifier}")
    click.echo(f"{count(len(found), 'plugin')}.")
    for path, reason in failed.items():
        click.echo(f"Not readable: {path}: {reason}")


@cli.command()
@click.argument("plugin", required=False)
@click.argument("permission", type=click.Choice(PERMISSIONS), required=False)
@click.option("--no-longer", is_flag=True, help="Take it back.")
def allow(plugin: str | None, permission: str | None, no_longer: bool) -> None:
    """Let a PLUGIN (its identifier, or words of its name) do what none may: use all your files, or the network.

    Without arguments: what has been allowed.
    """
    if plugin is None or permission is None:
        for name, given in allowed.all_allowed().items():
            click.echo(f"  {name}: {', '.join(given)}")
        click.echo("Every other plugin reads no hidden files, writes none of yours and reaches no network.")
        return
    found = [p for p, _ in catalogue.matching(catalogue.catalogue(), plugin.split())]
    exact = [p for p in found if plugin in (p.identifier, p.name)] or found
    if len({(p.standard, p.identifier) for p in exact}) != 1:
        listed = "".join(f"\n  {p.standard}  {p.name}  {p.identifier}" for p in exact[:12])
        raise click.ClickException(f"{plugin!r} fits {len(exact)} installed plugins; say its identifier.{listed}")
    try:
        allowed.allow(exact[0].standard, exact[0].identifier, permission, not no_longer)
    except allowed.AllowedError as error:
        raise click.ClickException(str(error)) from error
    may = "may no longer" if no_longer else "may from now on"
    click.echo(
        f"{exact[0].name} ({exact[0].standard}) {may} use {WORDS_OF[permission]}. Measure it again with --again."
    )


class Found:
    """The one plugin of a session that WORDS name, with everything that is known."""

    def __init__(self, file: str, *named: str) -> None:
        saved = opened(file).saved
        self.session, self.buffer = saved.session, saved.buffer
        self.store = library()
        self.cards = cards_of(saved)
        self.uses = {key: use for key, (use, _) in self.session.cards_needed().items()}
        self.chosen = [self._one(words) for words in named]

    def _one(self, words: str) -> tuple[PluginUse, CostCard | None]:
        found = card_named(self.cards, self.uses, words)
        if not found and "/" in words:
            try:
                use = use_of(self.session, words)
            except SessionError as error:
                refuse(error)
            return use, self.cards.get(use.card_key())
        if not found:
            raise click.ClickException(f"{self.session.name} has no plugin whose name and setting hold {words!r}.")
        if len(found) > 1:
            listed = "".join(f"\n  {use.label}: {use.words_with_standard()}" for use, _ in found[:12])
            raise click.ClickException(f"{words!r} fits {len(found)} plugin settings; say more of one:{listed}")
        return found[0]


@cli.command()
@click.argument("file")
@click.argument("plugin")
@click.option("--buffer", type=click.IntRange(16, 8192), help="Buffer size in samples (default: as saved).")
@click.option("--settings", is_flag=True, help="Try out single settings, and rank them by what they save.")
@click.option("--seconds", type=FiniteRange(1, 3600), default=session_run.SWEEP_SECONDS, help="For how long.")
@as_json
def card(file: str, plugin: str, buffer: int | None, settings: bool, seconds: float, json: bool) -> None:
    """Show the cost card of one PLUGIN of session FILE, named by words of its name and setting, or TRACK/NUMBER."""
    found = Found(file, plugin)
    use, known = found.chosen[0]
    rate, size = found.session.rate, buffer or found.buffer
    if settings:
        click.echo(f"Trying settings for up to {seconds:g} s.", err=True)
        for grown in session_run.sweep(use, rate, size, known, seconds):
            known = grown
        if known is not None:
            found.store.store(known)
    if json:
        show_json({"plugin": use.plugin, "setting": use.words(), "card": without_sequences(known)})
        return
    click.echo(f"{use.label}   {use.words_with_standard()}")
    for sentence in ["Not measured yet."] if known is None else card_sentences(known, rate, size):
        click.echo(f"  {sentence}")
    if known is not None and known.sweep is not None:
        say_settings(known)
    others = all_cards(found)
    for sentence in other_standards(others, known, rate, size) if known is not None else ():
        click.echo(f"  {sentence}")
    for better in lighter(others, families(found.uses.values()), use, rate, size):
        click.echo(f"  Lighter in its family: {lighter_words(better)}.")


def say_settings(known: CostCard) -> None:
    """What trying out the settings has brought, most saving first."""
    assert known.sweep is not None
    for sentence in sweep_sentences(known.sweep):
        click.echo(f"  {sentence}")
    for effect, share in savings(known.sweep):
        click.echo(f"    {percent(share):>6} less  {microseconds(effect.seconds):>9}  {effect.words}")


def all_cards(found: Found) -> dict[CardKey, CostCard]:
    """Those of the session, and everything else that was measured here."""
    return {**found.store.cards(), **found.cards}


def families(uses) -> dict:
    """The family of every plugin that is installed or in the session, by standard and identifier."""
    installed = catalogue.paths_by_identifier(catalogue.catalogue())
    known = {place: kind(plugin.features, plugin.name).family for place, plugin in installed.items()}
    return known | {(use.plugin.standard, use.plugin.identifier): use.family for use in uses}


def without_sequences(known: CostCard | None) -> CostCard | None:
    """The card without its block sequences, which are long and in no form that a reader wants."""
    return None if known is None else replace(known, cells=tuple(replace(c, sequence=b"") for c in known.cells))


@cli.command()
@click.argument("file")
@click.argument("one")
@click.argument("other")
@as_json
def compare(file: str, one: str, other: str, json: bool) -> None:
    """Put the cost cards of two plugins or settings of session FILE side by side, ONE and OTHER named by words."""
    found = Found(file, one, other)
    cards = [known for _, known in found.chosen]
    missing = [use.label for use, known in found.chosen if known is None or not known.cells]
    if missing:
        raise click.ClickException(f"{', '.join(missing)}: not measured yet.")
    first, second = (known for known in cards if known is not None)
    rows = comparison(first, second, found.session.rate, BUFFER_SIZES)
    if json:
        show_json({"one": without_sequences(first), "other": without_sequences(second)})
        return
    for use, _ in found.chosen:
        click.echo(f"{use.label}: {use.words_with_standard()}")
    for row in rows:
        click.echo(f"  {row[0]:>6}  {row[1]:>20}  {row[2]:>20}  {row[3]:>20}")
    if first.name == second.name:
        for reason in reasons(first, second, found.session.rate, found.buffer):
            click.echo(f"  {reason}")
