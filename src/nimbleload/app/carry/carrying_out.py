"""Carrying a plan out while the window stays alive: files are read, rendered and written in a thread."""

from __future__ import annotations

import logging
import threading
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, Signal

from ...core.cards.card import Cards
from ...core.decisions.decision import Plan
from ...core.session.session import Session
from ...core.units import told_by
from ...deliver import carrying, exchange_out, whole_mix
from ...deliver.asked import Asked
from ...deliver.carrying import MIX, NothingToDoError, Prepared
from ...deliver.lasting import Effort, TimeLeft, efforts
from ...deliver.render import Job, Rendered, Step
from ...deliver.sharing import Check
from ...deliver.there import NOTHING, There, there
from ...demo import audio as demo_audio
from ..background.to_window_thread import ToWindowThread

log = logging.getLogger(__name__)


class CarryingOut(QObject):
    """One thing at a time.

    `making` comes before the example's audio is made; `prepared` brings what there is to do, or a sentence why there is
    nothing, what of it lies there already, and how long each takes; `stepped` each step of a job; `ended` comes when
    all jobs are through; `wrote` brings the changed session that was written; `failed` a sentence.
    """

    making = Signal()
    prepared = Signal(object, object, object)
    stepped = Signal(object)
    ended = Signal()
    wrote = Signal(object)
    failed = Signal(str)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._to_window = ToWindowThread(self)
        self._thread: threading.Thread | None = None
        self._asked = Asked()
        self._left = TimeLeft({}, {})
        self._looks, self._looking = 0, threading.Lock()

    @property
    def is_running(self) -> bool:
        return self._thread is not None and self._thread.is_alive()

    @property
    def is_paused(self) -> bool:
        return self.is_running and self._asked.is_still()

    @property
    def seconds_left(self) -> float | None:
        """How long it goes on, about; None where that is not known yet."""
        return self._left.seconds()

    def prepare(
        self, session: Session, plan: Plan, buffer: int, kind: str, cards: Cards, stems: Sequence[str] = (),
        saved_as: Path | None = None,
    ) -> None:  # fmt: skip
        """Looks what there is to do for a plan and for stems, what lies there as a kind of file, and how long each
        takes; what was asked before no longer counts."""
        self._looks += 1
        of = (self._looks, session, plan, buffer, kind, cards, stems, saved_as)
        threading.Thread(target=self._look, args=of, daemon=True).start()

    def _look(self, look: int, *of: Any) -> None:
        """One look at a time; what is asked for no longer when its turn comes is not looked for."""
        with self._looking:
            if look == self._looks:
                self._prepare(look, *of)

    def _prepare(
        self, look: int, session: Session, plan: Plan, buffer: int, kind: str, cards: Cards, stems: Sequence[str],
        saved_as: Path | None,
    ) -> None:  # fmt: skip
        found: Prepared | str
        lies, takes = NOTHING, dict[str, Effort]()
        try:
            if plan.decisions or stems:
                if demo_audio.is_missing(session.source):
                    self._to_window.post(self.making.emit)
                demo_audio.made_aside(session.source)
            found = carrying.prepare(session, plan, buffer, stems, saved_as)
            lies = there(found.jobs, found.source, carrying.folder_of(found.beside), kind)
            takes = efforts(found, cards)
        except NothingToDoError as error:
            found = str(error)
        except Exception as error:
            log.exception("looking what there is to carry out failed")
            found = f"What there is to do could not be found out: {told_by(error)}."
        self._to_window.post(self._take_prepared, look, found, lies, takes)

    def _take_prepared(self, look: int, found: Prepared | str, lies: There, takes: dict[str, Effort]) -> None:
        if look == self._looks:
            self.prepared.emit(found, lies, takes)

    def start(
        self, prepared: Prepared, jobs: list[Job], checks: list[Check], folder: Path, files: Mapping[str, str],
        takes: Mapping[str, Effort], cards: Cards, kind: str = "wav",
    ) -> None:  # fmt: skip
        """Renders and proves these jobs into files of a kind, and proves these shared buses; `files` are there, by the
        ids of strips, and each `takes` its time. Does nothing while it is at work."""
        if not self.is_running:
            self._begin(TimeLeft(takes, cards))
            self._run(self._render, prepared, jobs, checks, folder, dict(files), kind)

    def _begin(self, left: TimeLeft) -> None:
        """Nothing is asked of it yet; so long it goes on."""
        self._asked, self._left = Asked(), left

    def _render(
        self, prepared: Prepared, jobs: list[Job], checks: list[Check], folder: Path, files: dict[str, str], kind: str
    ) -> None:
        steps = carrying.run(
            prepared, folder, kind, asked=self._asked, jobs=self._left.longest_first(jobs), checks=checks, files=files
        )  # fmt: skip
        for step in steps:
            self._to_window.post(self._take_step, step)

    def _take_step(self, step: Step) -> None:
        self._left.take(step)
        self.stepped.emit(step)

    def prove_mix(
        self, session: Session, buffer: int, saved_as: Path | None, target: Path, folder: Path, cards: Cards
    ) -> None:
        """Renders what differs between the mix of a session and that of the changed one that was written."""
        if not self.is_running:
            self._begin(TimeLeft({MIX.id: Effort(known=False)}, cards))
            self._run(self._prove_mix, session, buffer, saved_as, target, folder)

    def _prove_mix(self, session: Session, buffer: int, saved_as: Path | None, target: Path, folder: Path) -> None:
        for step in whole_mix.prove_written(session, buffer, saved_as, target, folder, self._asked):
            self._to_window.post(self._take_step, step)

    def stop(self) -> None:
        """Ends what is being rendered; what is through stays."""
        self._asked.stop()

    def pause(self, still: bool) -> None:
        """Makes what is being rendered stand still, or go on."""
        if self.is_running:
            self._asked.stand_still(still)
            self._left.stand_still(still)

    def write(
        self, target: Path, source: Path, session: Session, plan: Plan, rendered: Mapping[str, Rendered], folder: Path,
        cards: Cards,
    ) -> None:  # fmt: skip
        """Writes the changed session."""
        if not self.is_running:
            self._run(self._write, target, source, session, plan, dict(rendered), folder, cards)

    def _write(self, *arguments) -> None:  # type: ignore[no-untyped-def]
        self._to_window.post(self.wrote.emit, exchange_out.write(*arguments))

    def _run(self, work: Callable[..., None], *arguments: object) -> None:
        def run() -> None:
            try:
                work(*arguments)
            except exchange_out.WriteError as error:
                self._to_window.post(self.failed.emit, f"{error}.")
            except Exception as error:
                log.exception("carrying out failed")
                said = f"Carrying out ended early: {told_by(error)}. What is through stays."
                self._to_window.post(self.failed.emit, said)
            finally:
                self._to_window.last(self.ended.emit)

        self._thread = threading.Thread(target=run, daemon=True)
        self._thread.start()

    def close(self) -> None:
        """Ends all; nothing is told after."""
        self._to_window.close()
        self._looks += 1
        self.stop()
        if self._thread is not None:
            self._thread.join(10)
