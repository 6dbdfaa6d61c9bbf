"""Audio files that are played in a rehearsal: a thread reads them ahead, as a host's does, and the players take from
memory what they need of them."""

from __future__ import annotations

import contextlib
import os
import threading
import time
from collections.abc import Callable, Mapping

import numpy as np
import soundfile
from numba import njit
from numpy.typing import NDArray

from ..native.memory import store_atomic

CHANNELS = 2
# So much of each file is kept ahead of what is played (seconds), and it is read in pieces of so many samples. Every
# piece ends where a ring does or before.
AHEAD_SECONDS, PIECE = 0.5, 8192
# More samples than will ever be played.
ALL = 1 << 62


def opened(path: str, start: float, second: float, rate: int) -> soundfile.SoundFile:
    """The file of a track that begins at a second of the piece (`start`), about to be read from another on, or from its
    beginning if it has ended by then. What the system had kept of it is let go, so that it is read from the disk.

    OSError or soundfile.LibsndfileError if it cannot be read, ValueError if it has another rate than the session.
    """
    number = os.open(path, os.O_RDONLY)
    try:
        os.fsync(number)  # what is still to be written is not let go
        os.posix_fadvise(number, 0, 0, os.POSIX_FADV_DONTNEED)
    except OSError:
        os.close(number)
        raise
    file = soundfile.SoundFile(number, closefd=True)  # if it is no audio, that closes it, too
    if file.samplerate != rate or not file.frames:
        wrong = f"it has {file.samplerate} Hz, the session {rate}" if file.frames else "there is nothing in it"
        file.close()
        raise ValueError(wrong)
    at = round((second - start) * rate)
    file.seek(at if 0 <= at < file.frames else 0)
    return file


@njit(nogil=True, cache=True)
def _publish(written, number, samples):
    store_atomic(written.ctypes.data + 8 * number, samples)


def warm_up() -> None:
    """Compiles what a rehearsal's thread needs, or loads it as compiled before: it reads nothing."""
    _publish(np.zeros(1, np.int64), 0, 0)


class ReadAhead:
    """Rings of sound for the files of some strips (by index, of `strips` in all), and the thread that fills them.

    `of` (S, int64) is the ring of each strip, −1 where it plays no file; `rings` (R, 2, L, float32) what has been read;
    `written` (R, int64) how many samples since the first; `late` (R, int64) how many blocks came before theirs had been
    read; `trouble` (by ring) why one could not be read on. A file that ends begins anew. Since it was started it has
    read so many `bytes`, and computed for so many `seconds`.
    """

    def __init__(self, files: Mapping[int, soundfile.SoundFile], strips: int, rate: int, frames: int) -> None:
        self._files, self._wait = tuple(files.values()), PIECE / rate / 4
        self._each = [os.fstat(file.name).st_size / file.frames for file in self._files]
        self.of = np.full(strips, -1, np.int64)
        self.of[list(files)] = np.arange(len(files))
        pieces = int(np.ceil(max(AHEAD_SECONDS * rate, 2 * frames) / PIECE)) + 1
        self.rings = np.zeros((len(files), CHANNELS, pieces * PIECE), np.float32)
        self.written, self.late = np.zeros(len(files), np.int64), np.zeros(len(files), np.int64)
        self.bytes = self.seconds = 0.0
        self.trouble: dict[int, str] = {}
        self._stop, self._thread = threading.Event(), threading.Thread()

    def start(self, played: Callable[[], int]) -> None:
        """Fills the rings, and keeps them filled from now on; `played` tells how many samples have been."""
        while self.read_one(0):
            pass
        self.bytes = 0.0
        self._thread = threading.Thread(target=self._keep_filled, args=(played,), daemon=True)
        if self._files:
            self._thread.start()

    def stop(self) -> None:
        """Reads no more."""
        self._stop.set()
        if self._files:
            self._thread.join(5)

    def _keep_filled(self, played: Callable[[], int]) -> None:
        with contextlib.suppress(OSError):
            os.sched_setaffinity(0, range(os.cpu_count() or 1))
        begun = time.thread_time()
        while not self._stop.is_set():
            if not self.read_one(played()):
                self._stop.wait(self._wait)
        self.seconds = time.thread_time() - begun

    def read_one(self, played: int) -> bool:
        """Reads a piece of the file that is the least ahead of so many samples played; whether there was room for it.
        A file that cannot be read on is silent from there."""
        if not self._files:
            return False
        number = int(np.argmin(self.written))
        length, written = self.rings.shape[2], int(self.written[number])
        if written + PIECE - played > length:
            return False
        file, at = self._files[number], written % length
        try:
            sound = _next(file)
        except (OSError, soundfile.LibsndfileError) as error:
            self.trouble[number] = str(error)
            self.rings[number] = 0
            _publish(self.written, number, ALL)
            return True
        self.rings[number, :, at : at + PIECE] = sound.T[:CHANNELS] if file.channels >= CHANNELS else sound.T
        _publish(self.written, number, written + PIECE)
        self.bytes += PIECE * self._each[number]
        return True


def _next(file: soundfile.SoundFile) -> NDArray[np.float32]:
    """The next piece of a file (PIECE, channels), which begins anew where it ends. OSError or LibsndfileError."""
    sound = file.read(PIECE, "float32", always_2d=True)
    while len(sound) < PIECE:
        if file.tell() < file.frames:
            raise OSError("it is shorter than it was")
        file.seek(0)
        sound = np.concatenate((sound, file.read(PIECE - len(sound), "float32", always_2d=True)))
    return sound
