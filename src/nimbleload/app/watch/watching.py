"""Watching while the window stays alive: records are read in a thread, and what they tell comes as signals."""

from __future__ import annotations

import logging
import os
import threading
import time
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import NamedTuple

from PySide6.QtCore import QObject, Signal

from ...core.session.plugins import PluginUse
from ...core.survey import Compared, Instant, Survey, compared_with
from ...core.told import watching as told
from ...core.told.dropouts import Line, line, past_words, when
from ...core.units import told_by
from ...core.watching.blocks import Lane, Seen, lanes, see
from ...core.watching.dropouts import Dropout
from ...core.watching.history import History, Past, past_of
from ...core.watching.records import Recording
from ...core.watching.shares import Part, parts
from ...core.watching.xruns import xruns
from ...demo import recording as example
from ...demo.cards import sample_cards
from ...machine import processes, sound_servers, threads_only
from ...machine.listening import ListeningError
from ...machine.perf import NotAllowedError
from ...machine.sound_servers import Running
from ...machine.time_of_day import when_it_was_zero
from ...machine.watcher import Watcher, get_ready
from ...probe import catalogue
from ...probe.choosing import held_in
from ...store import recording_file
from ..background.to_window_thread import ToWindowThread
from ..look.notice import written

log = logging.getLogger(__name__)

# What is shown are the last so many seconds; it is read anew so often, records are fetched so often.
SHOWN_SECONDS, SHOW_EVERY, FETCH_EVERY = 10.0, 1.0, 0.1
KEPT_SECONDS, FALLBACK_SECONDS = 120.0, 2.0
# The niceness of what steps back behind all else. Of a thread it goes to the processes that it starts.
LAST = 19
EXAMPLE = "A recording of the example, made by code."
NOT_ALLOWED = (
    "The kernel does not let you see what threads do (kernel.perf_event_paranoid is above 2). For now: "
    "sudo sysctl kernel.perf_event_paranoid=2"
)


class Found(NamedTuple):
    """What can be watched: the hosts that run, and the sound servers; and what the plugins in files are called."""

    hosts: list[processes.Process]
    servers: list[Running]
    names: dict[str, str]


class Worst(NamedTuple):
    """The fullest block so far, or the first blocks of a dropout: how full, and the lanes (from `begin`, ns; the length
    of a block in ns). `called` says which it is."""

    load: float
    begin: int
    length: float
    lanes: Sequence[Lane]
    called: str = "The fullest block seen"


def shown_of(of: Dropout, past: Past) -> Worst:
    """The first blocks of a dropout."""
    length = 1e9 * of.period
    end = max((int(lane.end.max()) for lane in of.lanes if len(lane.end)), default=of.time)
    words = f"The dropout at {when(of, past)}"
    return Worst(max((end - of.time) / length, of.load), of.time, length, of.lanes, words)


class Expected(NamedTuple):
    """What a session lets expect of what was seen: the load of its `survey` at an instant (`at`), if it is that of what
    the host plays."""

    survey: Survey | None
    at: Instant | None
    compared: Compared | None = None


def expected(of: Expected, seen: Seen, held: Mapping[str, PluginUse]) -> Expected:
    """The same, compared with what was seen: if the host plays its plugins in blocks of the survey's size."""
    found = told.buffer_of(seen.blocks.period) if seen.blocks is not None else None
    if of.survey is None or of.at is None or found != (of.survey.buffer, of.survey.session.rate):
        return of._replace(compared=None)
    compared = compared_with(of.survey, of.at, seen, held)
    return of._replace(compared=compared if compared.plugins else None)


