"""A folder of audio files as a session: a track a file, folders as buses, clips where something sounds.

A file sounds where it is louder than −60 dBFS; gaps shorter than half a second are closed. It begins where its time
stamp says (broadcast wave, EBU Tech 3285), if the stamps of the files differ.
"""

from __future__ import annotations

import os
import threading
from collections import Counter
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import NamedTuple

import numpy as np
import soundfile
from numpy.typing import NDArray

from ..core.session.edits import empty
from ..core.session.session import Session
from ..core.session.strips import Clip, Strip
from ..core.units import agreeing, clock, count
from .audio import stamped, upper_bits
from .dawproject import ImportReport
from .found import Found, NothingFoundError, Progress, StoppedError, shortened, unheard
from .xml_values import UNNAMED, is_writable, shown

ENDINGS = (".wav", ".flac", ".ogg", ".oga", ".aif", ".aiff", ".aifc", ".w64", ".rf64", ".bwf", ".caf", ".au", ".mp3")
QUIETEST = 10 ** (-60 / 20)
GAP = 0.5
# Sound is looked for in steps of this many seconds, and read in stretches of this many.
STEP, STRETCH = 0.01, 4.0
MOST_FILES = 2000
# Stamps below this (seconds) are counted from the start of the piece; what is later is a time of day, or a piece that
# does not begin at zero: then the earliest one begins it. Stamps further apart than that are of several days.
HOUR, APART = 3600.0, 12 * 3600.0
# What is longer is taken as sounding throughout: reading it would take minutes.
LONGEST_READ = 4 * 3600.0
BITS = {"PCM_S8": 8, "PCM_U8": 8, "PCM_16": 16, "PCM_24": 24, "PCM_32": 32, "FLOAT": 32, "DOUBLE": 64}


class Stem(NamedTuple):
    """One audio file: where it sounds, from second to second of it. `stamp` is the second at which it says that it
    begins, `start` where it begins in the piece. It has so many `channels`."""

    path: Path
    rate: int
    bits: int
    seconds: float
    sounding: tuple[tuple[float, float], ...]
    is_read: bool
    stamp: float | None = None
    start: float = 0.0
    channels: int = 2

    @property
    def end(self) -> float:
        """When it ends in the piece, in seconds."""
        return self.start + self.seconds


def read(folder: Path, progress: Progress = unheard) -> Found:
    """Makes a session of all audio files in a folder and the folders in it; none of them is copied or changed.

    `progress` is told how far it is, and stops it by answering True (then StoppedError). NothingFoundError if there is
    no audio.
    """
    files, others = _listed(folder)
    if not files:
        raise NothingFoundError(f"{folder} holds no audio files ({', '.join(ENDINGS)}). Nothing was added.")
    return read_files(folder, files, progress, others)


def read_files(folder: Path, files: list[Path], progress: Progress = unheard, others: int = 0) -> Found:
    """The same for some files of a folder; `others` is how many files of other kinds lie in it."""
    stems: list[Stem] = []
    failures: list[str] = []
    chosen = files[:MOST_FILES]
    for path, read in zip(chosen, _all_read(chosen, progress), strict=True):
        if isinstance(read, Stem):
            stems.append(read)
        else:
            failures.append(f"{shown(path.relative_to(folder))} {_reason(read)}.")
    if not stems:
        none = f"none of {len(files)} files could be read. {failures[0]} Nothing was added."
        raise NothingFoundError(f"{shown(folder)}: {none}")
    stems, notes = placed(stems)
    return Found(_session(folder, stems), _report(folder, stems, [*notes, *failures], others, len(files)))


def placed(stems: list[Stem]) -> tuple[list[Stem], list[str]]:
    """The files where they begin by their stamps, and what is to be minded about it in sentences.

    Where all stamps are the same, as those of whole stems are, all files begin together.
    """
    stamps = [stem.stamp for stem in stems if stem.stamp is not None]
    tells_nothing = len(set(stamps)) == 1 and (len(stems) > 1 or stamps[0] >= HOUR)
    if not stamps or tells_nothing:
        return stems, []
    earliest, latest = min(stamps), max(stamps)
    if latest - earliest > APART:
        return stems, [f"Their time stamps lie {(latest - earliest) / HOUR:.0f} hours apart: all files begin together."]
    zero = 0.0 if earliest < HOUR else earliest
    notes = []
    if zero:
        notes.append(f"The earliest time stamp is {time_of_day(earliest)}: the piece begins there.")
    if len(stamps) < len(stems):
        without = count(len(stems) - len(stamps), "file")
        notes.append(f"{without} without a time stamp: begun with the piece.")
    return [stem if stem.stamp is None else stem._replace(start=stem.stamp - zero) for stem in stems], notes


