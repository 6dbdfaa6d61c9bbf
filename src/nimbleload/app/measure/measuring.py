"""Measuring while the window stays alive: the run goes on in a thread, and its results come as signals."""

from __future__ import annotations

import logging
import threading
import time
from collections.abc import Mapping, Sequence

from PySide6.QtCore import QObject, Signal

from ...core.cards.card import CostCard
from ...core.session.plugins import CardKey, PluginUse
from ...core.units import told_by
from ...probe import session_run
from ...probe.effort import Effort
from ...probe.isolation import QUIET_SECONDS
from ...probe.session_run import Job, Progress
from ...store.library import Library, LibraryError
from ..background.to_window_thread import ToWindowThread

log = logging.getLogger(__name__)


class Measuring(QObject):
    """At most one run at a time. `progressed` brings each result after it is in the library."""

    started = Signal(list)
    progressed = Signal(object)
    ended = Signal(str)
    tried = Signal(object)
    tried_all = Signal(str)

    def __init__(self, library: Library | None, effort: Effort | None = None, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._library = library
        self._effort = effort
        self.quiet_seconds = QUIET_SECONDS
        self._to_window = ToWindowThread(self)
        self._thread: threading.Thread | None = None
        self._cancel = threading.Event()
        self._pause = threading.Event()
        self._begun = 0.0
        self._stood_still = 0.0
        self._paused_at = 0.0

    @property
    def is_running(self) -> bool:
        return self._thread is not None and self._thread.is_alive()

    @property
    def seconds(self) -> float:
        """How long the run has been going on, without its pauses."""
        until = self._paused_at if self.is_paused else time.monotonic()
        return until - self._begun - self._stood_still

    @property
    def is_paused(self) -> bool:
        return self._pause.is_set()

    def pause(self, still: bool) -> None:
        """Makes the run stand still, the plugin in work included, or go on."""
        if still == self.is_paused or not self.is_running:
            return
        if still:
            self._paused_at = time.monotonic()
            self._pause.set()
        else:
            self._stood_still += time.monotonic() - self._paused_at
            self._pause.clear()

    def start(self, todo: Sequence[Job], known: Mapping[CardKey, CostCard], first: int | None = None) -> None:
        """Measures these jobs, in order, all quickly at the buffer size `first` before that. Does nothing while a run
        is going on."""
        if self.is_running or not todo:
            return
        self._cancel.clear()
        self._pause.clear()
        self._stood_still = 0.0
        self._begun = time.monotonic()
        self.started.emit(list(todo))
        self._thread = threading.Thread(target=self._run, args=(list(todo), dict(known), first), daemon=True)
        self._thread.start()

    def try_settings(self, use: PluginUse, rate: int, buffer: int, known: CostCard | None) -> None:
        """Tries single settings of one plugin; `tried` brings its card after each. Does nothing during a run."""
        if self.is_running:
            return
        self._cancel.clear()
        self._thread = threading.Thread(target=self._try, args=(use, rate, buffer, known), daemon=True)
        self._thread.start()

    def _try(self, use: PluginUse, rate: int, buffer: int, known: CostCard | None) -> None:
        outcome = ""
        try:
            last = None
            seconds = session_run.SWEEP_SECONDS
            for last in session_run.sweep(use, rate, buffer, known, seconds, self._cancel.is_set, self.quiet_seconds):
                self._to_window.post(self.tried.emit, last)
            if last is not None and self._library is not None:
                self._library.store(last)
        except Exception as error:
            log.exception("trying settings failed")
            outcome = f"Trying the settings ended early: {told_by(error)}."
        self._to_window.last(self.tried_all.emit, outcome)

    def cancel(self) -> None:
        """Ends the run within a moment; what has been measured is kept."""
        self._cancel.set()

    def _run(self, todo: list[Job], known: dict[CardKey, CostCard], first: int | None) -> None:
        outcome = ""
        try:
            paused = self._pause.is_set
            runs = session_run.run(todo, known, self._cancel.is_set, self._effort, self.quiet_seconds, paused, first)
            for step in runs:
                self._keep(step)
                self._to_window.post(self.progressed.emit, step)
        except LibraryError as error:
            outcome = f"{error} What was measured before is kept."
        except Exception as error:
            log.exception("measuring failed")
            outcome = f"Measuring ended early: {told_by(error)}. What was measured before is kept."
        if not outcome and self._cancel.is_set():
            outcome = "Cancelled. What was measured before is kept."
        self._to_window.last(self.ended.emit, outcome)

    def _keep(self, step: Progress) -> None:
        if self._library is not None:
            self._library.store(step.card, step.lasting)

    def keep(self, card: CostCard, source: str) -> None:
        """Stores figures from elsewhere under their source."""
        if self._library is not None:
            self._library.store(card, card.cells, source)

    def close(self) -> None:
        """Cancels and waits for the thread; nothing is told after."""
        self._to_window.close()
        self.cancel()
        if self._thread is not None:
            self._thread.join(5)
