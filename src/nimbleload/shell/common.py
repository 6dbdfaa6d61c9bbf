"""What every command needs: opening what FILE names, the cost library, refusals in a sentence, JSON."""

from __future__ import annotations

import functools
import importlib
import math
from collections.abc import Callable, Iterable, Sequence
from functools import partial
from pathlib import Path
from typing import Any, NoReturn

import click
import msgspec

from .. import __version__
from ..core.cards.card import CostCard
from ..core.session.computer import Machine, parts_of
from ..core.session.plugins import CardKey
from ..core.session.session import LEAST_LIMIT, MOST_LIMIT, SessionError
from ..core.units import told_by
from ..demo import audio as demo_audio
from ..demo import cards as demo_cards
from ..demo import session as demo_session
from ..store import session_file
from ..store.archive import ImportRefusedError
from ..store.library import Library, LibraryError
from ..store.opening import Opened, known_cards, open_session
from ..store.session_file import Saved, SessionFileError
from ..store.this_computer import from_here, part_of_it, this_computer

REFUSALS = (ImportRefusedError, SessionFileError, SessionError, LibraryError)

# What makes of the machine that was saved the one that is asked for.
On = Callable[[Machine], Machine]

as_json = click.option("--json", "json", is_flag=True, help="Print figures as JSON.")


class FiniteRange(click.FloatRange):
    """A number within a range; "nan" and "inf" are none."""

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        found = super().convert(value, param, ctx)
        if not math.isfinite(found):
            self.fail(f"{value} is no number.", param, ctx)
        return found


class PartOfHere(click.ParamType):
    """A part of this computer's cores: so many of them, the fast ones, or one thread of each."""

    name = "N|fast|each|fast-each"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        if str(value).isdecimal() and int(value) > 0:
            return part_of_it(int(value))
        parts = parts_of(this_computer())
        if value not in parts:
            there = f"there are {', '.join(parts)}, or a number" if parts else "they are all alike: say how many"
            self.fail(f"{value!r} is no part of this computer’s cores; {there}.", param, ctx)
        return parts[value]


def on_cores(command: Callable[..., None]) -> Callable[..., None]:
    """Options for a computer with other cores, or for a part of this one's. The command gets them as `on`: what makes
    of the machine that was saved the one that is asked for."""

    @click.option("--cores", type=click.IntRange(1, 1024), help="How many cores the computer has (default: as saved).")
    @click.option("--kept-on", "part", type=PartOfHere(), metavar=PartOfHere.name,
                  help="On which of this computer's cores the host is kept.")
    @functools.wraps(command)
    def with_machine(*given: Any, cores: int | None, part: Machine | None, **more: Any) -> None:
        if cores is not None and part is not None:
            raise click.UsageError("--cores is about another computer, --kept-on about this one.")
        command(*given, on=(lambda _: part) if part is not None else partial(from_here, count=cores), **more)

    return with_machine


# A load to stay under, in per cent.
LIMIT = FiniteRange(LEAST_LIMIT * 100, MOST_LIMIT * 100)
# The commands of each module: only that of the command asked for is imported, for the sake of how fast it starts.
COMMANDS = {
    "cards": ("measure", "plugins", "allow", "card", "compare"), "carry": ("carry-out", "stems", "null"),
    "edit": ("new", "add", "edit", "howmany", "export"), "guide": ("guide",), "importing": ("import", "renew"),
    "library": ("library",),
    "machine": ("machine", "ceiling", "pace", "test-load"), "pare": ("pare",), "plan": ("plan", "findings"),
    "prepare": ("prepare",), "prove": ("rehearse",), "session": ("load", "latency", "fit"),
    "watch": ("watch",), "windows": ("demo", "open", "screenshots"),
}  # fmt: skip


class Commands(click.Group):
    """All commands; each is imported when it is asked for."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return sorted(name for names in COMMANDS.values() for name in names)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        for module, names in COMMANDS.items():
            if cmd_name in names:
                importlib.import_module(f".{module}", __package__)
        return super().get_command(ctx, cmd_name)

    def invoke(self, ctx: click.Context) -> Any:
        """What the system refuses, wherever it is asked, ends a command with a sentence."""
        try:
            return super().invoke(ctx)
        except BrokenPipeError:
            raise  # whoever read what is told has gone, and needs no word
        except OSError as error:
            raise click.ClickException(f"{told_by(error)}.") from error


@click.group(cls=Commands, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(__version__, prog_name="nimble-load")
def cli() -> None:
    """Find out why a heavy mix session overloads, and what it would take to make the block fit."""


def refuse(error: Exception) -> NoReturn:
    """Ends the command with a sentence and exit code 1."""
    raise click.ClickException(str(error))


def refuse_if_there(target: Path, way_out: str = "") -> None:
    """Ends the command rather than write over a file; `way_out` is a sentence on how it can be done all the same."""
    if target.exists():
        raise click.ClickException(f"{target} is there already and was not changed.{way_out}")


def refuse_unknown(asked: Iterable[str], there: Sequence[str], sentence: str) -> None:
    """Ends the command if a name that was asked for is none of those that there are: with a sentence that has places
    for both."""
    for name in asked:
        if name not in there:
            raise click.ClickException(sentence.format(name, ", ".join(there) or "nothing"))


def opened(file: str) -> Opened:
    """The session of a FILE argument; the word "demo" is the example, unless a file of that name exists."""
    path = Path(file)
    if file == "demo" and not path.exists():
        return Opened(demo_saved())
    try:
        return open_session(path)
    except REFUSALS as error:
        refuse(error)


def written(target: Path, saved: Saved) -> None:
    """Writes a session file; what cannot be written ends the command."""
    try:
        session_file.write(target, saved)
    except (SessionFileError, OSError) as error:
        refuse(error)


def demo_saved() -> Saved:
    """The example session with its sample cards."""
    return Saved(
        msgspec.structs.replace(demo_session.session(), source=str(demo_audio.path())),
        demo_session.plan(),
        cards=tuple(demo_cards.sample_cards().values()),
        machine=demo_session.MACHINE,
        buffer=demo_session.BUFFER,
    )


def library() -> Library:
    """The user's library; the command ends with a sentence if it cannot be opened."""
    try:
        return Library()
    except LibraryError as error:
        refuse(error)


def cards_of(saved: Saved) -> dict[CardKey, CostCard]:
    """Every cost card that is known for a session: of this computer, and those that came with it; these alone where
    the library cannot be opened, which is said."""
    own = {card.key: card for card in saved.cards}
    try:
        return known_cards(saved.session, Library(), own)
    except LibraryError as error:
        click.echo(f"{error} Going on without it.", err=True)
        return own


def show_json(figures: Any) -> None:
    """Writes figures as JSON, for programs."""
    click.echo(msgspec.json.format(msgspec.json.encode(figures), indent=2).decode())