def time_of_day(seconds: float) -> str:
    """A time of day, as people write it."""
    minutes, rest = divmod(int(seconds), 60)
    return f"{minutes // 60}:{minutes % 60:02d}:{rest:02d}"


def _all_read(files: list[Path], progress: Progress) -> list[Stem | Exception]:
    """What each file is, or why it could not be read; as many at once as there are cores."""
    shares, one_at_a_time = [0.0] * len(files), threading.Lock()
    stopped_at: list[str] = []

    def one(number: int) -> Stem | Exception:
        def stopped(share: float) -> bool:
            # Told in order, and not again once it is stopped: others are still in the middle of theirs then.
            with one_at_a_time:
                shares[number] = share
                if not stopped_at and progress(sum(shares) / len(files), files[number].name):
                    stopped_at.append(files[number].name)
                return bool(stopped_at)

        try:
            return _stem(files[number], stopped)
        except (soundfile.LibsndfileError, OSError, ValueError, StoppedError) as error:
            return error
        finally:
            shares[number] = 1.0

    with ThreadPoolExecutor(len(os.sched_getaffinity(0)), "stems") as pool:
        found = list(pool.map(one, range(len(files))))
    if stopped_at:
        raise StoppedError(f"Reading stopped at {stopped_at[0]}. Nothing was added.")
    return found


def _listed(folder: Path) -> tuple[list[Path], int]:
    """The audio files of a folder by name, folder by folder, and how many other files there are. Links are not
    followed."""
    files, others = [], 0
    for path in _walk(folder):
        if path.suffix.lower() in ENDINGS:
            files.append(path)
        else:
            others += 1
    return files, others


def _walk(folder: Path, depth: int = 0) -> Iterator[Path]:
    entries = sorted(folder.iterdir(), key=lambda path: (path.is_dir(), path.name.lower()))
    for path in entries:
        if path.name.startswith("."):
            continue
        if path.is_dir() and not path.is_symlink():
            if depth < 8:
                yield from _walk(path, depth + 1)
        elif path.is_file():
            yield path


class _NameError(ValueError):
    """That a file has a name which no session can hold."""


def _reason(error: Exception) -> str:
    if isinstance(error, _NameError):
        return f"was left out: {error}"
    words = str(error).split(":")[-1].strip().rstrip(".")
    return f"is no audio that can be read: {words or type(error).__name__}"


