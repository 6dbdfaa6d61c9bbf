"""What the window's process and the one beside it send each other: pickled, both being this program."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, NamedTuple

import msgspec

from ..core.cards.card import Cards, CostCard
from ..core.decisions.decision import Plan
from ..core.session.computer import Machine
from ..core.session.plugins import CardKey
from ..core.session.session import Session
from ..core.survey import Survey


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
    last one), and the name of a question (see `answers`) with its arguments. An empty name lets go of the client."""

    number: int
    client: int
    parts: Parts | None
    name: str
    arguments: tuple[Any, ...] = ()


class Answer(NamedTuple):
    """What came of a question, or the words of what went wrong and where (`trace`)."""

    number: int
    result: Any = None
    failure: str = ""
    trace: str = ""


def parts_of(of: Survey, session: Session | None, cards: Cards | None) -> Parts:
    """What a survey is computed from, without what the process knows from the last one: that session, those cards."""
    known = of.now.cards
    return Parts(
        None if of.session is session else msgspec.msgpack.encode(of.session),
        None if known is cards else msgspec.msgpack.encode(tuple(known.items())),
        of.plan, of.machine, of.buffer,
    )  # fmt: skip


def session_from(content: bytes) -> Session:
    """A session that was encoded by `parts_of`."""
    return msgspec.msgpack.decode(content, type=Session)


def cards_from(content: bytes) -> Mapping[CardKey, CostCard]:
    """Cards that were encoded by `parts_of`."""
    return dict(msgspec.msgpack.decode(content, type=tuple[tuple[CardKey, CostCard], ...]))
