"""What kind of processor a plugin is: as its standard declares it, else guessed from its name."""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple

from ..session.plugins import Family

# What the standards' own class names, features and categories begin with or hold, in lower case.
DECLARED: tuple[tuple[Family, tuple[str, ...]], ...] = (
    ("instrument", ("instrument", "synth", "sampler", "drum")),
    ("analyser", ("analyzer", "analyser", "spectrum", "meter", "oscilloscope")),
    ("reverb", ("reverb",)),
    ("delay", ("delay",)),
    ("equaliser", ("eq", "equalizer", "equaliser", "parametric eq", "multiband eq", "filter", "highpass", "lowpass",
                   "bandpass", "allpass", "comb")),
    ("dynamics", ("compressor", "limiter", "gate", "expander", "dynamics", "envelope", "transient-shaper",
                  "transient shaper", "de-esser", "mastering")),
    ("distortion", ("distortion", "waveshaper", "saturation", "amplifier", "simulator")),
    ("modulation", ("chorus", "flanger", "phaser", "modulator", "modulation", "tremolo")),
)  # fmt: skip
NAMES: tuple[tuple[Family, tuple[str, ...]], ...] = (
    ("equaliser", ("eq", "filter", "tone")),
    ("reverb", ("verb", "room", "hall", "plate", "chamber")),
    ("delay", ("delay", "echo")),
    ("dynamics", ("comp", "limit", "gate", "dynam", "expander", "maxim", "deess", "transient")),
    ("distortion", ("sat", "dist", "drive", "tube", "amp", "tape", "clip")),
    ("modulation", ("chorus", "flang", "phas", "trem", "vibrato", "rotary")),
    ("instrument", ("synth", "organ", "piano", "drum")),
    ("analyser", ("meter", "analy", "scope", "spectr", "loudness")),
)


class Kind(NamedTuple):
    """A family, and whether it is only guessed from the name."""

    family: Family
    guessed: bool

    def words(self) -> str:
        return f"{self.family} (guessed)" if self.guessed else self.family


def kind(features: Iterable[str], name: str) -> Kind:
    """The family that a plugin declares by its features, classes or categories; else the one its name suggests."""
    said = {word.strip().lower().removesuffix(" plugin") for feature in features for word in feature.split("|")}
    for family, words in DECLARED:
        if said & set(words):
            return Kind(family, False)
    return Kind(by_name(name), True)


def squeezed(name: str) -> str:
    """A plugin's name without blanks and capitals: its makers do not write it alike in every standard."""
    return "".join(name.lower().split())


def by_name(name: str) -> Family:
    """The family that a plugin's name suggests; "other" if none."""
    lowered = name.lower()
    for family, words in NAMES:
        if any(word in lowered for word in words):
            return family
    return "other"