class Snapshot(NamedTuple):
    """What is to be shown at one time, all of it read from the same records. `xruns` are the blocks (by their places)
    that a server's xruns belong to; `held` is the plugin that each file in the records holds, `source` says which
    recording all is from, empty for a host that runs. `past` is all that was seen since watching began, `said` what is
    to be said of it, with `lines` for its dropouts.
    """

    seen: Seen
    names: dict[str, str]
    rows: list[told.Row]
    parts: list[Part]
    headline: str
    findings: list[str]
    worst: Worst | None
    events: list[str]
    costs: str
    xruns: list[int]
    held: dict[str, PluginUse]
    expected: Expected
    past: Past
    said: list[str]
    lines: tuple[Line, ...]
    source: str = ""


def snapshot(
    recording: Recording,
    names: dict[str, str],
    held: dict[str, PluginUse],
    session: Expected,
    last: Snapshot | None = None,
    events: Sequence[str] = (),
    source: str = "",
    past: Past | None = None,
    history: History | None = None,
    is_end: bool = False,
) -> Snapshot:
    """Reads a recording for showing, beside what a session lets expect. The fullest block of the `last` one stays if
    none was fuller; `history` takes in what was seen, all of it at the end (`is_end`), unless all the `past` is known.
    """
    seen = see(recording)
    if past is None and history is None:
        past = past_of(seen)
    elif history is not None:
        history.take(seen, when_it_was_zero(), last=is_end)
        past = history.past
    assert past is not None
    rows, roles = told.table(seen, names), parts(seen)
    blocks, before = seen.blocks, last.worst if last is not None else None
    worst = before if before is None or blocks is None or _is_alike(before.length, 1e9 * blocks.period) else None
    before = worst
    if blocks is not None and len(blocks.load) and (before is None or blocks.worst > before.load):
        place = int(blocks.load.argmax())
        begin, end = int(blocks.start[place]), int(blocks.end[place])
        length = 1e9 * blocks.period
        worst = Worst(blocks.worst, begin, length, lanes(seen, begin, max(end, begin + round(length))))
    called, threads = told.calling(seen, names), told.thread_names(seen)
    known = last.lines[past.forgotten - last.past.forgotten :] if last is not None and last.names is names else ()
    lines = (*known, *(line(each, past, called, threads) for each in past.dropouts[len(known) :]))
    return Snapshot(
        seen, names, rows, roles, told.headline(seen),
        told.findings(seen, rows, roles, names, with_late=not past.number), worst, list(events),
        told.watching_costs(seen), xruns(seen).places.tolist(), held, expected(session, seen, held), past,
        past_words(past, called, threads), lines, source,
    )  # fmt: skip


def _is_alike(length: float, other: float) -> bool:
    """Whether blocks of these lengths (ns) are of one buffer size."""
    return abs(length / other - 1) < 0.05


