"""The session as the engineer knows it: strips, plugins, routing, clips. Immutable throughout.

Times are in seconds from the start of the piece, rates in hertz, buffer sizes in samples, gains linear.
"""

from __future__ import annotations

import hashlib
from functools import cached_property
from typing import Literal

import msgspec

BUFFER_SIZES: tuple[int, ...] = (32, 64, 128, 256, 512, 1024, 2048, 4096)

StripKind = Literal["track", "bus", "return", "main"]
Family = Literal[
    "equaliser", "dynamics", "reverb", "delay", "distortion", "modulation", "instrument", "analyser", "other"
]
FAMILIES: tuple[Family, ...] = (
    "equaliser", "dynamics", "reverb", "delay", "distortion", "modulation", "instrument", "analyser", "other",
)  # fmt: skip


class PluginRef(msgspec.Struct, frozen=True):
    """Which plugin: its standard ("house", "clap"), its identifier there, and what is known of its make."""

    standard: str
    identifier: str
    name: str = ""
    vendor: str = ""
    version: str = ""


class Setting(msgspec.Struct, frozen=True):
    """One setting of a plugin: parameter values by name or number, and an opaque saved state if there is one."""

    values: tuple[tuple[str, float], ...] = ()
    state: bytes | None = None

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
    `latency` the samples of delay it reports. `enabled` false means bypassed: it costs nothing.
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

    @property
    def label(self) -> str:
        return self.plugin.name or self.plugin.identifier

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
        )


class CardKey(msgspec.Struct, frozen=True, order=True):
    """What two uses must have in common to share one cost card."""

    standard: str
    identifier: str
    version: str
    setting: str
    channels: int
    voices: int


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
    that the host plays it at another speed than it was recorded at.
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


class Strip(msgspec.Struct, frozen=True):
    """A track, bus, return or the main output.

    `output` names the strip it feeds (None: nothing, as for the main output). `parent` is the folder or bus under
    which the session shows it. `frozen_through` is the last frozen place of the chain: None for none, -1 for the
    source alone, k for the source and inserts 0..k. `enabled` false means the whole strip is switched off;
    `suspended` that it costs nothing while it is silent. `post_fader` is how many of the last inserts come after the
    fader.
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

    @property
    def last_before_fader(self) -> int:
        """The place of the last insert before the fader; -1 if all come after it."""
        return max(len(self.inserts) - self.post_fader, 0) - 1

    def uses(self) -> tuple[PluginUse, ...]:
        """The instrument, if any, and then the inserts in order, whatever their state."""
        return ((self.instrument,) if self.instrument else ()) + self.inserts

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


class Section(msgspec.Struct, frozen=True):
    """A named marker; a section lasts until the next one starts."""

    name: str
    start: float


class TempoPoint(msgspec.Struct, frozen=True):
    """From `beat` (quarter notes) on, `bpm` quarter notes a minute; `ramp` if it glides to the next point."""

    beat: float
    bpm: float
    ramp: bool = False


class Host(msgspec.Struct, frozen=True):
    """How the host spends its time beside the plugins: seconds of overhead per strip and plugin in each block.

    `read_ahead` is the block in samples in which it computes ahead all that is not live; 0 if it does not. `suspends`
    says that it leaves out what is silent. `plugin_factor` is how many times dearer plugins are in it than measured.
    `listed` says that it takes tracks in the order of the session, not the one with the longest path first.
    `tail_limit` is how long it lets a tail sound, in seconds, before it suspends. `parts` is into how many parts it
    divides a block that several threads share, so that a strip can begin before what feeds it is through.
    """

    cores_left_free: int = 0
    strip_overhead: float = 0.0
    plugin_overhead: float = 0.0
    read_ahead: int = 0
    suspends: bool = False
    plugin_factor: float = 1.0
    listed: bool = False
    tail_limit: float = 10.0
    parts: int = 1


class Device(msgspec.Struct, frozen=True):
    """The audio device: buffers between input and output, samples of safety, seconds in its converters.

    `outboard` is how many plugins a processing device outside the computer has room for.
    """

    periods: int = 2
    safety: int = 0
    converters: float = 0.0
    outboard: int = 0


class Machine(msgspec.Struct, frozen=True):
    """The computer that is to play the session: core count, and speed against the one measured on (1 = equal)."""

    cores: int = 4
    speed: float = 1.0
    name: str = ""


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


class Session(msgspec.Struct, frozen=True):
    """A whole mix. `source` names the file or program it came from, for the reader only.
    `limit` is the load one wants to stay under, as a fraction of the deadline. `variants` are other settings that
    plugins of this session could take.
    """

    name: str
    rate: int = 48000
    length: float = 0.0
    strips: tuple[Strip, ...] = ()
    sections: tuple[Section, ...] = ()
    tempo: tuple[TempoPoint, ...] = (TempoPoint(0.0, 120.0),)
    host: Host = Host()
    source: str = ""
    limit: float = 0.8
    variants: tuple[Variant, ...] = ()
    device: Device = Device()

    def strip(self, strip_id: str) -> Strip:
        """The strip with this id. KeyError if there is none."""
        for strip in self.strips:
            if strip.id == strip_id:
                return strip
        raise KeyError(f"the session has no strip {strip_id!r}")

    def card_keys(self) -> dict[CardKey, list[PluginUse]]:
        """Every distinct cost card this session needs, with the uses that share it, in session order."""
        found: dict[CardKey, list[PluginUse]] = {}
        for strip in self.strips:
            for use in strip.uses():
                found.setdefault(use.card_key(), []).append(use)
        return found

    def variant_uses(self) -> dict[CardKey, tuple[Variant, PluginUse]]:
        """The cost card that each variant needs, with a use in that variant; uses that are gone have none."""
        found = {}
        uses = self.card_keys() if self.variants else {}
        for variant in self.variants:
            if variant.of in uses:
                use = variant.applied(uses[variant.of][0])
                found[use.card_key()] = (variant, use)
        return found

    def cards_needed(self) -> dict[CardKey, tuple[PluginUse, int]]:
        """Every cost card that the session and its variants need: a use that stands for it, and how many share it.

        A card that only a variant needs is shared by none (0).
        """
        found = {key: (uses[0], len(uses)) for key, uses in self.card_keys().items()}
        return found | {key: (use, 0) for key, (_, use) in self.variant_uses().items() if key not in found}


class SessionError(ValueError):
    """A session that cannot be computed; the message says what is wrong and where."""


def threads(host: Host, machine: Machine) -> int:
    """The number of threads that share a block: the cores, less those the host leaves free, at least one."""
    return max(1, machine.cores - host.cores_left_free)


def deadline(buffer: int, rate: int) -> float:
    """The duration of one block in seconds. ValueError unless both are positive."""
    if buffer <= 0 or rate <= 0:
        raise ValueError(f"a block needs a positive buffer size and rate, not {buffer} at {rate} Hz")
    return buffer / rate
