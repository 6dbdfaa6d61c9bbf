"""The example: a scene of an audio drama with a folk ensemble, "The Ferryman's Almanac", made by code.

Five sections in twelve minutes. In the storm nearly everything sounds at once; on the shore little does.
"""

from __future__ import annotations

import random
from collections.abc import Iterator
from functools import cache
from typing import NamedTuple

import msgspec

from ..core.decisions.decision import Plan
from ..core.piece.notes import bars
from ..core.session.computer import Device, Host, Machine
from ..core.session.plugins import Family, PluginRef, PluginUse, Setting, Variant
from ..core.session.session import Section, Session, TempoPoint, Timing
from ..core.session.strips import Clip, Send, Strip, StripKind, within
from ..house.catalogue import PROCESSORS, VERSION

NAME = "The Ferryman’s Almanac — scene 4"
MACHINE = Machine(6, 1.0, "a six-core computer", memory=16.0 * 2**30)
BUFFER = 256
# The narrator records pick-ups meanwhile, and has to hear herself within this (seconds).
HEARD_WITHIN = 0.015
DEVICE = Device(2, converters=0.0012, heard_within=HEARD_WITHIN)
LENGTH = 12 * 60.0
SECTIONS = (
    Section("Quay", 0.0),
    Section("Storm", 118.0),
    Section("Crossing", 243.0),
    Section("Choir on the shore", 437.0),
    Section("Lamps", 577.0),
)

Step = tuple[str, dict[str, float]]

# A few settings for each processor, as an engineer has his usual ones: so that many uses share a cost card.
EQ_SMALL: Step = ("shoreline", {"bands": 5})
EQ: Step = ("shoreline", {"bands": 8})
EQ_LARGE: Step = ("shoreline", {"bands": 14, "gain": 2})
COMP: Step = ("ballast", {"lookahead": 5})
COMP_FAST: Step = ("ballast", {"attack": 1, "release": 60, "lookahead": 1})
GLUE: Step = ("ballast", {"ratio": 2, "attack": 30, "lookahead": 0})
GATE: Step = ("sluice", {})
GATE_FILTERED: Step = ("sluice", {"filter": 1})
WARMTH: Step = ("tar", {"oversampling": 2})
# Left at what it is rendered with: the working setting is a quarter of it.
FINE: Step = ("tar", {"oversampling": 8, "drive": 6})
METER: Step = ("sounder", {"points": 4096})
ROOM: Step = ("mist", {"lines": 8, "seconds": 0.7})
HAZE: Step = ("mist", {"lines": 16, "seconds": 2.5})
SEA: Step = ("mist", {"lines": 32, "seconds": 4})
# The harbour's room, on every sound of the world: thirty times the same.
HARBOUR: Step = ("vault", {"seconds": 1.5, "partition": 256})
PLATE: Step = ("vault", {"seconds": 1, "partition": 256})
# Works once in eight blocks of 256 samples: nothing for seven of them, all in the eighth.
HALL: Step = ("vault", {"seconds": 4, "partition": 1024, "wet": 1})
CHAPEL: Step = ("vault", {"seconds": 6, "partition": 2048, "wet": 1})
PAD: Step = ("pipework", {"voices": 32, "partials": 64})
DRONE: Step = ("pipework", {"voices": 16, "partials": 48})
KEYS: Step = ("cask", {"voices": 24, "quality": 1})
PLUCK: Step = ("cask", {"voices": 12, "quality": 1})
PERCUSSION: Step = ("cask", {"voices": 16, "quality": 0})

