"""The whole mix, immutable: strips, sections, tempo, host and device. Times in seconds from the start of the piece."""

from __future__ import annotations

import msgspec

from .computer import Device, Host
from .plugins import CardKey, PluginUse, Variant
from .strips import Strip

# The least and the most that one may want to stay under (fractions of the deadline).
LEAST_LIMIT, MOST_LIMIT = 0.01, 10.0


class Section(msgspec.Struct, frozen=True):
    """A named marker; a section lasts until the next one starts."""

    name: str
    start: float


class TempoPoint(msgspec.Struct, frozen=True):
    """From `beat` (quarter notes) on, `bpm` quarter notes a minute; `ramp` if it glides to the next point."""

    beat: float
    bpm: float
    ramp: bool = False


class Meter(msgspec.Struct, frozen=True):
    """From `beat` (quarter notes) on, bars of so many `beats`, each a `unit`th of a whole note: a time signature."""

    beat: float = 0.0
    beats: int = 4
    unit: int = 4


class Timing(msgspec.Struct, frozen=True):
    """How a piece goes: its tempo and its bars."""

    tempo: tuple[TempoPoint, ...] = (TempoPoint(0.0, 120.0),)
    meters: tuple[Meter, ...] = (Meter(),)


class Session(msgspec.Struct, frozen=True):
    """A whole mix. `source` names the file or program it came from, and `source_stamp` says how the project in an
    exchange file looked from outside when it was read; empty where that is not known.
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
    meters: tuple[Meter, ...] = (Meter(),)
    source_stamp: str = ""

    @property
    def timing(self) -> Timing:
        """How it goes."""
        return Timing(self.tempo, self.meters)

    def section_spans(self) -> list[tuple[Section, float, float]]:
        """Each section with where it begins and ends (seconds): where the next one begins, or the piece ends."""
        ends = [*(section.start for section in self.sections[1:]), self.length]
        return [(each, each.start, end) for each, end in zip(self.sections, ends, strict=False)]

    def section_named(self, name: str) -> tuple[Section, float, float] | None:
        """The same of the first section of a name, in small letters or capitals; None if there is none."""
        return next((span for span in self.section_spans() if span[0].name.lower() == name.lower()), None)

    def section_at(self, second: float) -> Section | None:
        """The section in which a second lies; None before the first."""
        begun = [section for section in self.sections if section.start <= second]
        return begun[-1] if begun else None

    def uses_by_id(self) -> dict[str, PluginUse]:
        """Every plugin of the session by its id."""
        return {use.id: use for strip in self.strips for use in strip.uses()}

    def strip(self, strip_id: str) -> Strip:
        """The strip with this id. KeyError if there is none."""
        for strip in self.strips:
            if strip.id == strip_id:
                return strip
        raise KeyError(f"the session has no strip {strip_id!r}")

    def suspends(self, strip: Strip) -> bool:
        """Whether a strip costs nothing while it is silent: by itself, or as the host has it with all of them."""
        return strip.suspended or self.host.suspends

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