def _stem(path: Path, stopped: Callable[[float], bool]) -> Stem:
    """Reads one file through. ValueError if it is empty, or cannot be named."""
    if not is_writable(str(path.resolve())):
        raise _NameError(UNNAMED)
    with soundfile.SoundFile(path) as file:
        rate, seconds = int(file.samplerate), file.frames / file.samplerate
        if file.frames <= 0:
            raise ValueError("it is empty")
        bits, said = BITS.get(file.subtype, 0), stamped(file)
        stamp = None if said is None else said / rate
        if seconds > LONGEST_READ:
            return Stem(path, rate, bits, seconds, ((0.0, seconds),), False, stamp, channels=file.channels)
        step = max(round(STEP * rate), 1)
        loud: list[NDArray[np.bool_]] = []
        length = max(round(STRETCH * rate) // step, 1) * step
        # Whole numbers are read faster than they are converted, and none of them is NaN.
        is_whole = file.subtype.startswith("PCM_")
        blocks = upper_bits(file, length) if is_whole else file.blocks(length, dtype="float32", always_2d=True)
        for block in blocks:
            loud.append(_loud(block, step))
            if stopped(min(len(loud) * length / file.frames, 1.0)):
                raise StoppedError
        sounding = stretches(np.concatenate(loud), step / rate, seconds)
        return Stem(path, rate, bits, seconds, sounding, True, stamp, channels=file.channels)


def _loud(block: NDArray[np.float32] | NDArray[np.int16], step: int) -> NDArray[np.bool_]:
    """Which steps of a block (n, C) hold a sample above the quietest that counts; NaN does not."""
    whole = len(block) // step * step
    rows = [block[:whole].reshape(whole // step, step * block.shape[1]), block[whole:].reshape(1, -1)]
    quietest = QUIETEST * 32768 if block.dtype == np.int16 else QUIETEST
    found = []
    for each in rows:
        if each.size:
            highest, lowest = np.fmax.reduce(each, axis=1), np.fmin.reduce(each, axis=1)
            found.append((highest > quietest) | (lowest < -quietest))
    return np.concatenate(found)


def stretches(loud: NDArray[np.bool_], step: float, seconds: float) -> tuple[tuple[float, float], ...]:
    """From when to when (seconds) something sounds, if step by step (each so many seconds) it does or not."""
    edges = np.flatnonzero(np.diff(np.concatenate(([False], loud, [False])).astype(np.int8)))
    found: list[tuple[float, float]] = []
    for first, last in edges.reshape(-1, 2).tolist():
        start, end = first * step, min(last * step, seconds)
        if found and start - found[-1][1] < GAP:
            found[-1] = (found[-1][0], end)
        else:
            found.append((start, end))
    return tuple(found)


def _session(folder: Path, stems: list[Stem]) -> Session:
    """Tracks in their folders' order, each folder that holds some as a bus behind them, the main output at the end."""
    made: list[Strip] = []
    buses: dict[Path, Strip] = {}
    for number, stem in enumerate(stems):
        inside = stem.path.parent
        clips = tuple(
            Clip(
                stem.start + start, stem.start + end, "audio", stem.path.stem, str(stem.path.resolve()), (), stem.rate,
                stem.bits, offset=start,
            )
            for start, end in stem.sounding
        )
        bus = _bus(folder, inside, buses)
        made.append(Strip(f"track{number + 1}", stem.path.stem, output=bus, clips=clips, channels=stem.channels))
    blank = empty(folder.resolve().name or "Audio files", _rate(stems), max(stem.end for stem in stems))
    return Session(
        blank.name, blank.rate, blank.length, (*made, *buses.values(), *blank.strips), source=str(folder.resolve())
    )


def _bus(folder: Path, inside: Path, buses: dict[Path, Strip]) -> str:
    """The id of a folder's bus, made if it is not there; buses of folders feed those of the folders they lie in."""
    if inside == folder:
        return "main"
    if inside not in buses:
        above = _bus(folder, inside.parent, buses)
        buses[inside] = Strip(f"bus{len(buses) + 1}", inside.name, "bus", output=above)
    return buses[inside].id


def _rate(stems: list[Stem]) -> int:
    """The rate most files have; of several the highest."""
    counts = Counter(stem.rate for stem in stems)
    return max(counts, key=lambda rate: (counts[rate], rate))


def _report(folder: Path, stems: list[Stem], failures: list[str], others: int, listed: int) -> ImportReport:
    rate, silent = _rate(stems), [stem for stem in stems if not stem.sounding]
    long = max(stem.seconds for stem in stems)
    understood = [
        f"{len(stems)} audio files, the longest of {clock(long)}: a track each.",
        f"{sum(len(stem.sounding) for stem in stems)} stretches in which something sounds.",
        f"{rate} Hz, as most of them.",
    ]
    later = sum(stem.start > 0 for stem in stems)
    if later:
        understood.append(f"{count(later, 'file')} placed by the time stamps that they carry.")
    buses = len({stem.path.parent for stem in stems} - {folder})
    if buses:
        understood.append(f"{count(buses, 'folder')}, as buses.")
    left = list(failures)
    for stem in stems:
        if stem.rate != rate:
            left.append(f"{stem.path.name} was recorded at {stem.rate} Hz: the host has to convert it.")
        if not stem.is_read:
            left.append(f"{stem.path.name} has {stem.seconds / 3600:.0f} hours: taken as sounding all through.")
    if silent:
        are = agreeing(len(silent), "file is", "files are")
        left.append(f"{are} silent all through: {', '.join(s.path.name for s in silent[:5])}.")
    if listed > MOST_FILES:
        left.append(f"{count(listed - MOST_FILES, 'more audio file')}: at most {MOST_FILES} are taken at once.")
    if others:
        left.append(f"{count(others, 'file')} of other kinds.")
    return ImportReport(str(folder), "", tuple(understood), shortened(left, "files"))
