"""The example's own audio, made by code when it is first needed: an exchange file of it in the cache folder.

Each track has a few seconds of sound that are looped through its clips: voices as buzzes through formants, foley and
weather as filtered noise, the ensemble as plucked and bowed strings. Made up, and the same every time.
"""

from __future__ import annotations

import io
import os
import subprocess
import sys
import zlib
from pathlib import Path

import numpy as np
import platformdirs
import soundfile
from numpy.typing import NDArray

from ..core.session.strips import Strip
from ..core.units import told_by
from ..store import atomic, dawproject_out
from ..store.dawproject_out import Loop
from .session import session

RATE, SECONDS, LEVEL = 48000, 4.0, 0.1
FORMANTS = ((700, 1100, 2500), (400, 1900, 2600), (300, 800, 2300))
VOICES, WORLD = ("bus-Voices", "bus-Story"), ("bus-World",)
# How far making it steps back behind whatever else runs.
NICENESS = 5


def path() -> Path:
    """Where the exchange file lies, whether it is there or not."""
    return Path(platformdirs.user_cache_dir("nimble-load")) / "example.dawproject"


def made() -> Path:
    """The exchange file, made now if it is not there. OSError if it cannot be written."""
    found = path()
    if not found.exists():
        found.parent.mkdir(parents=True, exist_ok=True)
        # Several may find at once that it is missing: each makes one of its own, and the last one stays.
        with atomic.replacing(found) as fresh:
            dawproject_out.write(fresh, session(), audio_of)
    return found


def is_missing(source: str) -> bool:
    """Whether it is what a session comes from, and has to be made."""
    return source == str(path()) and not path().exists()


def made_if_needed(source: str) -> None:
    """Makes it if it is what a session comes from. OSError if it cannot be written."""
    if is_missing(source):
        made()


def made_aside(source: str) -> None:
    """The same in a process of its own, so that a window draws on meanwhile. OSError if it cannot be written."""
    if is_missing(source):
        ran = subprocess.run(
            [sys.executable, "-m", __name__], stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL,
            stderr=subprocess.PIPE, text=True, check=False,
        )  # fmt: skip
        if ran.returncode:
            raise OSError(ran.stderr.strip() or f"making the example's audio ended with code {ran.returncode}")


def audio_of(strip: Strip) -> Loop | None:
    """The sound of a track; None for one that plays notes, or has no clips."""
    if strip.instrument is not None or not strip.clips:
        return None
    sound = sound_of(strip)
    out = io.BytesIO()
    soundfile.write(out, sound, RATE, format="FLAC", subtype="PCM_16")
    return Loop(f"{strip.id}.flac", out.getvalue(), SECONDS, RATE, 1)


def sound_of(strip: Strip) -> NDArray[np.float64]:
    """Four seconds of a track (N, mono), by the bus that it is on; its end joins its beginning."""
    from .compiled import filtered, plucked  # imported here: it would lengthen every start by half a second

    rng = np.random.default_rng(zlib.crc32(strip.name.encode()))
    count = int(RATE * SECONDS)
    time = np.arange(count) / RATE
    if strip.output in VOICES:
        pitch = rng.uniform(90, 240)
        buzz = np.sign(np.sin(2 * np.pi * np.round(pitch * SECONDS) / SECONDS * time)) + 0.1 * rng.standard_normal(
            count
        )
        syllables = np.clip(np.sin(2 * np.pi * rng.integers(6, 14) / SECONDS * time), 0, 1)
        sound = syllables * sum(_resonance(buzz, f, 60) for f in FORMANTS[rng.integers(len(FORMANTS))])
    elif strip.output in WORLD:
        slope = rng.uniform(0.6, 0.98)
        swell = 0.6 + 0.4 * np.sin(2 * np.pi * rng.integers(1, 4) / SECONDS * time + rng.uniform(0, 6))
        sound = swell * filtered(rng.standard_normal(count), 1 - slope, -slope, 0.0)
    else:
        sound = np.zeros(count)
        for beat in range(8):
            pitch = 110 * 2 ** (rng.integers(0, 24) / 12)
            sound += np.roll(plucked(pitch, count, RATE), beat * count // 8)
    return LEVEL * sound / max(float(np.sqrt(np.mean(sound**2))), 1e-9)


def _resonance(sound: NDArray[np.float64], frequency: float, width: float) -> NDArray[np.float64]:
    """What a resonance lets through (all in hertz)."""
    from .compiled import filtered

    radius = np.exp(-np.pi * width / RATE)
    return filtered(sound, 1 - radius, -2 * radius * np.cos(2 * np.pi * frequency / RATE), radius**2)


def main() -> None:
    """Makes it, behind all others; says on standard error why it could not."""
    os.nice(NICENESS)
    try:
        made()
    except OSError as error:
        sys.exit(told_by(error))


if __name__ == "__main__":
    main()
