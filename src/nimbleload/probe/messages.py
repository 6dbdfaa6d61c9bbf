"""What a worker is asked, and what it answers: one line of JSON each."""

from __future__ import annotations

import msgspec

from ..core.cards.card import Cell, Company, Effect, Null, Polyphony, Position, Silence, Sweep, Truth, Upkeep
from ..core.load.rehearsal import Rehearsal
from ..core.session.plugins import PluginUse
from ..core.session.session import Session
from .measure import Effort


class Trying(msgspec.Struct, frozen=True):
    """That single settings are to be tried at the first buffer size, for so long; what is known is left out."""

    seconds: float
    tried: tuple[Effect, ...] = ()


class Request(msgspec.Struct, frozen=True, tag="measure"):
    """What to measure: one use, at one rate, for these buffer sizes, and the details that are found at few sizes.

    `path` is the plugin's file, if it has one; `pace` how fast the core has been at its best (ns, see `pace`).
    With `trying`, single settings are tried out instead. `others` are cores that other plugins would play on;
    `against` are the plugin in other settings, with whose sound this one's is compared.
    """

    use: PluginUse
    rate: int
    buffers: tuple[int, ...]
    path: str = ""
    effort: Effort = Effort()
    core: int | None = None
    details: bool = False
    pace: float | None = None
    trying: Trying | None = None
    others: tuple[int, ...] = ()
    against: tuple[PluginUse, ...] = ()

    @property
    def longest(self) -> int:
        """The longest block that will be asked of the plugin, in samples."""
        return max((*self.buffers, 2048 if self.details else 512))


class StageRequest(msgspec.Struct, frozen=True, tag="rehearse"):
    """What to rehearse: a session at one moment (see `rehearsal.run`), on these cores, for so many seconds.

    `paths` holds the file of every plugin that is to be played, by use id; `refused` why the others are not.
    """

    session: Session
    sounding: tuple[bool, ...]
    notes: tuple[int, ...]
    priority: tuple[float, ...]
    second: float
    buffer: int
    cores: tuple[int, ...]
    seconds: float
    paths: dict[str, str]
    refused: dict[str, str]


class ReadyMessage(msgspec.Struct, frozen=True, tag="ready"):
    """The worker itself has started, or goes on: from now on it is the plugin's time."""


class FactsMessage(msgspec.Struct, frozen=True, tag="facts"):
    latency: int
    tail: float | None
    version: str
    real_time: bool
    truth: Truth
    pace: float
    positions: tuple[Position, ...] = ()
    listened: float | None = None


class NullsMessage(msgspec.Struct, frozen=True, tag="nulls"):
    """What null tests against other settings have left."""

    nulls: tuple[Null, ...]


class DetailsMessage(msgspec.Struct, frozen=True, tag="details"):
    company: tuple[Company, ...]
    silence: Silence
    upkeep: Upkeep
    polyphony: tuple[Polyphony, ...] = ()


class SweepMessage(msgspec.Struct, frozen=True, tag="sweep"):
    sweep: Sweep


class LoadingMessage(msgspec.Struct, frozen=True, tag="loading"):
    """So many of all plugins are loaded; `name` is the next."""

    done: int
    total: int
    name: str


class PlayingMessage(msgspec.Struct, frozen=True, tag="playing"):
    """So many of all blocks have been played, `missed` of them too late; `load` is that of the last few (median)."""

    done: int
    total: int
    missed: int = 0
    load: float = 0.0


class PlayedMessage(msgspec.Struct, frozen=True, tag="played"):
    rehearsal: Rehearsal


class CellMessage(msgspec.Struct, frozen=True, tag="cell"):
    cell: Cell


class RefusedMessage(msgspec.Struct, frozen=True, tag="refused"):
    reason: str


class DoneMessage(msgspec.Struct, frozen=True, tag="done"):
    pass


Measured = FactsMessage | NullsMessage | CellMessage | DetailsMessage | SweepMessage


Played = LoadingMessage | PlayingMessage | PlayedMessage


Result = Measured | Played


Message = ReadyMessage | Result | RefusedMessage | DoneMessage
