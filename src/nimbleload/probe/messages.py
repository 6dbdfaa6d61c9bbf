"""What a worker is asked, and what it answers: one line of JSON each."""

from __future__ import annotations

import msgspec

from ..core.cards.card import (
    Cell,
    Company,
    Condition,
    Effect,
    Inputs,
    Null,
    Paced,
    Polyphony,
    Position,
    Silence,
    Sweep,
    Truth,
)
from ..core.cards.slowing import Slowing
from ..core.cards.upkeep import Upkeep
from ..core.load.helped import LateBlocks
from ..core.load.rehearsal import Rehearsal
from ..core.session.curves import Moving
from ..core.session.plugins import PluginUse
from ..core.session.session import Session, Timing
from .effort import Effort
from .formats.hosted import Parameter, Preset

# The files in a worker's folder that a rendering reads and writes, and how many channels their sound has.
SOURCE, NOTES, RENDERED = "source.f32", "notes.f64", "rendered.f32"
NOTE_COLUMNS = 5
# The file of what the side-chain of the plugin with this number hears.
HEARD = "heard-{}.f32"
CHANNELS = 2
# The file in a worker's folder that holds the state in which a plugin's own window was closed.
STATE = "saved-state"


class Trying(msgspec.Struct, frozen=True):
    """That single settings are to be tried at the first buffer size, for so long; what is known is left out."""

    seconds: float
    tried: tuple[Effect, ...] = ()


class Display(msgspec.Struct, frozen=True):
    """Where a plugin's own window is to open: a display of the X Window System by name, the file that lets one in, and
    what the window is called."""

    name: str
    authority: str = ""
    title: str = ""


class Best(msgspec.Struct, frozen=True):
    """What the core has been seen to do at its best: `pace` of the fixed work (ns, see `pace`), the `units` of the
    witness (see `native.witness.least_units`) and its chain of steps (`clock`, seconds; 0: not known)."""

    pace: float
    units: float
    clock: float = 0.0

    def with_another(self, other: Best) -> Best:
        """The better of both in each."""
        clocks = [each for each in (self.clock, other.clock) if each > 0]
        return Best(min(self.pace, other.pace), min(self.units, other.units), min(clocks, default=0.0))


class Again(msgspec.Struct, frozen=True):
    """That only cells in these places are wanted (block size in samples, condition), of a plugin whose `tail` (seconds;
    None: not known) and `filled` (seconds) are known; and what blocks of these `sizes` cost in turns."""

    places: tuple[tuple[int, Condition], ...]
    tail: float | None
    filled: float
    sizes: tuple[int, ...] = ()


class Place(msgspec.Struct, frozen=True):
    """The `core` that is measured on and those around it: the other threads of the same real one, which are kept free
    of all that is ours (`beside`); one thread of each other real core (`others`), and one of those that are slower
    (`slow`, if there is any)."""

    core: int
    beside: tuple[int, ...] = ()
    others: tuple[int, ...] = ()
    slow: int | None = None


class Request(msgspec.Struct, frozen=True, tag="measure"):
    """What to measure: one use, at one rate, for these buffer sizes, and the details that are found at few sizes.

    `path` is the plugin's file, if it has one; `best` what the core has been seen to do. With `trying`, single settings
    are tried out instead. `place` is where it is measured (None: anywhere); `against` are the plugin in other settings,
    with whose sound this one's is compared. `folder` is the only one that it may write into, `allowed` what
    it may do beyond (see `protection`). With `first` only a quick first figure is wanted, at the first size; with
    `describes` no figure at all, but what parameters there are. With `shows` its own window is opened there. With
    `again` only some cells are wanted, once more.
    """

    use: PluginUse
    rate: int
    buffers: tuple[int, ...]
    path: str = ""
    effort: Effort = Effort()
    place: Place | None = None
    details: bool = False
    best: Best | None = None
    trying: Trying | None = None
    against: tuple[PluginUse, ...] = ()
    folder: str = ""
    allowed: tuple[str, ...] = ()
    first: bool = False
    describes: bool = False
    shows: Display | None = None
    again: Again | None = None

    @property
    def longest(self) -> int:
        """The longest block that will be asked of the plugin, in samples."""
        return max((*self.buffers, 2048 if self.details else 512))


