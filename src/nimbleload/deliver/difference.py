"""What two sounds differ by: how much at most, where, how much on average; and what is left as a sound of its own."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import msgspec
import numpy as np
import soundfile
from numpy.typing import NDArray

from ..core.units import said_by
from ..store import audio
from ..store.audio import AudioError
from .audible import loudest

NOTHING_DB = -200.0


class Difference(msgspec.Struct):
    """Two sounds taken from each other, added up stretch by stretch; the shorter one is silent where it has ended."""

    highest: float = 0.0
    place: int = 0
    energy: float = 0.0
    samples: int = 0

    def add(self, one: NDArray[np.float32], other: NDArray[np.float32]) -> NDArray[np.float64]:
        """The next stretch of both (n, channels); gives what is left of it (n, channels)."""
        length = max(len(one), len(other))
        padded = [np.pad(np.asarray(part, np.float64), ((0, length - len(part)), (0, 0))) for part in (one, other)]
        left = padded[0] - padded[1]
        if length:
            off = loudest(left)
            if off.max() > self.highest:
                self.highest, self.place = float(off.max()), self.samples + int(off.argmax())
            self.energy += float((off**2).sum())
            self.samples += length
        return left

    @property
    def peak_db(self) -> float:
        """The most that is left, in dBFS."""
        return decibels(self.highest)

    @property
    def rms_db(self) -> float:
        """What is left on average (the louder channel of each sample), in dBFS."""
        return decibels(np.sqrt(self.energy / max(self.samples, 1)))


def of_files(one: Path, other: Path, residual: Path | None = None) -> Difference:
    """Takes audio file `other` from `one`, and writes what is left to `residual` (WAV, float), at its true level.

    AudioError if one cannot be read, if rates or channels differ, if one holds values that are no numbers (they would
    hide what lies beside them), or if `residual` is one of the two or cannot be written.
    """
    found = Difference()
    with audio.opened(one) as a, audio.opened(other) as b:
        for what, unit in (("samplerate", "Hz"), ("channels", "channels")):
            if getattr(a, what) != getattr(b, what):
                raise AudioError(
                    f"{one} has {getattr(a, what)} {unit}, {other} {getattr(b, what)}: they cannot be compared"
                )
        left = _left(found, (one, a), (other, b))
        if residual is None:
            for _ in left:
                pass
            return found
        if residual.exists() and any(residual.samefile(each) for each in (one, other)):
            raise AudioError(f"{residual} is one of the two that are compared; it was left as it is")
        audio.write(residual, left, a.samplerate, channels=a.channels)
    return found


def _left(
    found: Difference, one: tuple[Path, soundfile.SoundFile], other: tuple[Path, soundfile.SoundFile]
) -> Iterator[NDArray[np.float32]]:
    while True:
        parts = [_next(path, file, found.samples) for path, file in (one, other)]
        if not max(len(part) for part in parts):
            return
        yield found.add(*parts).astype(np.float32)


def _next(path: Path, file: soundfile.SoundFile, first: int) -> NDArray[np.float32]:
    try:
        part = np.asarray(file.read(audio.BLOCK, "float32", always_2d=True))
    except (soundfile.LibsndfileError, OSError) as error:
        raise AudioError(f"{path} cannot be read from sample {first} on: {said_by(error)}") from error
    wrong = ~np.isfinite(part).all(axis=1)
    if wrong.any():
        raise AudioError(f"{path} holds a value that is no number at sample {first + int(wrong.argmax())}")
    return part


def decibels(value: float) -> float:
    """A linear level in dB; silence is −200."""
    return max(20 * float(np.log10(value)), NOTHING_DB) if value > 0 else NOTHING_DB
