"""How far one sound is another: taken from each other, with a verdict in a word, and what is left to listen to."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..store import audio
from . import stretch
from .difference import NOTHING_DB, Difference

# What two renders may differ by and still be the same, or the same but for rounding (dBFS, the highest sample).
SAME_DB, ROUNDED_DB = -120.0, -100.0

Sound = NDArray[np.float32] | stretch.Added | audio.File


class Heard(msgspec.Struct, frozen=True):
    """One of two sounds that were compared, as a file to listen to: its highest sample (dBFS), and how loud it is
    (integrated, LUFS, at least −200)."""

    file: str
    peak_db: float
    lufs: float


class Proof(msgspec.Struct, frozen=True):
    """How far a file is the track: what rendering it again at another block size differs by, at most and on average
    (dBFS), and where the most (seconds). `verdict`: "same", "rounded" (the same but for rounding), "random" (it never
    sounds the same twice) or "different" (it sounds different at another block size). `residual` is the file with what
    is left, to be listened to; empty where nothing is. `verdict` "cut": a stretch and what is left of its track are not
    together what the track was. `lufs` is how loud it is when it is rendered again (integrated, at least −200). With
    `alike` both sides have taken alike what hosts do in their own ways. `sides` are the two themselves, where they lie
    there."""

    verdict: str
    peak_db: float = NOTHING_DB
    rms_db: float = NOTHING_DB
    at: float = 0.0
    other_buffer: int = 0
    residual: str = ""
    lufs: float = NOTHING_DB
    alike: bool = False
    sides: tuple[Heard, ...] = ()


def verdict_of(peak_db: float, else_: str) -> str:
    """What a difference means (dBFS at most): "same", "rounded", or else what is given."""
    return "same" if peak_db <= SAME_DB else "rounded" if peak_db <= ROUNDED_DB else else_


def residual_of(target: Path) -> Path:
    """Where what differs from a file lies, if anything does."""
    return target.with_name(f"{target.stem} difference.wav")


def compared(one: Sound, other: Sound, rate: int, residual: Path | None = None) -> Proof:
    """What two sounds (n, 2) differ by; where one goes on longer, that counts as well.

    If it is more than rounding, it is written to `residual` at its true level, and the proof names that file.
    """
    found = Difference()
    for _ in _left(found, one, other):
        pass
    named = ""
    if residual is not None:
        residual.unlink(missing_ok=True)
        if found.peak_db > ROUNDED_DB:
            audio.write(residual, _left(Difference(), one, other), rate)
            named = residual.name
    return Proof("", found.peak_db, found.rms_db, found.place / rate, residual=named)


def _left(found: Difference, a: Sound, b: Sound) -> Iterator[NDArray[np.float32]]:
    """What is left of one sound when the other is taken from it, stretch by stretch (n, 2)."""
    for first in range(0, max(len(a), len(b)), audio.BLOCK):
        yield found.add(*(np.array(each[first : first + audio.BLOCK]) for each in (a, b))).astype(np.float32)
