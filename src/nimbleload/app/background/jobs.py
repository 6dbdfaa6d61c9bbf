"""Short works that the window does not wait for: reports, tables, what a dialog has to show."""

from __future__ import annotations

import logging
from collections.abc import Callable
from concurrent.futures import CancelledError, ThreadPoolExecutor
from typing import TypeVar

from PySide6.QtCore import QObject, Signal

from ...core.units import as_sentence, said_by
from .to_window_thread import ToWindowThread

log = logging.getLogger(__name__)
T = TypeVar("T")


def guarded(work: Callable[[], object], failure: str, unchanged: str, tell: Callable[[str], object]) -> None:
    """Does a work of another thread. What goes wrong ends in the log and in a sentence that `failure` begins and
    `unchanged` ends; what was let go because something was closed, in the log alone."""
    try:
        work()
    except CancelledError:
        log.info("closed meanwhile: %s", failure)
    except Exception as error:
        log.exception("%s", failure)
        tell(f"{as_sentence(f'{failure}: {said_by(error)}')} {unchanged}")


class Jobs(QObject):
    """One thread that does one work after the other. `failed` brings what could not be done, and why, in a sentence."""

    failed = Signal(str)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._to_window = ToWindowThread(self)
        self._work = ThreadPoolExecutor(1, "jobs")

    def run(self, work: Callable[[], T], then: Callable[[T], object], failure: str) -> None:
        """Has it done; `then` is called with what it gave, in the window's thread. `failure` begins the sentence."""
        self._work.submit(
            guarded, lambda: self._to_window.post(then, work()), failure, "Nothing else has changed.",
            lambda sentence: self._to_window.post(self.failed.emit, sentence),
        )  # fmt: skip

    def close(self) -> None:
        """Waits for what is being done; nothing is told after."""
        self._to_window.close()
        self._work.shutdown(wait=True, cancel_futures=True)
