"""Looking at the computer, and finding its ceiling, while the window stays alive."""

from __future__ import annotations

import logging
import threading
from collections.abc import Callable, Sequence

from PySide6.QtCore import QObject, Signal

from ...core.computer.ceiling import Ceiling
from ...core.computer.lasting import Lasting
from ...core.units import as_sentence, told_by
from ...machine import hold, lasting
from ...machine.look import look
from ...native.cores import cores
from ...store import ceiling_file
from ..background.to_window_thread import ToWindowThread

log = logging.getLogger(__name__)

WATCH_SECONDS, HOLD_SECONDS = 10.0, 2.0
SIZES = (64, 128, 256, 512, 1024)


class Looking(QObject):
    """One look and one search at a time.

    `seen` brings facts, first those that are there at once, then with what was watched. `tried` brings each trial of
    the search and which one it is, `found` all ceilings that are known; `paced` what is seen so far of how long the
    pace lasts, `lasts` what is known of it; `ended` and `pace_ended` a sentence, empty if all went well. `failed` is a
    sentence about the look.
    """

    seen = Signal(object)
    tried = Signal(object, int)
    found = Signal(object)
    paced = Signal(object)
    lasts = Signal(object)
    pace_ended = Signal(str)
    ended = Signal(str)
    failed = Signal(str)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._to_window = ToWindowThread(self)
        self._stop, self._cancel = threading.Event(), threading.Event()
        self._looker: threading.Thread | None = None
        self._finder: threading.Thread | None = None

    @property
    def is_looking(self) -> bool:
        return self._looker is not None and self._looker.is_alive()

    @property
    def is_finding(self) -> bool:
        return self._finder is not None and self._finder.is_alive()

    def look(self, seconds: float = WATCH_SECONDS) -> None:
        """Looks at once, and then watches for some seconds. Does nothing while it is looking."""
        if not self.is_looking:
            self._stop.clear()
            self._looker = threading.Thread(target=self._look, args=(seconds,), daemon=True)
            self._looker.start()

    def _look(self, seconds: float) -> None:
        try:
            last = look(seconds=0)
            self._to_window.post(self.found.emit, ceiling_file.read())
            self._to_window.post(self.lasts.emit, ceiling_file.read_lasting())
            if seconds and not self._stop.is_set():
                self._to_window.post(self.seen.emit, last)
                last = look(seconds=seconds, sleep=self._stop.wait, cancelled=self._stop.is_set)
            self._to_window.last(self.seen.emit, last)
        except Exception as error:
            log.exception("looking at the computer failed")
            self._to_window.last(self.failed.emit, f"The computer could not be looked at: {told_by(error)}.")

    def find(self, sizes: Sequence[int] = SIZES, rate: int = 48000, seconds: float = HOLD_SECONDS) -> None:
        """Looks for the ceiling at these buffer sizes. Does nothing while one is looked for."""
        every = cores().order
        self._begin(self._find, [hold.Asked(size, rate, every, seconds) for size in sizes])

    def find_pace(self, stretch: float = lasting.STRETCH, most: float = lasting.MOST) -> None:
        """Looks how long this computer keeps its pace. Does nothing while something is looked for."""
        self._begin(self._find_pace, stretch, most)

    def _begin(self, work: Callable[..., None], *arguments: object) -> None:
        if not self.is_finding:
            self._cancel.clear()
            self._finder = threading.Thread(target=work, args=arguments, daemon=True)
            self._finder.start()

    def _find(self, asked: Sequence[hold.Asked]) -> None:
        done, found = 0, list[Ceiling]()
        try:
            for step in hold.ask(asked, self._cancel.is_set):
                done += 1
                self._to_window.post(self.tried.emit, step, done)
                if step.ceiling is not None:
                    found.append(step.ceiling)
                    ceiling_file.keep(found)
                    self._to_window.post(self.found.emit, ceiling_file.read())
            stopped = "Stopped; what was found stays." if self._cancel.is_set() else ""
            self._to_window.last(self.ended.emit, stopped)
        except Exception as error:
            log.exception("looking for the ceiling failed")
            said = f"The ceiling was not found: {told_by(error)}. What was found before stays."
            self._to_window.last(self.ended.emit, said)

    def _find_pace(self, stretch: float, most: float) -> None:
        known: Lasting | None = None
        try:
            for known in lasting.ask(most=most, cancelled=self._cancel.is_set, stretch=stretch):
                self._to_window.post(self.paced.emit, known)
            if known is not None and known.is_known:
                ceiling_file.keep_lasting(known)
                self._to_window.post(self.lasts.emit, known)
            early = "Stopped" if self._cancel.is_set() else ""
            said = f"{early}; what was seen stays." if early and known is not None and known.is_known else early
            self._to_window.last(self.pace_ended.emit, as_sentence(said) if said else "")
        except Exception as error:
            log.exception("looking how long the pace lasts failed")
            self._to_window.last(self.pace_ended.emit, f"How long the pace lasts was not found: {told_by(error)}.")

    def stop(self) -> None:
        """Ends what is looked for."""
        self._cancel.set()

    def close(self) -> None:
        """Ends all; nothing is told after."""
        self._to_window.close()
        self._stop.set()
        self._cancel.set()
        for thread in (self._looker, self._finder):
            if thread is not None:
                thread.join(5)
