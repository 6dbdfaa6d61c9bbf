"""What every plugin standard offers to the timed loop: an address to call, two arguments, and buffers."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Literal, NamedTuple, Protocol

import numpy as np
from numpy.typing import NDArray

from ...core.session.controllers import BEND, PRESSURE, STEPS, steps_of
from ...core.session.plugins import PluginUse
from .piece import Place


class Note(NamedTuple):
    """A note that starts or ends `at` so many samples into a block; `key` as in MIDI (69 is A at 440 Hz), `velocity`
    from 0 to 1, `channel` from 0 to 15."""

    key: int
    on: bool
    at: int = 0
    velocity: float = 0.8
    channel: int = 0


class Control(NamedTuple):
    """A controller that gets another value (0 … 1), `at` so many samples into a block; its number as
    `core.session.controllers` has it, `channel` from 0 to 15."""

    number: int
    value: float
    at: int = 0
    channel: int = 0


class Expressed(NamedTuple):
    """A note (its key and channel) that gets another value of something, as `core.session.expressions` has both, `at`
    so many samples into a block."""

    kind: str
    key: int
    value: float
    at: int = 0
    channel: int = 0


Event = Note | Control | Expressed


def midi(event: Event) -> bytes:
    """An event as a MIDI message on its channel. Of what single notes do, MIDI has only how they are pressed."""
    on = event.channel
    if isinstance(event, Note):
        return bytes(((0x90 if event.on else 0x80) | on, event.key, round(127 * event.velocity)))
    if isinstance(event, Expressed):
        return bytes((0xA0 | on, event.key, round(event.value * STEPS)))
    value = round(event.value * steps_of(event.number))
    if event.number == BEND:
        return bytes((0xE0 | on, value & 127, value >> 7))
    return bytes((0xD0 | on, value) if event.number == PRESSURE else (0xB0 | on, event.number, value))


class Move(NamedTuple):
    """A parameter (its key) that gets another value, `at` so many samples into a block."""

    key: str
    value: float
    at: int = 0


# So many arguments are kept of a plugin; older ones are made anew when they are needed.
ARGUMENTS_KEPT = 256


# How the parameters of a plugin change while it runs: within a block, from one value in a straight line to the next or
# in steps; only between two blocks; or not.
Moves = Literal["lines", "steps", "between", "not"]
ParameterKind = Literal["switch", "choice", "count", "number"]


class Parameter(NamedTuple):
    """One setting of a loaded plugin. `key` names it in a `Setting`; `value` is what it has now.

    `choices` are the values that it can take, where there are only some. `plain` is the value in the parameter's own
    unit, where the standard counts from 0 to 1. `text` is the value as the plugin itself writes it ("10.0 ms"), and
    `texts` are the choices so; empty where it writes none.
    """

    key: str
    name: str
    kind: ParameterKind
    least: float
    most: float
    value: float
    choices: tuple[float, ...] = ()
    plain: float | None = None
    text: str = ""
    texts: tuple[str, ...] = ()

    def written(self, write: Callable[[float], str]) -> Parameter:
        """The same with its value and its choices as something writes them."""
        return self._replace(text=write(self.value), texts=tuple(write(value) for value in self.choices))


class Preset(NamedTuple):
    """A preset that is installed for a plugin: its name, and what stands for its state: a file, or the address (URI) of
    an LV2 preset."""

    name: str
    source: str


def parameter(key: str, name: str, whole: bool, least: float, most: float, value: float, *choices: float) -> Parameter:
    """A parameter whose kind follows from what it can take: two values, named ones, whole ones, or any."""
    kind: ParameterKind = "number"
    if choices:
        kind = "switch" if len(choices) == 2 else "choice"
    elif whole:
        kind = "switch" if most - least == 1 else "count"
    return Parameter(key, name, kind, least, most, value, choices)


class Described(NamedTuple):
    """One plugin of a file, as it describes itself; `code` is the file of its code, where `path` names its bundle."""

    identifier: str
    name: str
    vendor: str
    version: str
    features: tuple[str, ...]
    path: str
    code: str = ""


# What gives a plugin its inputs (so many rows of so many samples, zeros; one at least), and then its outputs.
Rows = Callable[[int, int], NDArray[np.float32]]


def own_rows(count: int, longest: int) -> NDArray[np.float32]:
    """Inputs or outputs that lie by themselves."""
    return np.zeros((max(count, 1), longest), np.float32)


def text(raw: bytes | None) -> str:
    """A C string of a plugin's; what is no UTF-8 in it is marked, a missing one is empty."""
    return (raw or b"").decode(errors="replace")


