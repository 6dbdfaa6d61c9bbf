"""The log: what went wrong, in a file of the user's state folder, and a sentence for what nobody caught."""

from __future__ import annotations

import logging
import sys
import threading
from collections.abc import Callable
from logging.handlers import RotatingFileHandler
from pathlib import Path
from types import TracebackType

import platformdirs

LARGEST, KEPT = 1 << 20, 3
# So much of its end is read.
SHOWN = 64 << 10
NO_SCREEN = "This plugin does not support"
FORMAT = "%(asctime)s %(levelname)s %(name)s: %(message)s"

log = logging.getLogger(__name__)


def path() -> Path:
    """Where the log lies, whether it is there or not."""
    return Path(platformdirs.user_state_dir("nimble-load")) / "nimble-load.log"


def end() -> str:
    """The end of the log; empty if nothing has been written down. An OSError says why it cannot be read."""
    try:
        with path().open("rb") as file:
            file.seek(max(path().stat().st_size - SHOWN, 0))
            return file.read().decode(errors="replace")
    except FileNotFoundError:
        return ""


def begin(where: Path | None = None) -> logging.Handler | None:
    """Writes the log of this program to its file from now on; None if it cannot be written, which is no obstacle."""
    file = where or path()
    try:
        file.parent.mkdir(parents=True, exist_ok=True)
        handler = RotatingFileHandler(file, maxBytes=LARGEST, backupCount=KEPT, encoding="utf-8", delay=True)
    except OSError as error:
        log.warning("no log is kept: %s", error)
        return None
    handler.setFormatter(logging.Formatter(FORMAT))
    logging.getLogger("nimbleload").addHandler(handler)
    return handler


def take_qt() -> None:
    """Has what Qt says written to the log, in place of the terminal. What ends the program stands there as well."""
    from PySide6.QtCore import QtMsgType, qInstallMessageHandler

    levels = {QtMsgType.QtDebugMsg: logging.DEBUG, QtMsgType.QtInfoMsg: logging.INFO,
              QtMsgType.QtWarningMsg: logging.WARNING}  # fmt: skip

    def take(kind: QtMsgType, _: object, said: str | None) -> None:
        words = said or ""
        if kind == QtMsgType.QtFatalMsg:
            sys.stderr.write(f"{words}\n")
        # Without a screen there are things that no window can do, and none has to.
        is_of_no_matter = words.startswith(NO_SCREEN)
        log.log(logging.DEBUG if is_of_no_matter else levels.get(kind, logging.ERROR), "Qt: %s", words)

    qInstallMessageHandler(take)


def catch(tell: Callable[[str], None]) -> None:
    """Has whatever nobody catches written to the log, and told in a sentence."""

    def caught(kind: type[BaseException], error: BaseException | None, where: TracebackType | None) -> None:
        if issubclass(kind, KeyboardInterrupt):
            sys.__excepthook__(kind, error or kind(), where)
            return
        log.error("nobody caught this", exc_info=(kind, error or kind(), where))
        tell(f"Something went wrong that should not: {error or kind.__name__}. Your session is as it was; save it now. "
             "What happened stands in the log (Help).")  # fmt: skip

    def in_thread(given: threading.ExceptHookArgs) -> None:
        caught(given.exc_type, given.exc_value, given.exc_traceback)

    sys.excepthook = caught
    threading.excepthook = in_thread
