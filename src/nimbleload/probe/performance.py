"""A rehearsal's part in the worker: loads everything, plays it, and tells what happened."""

from __future__ import annotations

import ctypes
import threading
import time
from collections.abc import Mapping
from pathlib import Path

import msgspec
import numpy as np
from numpy.typing import NDArray
from soundfile import LibsndfileError, SoundFile

from ..core.load.helped import LateBlocks, late_blocks
from ..core.load.missed import why_missed
from ..core.load.rehearsal import Rehearsal, Streamed, Undisturbed
from ..core.session.computer import deadline
from ..core.session.routing import build, feeding, listening
from ..core.units import said_by
from ..native.witness import CLOCK, COLUMNS, around_best, least_clock, least_units, looks, undisturbed, usual
from . import read_ahead
from .formats.hosted import Hosted, Note
from .loading import load
from .memory_kept import kept
from .messages import LoadingMessage, PlayedMessage, PlayingMessage, Request, StageRequest
from .pace import Pace
from .read_ahead import ReadAhead, opened
from .signal import chord, musical
from .stage import CLOCKED_EVERY, Performed, Stage, settle_thread
from .timed import TimedLoop

LEAD_SECONDS = 0.5
# So many blocks each plugin plays as soon as it is loaded.
BEGUN = 2
MOST_BLOCKS = 40_000
LOCK_ALL = 3
# A process may have a thousand files open, and plugins open some of their own.
MOST_FILES = 512
WATCHED = 64
# How often the witness is asked before anything is played, and after: so many times in a row, so long apart (seconds),
# that others pause at one of them; on all cores together so many times, and on each at least.
IN_A_ROW, APART, GOES, FEWEST_GOES = 250, 0.02, 20, 3
# With fewer looks at the clock in a rehearsal, those before it count.
FEWEST_CLOCKS = 5


def rehearse(request: StageRequest, files: Mapping[int, SoundFile], unread: Mapping[str, str], send) -> None:
    """In the worker: loads everything, plays it, and sends what happened. `files` and `unread` as `open_files` has
    found them."""
    session = request.session
    refused, source = dict(request.refused), musical(2, session.rate)
    nothing = kept()
    plugins, placed, loaded_in = load_all(request, refused, source, send)
    memory = kept().since(nothing).whole
    graph = build(session)
    sounds = fed(request)
    priority = np.array(request.priority)
    read = ReadAhead(files, len(session.strips), session.rate, request.buffer)
    stage = Stage(graph, plugins, feeding(session), sounds, priority, source, request.buffer, read)
    locked = ctypes.CDLL(None).mlockall(LOCK_ALL) == 0
    before = looked_at(request.cores)
    block = deadline(request.buffer, session.rate)
    lead = int(LEAD_SECONDS / block) + 1
    blocks = min(lead + int(request.seconds / block), MOST_BLOCKS)

    def watch(so_far: Performed) -> bool:
        done = so_far.done
        spent = (so_far.end[:done] - so_far.begin[:done]) / 1e9 / block
        late = int(np.sum(so_far.end[lead:done] > so_far.due[lead:done] + block * 1e9)) if done > lead else 0
        send(PlayingMessage(done, blocks, late, float(np.median(spent[-WATCHED:])) if done else 0.0))
        return True

    made, real_time = stage.perform(session.rate, blocks, request.cores, settle_thread, watch)
    around = np.concatenate((before, looked_at(request.cores)))
    told = outcome(request, made, lead, placed, real_time, locked, refused, around)
    read_from = streamed(request, files, read, made, unread)
    told = msgspec.structs.replace(told, streamed=read_from, memory=memory, loaded_in=loaded_in)
    send(PlayedMessage(told, late_of(request, made, lead, placed)))


def late_of(request: StageRequest, made: Performed, lead: int, placed: list[str]) -> LateBlocks | None:
    """The blocks that were late after the lead-in, of which others will find out what would have helped: whatever is
    compiled is out of reach here."""
    period = deadline(request.buffer, request.session.rate) * 1e9
    after = slice(min(lead, made.done - 1), made.done)
    tasks = (made.task_end - made.task_begin)[after]
    return late_blocks(request.buffer, period, made.due[after], made.end[after], tasks, made.use_times[after], placed)


def fed(request: StageRequest) -> NDArray[np.bool_]:
    """Which strips (S, bool) begin with sound that no instrument makes now: their clips, or what was frozen of them."""
    return np.array([
        sounds and strip.kind == "track" and (strip.instrument is None or strip.is_frozen(-1))
        for sounds, strip in zip(request.sounding, request.session.strips, strict=True)
    ])  # fmt: skip


