"""A survey on its way from the process beside the window: without what the window has already.

What a survey is made of is told by reference where the other side has it: the session, plan and cards that it was asked
for, and what it shares with the survey that was sent before. Arrays lie beside the rest.
"""

from __future__ import annotations

import copyreg
import io
import pickle
from collections.abc import Iterable, Iterator, Mapping
from typing import Any, NamedTuple, cast

from ..core.cards.card import Cards
from ..core.decisions.decision import Plan
from ..core.load.case import Case
from ..core.load.figures import Figures
from ..core.load.prepared import Prepared, Uses
from ..core.piece.moments import Moments
from ..core.session.computer import Machine
from ..core.session.routing import Graph
from ..core.session.session import Session
from ..core.session.strips import Strip
from ..core.survey import Instant, Survey

# How an object is found that both sides have: one of the roots, then names and places in it.
Reference = tuple[str | int, ...]


class Packed(NamedTuple):
    """A survey and its instant: the `content`, the `arrays` beside it, and its `number` among those that were sent."""

    content: bytes
    arrays: list[memoryview]
    number: int


Roots = dict[str, Any]
# How each of some objects is found, by where they lie in memory (they must not go meanwhile).
Names = dict[int, Reference]


class Sent(NamedTuple):
    """A survey that was sent, its number, and how its parts are found on the other side."""

    number: int
    survey: Survey
    names: Names


def roots(session: Session, plan: Plan, cards: Cards, machine: Machine) -> Roots:
    """What both sides have of whatever a survey was asked for; "base", the survey that was sent before, comes with
    it."""
    return {"session": session, "plan": plan, "machine": machine, "cards": cards, "listed": tuple(cards.values())}


def packed(of: Survey, at: Instant, known: Roots, base: Names, number: int) -> tuple[Packed, Sent]:
    """A survey and its instant, for one who has what is `known` (see `roots`), and a `base`; and what he has then."""
    # What it keeps of what is asked of it grows meanwhile, in another thread: only what was there before is sure to be
    # sent.
    sent = Sent(number, of, _named(_of_survey(of)))
    target, arrays = io.BytesIO(), list[memoryview]()
    _Packer(target, arrays, base | _named(_of_roots(known))).dump((of, at))
    return Packed(target.getvalue(), arrays, number), sent


def unpacked(of: Packed, known: Roots) -> tuple[Survey, Instant]:
    """What was packed by `packed`, for one who had the same."""
    found: tuple[Survey, Instant] = _Unpacker(of, known).load()
    return found


def _named(landmarks: Iterable[tuple[Reference, object]]) -> Names:
    names: Names = {}
    for name, each in landmarks:
        names.setdefault(id(each), name)
    return names


class _Packer(pickle.Pickler):
    def __init__(self, target: io.BytesIO, arrays: list[memoryview], names: Names) -> None:
        super().__init__(target, 5, buffer_callback=lambda each: arrays.append(each.raw()))
        self._names = names

    def persistent_id(self, obj: object) -> Reference | None:
        return self._names.get(id(obj))

    def reducer_override(self, obj: Any) -> Any:
        """What is kept is copied at one instant."""
        if not isinstance(obj, (Case, Figures, Moments)):
            return NotImplemented
        kept = dict(cast(Any, obj).__getstate__())
        state = {name: dict(value) if type(value) is dict else value for name, value in kept.items()}
        return copyreg.__newobj__, (type(obj),), state  # type: ignore[attr-defined]


class _Unpacker(pickle.Unpickler):
    def __init__(self, of: Packed, known: Roots) -> None:
        super().__init__(io.BytesIO(of.content), buffers=of.arrays)
        self._known = known

    def persistent_load(self, pid: Reference) -> Any:
        found: Any = self._known
        for step in pid:
            found = getattr(found, step) if isinstance(step, str) and not isinstance(found, Mapping) else found[step]
        return found


def _of_roots(known: Roots) -> Iterator[tuple[Reference, object]]:
    for root in ("plan", "machine", "cards", "session"):
        yield (root,), known[root]
    for place, card in enumerate(known["listed"]):
        yield ("listed", place), card
    for place, strip in enumerate(known["session"].strips):
        yield from _of_strip(("session", "strips", place), strip)


def _of_survey(of: Survey) -> Iterator[tuple[Reference, object]]:
    for field in ("before", "after"):
        yield ("base", field), getattr(of, field)
    yield from _of_case(("base", "now_case"), of.now_case)
    for size, case in of.cases.items():
        yield from _of_case(("base", "cases", size), case)
    yield from _of_prepared(("base", "now"), of.now)
    yield from _of_prepared(("base", "planned"), of.planned)


def _of_case(name: Reference, of: Case) -> Iterator[tuple[Reference, object]]:
    yield name, of
    if "moments" in of.__dict__:
        yield (*name, "moments"), of.moments


def _of_prepared(name: Reference, of: Prepared) -> Iterator[tuple[Reference, object]]:
    yield name, of
    for field in of._fields:
        part = getattr(of, field)
        yield (*name, field), part
        if isinstance(part, (Graph, Uses)):
            yield from (((*name, field, each), getattr(part, each)) for each in part._fields)
    for place, strip in enumerate(of.session.strips):
        yield from _of_strip((*name, "session", "strips", place), strip)


def _of_strip(name: Reference, of: Strip) -> Iterator[tuple[Reference, object]]:
    yield name, of
    if of.instrument is not None:
        yield (*name, "instrument"), of.instrument
    for field in ("inserts", "clips", "sends"):
        if getattr(of, field):
            yield (*name, field), getattr(of, field)
    for place, use in enumerate(of.inserts):
        yield (*name, "inserts", place), use
