"""Renders sound through a chain of plugins, in the worker: block by block, as fast as they go.

The sound lies in a file of the worker's folder and goes into another one, so that it never has to fit into memory.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ..core.session.expressions import KINDS
from ..core.session.meter import BarMap
from ..core.session.plugins import PluginUse
from ..core.session.tempo import TempoMap
from .formats.hosted import Control, Event, Expressed, Hosted, Move, Note, PluginError
from .formats.piece import Place
from .loading import load
from .messages import (
    CHANNELS,
    HEARD,
    NOTE_COLUMNS,
    NOTES,
    RENDERED,
    SOURCE,
    LoadedMessage,
    LoadingMessage,
    PlayingMessage,
    RefusedMessage,
    RenderedMessage,
    RenderRequest,
    Request,
)
from .moved import Moved, step_of
from .timed import TimedLoop

# So many samples are taken at a time, and the tail has died when so many seconds stay below −90 dBFS, of which it keeps
# the first ones: what echoes is silent between its echoes.
CHUNK, QUIET_SECONDS, KEPT_SECONDS, QUIET = 1 << 16, 4.0, 0.5, 10 ** (-90 / 20)


def render(request: RenderRequest, send: Callable, wait: Callable) -> None:
    """In the worker: loads the chain, waits for the sound, and renders it."""
    chain = []
    for number, use in enumerate(request.uses):
        send(LoadingMessage(number, len(request.uses), use.label))
        moving = [each for each in request.moving if each.use == use.id]
        try:
            hosted = load(Request(use, request.rate, (request.buffer,), request.paths.get(use.id, "")))
            moved = Moved(hosted, moving, request.rate)
            if number == 0 and request.turns and not hosted.is_turned:
                raise PluginError("it takes no MIDI, and controllers go with its notes: hosts differ in what it gets")
            if number == 0 and (lost := set(request.expresses) - hosted.expresses):
                raise PluginError(
                    f"single notes change their {' and '.join(sorted(lost))}, which it does not take: hosts differ in "
                    "what it gets then"
                )
        except PluginError as error:
            told = str(error)
            send(RefusedMessage(told if told.startswith(use.label) else f"{use.label}: {told}"))
            return
        chain.append(_Stage(hosted, use, request, moved if moving else None))
    send(LoadedMessage(0.0))
    wait()
    folder = Path(request.folder)
    for number, stage in enumerate(chain):
        stage.hears(folder / HEARD.format(number))
    notes = np.fromfile(folder / NOTES).reshape(-1, NOTE_COLUMNS) if request.plays else np.zeros((0, NOTE_COLUMNS))
    source = np.memmap(folder / SOURCE, np.float32, "r").reshape(-1, CHANNELS) if request.samples else None
    step = max(CHUNK // request.buffer, 1) * request.buffer
    wanted_quiet, kept_quiet = (int(seconds * request.rate) for seconds in (QUIET_SECONDS, KEPT_SECONDS))
    most = request.samples + int(request.tail * request.rate)
    done = ends = quiet = latency = 0
    with (folder / RENDERED).open("wb") as out:
        while done < request.samples or (quiet < wanted_quiet + latency and done < most + latency):
            sound = np.zeros((CHANNELS, step), np.float32)
            if source is not None and done < request.samples:
                part = source[done : min(done + step, request.samples)]
                sound[:, : len(part)] = part.T
            late = 0
            for place, stage in enumerate(chain):
                here = notes[np.searchsorted(notes[:, 0], done) : np.searchsorted(notes[:, 0], done + step)]
                sound = stage.run(sound, here - [done, 0, 0, 0, 0] if place == 0 else here[:0], done, late)
                late += stage.latency
            out.write(np.ascontiguousarray(sound.T).tobytes())
            quiet, latency = _quiet_end(sound, quiet, done >= request.samples), late
            done += step
            if quiet - step < kept_quiet or done - step < request.samples + latency:
                ends = done
            send(PlayingMessage(min(done, most), most))
        out.truncate(ends * CHANNELS * sound.itemsize)
    for stage in chain:
        stage.close()
    wrong, computed = sum(stage.wrong for stage in chain), sum(stage.computed for stage in chain)
    one_sided = tuple(stage.label for stage in chain if stage.lost_a_side)
    send(RenderedMessage(ends, latency, quiet >= kept_quiet or not chain, wrong, computed, one_sided))


def _event(row: Sequence[float], begins: int) -> Event:
    """What a row (see NOTES) tells, in a block that begins at that sample."""
    at, key, kind, value, channel = row
    when = int(at) - begins
    if kind > 1.5:
        return Expressed(KINDS[int(kind) - 2], int(key), value, when, int(channel))
    if kind < 0:
        return Control(int(key), value, when, int(channel))
    return Note(int(key), kind > 0.5, when, value, int(channel))


def _quiet_end(sound: NDArray[np.float32], before: int, is_tail: bool) -> int:
    """For how many samples the tail has been quiet at the end of this stretch."""
    if not is_tail:
        return 0
    loud = np.flatnonzero(np.abs(sound).max(axis=0) > QUIET)
    return sound.shape[1] - 1 - int(loud[-1]) if len(loud) else before + sound.shape[1]


class _Stage:
    """One plugin of the chain."""

    def __init__(self, hosted: Hosted, use: PluginUse, request: RenderRequest, moved: Moved | None) -> None:
        buffer = request.buffer
        self._hosted, self._moved, self._rate = hosted, moved, request.rate
        self._tempo, self._bars = TempoMap(request.timing.tempo), BarMap(request.timing.meters)
        self._buffer = step_of(buffer) if moved is not None and hosted.moves == "between" else buffer
        self._heard: NDArray[np.float32] | None = None
        listens = self._listens = CHANNELS if use.sidechain is not None else 0
        self._loop = TimedLoop(hosted, np.zeros((CHANNELS + listens, self._buffer), np.float32), listens)
        self._loop.refresh(self._buffer)
        if moved is not None:
            # It starts with what is automated where the piece has it, as in a host that was not just playing elsewhere.
            self._loop.capture(self._buffer, 1, moves=moved.at_start())
            self._loop.refresh(self._buffer)
        self.wrong, self.computed, self.label, self.lost_a_side = 0, 0.0, use.label, False
        heard = set(hosted.wiring.rows(CHANNELS + listens, listens).tolist()) & set(range(CHANNELS))
        self._hears_one = len(heard) == 1

    @property
    def latency(self) -> int:
        return self._hosted.latency

    def hears(self, path: Path) -> None:
        """Its side-chain hears what lies in a file (see HEARD); nothing where there is none."""
        if self._listens and path.exists() and path.stat().st_size:
            self._heard = np.memmap(path, np.float32, "r").reshape(-1, CHANNELS)

    def _with_heard(self, sound: NDArray[np.float32], begins: int, late: int) -> NDArray[np.float32]:
        """What goes in, and below it what the side-chain hears: as much later as the sound is, as hosts see to it."""
        if not self._listens:
            return sound
        heard = np.zeros((CHANNELS, sound.shape[1]), np.float32)
        if self._heard is not None:
            first = begins - late
            part = self._heard[max(first, 0) : max(first + sound.shape[1], 0)]
            heard[:, max(-first, 0) :][:, : len(part)] = part.T
        return np.concatenate((sound, heard))

    def run(
        self, sound: NDArray[np.float32], notes: NDArray[np.float64], begins: int, late: int
    ) -> NDArray[np.float32]:
        """What comes out for what goes in (channels, a whole number of blocks), which begins at a sample of the piece,
        while it plays notes (see NOTES, but from the beginning of the sound). It comes `late` by so many samples."""
        if self._hears_one and not self.lost_a_side:
            self.lost_a_side = not np.array_equal(*sound[:CHANNELS])
        sound = self._with_heard(sound, begins, late)
        frames = self._buffer
        blocks = sound.shape[1] // frames
        number = (notes[:, 0] // frames).astype(np.int64)
        moves: dict[int, list[Move]] = {}
        if self._moved is not None:
            for at, key, value in self._moved.between(begins, sound.shape[1], frames):
                moves.setdefault((at - begins) // frames, []).append(Move(key, value, (at - begins) % frames))
        turns = self._turns(begins, blocks)
        starts = np.unique(np.concatenate((number, np.array([*turns, *moves], np.int64))))
        parts = []
        for first, last in zip(starts.tolist(), [*starts[1:].tolist(), blocks], strict=True):
            # Notes, and values that change, come with the first of the blocks that are run in one go.
            played = tuple(_event(row, first * frames) for row in notes[number == first].tolist())
            piece = sound[:, first * frames : last * frames]
            changing = tuple(moves.get(first, ()))
            if first in turns:
                self._hosted.locate(turns[first])
            begun = time.perf_counter()
            parts.append(self._loop.capture(frames, last - first, played, source=piece, moves=changing))
            self.computed += time.perf_counter() - begun
        made = np.concatenate(parts, axis=1) if len(parts) > 1 else parts[0]
        self._hosted.settled()
        # What is no number would spoil all that comes after it; it is counted, and told. With it the sum is none.
        with np.errstate(all="ignore"):
            is_all_numbers = np.isfinite(made.sum())
        if not is_all_numbers:
            wrong = ~np.isfinite(made)
            self.wrong += int(np.count_nonzero(wrong))
            made[wrong] = 0.0
        return made[:CHANNELS] if len(made) >= CHANNELS else np.repeat(made, CHANNELS, axis=0)

    def _turns(self, begins: int, blocks: int) -> dict[int, Place]:
        """The blocks from which on the piece goes at another tempo or in other bars, and the first: their places."""
        first, last = self._place(begins), self._place(begins + (blocks - 1) * self._buffer)
        if first.bars == last.bars and self._tempo.is_steady(first.sample / self._rate, last.sample / self._rate):
            return {0: first}
        places = [self._place(begins + k * self._buffer) for k in range(blocks)]
        return {
            k: here for k, here in enumerate(places)
            if k == 0 or (here.tempo, here.bars) != (places[k - 1].tempo, places[k - 1].bars)
        }  # fmt: skip

    def _place(self, sample: int) -> Place:
        """Where in the piece a sample lies."""
        second = sample / self._rate
        beat = self._tempo.beat(second)
        return Place(sample, beat, self._tempo.pace(second), self._bars.at(beat))

    def close(self) -> None:
        self._hosted.close()