def streamed(
    request: StageRequest, files: Mapping[int, SoundFile], read: ReadAhead, made: Performed, unread: Mapping[str, str]
) -> Streamed:
    """What was played from files, in figures. `unread` are those that could not be (by id of strip), and why."""
    strips = request.session.strips
    frozen = {strip.id for number, strip in enumerate(strips) if strip.is_frozen(-1) and request.sounding[number]}
    tracks = tuple(strips[number].id for number in files)
    without = tuple(sorted(frozen - {*tracks, *unread}))
    unread = {**unread, **{tracks[number]: reason for number, reason in read.trouble.items()}}
    span = max(made.done * deadline(request.buffer, request.session.rate), 1e-9)
    return Streamed(tracks, without, read.bytes / span, read.seconds / span, int(read.late.sum()), unread)


def open_files(request: StageRequest) -> tuple[dict[int, SoundFile], dict[str, str]]:
    """The files of strips that sound, by index, about to be read; and why others could not be opened, by id."""
    found: dict[int, SoundFile] = {}
    unread: dict[str, str] = {}
    for number, strip in enumerate(request.session.strips):
        if strip.id not in request.files or not request.sounding[number]:
            continue
        path, start = request.files[strip.id]
        try:
            if len(found) == MOST_FILES:
                raise OSError(f"no more than {MOST_FILES} files are played")
            found[number] = opened(path, start, request.second, request.session.rate)
        except (OSError, LibsndfileError, ValueError) as error:
            unread[strip.id] = f"{Path(path).name}: {said_by(error)}"
    if found:
        read_ahead.warm_up()
    return found, unread


def load_all(
    request: StageRequest, refused: dict[str, str], source: NDArray[np.float32], send
) -> tuple[list[list[tuple[Hosted, tuple[Note, ...], int]]], list[str], float]:
    """The hosted plugins of each strip with their notes and the index of the strip that they listen to (−1: none), the
    use ids in the same order, and how long they took to load (seconds). What fills up as it sounds on
    (`request.filled`) hears so much of `source` before: it is the middle of a session."""
    from .formats.hosted import PluginError

    plugins: list[list[tuple[Hosted, tuple[Note, ...], int]]] = []
    heard = listening(request.session)
    placed: list[str] = []
    total, silence, loaded_in = len(request.paths), np.zeros_like(source), 0.0
    for number, strip in enumerate(request.session.strips):
        loaded = []
        # What is suspended is not called while it is silent.
        asleep = not request.sounding[number] and request.session.suspends(strip)
        for use in () if asleep else strip.live_uses():
            if use.id not in request.paths:
                continue
            send(LoadingMessage(len(placed), total, f"{use.label} on {strip.name}"))
            begun = time.monotonic()
            try:
                hosted = load(Request(use, request.session.rate, (request.buffer,), request.paths[use.id]))
            except PluginError as error:
                refused[use.id] = str(error)
                continue
            loaded_in += time.monotonic() - begun
            hosted.settled()
            # What it keeps is there once it has played, if only silence, and what it has put off then is done.
            loop = TimedLoop(hosted, source, silence=silence)
            for _ in range(BEGUN):
                loop.run(request.buffer, 1, silent=True)
                hosted.settled()
            played = request.notes[number] if use is strip.instrument else use.voices
            notes = chord(played) if played and request.sounding[number] else ()
            if request.sounding[number] and not notes and use.id in request.filled:
                loop.filling = round(request.filled[use.id] * request.session.rate)
                loop.fill(request.buffer)
            loaded.append((hosted, notes, heard.get((number, use.id), -1)))
            placed.append(use.id)
        plugins.append(loaded)
    # Nothing is loaded any more: what ends this process from now on is not the last one's loading.
    send(LoadingMessage(total, total, ""))
    return plugins, placed, loaded_in


