"""Plugins as a session uses them: which one, in which setting, and what two uses share. Rates in hertz, samples."""

from __future__ import annotations

import hashlib
from functools import cached_property
from typing import Literal

import msgspec

from ..units import count

Family = Literal[
    "equaliser", "dynamics", "reverb", "delay", "distortion", "modulation", "instrument", "analyser", "other"
]


FAMILIES: tuple[Family, ...] = (
    "equaliser", "dynamics", "reverb", "delay", "distortion", "modulation", "instrument", "analyser", "other",
)  # fmt: skip


def made_as(standard: str) -> str:
    """What stands for a standard beside a plugin's name: "CLAP"; our own are "built in"."""
    return "built in" if standard == "house" else standard.upper()


class PluginRef(msgspec.Struct, frozen=True):
    """Which plugin: its standard ("house", "clap"), its identifier there, and what is known of its make."""

    standard: str
    identifier: str
    name: str = ""
    vendor: str = ""
    version: str = ""

    @property
    def made_as(self) -> str:
        """What stands for its standard beside its name."""
        return made_as(self.standard)


class Setting(msgspec.Struct, frozen=True):
    """One setting of a plugin: parameter values by name or number, and an opaque saved state if there is one.

    Values are floats, however they were written: what is written into a file reads back as the same.
    """

    values: tuple[tuple[str, float], ...] = ()
    state: bytes | None = None

    def __post_init__(self) -> None:
        if any(type(value) is int for _, value in self.values):
            as_floats = tuple((name, float(value)) for name, value in self.values)
            msgspec.structs.force_setattr(self, "values", as_floats)

    def words(self) -> str:
        """The setting in a line: "bands 8, gain 3"."""
        if self.state is not None:
            return "as saved in the session"
        return ", ".join(f"{name} {value:g}" for name, value in self.values) or "as it starts"

    def digest(self) -> str:
        """Sixteen hex digits that are equal exactly when values and state are (values in any order)."""
        text = ";".join(f"{name}={float(value)!r}" for name, value in sorted(self.values))
        return hashlib.sha256(text.encode() + b"\0" + (self.state or b"")).hexdigest()[:16]


class PluginUse(msgspec.Struct, frozen=True, dict=True):
    """One insert or instrument on a strip.

    `channels` is the width of the strip it sits on, `voices` the most notes that sound together (instruments),
    `latency` the samples of delay it reports. `enabled` false means bypassed: it costs nothing, but keeps its memory
    unless it is not `loaded` either. `automated` says that its parameters move in the piece: what was measured of it
    as it is set does not hold all through.
    """

    id: str
    plugin: PluginRef
    setting: Setting = Setting()
    family: Family = "other"
    channels: int = 2
    voices: int = 0
    enabled: bool = True
    latency: int = 0
    sidechain: str | None = None
    loaded: bool = True
    automated: bool = False

    @property
    def label(self) -> str:
        return self.plugin.name or self.plugin.identifier

    def words(self) -> str:
        """What sets it apart from other uses of the plugin in a line: "bands 8; 4 notes; mono; with a side-chain"."""
        wide = {1: ("mono",), 2: ()}.get(self.channels, (count(self.channels, "channel"),))
        notes = (count(self.voices, "note"),) if self.voices else ()
        return "; ".join((self.setting.words(), *notes, *wide, *(("with a side-chain",) if self.sidechain else ())))

    def words_with_standard(self) -> str:
        """The same behind the plugin's standard: "CLAP, bands 8; mono"."""
        return f"{self.plugin.made_as}, {self.words()}"

    def card_key(self) -> CardKey:
        """The key of the cost card this use shares with every other use of the same kind."""
        return self._card_key

    @cached_property
    def _card_key(self) -> CardKey:
        return CardKey(
            self.plugin.standard,
            self.plugin.identifier,
            self.plugin.version,
            self.setting.digest(),
            self.channels,
            self.voices,
            self.sidechain is not None,
        )


class CardKey(msgspec.Struct, frozen=True, order=True):
    """What two uses must have in common to share one cost card; `keyed` says that a side-chain was led to it."""

    standard: str
    identifier: str
    version: str
    setting: str
    channels: int
    voices: int
    keyed: bool = False


class Variant(msgspec.Struct, frozen=True):
    """Another setting that all uses of one cost card could take: lighter, and with another sound.

    `voices` is the number of notes it is to play; 0 leaves it as it is.
    """

    of: CardKey
    name: str
    setting: Setting
    voices: int = 0

    def applied(self, use: PluginUse) -> PluginUse:
        """A use in this variant."""
        return msgspec.structs.replace(use, setting=self.setting, voices=self.voices or use.voices)
