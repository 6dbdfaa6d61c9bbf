"""The window's side of the process beside it: asks, and waits for the answer in the thread that asks."""

from __future__ import annotations

import atexit
import itertools
import logging
import subprocess
import sys
import threading
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import CancelledError, Future
from multiprocessing import Pipe
from multiprocessing.connection import Connection
from typing import Any, NamedTuple, TypeVar

from ..core.cards.card import Cards
from ..core.decisions.decision import KeptPlan, Plan
from ..core.load.host_fit import HostFit, MeterReading
from ..core.load.host_seen import HostSeen
from ..core.load.rehearsal import Prediction, Rehearsal
from ..core.optimise.alternatives import Alternative
from ..core.optimise.candidates import Wishes
from ..core.optimise.steps import Stepped
from ..core.optimise.suggest import Suggestion
from ..core.optimise.weigh import Weighed
from ..core.session.computer import Machine
from ..core.session.plugins import PluginUse
from ..core.session.session import Session
from ..core.survey import Instant, Survey, Tracking
from ..core.told.findings import Weighted
from ..core.told.outlook import Outlook
from ..core.watching.blocks import Seen
from .messages import REFUSALS, Asked, Parts, Question, asked_of, parts_of, receive
from .packing import Packed, roots, unpacked

log = logging.getLogger(__name__)
T = TypeVar("T")
# A process that takes nothing in for so long (seconds) hangs: it only ever reads, and works in other threads.
LISTENS_WITHIN = 2.0


class BesideError(Exception):
    """What went wrong in the process beside the window, in its words."""


class GoneError(BesideError):
    """The process ended before it had answered."""


class _Waiting(NamedTuple):
    """Who waits for an answer, and from which process."""

    client: int
    generation: int
    future: Future[Any]


class Received(NamedTuple):
    """A survey that came, and its number."""

    number: int
    survey: Survey


class Process:
    """The one process, started when it is first asked; one that has ended is started anew with the next question.

    `generation` counts how often: a new one knows of no survey.
    """

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._process: subprocess.Popen[bytes] | None = None
        self._connection: Connection | None = None
        self._waiting: dict[int, _Waiting] = {}
        self._numbers = itertools.count(1)
        self.generation = 0

    @property
    def id(self) -> int:
        """The number of the process that runs; 0 for none."""
        return self._process.pid if self._process is not None else 0

    def ready(self) -> int:
        """Has it run; which one it is."""
        with self._lock:
            if self._connection is None:
                self._start()
            return self.generation

    def ask(self, generation: int, client: int, parts: Parts | None, name: str, *arguments: Any) -> Future[Any]:
        """Sends a question to a process of this generation. GoneError if it has ended."""
        found: Future[Any] = Future()
        with self._lock:
            if self._connection is None or generation != self.generation:
                raise GoneError("the process beside the window has ended")
            number = next(self._numbers)
            self._waiting[number] = _Waiting(client, generation, found)
            try:
                self._connection.send(Question(number, client, parts, name, arguments))
            except OSError as error:
                del self._waiting[number]
                self._connection = None
                raise GoneError("the process beside the window has ended") from error
        return found

    def let_go(self, client: int) -> None:
        """A client asks no more: what it waits for is cancelled, and its survey forgotten.

        A process that does not even listen is ended, so that nobody waits for it here.
        """
        if not self._lock.acquire(timeout=LISTENS_WITHIN):
            log.warning("the process beside the window does not listen; it is ended")
            if self._process is not None:
                self._process.kill()
            self._lock.acquire()
        try:
            own = [number for number, waiting in self._waiting.items() if waiting.client == client]
            futures = [self._waiting.pop(number).future for number in own]
            if self._connection is not None:
                try:
                    self._connection.send(Question(0, client, None, ""))
                except OSError:
                    log.info("the process beside the window had ended")
        finally:
            self._lock.release()
        for future in futures:
            future.cancel()

    def end(self) -> None:
        """Ends the process; whoever waits is told so."""
        with self._lock:
            process, self._process = self._process, None
        if process is not None:
            process.kill()
            process.wait()

    def _start(self) -> None:
        ours, its = Pipe()
        command = [sys.executable, "-m", "nimbleload.beside.worker", str(its.fileno())]
        self._process = subprocess.Popen(command, pass_fds=[its.fileno()], stdin=subprocess.DEVNULL)
        its.close()
        self._connection = ours
        self.generation += 1
        arguments = (ours, self._process, self.generation)
        threading.Thread(target=self._hear, args=arguments, name="beside", daemon=True).start()

    def _hear(self, connection: Connection, process: subprocess.Popen[bytes], generation: int) -> None:
        """Hands out answers until the process is gone."""
        while True:
            try:
                answer = receive(connection)
            except (EOFError, OSError):
                break
            with self._lock:
                waiting = self._waiting.pop(answer.number, None)
            if waiting is None or not waiting.future.set_running_or_notify_cancel():
                continue
            future = waiting.future
            if answer.failure:
                error = REFUSALS.get(answer.kind, BesideError)(answer.failure)
                error.add_note(answer.trace)
                future.set_exception(error)
            else:
                future.set_result(answer.result)
        with self._lock:
            lost = [number for number, waiting in self._waiting.items() if waiting.generation == generation]
            futures = [self._waiting.pop(number).future for number in lost]
            if self._connection is connection:
                self._connection = None
            connection.close()
        process.wait()
        for future in futures:
            if future.set_running_or_notify_cancel():
                future.set_exception(GoneError("the process beside the window has ended"))


SHARED = Process()
atexit.register(SHARED.end)
_clients = itertools.count(1)


