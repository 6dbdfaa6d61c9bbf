"""What the tracks of an exchange file play, and what of it is automated: all that rendering needs to know of them."""

from __future__ import annotations

import math

import msgspec

from ..core.session.controllers import Controller, held
from ..core.session.curves import Curve, Moving, SendMoving
from ..core.session.expressions import Expression


class Part(msgspec.Struct, frozen=True):
    """Audio in the piece (seconds): from `start` to `end` a track plays `file` from its second `offset` on.

    `outside` says that the file lies beside the exchange file. `rate` (Hz) is what the file is said to have, 0 where it
    is not. Fades are linear, in seconds; each of `gains` makes it louder or softer.
    """

    start: float
    end: float
    offset: float
    file: str
    outside: bool = False
    rate: int = 0
    stretched: bool = False
    fade_in: float = 0.0
    fade_out: float = 0.0
    gains: tuple[Curve, ...] = ()


class NotePart(msgspec.Struct, frozen=True, array_like=True):
    """A note in the piece (seconds); `key` and `channel` (0 … 15) as in MIDI, `velocity` from 0 to 1, and what it does
    while it lasts."""

    start: float
    end: float
    key: int
    velocity: float
    channel: int = 0
    expressions: tuple[Expression, ...] = ()


class Sounding(msgspec.Struct, frozen=True):
    """What a track is made of: its audio and notes, whether its clips hold curves of their own that are not followed
    (formants of single notes), the parameters of its plugins that are automated (`moving`), and how its fader moves,
    if it does; whether it is `heard` (1) or muted (0), where that moves, and how each of its sends does (empty where
    none does); and how its `pan` does (−1 to 1). `controllers` are played together with the notes. Where its plugins
    are off while it is silent, it gives nothing unless it is `awake` (1).

    `unclear` is what is automated and cannot be followed: the id of a use or of the strip, each with why (a word of
    `dawproject_curves`).
    """

    parts: tuple[Part, ...] = ()
    notes: tuple[NotePart, ...] = ()
    curves: bool = False
    moving: tuple[Moving, ...] = ()
    fader: Curve | None = None
    unclear: tuple[tuple[str, str], ...] = ()
    heard: Curve | None = None
    sends: tuple[SendMoving, ...] = ()
    pan: Curve | None = None
    controllers: tuple[Controller, ...] = ()
    awake: Curve | None = None

    def held(self) -> list[tuple[float, float]]:
        """From when to when its notes sound (seconds), those that the pedal sustains until it is let go; without end
        where it is not."""
        notes = [(note.start, note.end, note.key, note.channel) for note in self.notes]
        return held(notes, self.controllers, math.inf)