NARRATOR = (GATE_FILTERED, EQ, COMP_FAST, EQ_SMALL)
VOICE = (GATE_FILTERED, EQ, COMP, EQ_SMALL)
CROWD = (GATE, EQ, COMP_FAST, ROOM)
FOLEY = (GATE, EQ, COMP_FAST, EQ_LARGE, HARBOUR)
NEAR = (GATE_FILTERED, EQ_SMALL, COMP_FAST, FINE, HARBOUR)
AIR = (EQ_LARGE, COMP, HARBOUR)
WEATHER = (EQ_LARGE, COMP, FINE, HARBOUR)
ACOUSTIC = (EQ, COMP, EQ_SMALL, COMP_FAST, ROOM)
BOWED = (EQ, COMP, EQ_LARGE, FINE, ROOM)
PADDED = (PAD, EQ, COMP, WARMTH, PLATE)
SAMPLED = (KEYS, EQ, COMP, EQ_LARGE)


class Row(NamedTuple):
    """One track: name, bus, plugins, notes that sound together (0: audio), when it sounds, sends, pan, riding fader."""

    name: str
    bus: str
    chain: tuple[Step, ...]
    voices: int
    when: dict[str, str]
    sends: tuple[tuple[str, float], ...] = ()
    pan: float = 0.0
    rides: bool = False


