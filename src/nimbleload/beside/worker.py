"""The process beside the window: keeps the last survey of every window, and answers what is asked of it.

    python -m nimbleload.beside.worker FILE

FILE is the number of the open socket that it shares with the window's process. It ends when that is closed.
"""

from __future__ import annotations

import os
import signal
import sys
import threading
import traceback
from concurrent.futures import ThreadPoolExecutor
from multiprocessing.connection import Connection
from typing import cast

from ..core.cards.card import Cards
from ..core.session.session import Session
from ..core.survey import Survey, survey
from .answers import ANSWERS, AT_ONCE
from .messages import Answer, Parts, Question, cards_from, session_from

# The window goes first where there are too few cores for both.
NICENESS = 5


class Version:
    """One survey, computed when it is first needed. `before` is the one before it, whose session, cards and loads are
    taken over where they are the same."""

    def __init__(self, parts: Parts, before: Version | None) -> None:
        self._parts, self._before, self._lock = parts, before, threading.Lock()
        self._made: Survey | None = None
        last = cast(Version, before)  # the first one is told in full, and needs none
        self.session: Session = session_from(parts.session) if parts.session is not None else last.session
        self.cards: Cards = cards_from(parts.cards) if parts.cards is not None else last.cards

    def survey(self) -> Survey:
        """The survey itself. SessionError if it cannot be computed."""
        with self._lock:
            if self._made is None:
                before, self._before = self._before, None
                like, parts = before._made if before is not None else None, self._parts
                self._made = survey(self.session, parts.plan, self.cards, parts.machine, parts.buffer, like)
            return self._made


def main() -> None:
    """Answers questions until the other side is gone."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    os.nice(NICENESS)
    connection, lock = Connection(int(sys.argv[1])), threading.Lock()
    versions: dict[int, Version] = {}
    soon, later = ThreadPoolExecutor(1, "soon"), ThreadPoolExecutor(1, "later")

    def answer(question: Question, version: Version) -> None:
        try:
            made = Answer(question.number, ANSWERS[question.name](version.survey(), *question.arguments))
        except Exception as error:
            made = Answer(question.number, None, str(error) or type(error).__name__, traceback.format_exc())
        with lock:
            connection.send(made)

    while True:
        try:
            asked: Question = connection.recv()
        except (EOFError, OSError):
            os._exit(0)
        if not asked.name:
            versions.pop(asked.client, None)
            continue
        if asked.parts is not None:
            versions[asked.client] = Version(asked.parts, versions.get(asked.client))
        (soon if asked.name in AT_ONCE else later).submit(answer, asked, versions[asked.client])


if __name__ == "__main__":
    main()