class Watching(QObject):
    """Watches at most one host at a time. `session` is what it is compared with; it may be another at any time.

    `found` brings what can be watched (`Found`); `seen` a snapshot once a second; `expects` one of them that was
    compared anew (see `expect`), and how (`Expected`); `ended` a sentence, when the host has ended or cannot be
    watched, or nothing more comes. `wrote` and `failed` are sentences about files.
    """

    found = Signal(object)
    seen = Signal(object)
    expects = Signal(object, object)
    ended = Signal(str)
    wrote = Signal(str)
    failed = Signal(str)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._to_window = ToWindowThread(self)
        self._thread: threading.Thread | None = None
        self._looking: threading.Thread | None = None
        self._stop = threading.Event()
        self._lock = threading.Lock()
        self._recording: Recording | None = None
        self._watcher: Watcher | None = None
        self._names: dict[str, str] = {}
        self._filing: list[threading.Thread] = []
        self._history: History | None = None
        self._past: Past | None = None
        self._is_closed = False
        self._held: tuple[tuple[str, ...], dict[str, str], dict[str, PluginUse]] = ((), {}, {})
        self.session = Expected(None, None)

    @property
    def is_running(self) -> bool:
        return self._thread is not None and self._thread.is_alive()

    @property
    def recording(self) -> Recording | None:
        """All that is kept of what was watched last, or is being watched."""
        with self._lock:
            return self._watcher.recording() if self._watcher is not None else self._recording

    def mark(self) -> None:
        """Somebody hears a dropout just now."""
        with self._lock:
            if self._history is not None and self.is_running:
                self._history.mark(time.monotonic_ns())

    def get_ready(self) -> None:
        """Has loaded what watching needs, in a thread, so that it begins at once."""
        threading.Thread(target=get_ready, daemon=True).start()

    def look(self) -> None:
        """Looks which hosts run."""
        if self._looking is None or not self._looking.is_alive():
            self._looking = threading.Thread(target=self._look, daemon=True)
            self._looking.start()

    def _look(self) -> None:
        found = Found([], [], {})
        try:
            hosts, servers = processes.hosts(), sound_servers.servers()
            found = Found(hosts, servers, catalogue.names_by_file(catalogue.remembered()) if hosts else {})
        except Exception:
            log.exception("looking for hosts failed")
        self._to_window.last(self.found.emit, found)

    def start(self, watched: Sequence[int], close: bool, server: Running | None = None) -> None:
        """Watches these processes from now on, until it is stopped, and listens to a server that they belong to. Does
        nothing while it is watching."""
        if self.is_running:
            return
        self._stop.clear()
        self._thread = threading.Thread(target=self._run, args=(tuple(watched), close, server), daemon=True)
        self._thread.start()

    def stop(self) -> None:
        self._stop.set()

    def _run(self, watched: tuple[int, ...], close: bool, server: Running | None) -> None:
        self._to_window.last(self.ended.emit, self._until_its_end(watched, close, server))

    def _until_its_end(self, watched: tuple[int, ...], close: bool, server: Running | None) -> str:
        """Watches until it is stopped or there is nothing more to see; what to say of that."""
        try:
            if server is not None:
                watcher = Watcher.of_server(server, close, KEPT_SECONDS, catalogue.parts())
            else:
                watcher = Watcher(watched, close, KEPT_SECONDS, parts=catalogue.parts())
        except ListeningError as error:
            return f"The server cannot be listened to: {error}."
        except ProcessLookupError as error:
            return f"It cannot be watched: {error.strerror}."
        except NotAllowedError:
            return f"{NOT_ALLOWED} {self._threads_only(watched)}"
        except Exception as error:
            log.exception("watching did not begin")
            return f"Watching did not begin: {told_by(error)}."
        self._watcher = watcher
        try:
            try:
                return self._watch(watcher)
            finally:
                with self._lock:
                    self._recording = watcher.recording()
        except Exception as error:
            log.exception("watching failed")
            return f"Watching ended early: {told_by(error)}. What was seen stays."
        finally:
            with self._lock:
                self._watcher = None
            watcher.close()

    def _threads_only(self, watched: tuple[int, ...]) -> str:
        """What can be seen all the same, in a sentence."""
        try:
            found = threads_only.seen(watched, FALLBACK_SECONDS, sleep=self._stop.wait)
        except ProcessLookupError as error:
            return f"And {error.strerror}."
        return f"Without it only this can be seen: {'; '.join(told.threads_words(found)[:3])}."

    def _watch(self, watcher: Watcher) -> str:
        self._names = catalogue.names_by_file(catalogue.remembered())
        if not self._names:
            threading.Thread(target=self._find_plugins, daemon=True).start()
        last: Snapshot | None = None
        with self._lock:
            history = self._history = History()
        shown, is_end = time.monotonic(), False
        while not is_end:
            is_end = self._stop.wait(FETCH_EVERY) or watcher.is_over
            if self._is_closed:
                return ""
            with self._lock:
                watcher.poll()
            is_end |= watcher.is_over
            if time.monotonic() - shown < SHOW_EVERY and not is_end:
                continue
            shown = time.monotonic()
            with self._lock:
                recording, names = watcher.recording(SHOWN_SECONDS), self._names
            events = [event.words for event in watcher.events]
            plugins = self._plugins(recording, names)
            last = snapshot(recording, names, plugins, self.session, last, events, history=history, is_end=is_end)
            self._past = last.past
            self._to_window.post(self.seen.emit, last)
        return "The host has ended. What was seen stays." if watcher.is_over else ""

    def _find_plugins(self) -> None:
        """Looks which plugins are installed, which nobody has done yet, behind all else that runs here: from then on
        those that are watched are told by their names."""
        os.setpriority(os.PRIO_PROCESS, threading.get_native_id(), LAST)
        try:
            found = catalogue.catalogue()
        except Exception:
            log.exception("looking for plugins while watching failed")
            return
        with self._lock:
            self._names = catalogue.names_by_file(found)
            if self._watcher is not None:
                self._watcher.tell_apart(catalogue.parts())

    def _plugins(self, recording: Recording, names: dict[str, str]) -> dict[str, PluginUse]:
        """Which plugin each file of a recording holds; looked up anew when there are other files, or others are
        known."""
        if self._held[:2] != (recording.files, names):
            self._held = recording.files, names, held_in(recording.files, names, catalogue.remembered())
        return self._held[2]

    # Recordings as files

    def keep(self, path: Path) -> None:
        """Writes all that is kept of what was watched last."""
        recording = self.recording
        if recording is not None:
            self._file(self._keep, path, recording, dict(self._names), self._past)

    def _keep(self, path: Path, recording: Recording, names: dict[str, str], past: Past | None) -> None:
        recording_file.write(path, recording, names, past)
        self._to_window.post(self.wrote.emit, f"Written to {path}: {recording.seconds:.0f} s.")
        self._to_window.post(written.tell, path)

    def open(self, path: Path) -> None:
        """Reads a recording and shows it, as if it had just been watched."""
        self._file(self._open, path)

    def _open(self, path: Path) -> None:
        recording, names, past = recording_file.read_all(path)
        self._to_window.post(self.show_recording, recording, names, f"A recording: {path.name}.", past)

    def show_example(self) -> None:
        """Shows a recording of the example, made by code."""
        self._file(self._example)

    def _example(self) -> None:
        cards = sample_cards()
        made = example.recording(cards)
        self._to_window.post(self.show_recording, made, {}, EXAMPLE, example.past(cards, made))

    def show_recording(
        self, recording: Recording, names: dict[str, str], source: str, past: Past | None = None
    ) -> None:
        """Shows a recording that was made before; `source` says which, `past` what was seen before it."""
        with self._lock:
            self._recording, self._names = recording, dict(names)
        self._file(self._read, recording, dict(names), source, past)

    def _read(self, recording: Recording, names: dict[str, str], source: str, past: Past | None) -> None:
        plugins = self._plugins(recording, names)
        found = snapshot(recording, names, plugins, self.session, source=source, past=past)
        self._past = found.past
        self._to_window.post(self.seen.emit, found)

    def expect(self, of: Snapshot) -> None:
        """Compares what was seen before with the `session` as it is now."""
        self._file(self._expect, of)

    def _expect(self, of: Snapshot) -> None:
        self._to_window.post(self.expects.emit, of, expected(self.session, of.seen, of.held))

    def _file(self, work: Callable[..., None], *arguments: object) -> None:
        """Has it done in a thread; what goes wrong is told in a sentence."""

        def run() -> None:
            try:
                work(*arguments)
            except recording_file.RecordingFileError as error:
                self._to_window.post(self.failed.emit, str(error))
            except Exception as error:
                log.exception("a recording could not be written or read")
                self._to_window.post(self.failed.emit, f"The recording could not be written or read: {told_by(error)}.")

        self._filing = [thread for thread in self._filing if thread.is_alive()]
        self._filing.append(threading.Thread(target=run, daemon=True))
        self._filing[-1].start()

    def close(self) -> None:
        """Stops and waits for the threads; nothing is told after."""
        self._to_window.close()
        self._is_closed = True
        self.stop()
        for thread in (self._thread, self._looking, *self._filing):
            if thread is not None:
                thread.join(5)