TRACKS = (
    Row("Narrator", "Story", NARRATOR, 0, {"Q": "phrases", "S": "sparse", "C": "phrases", "L": "phrases"}),
    Row("Ferryman", "Voices", VOICE, 0, {"Q": "phrases", "S": "phrases", "C": "fade"}, (("Chapel", 0.1),), 0.0, True),
    Row("Widow", "Voices", VOICE, 0, {"Q": "phrases", "S": "peak", "C": "sparse"}, (("Hall", 0.1),)),
    Row("Child", "Voices", VOICE, 0, {"Q": "sparse", "S": "peak", "H": "sparse"}, (("Hall", 0.1),)),
    Row("Bailiff", "Voices", VOICE, 0, {"Q": "phrases", "S": "sparse"}),
    Row("Whisper", "Voices", VOICE, 0, {"S": "peak", "H": "phrases"}, (("Chapel", 0.3),)),
    Row("Crew left", "Voices", CROWD, 0, {"Q": "sparse", "S": "full", "C": "sparse"}, pan=-0.6),
    Row("Crew right", "Voices", CROWD, 0, {"Q": "sparse", "S": "full", "C": "sparse"}, pan=0.6),
    *(Row(f"Market {k}", "Voices", CROWD, 0, {"Q": "full"}) for k in range(1, 11)),
    Row("Prayer", "Voices", CROWD, 0, {"S": "peak", "H": "phrases"}, (("Chapel", 0.4),)),
    Row("Oars close", "World", NEAR, 0, {"S": "full", "C": "full"}),
    Row("Oars far", "World", FOLEY, 0, {"S": "full", "C": "full"}),
    Row("Rope foley", "World", NEAR, 0, {"Q": "phrases", "S": "full"}),
    Row("Sailcloth", "World", FOLEY, 0, {"S": "full", "C": "phrases"}),
    Row("Boots on deck", "World", NEAR, 0, {"S": "phrases", "C": "sparse"}),
    Row("Boots on stone", "World", NEAR, 0, {"Q": "phrases", "L": "sparse"}),
    Row("Barrels", "World", FOLEY, 0, {"Q": "sparse", "S": "peak"}),
    Row("Chain", "World", FOLEY, 0, {"Q": "sparse", "S": "peak", "C": "sparse"}),
    Row("Coins", "World", NEAR, 0, {"Q": "sparse", "L": "sparse"}),
    Row("Lantern", "World", NEAR, 0, {"Q": "sparse", "L": "phrases"}),
    Row("Cloak", "World", NEAR, 0, {"Q": "sparse", "S": "phrases", "C": "sparse"}),
    Row("Door and latch", "World", FOLEY, 0, {"Q": "sparse", "L": "sparse"}),
    Row("Storm ambience", "World", WEATHER, 0, {"S": "full"}),
    Row("Rain on deck", "World", WEATHER, 0, {"S": "full", "C": "fade"}),
    Row("Rain on water", "World", WEATHER, 0, {"S": "full", "C": "fade"}),
    Row("Wind low", "World", AIR, 0, {"Q": "fade", "S": "full", "C": "full"}),
    Row("Wind high", "World", AIR, 0, {"S": "full", "C": "fade"}),
    Row("Thunder near", "World", WEATHER, 0, {"S": "peak"}),
    Row("Spray", "World", AIR, 0, {"S": "full", "C": "sparse"}),
    Row("Timbers", "World", WEATHER, 0, {"S": "full", "C": "phrases"}),
    Row("Rigging", "World", AIR, 0, {"S": "full", "C": "sparse"}),
    Row("Thunder far", "World", AIR, 0, {"S": "phrases"}),
    Row("Waves on hull", "World", AIR, 0, {"S": "full", "C": "full"}),
    Row("Breakers", "World", WEATHER, 0, {"S": "full", "H": "fade"}),
    Row("Gulls", "World", AIR, 0, {"Q": "phrases", "S": "peak", "C": "sparse", "H": "sparse"}),
    Row("Harbour bell", "World", AIR, 0, {"Q": "sparse", "S": "phrases", "L": "sparse"}),
    Row("Quay water", "World", AIR, 0, {"Q": "full", "L": "full"}),
    Row("Shore wind", "World", AIR, 0, {"H": "full", "L": "full"}),
    Row("Crickets", "World", AIR, 0, {"L": "full"}),
    Row("Flags", "World", AIR, 0, {"Q": "full", "S": "full"}),
    Row("Concertina", "Ensemble", ACOUSTIC, 0, {"Q": "phrases", "S": "full", "C": "phrases"}, (("Hall", 0.2),)),
    Row("Nyckelharpa", "Ensemble", BOWED, 0, {"Q": "sparse", "S": "full", "C": "full"}, (("Hall", 0.3),)),
    Row("Fiddle", "Ensemble", BOWED, 0, {"Q": "phrases", "S": "full", "C": "phrases"}, (("Hall", 0.2),)),
    Row("Cello", "Ensemble", BOWED, 0, {"S": "full", "C": "full", "H": "phrases"}, (("Hall", 0.2),)),
    Row("Double bass", "Ensemble", ACOUSTIC, 0, {"S": "full", "C": "phrases"}),
    Row("Bodhran", "Ensemble", ACOUSTIC, 0, {"Q": "sparse", "S": "full"}, (("Hall", 0.1),)),
    Row("Frame drum", "Ensemble", ACOUSTIC, 0, {"S": "full"}, (("Hall", 0.1),)),
    Row("Whistle", "Ensemble", ACOUSTIC, 0, {"Q": "phrases", "S": "peak", "L": "sparse"}, (("Chapel", 0.3),)),
    Row("Cittern", "Ensemble", ACOUSTIC, 0, {"Q": "phrases", "S": "peak", "C": "phrases"}, pan=0.4),
    Row("Harmonium", "Ensemble", SAMPLED, 12, {"S": "full", "C": "phrases", "L": "sparse"}, (("Hall", 0.2),)),
    Row("Stomping feet", "Ensemble", ACOUSTIC, 0, {"Q": "sparse", "S": "full"}, (("Hall", 0.1),)),
    Row("Mandola", "Ensemble", ACOUSTIC, 0, {"Q": "phrases", "S": "full"}, (("Hall", 0.1),), pan=-0.4),
    Row("Harp", "Ensemble", ACOUSTIC, 0, {"C": "phrases", "H": "phrases", "L": "phrases"}, (("Chapel", 0.2),)),
    Row("Choir low", "Choir", SAMPLED, 12, {"S": "full", "H": "full"}, (("Chapel", 0.5),)),
    Row("Choir high", "Choir", SAMPLED, 12, {"S": "full", "H": "full"}, (("Chapel", 0.5),)),
    Row("Choir tenors", "Choir", SAMPLED, 12, {"S": "full", "H": "full"}, (("Chapel", 0.5),)),
    Row("Choir children", "Choir", SAMPLED, 12, {"S": "peak", "H": "full"}, (("Chapel", 0.5),)),
    Row("Choir far", "Choir", PADDED, 24, {"S": "full", "H": "phrases"}, (("Chapel", 0.6),)),
    Row("Cantor", "Choir", VOICE, 0, {"H": "phrases"}, (("Chapel", 0.5),)),
    Row("Storm drone", "Synths", (DRONE, EQ_LARGE, COMP, FINE, HAZE), 16, {"S": "full"}, (("Sea", 0.3),)),
    Row("Undertow", "Synths", (PAD, EQ, COMP, SEA), 16, {"S": "full", "C": "fade"}),
    Row("Glass harmonium", "Synths", (PAD, EQ, COMP, HAZE), 12, {"C": "phrases", "H": "sparse", "L": "phrases"}),
    Row("Lamp tones", "Synths", (PLUCK, EQ, COMP, ROOM, HAZE), 10, {"L": "full"}),
    Row("Dulcimer", "Synths", (PLUCK, EQ, COMP, WARMTH, HAZE), 10, {"Q": "phrases", "S": "peak", "L": "phrases"}),
    Row("Deep drums", "Synths", (PERCUSSION, EQ, COMP_FAST, EQ_LARGE, FINE), 12, {"S": "full"}, (("Hall", 0.2),)),
)  # fmt: skip

