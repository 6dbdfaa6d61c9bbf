"""Measures all plugins of a session, one after the other; what is known already is left out."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import NamedTuple

import msgspec

from ..core.card import CONDITIONS, Cell, CostCard
from ..core.session import BUFFER_SIZES, CardKey, PluginUse, Session
from . import catalogue, isolation
from .measure import Effort
from .standards import STANDARDS
from .turn import turn
from .worker import CellMessage, FactsMessage, Request


class Job(NamedTuple):
    """One cost card to fill: the use that stands for it, how many uses share it, and the buffer sizes missing."""

    key: CardKey
    use: PluginUse
    uses: int
    buffers: tuple[int, ...]

    @property
    def steps(self) -> int:
        """How many results it brings: a cell for each size and condition, and its end."""
        return len(CONDITIONS) * len(self.buffers) + 1


class Progress(NamedTuple):
    """A step of a run: the card as it is now. `finished` is true with the last message of a job."""

    job: Job
    card: CostCard
    cell: Cell | None
    finished: bool


def jobs(
    session: Session, known: Mapping[CardKey, CostCard], buffers: Sequence[int] = BUFFER_SIZES, again: bool = False
) -> list[Job]:
    """What there is to measure, the most used first. Cells measured on this computer are not measured again.

    A card that failed is left as it is, unless `again` asks for everything anew.
    """
    found = []
    for key, uses in session.card_keys().items():
        card = known.get(key)
        missing = tuple(buffers)
        if card is not None and not again:
            missing = () if card.failure else tuple(b for b in buffers if not is_measured(card, session.rate, b))
        if missing:
            found.append(Job(key, uses[0], len(uses), missing))
    return sorted(found, key=lambda job: -job.uses)


def is_measured(card: CostCard, rate: int, buffer: int) -> bool:
    """Whether every condition of this size was measured on this computer."""
    cells = (card.cell(rate, buffer, condition) for condition in CONDITIONS)
    return all(cell is not None and cell.provenance == "measured" for cell in cells)


def run(
    session: Session,
    todo: Sequence[Job],
    known: Mapping[CardKey, CostCard],
    cancelled: Callable[[], bool] = lambda: False,
    effort: Effort | None = None,
    quiet_seconds: float = isolation.QUIET_SECONDS,
) -> Iterator[Progress]:
    """Fills the cards of `todo`, in order. Cells from elsewhere in a known card give way to measured ones."""
    installed = catalogue.paths_by_identifier(catalogue.catalogue()) if needs_catalogue(todo) else {}
    core = max(os.sched_getaffinity(0))
    for job in todo:
        card = without_foreign(known.get(job.key) or CostCard(job.key, job.use.label))
        card = msgspec.structs.replace(card, failure=None)
        path = ""
        if job.use.plugin.standard != "house":
            plugin = installed.get((job.use.plugin.standard, job.use.plugin.identifier))
            if plugin is None:
                yield Progress(job, msgspec.structs.replace(card, failure=not_installed(job.use)), None, True)
                continue
            path = plugin.path
        request = Request(job.use, session.rate, job.buffers, path, effort or Effort(), core)
        with turn(core, cancelled) as is_ours:
            for message in isolation.run(request, cancelled, quiet_seconds) if is_ours else ():
                card, cell = taken_in(card, message)
                yield Progress(job, card, cell, False)
        if cancelled():
            return
        yield Progress(job, card, None, True)


def taken_in(card: CostCard, message: FactsMessage | CellMessage | isolation.Failure) -> tuple[CostCard, Cell | None]:
    """The card with what a worker has told, and the cell if it was one."""
    if isinstance(message, CellMessage):
        return with_cell(card, message.cell), message.cell
    if isinstance(message, isolation.Failure):
        return msgspec.structs.replace(card, failure=message.reason), None
    return msgspec.structs.replace(card, latency=message.latency, tail=message.tail, truth=message.truth), None


def needs_catalogue(todo: Sequence[Job]) -> bool:
    return any(job.use.plugin.standard != "house" for job in todo)


def not_installed(use: PluginUse) -> str:
    standard = use.plugin.standard
    if standard in STANDARDS:
        return f"not installed here: nothing in the search folders for {standard.upper()} holds it"
    return f"cannot be measured yet: plugins of the kind “{standard}” are read, but not run"


def without_foreign(card: CostCard) -> CostCard:
    """The card with only what was measured on this computer."""
    return msgspec.structs.replace(card, cells=tuple(c for c in card.cells if c.provenance == "measured"))


def with_cell(card: CostCard, cell: Cell) -> CostCard:
    """The card with this cell in place of the one for the same rate, size and condition."""
    place = (cell.rate, cell.buffer, cell.condition)
    others = tuple(c for c in card.cells if (c.rate, c.buffer, c.condition) != place)
    return msgspec.structs.replace(card, cells=(*others, cell))
