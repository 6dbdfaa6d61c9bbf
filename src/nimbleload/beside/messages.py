"""What the window's process and the one beside it send each other: pickled, both being this program."""

from __future__ import annotations

from collections.abc import Mapping
from multiprocessing.connection import Connection
from typing import Any, NamedTuple

import msgspec

from ..core.cards.card import Cards, CostCard
from ..core.decisions.decision import Plan
from ..core.session.computer import Machine
from ..core.session.plugins import CardKey
from ..core.session.session import Session, SessionError
from ..core.survey import Survey
from .packing import Packed


class Parts(NamedTuple):
    """What a survey is computed from. `session` and `cards` are encoded, which holds the interpreter for a millisecond
    where pickling takes ten; None stands for those of the survey before."""

    session: bytes | None
    cards: bytes | None
    plan: Plan
    machine: Machine
    buffer: int


class Question(NamedTuple):
    """What is asked of the process: the `number` of the question, for whom (`client`), of which survey (None: of the
    last one), and the name of a question (see `answers`) with its arguments. An empty name lets go of the client.

    The name "survey" asks for the survey itself at a second (None: the worst one), its only argument.
    """

    number: int
    client: int
    parts: Parts | None
    name: str
    arguments: tuple[Any, ...] = ()


class Answer(NamedTuple):
    """What came of a question, or the words of what went wrong and where (`trace`); `kind` names it where the words
    are the user's (see `REFUSALS`). `arrays` are the lengths of those that follow (bytes)."""

    number: int
    result: Any = None
    failure: str = ""
    trace: str = ""
    kind: str = ""
    arrays: tuple[int, ...] = ()


def send(connection: Connection, answer: Answer) -> None:
    """Sends an answer; the arrays of a survey after the rest of it, as they are."""
    made = answer.result
    if not isinstance(made, Packed):
        connection.send(answer)
        return
    lengths = tuple(len(each) for each in made.arrays)
    connection.send(answer._replace(result=made._replace(arrays=[]), arrays=lengths))
    connection.send_bytes(b"".join(made.arrays))


def receive(connection: Connection) -> Answer:
    """The next answer, as it was sent. EOFError or OSError when the other side is gone."""
    answer: Answer = connection.recv()
    if not answer.arrays:
        return answer
    # Arrays of bytes could not be written to, which compiled code would take for another kind.
    whole, at, arrays = memoryview(bytearray(connection.recv_bytes())), 0, []
    for length in answer.arrays:
        arrays.append(whole[at : at + length])
        at += length
    return answer._replace(result=answer.result._replace(arrays=arrays))


class NotWantedError(Exception):
    """Another survey was asked for before there was an answer that only the last one wants."""


# What a question can be answered with that is no fault, but says why there is nothing to tell.
REFUSALS: dict[str, type[Exception]] = {
    "SessionError": SessionError, "ValueError": ValueError, "NotWantedError": NotWantedError,
}  # fmt: skip


class Asked(NamedTuple):
    """What a survey is computed from, in the window's own objects."""

    session: Session
    plan: Plan
    cards: Cards
    machine: Machine
    buffer: int


def asked_of(of: Survey) -> Asked:
    """What a survey was computed from."""
    return Asked(of.session, of.plan, of.now.cards, of.machine, of.buffer)


def parts_of(of: Asked, last: Asked | None) -> Parts:
    """What a survey is computed from, without what the process knows from the last one: that session, those cards."""
    return Parts(
        None if last is not None and of.session is last.session else msgspec.msgpack.encode(of.session),
        None if last is not None and of.cards is last.cards else msgspec.msgpack.encode(tuple(of.cards.items())),
        of.plan, of.machine, of.buffer,
    )  # fmt: skip


def session_from(content: bytes) -> Session:
    """A session that was encoded by `parts_of`."""
    return msgspec.msgpack.decode(content, type=Session)


def cards_from(content: bytes) -> Mapping[CardKey, CostCard]:
    """Cards that were encoded by `parts_of`."""
    return dict(msgspec.msgpack.decode(content, type=tuple[tuple[CardKey, CostCard], ...]))