class StageRequest(msgspec.Struct, frozen=True, tag="rehearse"):
    """What to rehearse: a session at one moment (see `rehearsal.run`), on these cores, for so many seconds.

    `paths` holds the file of every plugin that is to be played, by use id; `refused` why the others are not; `filled`
    how many seconds of sound it takes until some of them cost what they do from then on. Strips (by id) that play a
    file do so from `files`: where it lies, and the second of the piece at which it begins.
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
    folder: str = ""
    allowed: tuple[str, ...] = ()
    filled: dict[str, float] = {}
    files: dict[str, tuple[str, float]] = {}


class RenderRequest(msgspec.Struct, frozen=True, tag="render"):
    """What to render: the sound in `folder`/SOURCE (float32, two channels in turn) through a chain of uses.

    In blocks of `buffer` samples, `samples` of them and then the tail, for `tail` seconds at most. `paths` holds the
    file of every plugin, by use id. With `plays` the first plugin is an instrument, and plays what is in
    `folder`/NOTES: rows of sample, key, whether the note starts (1) or ends (0), velocity (0 to 1), and channel; of
    sample, controller, −1, value, and channel (with `turns` there are such); or of sample, key, 2 + the number of an
    expression, value, and channel (`expresses` names them). `moving` are the parameters that are
    automated, `timing` how the piece goes. What a side-chain hears is in `folder`/HEARD, if there is such a file: as
    SOURCE, from the beginning of the piece.
    """

    uses: tuple[PluginUse, ...]
    rate: int
    buffer: int
    samples: int
    tail: float
    paths: dict[str, str]
    plays: bool = False
    folder: str = ""
    allowed: tuple[str, ...] = ()
    moving: tuple[Moving, ...] = ()
    timing: Timing = Timing()
    turns: bool = False
    expresses: tuple[str, ...] = ()


class ReadyMessage(msgspec.Struct, frozen=True, tag="ready"):
    """The worker itself has started, or goes on: from now on it is the plugin's time."""


class LoadedMessage(msgspec.Struct, frozen=True, tag="loaded"):
    """The plugin is loaded, after so many seconds."""

    seconds: float


class FactsMessage(msgspec.Struct, frozen=True, tag="facts"):
    """What is known of a plugin before its cells: latency (samples), tail (seconds; None: it rings). It stands there in
    so many `instances`, and `hears` so many channels of its strip."""

    latency: int
    tail: float | None
    version: str
    real_time: bool
    truth: Truth
    positions: tuple[Position, ...] = ()
    listened: float | None = None
    held: tuple[str, ...] = ()
    filled: float = 0.0
    instances: int = 1
    hears: int = 0


class BestMessage(msgspec.Struct, frozen=True, tag="best"):
    """What the core has been seen to do at its best, when all else has been told."""

    best: Best


class NullsMessage(msgspec.Struct, frozen=True, tag="nulls"):
    """What null tests against other settings have left."""

    nulls: tuple[Null, ...]


class ParametersMessage(msgspec.Struct, frozen=True, tag="parameters"):
    """The plugin's parameters, with what they are set to, and its presets."""

    parameters: tuple[Parameter, ...]
    presets: tuple[Preset, ...] = ()


class OpenedMessage(msgspec.Struct, frozen=True, tag="opened"):
    """The plugin's own window is open, after so many seconds."""

    seconds: float


class ShownMessage(msgspec.Struct, frozen=True, tag="shown"):
    """What the open window takes: CPU time beside the plugin's blocks (cores), and memory (bytes)."""

    cores: float
    bytes: int


class ClosedMessage(msgspec.Struct, frozen=True, tag="closed"):
    """The window is closed: whether a state is saved in STATE, whether it is another one than before, and if the plugin
    saves no state the values of those parameters that have changed."""

    saved: bool
    changed: bool
    values: dict[str, float] = {}


class TurnsMessage(msgspec.Struct, frozen=True, tag="turns"):
    """Of the details what is measured in turns, once more: cost once a deadline, and the core's clock."""

    paced: tuple[Paced, ...]
    slowing: tuple[Slowing, ...]


class DetailsMessage(msgspec.Struct, frozen=True, tag="details"):
    """What is found at few buffer sizes: company, pace, the core's clock, silence, upkeep, and cost against notes, or
    other input."""

    company: tuple[Company, ...]
    silence: Silence
    upkeep: Upkeep
    polyphony: tuple[Polyphony, ...] = ()
    inputs: Inputs | None = None
    paced: tuple[Paced, ...] = ()
    slowing: tuple[Slowing, ...] = ()


class SweepMessage(msgspec.Struct, frozen=True, tag="sweep"):
    """What is known of single settings so far."""

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
    """How a rehearsal went, and some of its late blocks (none: none was)."""

    rehearsal: Rehearsal
    late: LateBlocks | None = None


class RenderedMessage(msgspec.Struct, frozen=True, tag="rendered"):
    """All is rendered: so many samples, which come so many samples late; `dies` says whether the tail has died.

    `wrong` counts samples that were no number; `computed` is how long the plugins took (seconds). Of what came in with
    two sides the `one_sided` plugins (labels) heard the left one alone.
    """

    samples: int
    latency: int
    dies: bool
    wrong: int = 0
    computed: float = 0.0
    one_sided: tuple[str, ...] = ()


class CellMessage(msgspec.Struct, frozen=True, tag="cell"):
    """One figure of a card."""

    cell: Cell


class RefusedMessage(msgspec.Struct, frozen=True, tag="refused"):
    """Why the plugin does not do it, as a sentence."""

    reason: str


class DoneMessage(msgspec.Struct, frozen=True, tag="done"):
    """All that was asked for has been told."""


Measured = (
    FactsMessage | NullsMessage | CellMessage | DetailsMessage | TurnsMessage | BestMessage | SweepMessage
    | ParametersMessage
)  # fmt: skip


Played = LoadingMessage | PlayingMessage | PlayedMessage | RenderedMessage


Windowed = OpenedMessage | ShownMessage | ClosedMessage


Result = Measured | Played | Windowed


Message = ReadyMessage | LoadedMessage | Result | RefusedMessage | DoneMessage
