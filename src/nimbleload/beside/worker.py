"""The process beside the window: keeps the last survey of every window, and answers what is asked of it.

    python -m nimbleload.beside.worker FILE

FILE is the number of the open socket that it shares with the window's process. It ends when that is closed.
"""

from __future__ import annotations

import hashlib
import os
import signal
import sys
import threading
import traceback
from concurrent.futures import ThreadPoolExecutor
from multiprocessing.connection import Connection
from typing import Any, cast

import msgspec

from ..core.cards.card import Cards
from ..core.decisions.decision import Plan
from ..core.session.computer import Machine
from ..core.session.edits import empty
from ..core.session.session import Session, SessionError
from ..core.survey import Survey, instant, survey
from ..native.garbage import give_back, keep_little, kept
from .answers import ANSWERS, AT_ONCE, OF_THE_LAST, REFUSING
from .given import Given
from .messages import Answer, NotWantedError, Parts, Question, cards_from, send, session_from
from .packing import Names, Packed, Sent, packed, roots

LEFT_OUT = "scipy.linalg"
# The window goes first where there are too few cores for both.
NICENESS = 5
# When nothing was asked for so long, memory that large sessions have taken goes back to the system.
IDLE_SECONDS = 2.0


class Version:
    """One survey, computed when it is first needed. `before` is the one before it, whose session, cards and loads are
    taken over where they are the same. `mark` tells it from every other one: a digest of all that it is computed
    from."""

    def __init__(self, parts: Parts, before: Version | None) -> None:
        self._parts, self._before, self._lock = parts, before, threading.Lock()
        self._made: Survey | None = None
        last = cast(Version, before)  # the first one is told in full, and needs none
        self.session: Session = session_from(parts.session) if parts.session is not None else last.session
        self.cards: Cards = cards_from(parts.cards) if parts.cards is not None else last.cards
        self._session_mark: bytes = _digest(parts.session) if parts.session is not None else last._session_mark
        self._cards_mark: bytes = _digest(parts.cards) if parts.cards is not None else last._cards_mark
        rest = msgspec.msgpack.encode((parts.plan, parts.machine, parts.buffer))
        self.mark = _digest(self._session_mark + self._cards_mark + rest)

    def survey(self) -> Survey:
        """The survey itself. SessionError if it cannot be computed."""
        with self._lock:
            if self._made is None:
                before, self._before = self._before, None
                like, parts = before._made if before is not None else None, self._parts
                self._made = survey(self.session, parts.plan, self.cards, parts.machine, parts.buffer, like)
            return self._made

    def packed(self, second: float | None, base: Names, number: int) -> tuple[Packed, Sent]:
        """The survey and its instant for the window, which has a `base`; and what it has then."""
        made, parts = self.survey(), self._parts
        known = roots(self.session, parts.plan, self.cards, parts.machine)
        return packed(made, instant(made, second), known, base, number)


def _digest(content: bytes) -> bytes:
    return hashlib.sha256(content).digest()


def get_ready() -> None:
    """Has everything imported and loaded that a first survey needs, which takes half a second, once.

    The compiler asks for SciPy's linear algebra as well, and goes on without it: nothing here is compiled with that.
    """
    sys.modules.setdefault(LEFT_OUT, None)  # type: ignore[arg-type]
    try:
        with kept():
            instant(survey(empty("", 48000, 1.0), Plan(), {}, Machine(2), 256))
    finally:
        if sys.modules[LEFT_OUT] is None:
            del sys.modules[LEFT_OUT]


class Surveys:
    """The surveys that were sent last, by client."""

    def __init__(self) -> None:
        self._last: dict[int, Sent] = {}
        self._number = 0

    def send(self, client: int, version: Version, second: float | None, base: int) -> Packed:
        """The survey of a version for a client that has the one of number `base` (0: none)."""
        last = self._last.get(client)
        self._number += 1
        has_base = last is not None and last.number == base
        base_names = last.names if last is not None and has_base else {}
        made, self._last[client] = version.packed(second, base_names, self._number)
        return made

    def forget(self, client: int) -> None:
        self._last.pop(client, None)


def main() -> None:
    """Answers questions until the other side is gone."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    os.nice(NICENESS)
    keep_little()
    connection, lock = Connection(int(sys.argv[1])), threading.Lock()
    versions: dict[int, Version] = {}
    surveys, given = Surveys(), Given()
    soon, later = ThreadPoolExecutor(1, "soon"), ThreadPoolExecutor(1, "later")
    # Meanwhile questions are taken in, so that nobody waits who only asks, or lets go again.
    later.submit(soon.submit(get_ready).result)

    def answer(question: Question, version: Version) -> None:
        def go_on() -> None:
            if versions.get(question.client) is not version:
                raise NotWantedError(f"{question.name}: another survey was asked for meanwhile")

        try:
            if question.name == "survey":
                found: Any = surveys.send(question.client, version, *question.arguments)
            elif question.name in OF_THE_LAST:
                go_on()
                name, arguments = question.name, question.arguments
                found = given.answer(
                    version.mark, name, arguments, lambda: ANSWERS[name](version.survey(), *arguments, go_on)
                )
            else:
                found = ANSWERS[question.name](version.survey(), *question.arguments)
            made = Answer(question.number, found)
        except Exception as error:
            kind = type(error).__name__
            is_told = isinstance(error, SessionError | NotWantedError) or question.name in REFUSING
            told = kind if is_told else ""
            made = Answer(question.number, None, str(error) or kind, traceback.format_exc(), told)
        with lock:
            send(connection, made)

    while True:
        try:
            if not connection.poll(IDLE_SECONDS):
                later.submit(give_back)
            asked: Question = connection.recv()
        except (EOFError, OSError):
            os._exit(0)
        if not asked.name:
            versions.pop(asked.client, None)
            surveys.forget(asked.client)
            continue
        if asked.parts is not None:
            versions[asked.client] = Version(asked.parts, versions.get(asked.client))
        (soon if asked.name in AT_ONCE else later).submit(answer, asked, versions[asked.client])


if __name__ == "__main__":
    main()
