"""What the content of an exchange file sounds like, as far as it has been read: in seconds of the piece."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal, NamedTuple

from lxml import etree
from msgspec.structs import replace

from ..core.session.controllers import cut
from ..core.session.curves import Curve
from .dawproject_controllers import Pass
from .sounding import NotePart

ContentKind = Literal["audio", "notes"]
Piece = tuple[float, float, ContentKind]
Stretch = tuple[float, float]
# What sounds in a lane without a clip around it.
UNWRAPPED = ("Notes", "Audio", "Warps")
# Stretches shorter than this are rounding (in the unit at hand).
LEAST = 1e-9


class Placed(NamedTuple):
    """A stretch of an audio file in the piece (seconds): from `start` to `end` it plays from `offset` of the file on.

    `stretched` says that it plays at another speed than it was recorded at; fades are linear, in seconds; `gains` are
    curves of the clips that it lies in, of which each makes it louder or softer.
    """

    start: float
    end: float
    offset: float
    audio: etree._Element
    stretched: bool = False
    fade_in: float = 0.0
    fade_out: float = 0.0
    gains: tuple[Curve, ...] = ()


@dataclass
class Heard:
    """What content sounds like, in seconds of the piece: stretches of sound, notes, the audio that is played, and how
    controllers go. `curved` says that curves belong to it that cannot be followed."""

    pieces: list[Piece] = field(default_factory=list)
    notes: list[NotePart] = field(default_factory=list)
    audio: list[Placed] = field(default_factory=list)
    passes: list[Pass] = field(default_factory=list)
    curved: bool = False

    def add(self, other: Heard) -> None:
        """Takes in what else is heard."""
        self.pieces += other.pieces
        self.notes += other.notes
        self.audio += other.audio
        self.passes += other.passes
        self.curved |= other.curved

    def within(self, first: float, last: float) -> Heard:
        """What of it is heard from one second to another; notes that begin there."""
        return Heard(
            [(max(s, first), min(e, last), kind) for s, e, kind in self.pieces if min(e, last) - max(s, first) > LEAST],
            [replace(n, end=min(n.end, last)) for n in self.notes if first - LEAST <= n.start < last],
            [
                each._replace(
                    start=max(each.start, first), end=min(each.end, last),
                    offset=each.offset + max(first - each.start, 0.0),
                )
                for each in self.audio if min(each.end, last) - max(each.start, first) > LEAST
            ],
            [each._replace(points=cut(each.points, first, last)) for each in self.passes],
            self.curved,
        )  # fmt: skip