class Beside:
    """What one window asks. Its methods are those of the model; each waits for its answer, without holding the
    interpreter. BesideError with what went wrong there; CancelledError after `close`.

    A process that ends under a question is asked once more, as a new one.
    """

    def __init__(self, process: Process = SHARED) -> None:
        self._process, self._client = process, next(_clients)
        self._lock = threading.Lock()
        self._generation = 0
        # What the process knows: what its last survey is computed from, that survey if it came from there or went
        # there, and the last one that came.
        self._asked_last: Asked | None = None
        self._told: Survey | None = None
        self._sent: Received | None = None
        self._one_survey = threading.Lock()
        self._is_closed = False

    def prepare(self) -> None:
        """Has the process run, so that the first answer comes sooner."""
        if not self._is_closed:
            self._process.ready()

    def survey(
        self, session: Session, plan: Plan, cards: Cards, machine: Machine, buffer: int, second: float | None = None
    ) -> tuple[Survey, Instant]:
        """See `core.survey`: the load through the piece, and one moment of it (None: the worst one).

        It holds the very objects that were given, and shares with the survey before it what has not changed.
        SessionError if the session cannot be computed.
        """
        of = Asked(session, plan, cards, machine, buffer)
        with self._one_survey:
            return self._twice("survey", lambda: self._surveyed(of, second))

    def _surveyed(self, of: Asked, second: float | None) -> tuple[Survey, Instant]:
        with self._lock:
            self._know_process()
            base = self._sent
            future = self._ask(of, None, "survey", second, base.number if base is not None else 0)
        made: Packed = future.result()
        known = roots(of.session, of.plan, of.cards, of.machine)
        if base is not None:
            known["base"] = base.survey
        found = unpacked(made, known)
        with self._lock:
            self._sent = Received(made.number, found[0])
            if self._asked_last is of:
                self._told = found[0]
        return found

    def instant(self, of: Survey, second: float | None) -> Instant:
        """See `core.survey`."""
        return self._asked(of, "instant", second)

    def weigh(
        self, of: Survey, at: Instant, chosen: Sequence[str], stretch: tuple[float, float] | None
    ) -> list[Weighed]:
        """See `core.optimise.weigh`."""
        return self._asked(of, "weigh", at.second, tuple(chosen), stretch)

    def steps(self, of: Survey) -> Stepped:
        """See `core.optimise.steps`."""
        return self._asked(of, "steps")

    def last_steps(self, of: Survey) -> Stepped:
        """The same. NotWantedError if another survey is asked for before they are known."""
        return self._asked(of, "last_steps")

    def outlook(self, of: Survey, at: Instant) -> Outlook:
        """See `core.told.outlook`. NotWantedError as with these."""
        return self._asked(of, "outlook", at.second)

    def band(self, of: Survey) -> Any:
        """See `core.told.outlook`. NotWantedError as with these."""
        return self._asked(of, "band")

    def suggest(self, of: Survey, wishes: Wishes) -> Suggestion:
        """See `core.optimise.suggest`."""
        return self._asked(of, "suggest", wishes)

    def alternatives(self, of: Survey, wishes: Wishes) -> dict[str, Alternative]:
        """See `core.optimise.alternatives`."""
        return self._asked(of, "alternatives", wishes)

    def findings(self, of: Survey, at: Instant) -> list[Weighted]:
        """See `core.told.findings.weighed`."""
        return self._asked(of, "findings", at.second)

    def kept_loads(self, of: Survey, kept: Sequence[KeptPlan]) -> list[float]:
        """See `core.survey.kept_load`, for each of them."""
        return self._asked(of, "kept_loads", tuple(kept))

    def tracking(self, of: Survey, limit: float, compensated: bool) -> Tracking:
        """See `core.survey.tracking`."""
        return self._asked(of, "tracking", limit, compensated)

    def foreseen(self, of: Survey, at: Instant, outcome: Rehearsal) -> Prediction:
        """See `core.survey`."""
        return self._asked(of, "foreseen", at.second, outcome)

    def fitted(self, of: Survey, at: Instant, readings: Sequence[MeterReading]) -> HostFit:
        """See `core.survey`; ValueError too."""
        return self._asked(of, "fitted", at.second, tuple(readings))

    def host_seen(self, of: Survey, at: Instant, seen: Sequence[Seen], plugins: Mapping[str, PluginUse]) -> HostSeen:
        """See `core.survey`; ValueError too."""
        return self._asked(of, "host_seen", at.second, tuple(seen), dict(plugins))

    def close(self) -> None:
        """Nothing is asked any more; threads that wait are let go."""
        self._is_closed = True
        self._process.let_go(self._client)

    def _asked(self, of: Survey, name: str, *arguments: Any) -> Any:
        return self._twice(name, lambda: self._question(of, name, arguments).result())

    def _twice(self, name: str, ask: Callable[[], T]) -> T:
        """Asks once more where the process ended under the question."""
        try:
            return ask()
        except GoneError:
            log.warning("the process beside the window ended while it was asked for %s; it is started anew", name)
            return ask()

    def _question(self, of: Survey, name: str, arguments: tuple[Any, ...]) -> Future[Any]:
        with self._lock:
            return self._ask(asked_of(of), of, name, *arguments)

    def _ask(self, of: Asked, made: Survey | None, name: str, *arguments: Any) -> Future[Any]:
        """Asks of a survey that is here (`made`), or for one that is not yet."""
        self._know_process()
        parts = parts_of(of, self._asked_last) if made is None or made is not self._told else None
        found = self._process.ask(self._generation, self._client, parts, name, *arguments)
        if parts is not None:
            self._asked_last, self._told = of, made
        return found

    def _know_process(self) -> None:
        """Has the process run; a new one knows nothing."""
        if self._is_closed:
            raise CancelledError
        generation = self._process.ready()
        if generation != self._generation:
            self._asked_last, self._told, self._sent, self._generation = None, None, None, generation