def outcome(
    request: StageRequest,
    made: Performed,
    lead: int,
    placed: list[str],
    real_time: bool,
    locked: bool,
    refused: dict[str, str],
    around: NDArray[np.int64],
) -> Rehearsal:
    """What was played after the lead-in, in figures. `around` is what the witness told before all, and after it (n,
    COLUMNS, ns)."""
    session, played = request.session, slice(min(lead, made.done - 1), made.done)
    period = deadline(request.buffer, session.rate) * 1e9
    due, begin, end = made.due[played], made.begin[played], made.end[played]
    tasks = (made.task_end - made.task_begin)[played]
    uses = made.use_times[played]
    span = max(float(end[-1] - due[0]), 1.0) if len(end) else 1.0
    busy = [float(tasks[made.task_core[played] == core].sum()) / span for core in range(len(request.cores))]
    told = made.witnessed[played]
    best = min(least_units(around), least_units(told))
    quiet = undisturbed(told, best)
    looked = np.arange(len(made.clocks)) * CLOCKED_EVERY - played.start
    ids = [strip.id for strip in session.strips]
    is_on = [strip.enabled for strip in session.strips]

    def alone(blocks: NDArray[np.bool_]) -> Undisturbed:
        # What others compute on a core lowers its clock, too: of blocks that were alone that of such blocks counts.
        # In a rest others may be at it all the time, and pause in the blocks; or what the plugins themselves did to it
        # lasts until then and beyond: the best that was seen of a core that was alone counts if that is better,
        # behind a block or before and after all of them. Where there was no rest to look at it, there is only that.
        clocks = usual_clock(made.clocks[np.isin(looked, np.flatnonzero(blocks))])
        least = least_clock(np.concatenate((around, told.reshape(-1, COLUMNS))), best)
        own = min((each for each in (clocks, least) if each > 0), default=0.0)
        return Undisturbed(
            float(blocks.mean()) if len(blocks) else 0.0, tuple((((end - begin) / period)[blocks]).tolist()),
            {i: float(m) for i, m, o in zip(ids, mean_of(tasks[blocks]), is_on, strict=True) if o},
            dict(zip(placed, mean_of(uses[blocks]).tolist(), strict=True)), own,
        )  # fmt: skip

    # With few blocks that had the best clock as well, all that shared their units with nobody count.
    undisturbed_part = alone(quiet & around_best(made.clocks, CLOCKED_EVERY, made.done)[played])
    if not undisturbed_part.is_telling:
        undisturbed_part = alone(quiet)
    clock = usual_clock(made.clocks) or float(np.median(around[:, CLOCK])) / 1e9
    means, peaks = tasks.mean(axis=0) / 1e9, np.percentile(tasks, 99, axis=0) / 1e9
    on = np.array(is_on)
    rest = (tasks.sum(axis=1) - uses.sum(axis=1)).mean() / 1e9 / max(int(on.sum()), 1)
    return Rehearsal(
        request.buffer, session.rate, request.second, len(request.cores), real_time, locked,
        tuple(((end - begin) / period).tolist()), int(np.sum(end > due + period)),
        {i: float(m) for i, m, o in zip(ids, means, is_on, strict=True) if o},
        {i: float(p) for i, p, o in zip(ids, peaks, is_on, strict=True) if o},
        dict(zip(placed, (uses.mean(axis=0) / 1e9).tolist(), strict=True)), tuple(busy), float(rest),
        float(np.percentile(begin - due, 99)) / 1e9, slowdown(request.cores),
        after_rest(request.cores[0], float(np.median(end - begin)) / 1e9, period / 1e9), refused, clock,
        usual(told, best), undisturbed_part, why=why_missed(period, due, begin, end, uses, made.held[played], placed),
    )  # fmt: skip


def usual_clock(clocks: NDArray[np.int64]) -> float:
    """What the chain of steps took as a rule (clocks: any shape, ns, 0: not asked), in seconds; 0 if it was hardly ever
    asked."""
    asked = clocks[clocks > 0]
    return float(np.median(asked)) / 1e9 if len(asked) >= FEWEST_CLOCKS else 0.0


def mean_of(times: NDArray[np.int64] | NDArray[np.int32]) -> NDArray[np.float64]:
    """The mean of each column (ns) in seconds; 0 where there is no row."""
    return times.mean(axis=0) / 1e9 if len(times) else np.zeros(times.shape[1])


def looked_at(cores: tuple[int, ...]) -> NDArray[np.int64]:
    """What the witness tells of these cores (n, COLUMNS, ns), one after the other."""
    found: list[NDArray[np.int64]] = []

    def look(core: int) -> None:
        settle_thread(core)
        for _ in range(max(GOES // len(cores), FEWEST_GOES)):
            found.append(looks(IN_A_ROW))
            time.sleep(APART)

    for core in cores:
        thread = threading.Thread(target=look, args=(core,))
        thread.start()
        thread.join()
    return np.concatenate(found)


def after_rest(core: int, busy: float, period: float, blocks: int = 60) -> float:
    """How much slower than at its best a core computes in blocks of `busy` seconds that begin every `period` seconds.

    A core that sleeps in between lowers its clock, or is lent to others; 1 where it does not sleep at all.
    """
    if busy >= period:
        return 1.0
    found: list[float] = []

    def compute() -> None:
        settle_thread(core)
        pace = Pace()
        pace.learn(0.1)
        for _ in range(blocks):
            time.sleep(period - busy)
            until = time.monotonic() + busy
            while time.monotonic() < until:
                found.append(pace.now())

    thread = threading.Thread(target=compute)
    thread.start()
    thread.join()
    return max(float(np.median(found)), 1.0) if found else 1.0


def slowdown(cores: tuple[int, ...], seconds: float = 0.2) -> float:
    """How much slower a core computes while all of these compute at once (1: not at all)."""
    if len(cores) < 2:
        return 1.0
    alone = Pace()
    alone.learn(seconds)
    found: list[float] = []

    def compute(core: int) -> None:
        settle_thread(core)
        pace = Pace(alone.best)
        until = time.monotonic() + seconds
        while time.monotonic() < until:
            found.append(pace.now())

    threads = [threading.Thread(target=compute, args=(core,)) for core in cores]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    return max(float(np.median(found)), 1.0)