BUSES: tuple[tuple[str, StripKind, str, tuple[Step, ...]], ...] = (
    ("Voices", "bus", "Story", (EQ, GLUE, METER)),
    ("World", "bus", "Story", (EQ_LARGE, GLUE, METER)),
    ("Ensemble", "bus", "Music", (EQ, GLUE, METER)),
    # The long chain: what it makes the main output wait for no further core can take over.
    ("Choir", "bus", "Music", (EQ_LARGE, GLUE, WARMTH, EQ, HAZE, GLUE, METER)),
    ("Synths", "bus", "Music", (EQ, GLUE)),
    ("Hall", "return", "Music", (EQ, HALL)),
    ("Chapel", "return", "Music", (EQ, CHAPEL)),
    ("Sea", "return", "Story", (SEA, EQ)),
    ("Story", "bus", "Main", (EQ, GLUE)),
    ("Music", "bus", "Main", (EQ, GLUE)),
    ("Main", "main", "", (EQ, GLUE, METER)),
)

# Lighter settings of the dearest plugins: name of the processor, what it is set to, what changes, and its name.
LIGHTER: tuple[tuple[str, dict[str, float], dict[str, float], str], ...] = (
    ("Tar", {"oversampling": 8}, {"oversampling": 2}, "oversampling 2"),
    ("Mist", {"lines": 32}, {"lines": 16}, "16 lines"),
    ("Cask", {"quality": 1}, {"quality": 0}, "draft quality"),
    ("Pipework", {"partials": 64}, {"partials": 32}, "32 partials"),
)

LETTERS = {"Q": 0, "S": 1, "C": 2, "H": 3, "L": 4}
PEAK = (134.0, 172.0)
TEMPO = (TempoPoint(0.0, 84.0), TempoPoint(160.0, 84.0, True), TempoPoint(220.0, 112.0), TempoPoint(400.0, 72.0))


def use(step: Step, use_id: str, voices: int = 0) -> PluginUse:
    """One use of a house processor."""
    processor = PROCESSORS[f"house.{step[0]}"]
    plugin = PluginRef("house", processor.identifier, processor.name, "Nimble Load", VERSION)
    family: Family = processor.family  # type: ignore[assignment]
    return PluginUse(use_id, plugin, Setting(tuple(sorted(step[1].items()))), family, 2, voices)


