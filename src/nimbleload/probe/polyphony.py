"""What an instrument costs with more and more notes."""

from __future__ import annotations

from ..core.cards.card import Polyphony
from .formats.hosted import Hosted
from .sweep import VOICES, Meter


def find_polyphony(hosted: Hosted, voices: int, rate: int, frames: int) -> Polyphony:
    """The mean cost of a block with 1, 2, 4… and in the end `voices` notes held together, each from a fresh state.

    ValueError if it has fewer than two voices, or more than a chord can have.
    """
    if voices < 2:
        raise ValueError(f"an instrument that plays {voices} notes at most has no cost against its notes")
    meter = Meter(rate, frames)
    counts = (*(count for count in VOICES if count < voices), voices)
    return Polyphony(rate, frames, counts, tuple(meter.cost(hosted, count) for count in counts))
