"""Audio files: those that an exchange file plays, and those that are written."""

from __future__ import annotations

import struct
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

import numpy as np
import soundfile
from numpy.typing import NDArray

from ..core.units import said_by
from . import atomic, scratch
from .archive import Archive, ImportRefusedError, leaves_folder
from .moved import referred_at
from .sounding import Part

LARGEST_AUDIO = 4 << 30
CHANNELS = 2
BLOCK = 1 << 16
# So many files of a session are open at once: a film's dialogue is cut from thousands, and a program may have 1,024.
MOST_OPEN = 256


class Format(NamedTuple):
    """A kind of audio file to write: what the library calls it and its samples, what its files end with, and what
    people call it."""

    form: str
    samples: str
    ending: str
    words: str


FORMATS = {
    "wav": Format("WAV", "FLOAT", "wav", "WAV, 32 bits floating"),
    "wav24": Format("WAV", "PCM_24", "wav", "WAV, 24 bits"),
    "flac": Format("FLAC", "PCM_24", "flac", "FLAC, 24 bits"),
}  # fmt: skip
# The library's structure of a broadcast extension (EBU Tech 3285): texts, then where the file begins (samples, low and
# high), version, UMID and loudness, what is reserved, and how much coding history there is.
BROADCAST, GET_BROADCAST, SET_BROADCAST = "<256s32s32s10s8s2xIIH64s10s180sI256s", 0x10F0, 0x10F1
# Files whose samples lie in them one after the other, the lowest byte first, and how many bytes each has.
AS_THEY_LIE, BYTES = ("WAV", "WAVEX", "W64", "RF64"), {"PCM_16": 2, "PCM_24": 3, "PCM_32": 4}


class AudioError(Exception):
    """Why an audio file cannot be read or written: what, where, why."""