def spans(letter: str, pattern: str, rng: random.Random) -> list[tuple[float, float]]:
    """When a track sounds in one section, for a pattern: full, fade (its first third), phrases, sparse, peak."""
    index = LETTERS[letter]
    start = SECTIONS[index].start
    end = SECTIONS[index + 1].start if index + 1 < len(SECTIONS) else LENGTH
    if pattern == "full":
        late = start + 16 * rng.random() if letter == "S" else start + 4 * rng.random()
        return [(late, end - 5 * rng.random())]
    if pattern == "fade":
        return [(start, start + (end - start) * (0.25 + 0.15 * rng.random()))]
    if pattern == "peak":
        return [(PEAK[0] - 3 * rng.random(), PEAK[1] + 10 * rng.random())]
    sounding, resting = (14.0, 9.0) if pattern == "phrases" else (7.0, 38.0)
    found = []
    at = start + resting * rng.random()
    while at < end - 3:
        length = sounding * (0.6 + 0.8 * rng.random())
        found.append((at, min(at + length, end - 1)))
        at += length + resting * (0.5 + rng.random())
    return found


def notes_played(most: int, rng: random.Random) -> tuple[tuple[float, int], ...]:
    """How many notes an instrument plays, bar by bar: all at the storm's height, else phrases of two to four bars."""
    found: list[tuple[float, int]] = []
    left, share = 0, 0.0
    for second in bars(Timing(TEMPO), LENGTH).tolist():
        if left == 0:
            left, share = rng.randint(2, 4), rng.choice((0.25, 0.4, 0.5, 0.6, 0.75))
        left -= 1
        count = most if PEAK[0] - 4 < second < PEAK[1] else max(round(most * share), 1)
        if not found or count != found[-1][1]:
            found.append((second, count))
    return tuple(found)


def track(row: Row, number: int, rng: random.Random) -> Strip:
    """One track of the table, as a strip."""
    strip_id = f"track-{number}"
    steps = [use(step, f"{strip_id}/{k}", row.voices if k == 0 else 0) for k, step in enumerate(row.chain)]
    instrument = steps.pop(0) if row.voices else None
    profile = notes_played(row.voices, random.Random(number)) if instrument else ()
    clips = []
    for s, pattern in row.when.items():
        for start, end in spans(s, pattern, rng):
            first, last = round(start, 2), round(end, 2)
            name = f"{row.name} {SECTIONS[LETTERS[s]].name}"
            voices = within(profile, first, last) if instrument else ()
            clips.append(Clip(first, last, "notes" if instrument else "audio", name, voices=voices))
    return Strip(
        strip_id, row.name, "track", instrument, tuple(steps),
        tuple(Send(f"bus-{target}", level) for target, level in row.sends),
        f"bus-{row.bus}", f"bus-{row.bus}", armed=row.name == "Narrator", clips=tuple(clips),
        pan=row.pan, rides=row.rides,
    )  # fmt: skip


def bus(name: str, kind: StripKind, output: str, chain: tuple[Step, ...]) -> Strip:
    """A bus or return of the example with its chain; its id is made of its name."""
    target = f"bus-{output}" if output else None
    steps = tuple(use(step, f"bus-{name}/{k}") for k, step in enumerate(chain))
    return Strip(f"bus-{name}", name, kind, None, steps, (), target, target)


@cache
def session() -> Session:
    """The example session; the same every time."""
    rng = random.Random(1887)
    strips = [track(row, number, rng) for number, row in enumerate(TRACKS, 1)]
    strips += [bus(*row) for row in BUSES]
    host = Host(0, 40e-6, 5.5e-6)
    made = Session(NAME, 48000, LENGTH, tuple(strips), SECTIONS, TEMPO, host, "made by code", device=DEVICE)
    return msgspec.structs.replace(made, variants=tuple(variants(made)))


def plan() -> Plan:
    """The plan that the example begins with: nothing is decided, and the narrator stays live."""
    return Plan((), tuple(f"track-{k}" for k, row in enumerate(TRACKS, 1) if row.name == "Narrator"))


def variants(of: Session) -> Iterator[Variant]:
    """The lighter settings that the example offers for its own plugins."""
    for key, (use, *_) in of.card_keys().items():
        values = dict(use.setting.values)
        for name, have, change, words in LIGHTER:
            if use.label == name and have.items() <= values.items():
                yield Variant(key, words, Setting(tuple(sorted((values | change).items()))))
