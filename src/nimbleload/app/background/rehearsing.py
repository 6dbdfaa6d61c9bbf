"""Rehearsing while the window stays alive: the worker is listened to in a thread, and its news come as signals."""

from __future__ import annotations

import logging
import threading
from collections.abc import Mapping
from concurrent.futures import CancelledError
from pathlib import Path

from PySide6.QtCore import QObject, Signal

from ...beside.client import Beside
from ...core.cards.card import Cards
from ...core.decisions.decision import Plan
from ...core.load.in_part import in_part, only
from ...core.load.rehearsal import Prediction, Rehearsal
from ...core.session.computer import Machine
from ...core.session.session import Session
from ...core.survey import Instant, Survey, to_rehearse
from ...core.units import told_by
from ...deliver.there import files_of
from ...probe import rehearsal
from ...probe.isolation import Failure
from ...probe.messages import LoadingMessage, PlayedMessage, PlayingMessage
from ...store.this_computer import part_of_it
from .to_window_thread import ToWindowThread

log = logging.getLogger(__name__)


class Rehearsing(QObject):
    """At most one rehearsal at a time.

    `loading` (done, total, name) and `playing` (blocks done, total, missed so far, load of the last blocks) tell how
    it goes; `ended` brings the outcome with its prediction and survey, and the part of the session that was played, if
    that was not all; `failed` a sentence. Cancelling is told as a failure.
    """

    loading = Signal(int, int, str)
    playing = Signal(int, int, int, float)
    ended = Signal(object, object, object, object)
    failed = Signal(str)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._to_window = ToWindowThread(self)
        self._beside = Beside()
        self._thread: threading.Thread | None = None
        self._cancel = threading.Event()

    @property
    def is_running(self) -> bool:
        return self._thread is not None and self._thread.is_alive()

    def start(
        self, of: Survey, second: float, cores: int, seconds: float, plan: Plan | None = None,
        saved_as: Path | None = None,
    ) -> None:  # fmt: skip
        """Rehearses a moment of the session, `saved_as` a file or not yet, with its plan, or another; of one planned
        for more cores, what so many of them play (see `in_part`). Does nothing while one is going on."""
        plan = of.plan if plan is None else plan
        self.start_with(of.session, plan, of.planned.cards, of.buffer, second, cores, seconds, of.machine, saved_as)

    def start_with(
        self, session: Session, plan: Plan, cards: Cards, buffer: int, second: float | None, cores: int, seconds: float,
        machine: Machine | None = None, saved_as: Path | None = None,
    ) -> None:  # fmt: skip
        """The same for any session with a plan, at a moment or (None) at its worst one; all of it, if no machine is
        named for which it is planned."""
        if self.is_running:
            return
        self._cancel.clear()
        arguments = (session, plan, cards, buffer, second, cores, seconds, machine, saved_as)
        self._thread = threading.Thread(target=self._run, args=arguments, daemon=True)
        self._thread.start()

    def cancel(self) -> None:
        self._cancel.set()

    def _run(
        self, session: Session, plan: Plan, cards: Cards, buffer: int, second: float | None, cores: int, seconds: float,
        machine: Machine | None, saved_as: Path | None,
    ) -> None:  # fmt: skip
        part = None
        try:
            files = files_of(session, plan, buffer, saved_as)
            if machine is not None:
                whole, there = self._beside.survey(session, plan, cards, machine, buffer, second)
                part = in_part(whole.planned.session, there.block, whole.deadline, cores)
            if part is not None:
                session, plan = only(whole.planned.session, part.ids), Plan()
            # What is predicted is this computer with so many cores, whatever the session is planned for.
            of, at = self._beside.survey(to_rehearse(session), plan, cards, part_of_it(cores), buffer, second)
            last = self._listen(of, at, seconds, files)
        except CancelledError:
            last = "The rehearsal was cancelled."
        except Exception as error:
            log.exception("the rehearsal failed")
            last = f"The rehearsal ended early: {told_by(error)}."
        if isinstance(last, str):
            self._to_window.last(self.failed.emit, last)
        else:
            self._to_window.last(self.ended.emit, *last, part)

    def _listen(
        self, of: Survey, at: Instant, seconds: float, files: Mapping[str, tuple[str, float]]
    ) -> tuple[Rehearsal, Prediction, Survey] | str:
        """Tells how far it is; the outcome, or why there is none."""
        outcome: Rehearsal | None = None
        for message in rehearsal.run(of, at, seconds, self._cancel.is_set, files):
            if isinstance(message, Failure):
                return f"The rehearsal {message.reason}."
            if isinstance(message, LoadingMessage):
                self._to_window.post(self.loading.emit, message.done, message.total, message.name)
            elif isinstance(message, PlayingMessage):
                self._to_window.post(self.playing.emit, message.done, message.total, message.missed, message.load)
            elif isinstance(message, PlayedMessage):
                outcome = message.rehearsal
        if outcome is None:
            return "The rehearsal was cancelled."
        return outcome, self._beside.foreseen(of, at, outcome), of

    def close(self) -> None:
        """Cancels and waits for the thread; nothing is told after."""
        self._to_window.close()
        self.cancel()
        self._beside.close()
        if self._thread is not None:
            self._thread.join(5)