class Wiring(NamedTuple):
    """What the inputs of a plugin carry where it stands: the number of a signal each (N, int64), −1 for silence.

    The first `own` signals are the channels of its strip, those after them are what its side-chain hears. So many are
    its `mains`: no side-chain.
    """

    signals: NDArray[np.int64]
    own: int
    mains: int

    def rows(self, count: int, heard: int = 0) -> NDArray[np.int64]:
        """The row that each input takes of a source with `count` rows, −1 for silence (N, int64). The last `heard` rows
        are what the side-chain hears; where there are none, it hears what the rest hears."""
        main = count - heard
        from_side = main + (self.signals - self.own) % heard if heard else self.signals % main
        found = np.where(self.signals >= self.own, from_side, self.signals % main)
        return np.where(self.signals < 0, -1, found)

    def carried(self, source: NDArray[np.float32]) -> NDArray[np.float32]:
        """What each input gets of a source (rows, L): (N, L), silence where it carries nothing."""
        rows = self.rows(len(source))
        return np.where(rows[:, None] >= 0, source[rows], np.float32(0))


def wired(use: PluginUse, is_side: Sequence[bool]) -> Wiring:
    """The inputs of a plugin, each of which belongs to its side-chain or not, as hosts connect them.

    A strip of one channel goes to all of them; what is wider than the strip stays silent, and so does a side-chain that
    nothing was led to.
    """
    width = max(use.channels, 1)
    sides = [False] * len(is_side) if all(is_side) else list(is_side)
    own = min(width, sides.count(False))
    signals, mains, heard = [], 0, 0
    for side in sides:
        if side:
            signals.append(own + heard if use.sidechain is not None else -1)
            heard += 1
        else:
            signals.append(0 if width == 1 else mains if mains < width else -1)
            mains += 1
    return Wiring(np.array(signals or [-1], np.int64), own, mains)


class Hosted(Protocol):
    """A loaded, active plugin. The timed loop calls `int32 call(handle, argument)` once a block.

    `inputs` and `outputs` (channels, longest block, float32) are the plugin's own buffers, all ports one after the
    other; a plugin without any has one that stays silent. `latency` is what the plugin reports, in samples.
    `made_for` is the block size that it was told of when it was switched on, in samples, and the only one that it may
    be called with; 0 where its standard has no way to tell it. `defers` says that it puts work off, to be done by
    `settled`. `moves` says how its parameters change while it runs, `wiring` what its inputs carry. `is_turned` says
    whether what it makes of controllers is the same in every host, `expresses` what single notes of it can do in every
    host (of `core.session.expressions.KINDS`).
    """

    call: int
    handle: int
    latency: int
    version: str
    made_for: int
    defers: bool
    moves: Moves
    is_turned: bool
    expresses: frozenset[str]
    wiring: Wiring
    inputs: NDArray[np.float32]
    outputs: NDArray[np.float32]

    def argument(self, frames: int, notes: tuple[Event, ...] = (), moves: tuple[Move, ...] = ()) -> int:
        """The second argument for a block of so many samples with these notes and controllers; valid until `close`.

        `moves` (in order of time) are for the next block only: ask for it just before it runs.
        """

    def locate(self, place: Place) -> None:
        """Says where in the piece the next block begins, how fast it goes from there on and in which bars. Without that
        a piece begins with `restart`, and goes on at 120 beats a minute in fours."""

    def restart(self, frames: int) -> None:
        """Brings the plugin to a fresh state, switched on for blocks of so many samples, as a host does it.

        PluginError if it refuses them.
        """

    def settled(self) -> bool:
        """Called after it has run, on no clock: reads what shows only then, and does work that it put off, if any."""

    def failures(self, codes: NDArray[np.int32]) -> int:
        """In how many blocks the plugin said that it failed, by what its function returned (any shape)."""

    def parameters(self) -> tuple[Parameter, ...]:
        """Every setting that can be changed from outside, in the plugin's order."""

    def presets(self) -> tuple[Preset, ...]:
        """The presets that are installed for it, by name; none where its standard has no place for them."""

    def close(self) -> None:
        """Ends the plugin. It must not be called after."""


def never_fails(codes: NDArray[np.int32]) -> int:
    """The failures of a standard whose plugins cannot tell of any."""
    return 0


def nowhere(place: Place) -> None:
    """Where the piece is, for a standard whose plugins are not told."""


def no_presets() -> tuple[Preset, ...]:
    """The presets of a standard that has no place for them."""
    return ()


class PluginError(Exception):
    """Why a plugin cannot be loaded, as a sentence."""
