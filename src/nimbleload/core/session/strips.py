"""Strips: tracks, buses, returns and the main output, with their sends and clips. Immutable throughout.

Times are in seconds from the start of the piece, rates in hertz, gains linear.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

import msgspec

from .plugins import PluginUse

StripKind = Literal["track", "bus", "return", "main"]


class Send(msgspec.Struct, frozen=True):
    """A copy of a strip's signal to another strip; `level` is a linear gain.

    `after` is the insert after which it leaves (-1: the source), None for the end of the chain.
    """

    target: str
    level: float = 1.0
    pre_fader: bool = False
    enabled: bool = True
    after: int | None = None


class Clip(msgspec.Struct, frozen=True):
    """A stretch of audio or notes on a track, from `start` up to `end` in seconds.

    `voices` says from which second of the piece on how many notes sound together at most (see `piece.notes`); empty
    where that is not known. `rate` (hertz) and `bits` are those of the audio file, 0 where not known; `stretched` says
    that the host plays it at another speed than it was recorded at. `offset` is the second of its file that it begins
    with, where the session was made from files.
    """

    start: float
    end: float
    kind: Literal["audio", "notes"] = "audio"
    name: str = ""
    file: str | None = None
    voices: tuple[tuple[float, int], ...] = ()
    rate: int = 0
    bits: int = 0
    stretched: bool = False
    offset: float = 0.0

    @property
    def played(self) -> tuple[str, str]:
        """The audio or MIDI file that it plays, and which part of a MIDI file ("#1.0"); empty where that is not known.
        """
        name, mark, part = (self.file or "").rpartition("#") if self.kind == "notes" else (self.file or "", "", "")
        return name, f"{mark}{part}"


class Strip(msgspec.Struct, frozen=True):
    """A track, bus, return or the main output.

    `output` names the strip it feeds (None: nothing, as for the main output). `parent` is the folder or bus under
    which the session shows it. `frozen_through` is the last frozen place of the chain: None for none, -1 for the
    source alone, k for the source and inserts 0..k. `enabled` false means the whole strip is switched off;
    `suspended` that it costs nothing while it is silent. `post_fader` is how many of the last inserts come after the
    fader; `rides` says that its fader is automated. `part_of` names the strip of which this is a later part, where a
    send leaves it before its end (see `cut_at_sends`). It is so many `channels` wide: 1 is mono, 2 stereo.
    """

    id: str
    name: str
    kind: StripKind = "track"
    instrument: PluginUse | None = None
    inserts: tuple[PluginUse, ...] = ()
    sends: tuple[Send, ...] = ()
    output: str | None = None
    parent: str | None = None
    volume: float = 1.0
    pan: float = 0.0
    mute: bool = False
    armed: bool = False
    clips: tuple[Clip, ...] = ()
    enabled: bool = True
    frozen_through: int | None = None
    suspended: bool = False
    post_fader: int = 0
    rides: bool = False
    part_of: str | None = None
    channels: int = 2

    @property
    def last_before_fader(self) -> int:
        """The place of the last insert before the fader; -1 if all come after it."""
        return max(len(self.inserts) - self.post_fader, 0) - 1

    def uses(self) -> tuple[PluginUse, ...]:
        """The instrument, if any, and then the inserts in order, whatever their state."""
        return ((self.instrument,) if self.instrument else ()) + self.inserts

    def widened(self, channels: int) -> Strip:
        """The same strip so many channels wide, with what is on it."""
        instrument = self.instrument and msgspec.structs.replace(self.instrument, channels=channels)
        inserts = tuple(msgspec.structs.replace(use, channels=channels) for use in self.inserts)
        return msgspec.structs.replace(self, channels=channels, instrument=instrument, inserts=inserts)

    def place_of(self, use_id: str) -> int:
        """The place of a use in the chain: -1 for the instrument, else the insert's index. KeyError if absent."""
        if self.instrument is not None and self.instrument.id == use_id:
            return -1
        for index, use in enumerate(self.inserts):
            if use.id == use_id:
                return index
        raise KeyError(f"strip {self.name!r} has no plugin {use_id!r}")

    def is_frozen(self, place: int) -> bool:
        return self.frozen_through is not None and place <= self.frozen_through

    def places(self) -> tuple[tuple[int, PluginUse], ...]:
        """Every use with its place in the chain: -1 for the instrument, else the insert's index."""
        return tuple(enumerate(self.uses(), -1 if self.instrument else 0))

    def heard_uses(self) -> tuple[PluginUse, ...]:
        """The uses that shape the sound, live or frozen: enabled, on an enabled strip."""
        return tuple(use for use in self.uses() if use.enabled) if self.enabled else ()

    def live_uses(self) -> tuple[PluginUse, ...]:
        """The uses that cost something: enabled, on an enabled strip, not inside the frozen part."""
        if not self.enabled:
            return ()
        return tuple(use for place, use in self.places() if use.enabled and not self.is_frozen(place))


def within(profile: Sequence[tuple[float, int]], start: float, end: float) -> tuple[tuple[float, int], ...]:
    """The part of a profile (see `Clip.voices`) that lies in a clip from `start` up to `end`; it begins at `start`."""
    at_start = 0
    for second, count in profile:
        if second <= start:
            at_start = count
    return ((start, at_start), *((second, count) for second, count in profile if start < second < end))