class Sources:
    """The audio files of one exchange file, opened when they are needed; those that were used last are open. What lies
    packed in it is unpacked into a folder of its own, which is gone with `__exit__`: all audio of a session may be more
    than there is memory."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._archive = Archive(path)
        self._open: dict[tuple[str, bool], soundfile.SoundFile] = {}
        self._unpacked = scratch.Folder("audio")

    def __enter__(self) -> Sources:
        return self

    def __exit__(self, *_: object) -> None:
        for each in self._open.values():
            each.close()
        self._unpacked.cleanup()
        self._archive.__exit__(None, None, None)

    def file(self, part: Part) -> soundfile.SoundFile:
        """The file that a part plays. AudioError if it is not there, or is no audio."""
        key = (part.file, part.outside)
        found = self._open.pop(key, None)
        if found is None:
            while len(self._open) >= MOST_OPEN:
                self._open.pop(next(iter(self._open))).close()
            try:
                found = self._opened(part)
            except (soundfile.LibsndfileError, OSError, ImportRefusedError) as error:
                raise AudioError(f"{part.file} cannot be read: {said_by(error)}") from error
        # The one that was used last is the last of all.
        self._open[key] = found
        return found

    def _opened(self, part: Part) -> soundfile.SoundFile:
        if part.outside:
            return soundfile.SoundFile(self._outside(part))
        if leaves_folder(part.file) or part.file not in self._archive:
            raise AudioError(f"{part.file} is missing in {self._path.name}")
        path = Path(self._unpacked.name) / "audio"
        self._archive.unpack(part.file, path, LARGEST_AUDIO)
        try:
            return soundfile.SoundFile(path)
        finally:
            path.unlink()

    def has(self, part: Part) -> bool:
        """Whether the file that a part plays is there."""
        return self._outside(part).exists() if part.outside else part.file in self._archive

    def _outside(self, part: Part) -> Path:
        return referred_at(part.file, self._path.parent)

    def stamp(self, part: Part) -> str:
        """What tells the file that a part plays from another one without reading it: its length and checksum, or where
        it lies outside of the archive its length and when it was changed. AudioError if it is not there."""
        if not part.outside:
            if part.file not in self._archive:
                raise AudioError(f"{part.file} is missing in {self._path.name}")
            return self._archive.stamp(part.file)
        try:
            there = self._outside(part).stat()
        except OSError as error:
            raise AudioError(f"{part.file} cannot be read: {said_by(error)}") from error
        return f"{there.st_size} {there.st_mtime_ns}"

    def sound(self, part: Part, rate: int, first: int, count: int) -> NDArray[np.float32]:
        """The samples of a part in the piece from number `first` on (count, 2, float32), with its fades and gains.

        AudioError if the file has another rate.
        """
        file = self.file(part)
        if file.samplerate != rate:
            raise AudioError(
                f"{part.file} has {file.samplerate} Hz, the session {rate}: the host converts it in its own way"
            )
        out = np.zeros((count, CHANNELS), np.float32)
        begin, end = round(part.start * rate), round(part.end * rate)
        low, high = max(begin, first), min(end, first + count)
        if high <= low:
            return out
        at = low - begin + round(part.offset * rate)
        skipped = max(-at, 0)
        at, low = at + skipped, low + skipped
        if high <= low or at >= file.frames:
            return out
        file.seek(at)
        found = file.read(min(high - low, file.frames - at), "float32", always_2d=True)
        found = found[:, :CHANNELS] if found.shape[1] >= CHANNELS else np.repeat(found, CHANNELS, axis=1)
        place = low + np.arange(len(found))
        for length, away in ((part.fade_in, place - begin), (part.fade_out, end - 1 - place)):
            if length > 0:
                found = found * np.clip(away / (length * rate), 0, 1).astype(np.float32)[:, None]
        for gain in part.gains:
            found = found * gain.at(rate).values(place)[:, None].astype(np.float32)
        out[low - first : low - first + len(found)] = found
        return out


def mixed(sources: Sources, parts: tuple[Part, ...], rate: int, samples: int) -> Iterator[NDArray[np.float32]]:
    """All parts of a track together, stretch by stretch (n, 2, float32), from the start of the piece."""
    for first in range(0, samples, BLOCK):
        count = min(BLOCK, samples - first)
        sound = np.zeros((count, CHANNELS), np.float32)
        for part in parts:
            if part.start * rate < first + count and part.end * rate > first:
                sound += sources.sound(part, rate, first, count)
        yield sound


def later(stretches: Iterator[NDArray[np.float32]], skipped: int) -> Iterator[NDArray[np.float32]]:
    """Sound without its first so many samples."""
    for stretch in stretches:
        yield stretch[skipped:]
        skipped = max(skipped - len(stretch), 0)


def write(
    path: Path, stretches: Iterator[NDArray[np.float32]], rate: int, kind: str = "wav", channels: int = CHANNELS,
    start: int = 0,
) -> None:  # fmt: skip
    """Writes sound (n, channels, float32 each) as `atomic.replacing` does. A WAV file says at which sample of the piece
    it begins (`start`), as a broadcast wave.

    AudioError if that fails; then what lay there before is untouched.
    """
    form = FORMATS[kind]
    try:
        with (
            atomic.replacing(path) as fresh,
            soundfile.SoundFile(fresh, "w", rate, channels, form.samples, format=form.form) as out,
        ):
            if form.form == "WAV":
                _stamp(out, start)
            for stretch in stretches:
                out.write(stretch)
    except (soundfile.LibsndfileError, OSError) as error:
        raise AudioError(f"{path} was not written: {said_by(error)}") from error


def _stamp(out: soundfile.SoundFile, start: int) -> None:
    """Has a broadcast extension written, before any sound is. The library can, but has no name for it in Python."""
    low, high = start & 0xFFFFFFFF, start >> 32
    made = struct.pack(BROADCAST, b"", b"Nimble Load", b"", b"", b"", low, high, 1, b"", b"", b"", 0, b"")
    if not soundfile._snd.sf_command(out._file, SET_BROADCAST, made, len(made)):
        raise AudioError("where it begins in the piece could not be written into it")


def stamped(file: soundfile.SoundFile) -> int | None:
    """At which sample a file says that it begins, counted from midnight or from a piece's start; None if it says
    nothing, as what is no broadcast wave."""
    made = bytearray(struct.calcsize(BROADCAST))
    at = soundfile._ffi.from_buffer(made)
    if not soundfile._snd.sf_command(file._file, GET_BROADCAST, at, len(made)):
        return None
    low, high = struct.unpack(BROADCAST, made)[5:7]
    return int(high) << 32 | int(low)


def upper_bits(file: soundfile.SoundFile, frames: int) -> Iterator[NDArray[np.int16]]:
    """The upper 16 bits of all samples of a file that holds whole numbers, so many frames at a time (n, channels).

    What lies in the file as it is is not converted, which would take three times as long.
    """
    size = BYTES.get(file.subtype, 0)
    if file.format not in AS_THEY_LIE or file.endian == "BIG" or not size:
        yield from file.blocks(frames, dtype="int16", always_2d=True)
        return
    whole = size * file.channels
    room = bytearray(frames * whole)
    at = soundfile._ffi.from_buffer(room)
    while found := soundfile._snd.sf_read_raw(file._file, at, len(room)) // whole:
        yield np.ndarray((found, file.channels), "<i2", room, size - 2, (whole, size)).copy()


class File:
    """An audio file as a sound (n, channels, float32; one channel on both sides) that is read piece by piece; to be
    used with `with`. AudioError if it cannot be read."""

    def __init__(self, path: Path) -> None:
        self._path, self._file = path, opened(path)

    def __enter__(self) -> File:
        return self

    def __exit__(self, *_: object) -> None:
        self._file.close()

    def __len__(self) -> int:
        return self._file.frames

    def __getitem__(self, which: slice) -> NDArray[np.float32]:
        first, last, _ = which.indices(len(self))
        try:
            self._file.seek(first)
            found = np.asarray(self._file.read(max(last - first, 0), "float32", always_2d=True))
        except (soundfile.LibsndfileError, OSError) as error:
            raise AudioError(f"{self._path} cannot be read from sample {first} on: {said_by(error)}") from error
        return found if found.shape[1] > 1 else np.repeat(found, CHANNELS, axis=1)

    def stretches(self) -> Iterator[NDArray[np.float32]]:
        """All of it, stretch by stretch."""
        for first in range(0, len(self), BLOCK):
            yield self[first : first + BLOCK]


def opened(path: Path) -> soundfile.SoundFile:
    """An audio file to read from, piece by piece. AudioError if it cannot be read."""
    try:
        return soundfile.SoundFile(path)
    except (soundfile.LibsndfileError, OSError) as error:
        raise AudioError(f"{path} cannot be read: {said_by(error)}") from error
