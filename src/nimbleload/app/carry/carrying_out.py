"""Carrying a plan out while the window stays alive: files are read, rendered and written in a thread."""

from __future__ import annotations

import logging
import threading
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path

from PySide6.QtCore import QObject, Signal

from ...core.cards.card import Cards
from ...core.decisions.decision import Plan
from ...core.session.session import Session
from ...deliver import carrying, exchange_out, whole_mix
from ...deliver.carrying import NothingToDoError, Prepared
from ...deliver.render import Job, Rendered
from ...deliver.sharing import Check
from ...deliver.there import NOTHING, There, there
from ...demo import audio as demo_audio
from ..background.to_window_thread import ToWindowThread

log = logging.getLogger(__name__)


class CarryingOut(QObject):
    """One thing at a time.

    `prepared` brings what there is to do, or a sentence why there is nothing, and what of it lies there already;
    `stepped` each step of a job; `ended` comes when all jobs are through; `wrote` brings the changed session that was
    written; `failed` a sentence.
    """

    prepared = Signal(object, object)
    stepped = Signal(object)
    ended = Signal()
    wrote = Signal(object)
    failed = Signal(str)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._to_window = ToWindowThread(self)
        self._thread: threading.Thread | None = None
        self._stop = threading.Event()
        self._asked = 0

    @property
    def is_running(self) -> bool:
        return self._thread is not None and self._thread.is_alive()

    def prepare(
        self, session: Session, plan: Plan, buffer: int, kind: str, stems: Sequence[str] = (),
        saved_as: Path | None = None,
    ) -> None:  # fmt: skip
        """Looks what there is to do for a plan and for stems, and what lies there as a kind of file; what was asked
        before no longer counts."""
        self._asked += 1
        of = (self._asked, session, plan, buffer, kind, stems, saved_as)
        threading.Thread(target=self._prepare, args=of, daemon=True).start()

    def _prepare(
        self, asked: int, session: Session, plan: Plan, buffer: int, kind: str, stems: Sequence[str],
        saved_as: Path | None,
    ) -> None:  # fmt: skip
        found: Prepared | str
        lies = NOTHING
        try:
            if plan.decisions or stems:
                demo_audio.made_if_needed(session.source)
            found = carrying.prepare(session, plan, buffer, stems, saved_as)
            lies = there(found.jobs, found.source, carrying.folder_of(found.beside), kind)
        except NothingToDoError as error:
            found = str(error)
        except Exception as error:
            log.exception("looking what there is to carry out failed")
            found = f"What there is to do could not be found out: {error}."
        self._to_window.post(self._take_prepared, asked, found, lies)

    def _take_prepared(self, asked: int, found: Prepared | str, lies: There) -> None:
        if asked == self._asked:
            self.prepared.emit(found, lies)

    def start(
        self, prepared: Prepared, jobs: list[Job], checks: list[Check], folder: Path, files: Mapping[str, str],
        kind: str = "wav",
    ) -> None:  # fmt: skip
        """Renders and proves these jobs into files of a kind, and proves these shared buses; `files` are there, by the
        ids of strips. Does nothing while it is at work."""
        if not self.is_running:
            self._stop.clear()
            self._run(self._render, prepared, jobs, checks, folder, dict(files), kind)

    def _render(
        self, prepared: Prepared, jobs: list[Job], checks: list[Check], folder: Path, files: dict[str, str], kind: str
    ) -> None:
        steps = carrying.run(
            prepared, folder, kind, cancelled=self._stop.is_set, jobs=jobs, checks=checks, files=files
        )  # fmt: skip
        for step in steps:
            self._to_window.post(self.stepped.emit, step)

    def prove_mix(self, session: Session, buffer: int, saved_as: Path | None, target: Path, folder: Path) -> None:
        """Renders what differs between the mix of a session and that of the changed one that was written."""
        if not self.is_running:
            self._stop.clear()
            self._run(self._prove_mix, session, buffer, saved_as, target, folder)

    def _prove_mix(self, session: Session, buffer: int, saved_as: Path | None, target: Path, folder: Path) -> None:
        for step in whole_mix.prove_written(session, buffer, saved_as, target, folder, self._stop.is_set):
            self._to_window.post(self.stepped.emit, step)

    def stop(self) -> None:
        """Ends what is being rendered; what is through stays."""
        self._stop.set()

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
                self._to_window.post(self.failed.emit, f"Carrying out ended early: {error}. What is through stays.")
            finally:
                self._to_window.last(self.ended.emit)

        self._thread = threading.Thread(target=run, daemon=True)
        self._thread.start()

    def close(self) -> None:
        """Ends all; nothing is told after."""
        self._to_window.close()
        self.stop()
        if self._thread is not None:
            self._thread.join(10)
