"""Measures all plugins of a session, one after the other; what is known already is left out."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import NamedTuple

import msgspec

from ..core.cards.card import CONDITIONS, MEASURED, Cell, CostCard, Effect, Sweep
from ..core.session.computer import BUFFER_SIZES
from ..core.session.plugins import CardKey, PluginUse
from ..core.session.session import Session
from . import catalogue, isolation
from .measure import Effort
from .messages import CellMessage, DetailsMessage, FactsMessage, NullsMessage, Request, Result, SweepMessage, Trying
from .standards import STANDARDS
from .turn import turn

SWEEP_SECONDS = 30.0


class Job(NamedTuple):
    """One cost card to fill: the use that stands for it, how many uses share it (0: a variant), and the sizes missing.

    `details` says whether what is found at few sizes is missing, too; `rate` is in hertz. `against` are the same plugin
    in the fuller settings that a variant stands for, where the two were not compared yet.
    """

    key: CardKey
    use: PluginUse
    uses: int
    buffers: tuple[int, ...]
    rate: int
    details: bool = True
    against: tuple[PluginUse, ...] = ()

    @property
    def steps(self) -> int:
        """How many results it brings: a cell for each size and condition, and its end."""
        return len(MEASURED) * len(self.buffers) + 1


class Progress(NamedTuple):
    """A step of a run: the card as it is now. `finished` is true with the last message of a job."""

    job: Job
    card: CostCard
    cell: Cell | None
    finished: bool


def jobs(
    session: Session,
    known: Mapping[CardKey, CostCard],
    buffers: Sequence[int] = BUFFER_SIZES,
    again: bool = False,
    rate: int | None = None,
) -> list[Job]:
    """What there is to measure, the most used first. Cells measured on this computer are not measured again.

    A card that failed is left as it is, unless `again` asks for everything anew. `rate` is the session's, if not given.
    """
    found = []
    rate = rate or session.rate
    for key, (use, count) in session.cards_needed().items():
        card = known.get(key)
        missing, details = tuple(buffers), True
        if card is not None and not again:
            missing = () if card.failure else tuple(b for b in buffers if not is_measured(card, rate, b))
            details = not card.failure and not has_details(card)
        fuller = () if card is not None and card.failure and not again else against(session, card, key, again)
        if missing or details or fuller:
            found.append(Job(key, use, count, missing, rate, details, fuller))
    return sorted(found, key=lambda job: -job.uses)


def against(session: Session, card: CostCard | None, key: CardKey, again: bool = False) -> tuple[PluginUse, ...]:
    """The uses in whose place a variant with this key would stand, as far as their sounds were not compared."""
    uses = session.card_keys() if session.variants else {}
    found = []
    for variant in session.variants:
        full = uses[variant.of][0] if variant.of in uses else None
        if full is not None and variant.applied(full).card_key() == key:
            known = card.against(full.card_key()) if card is not None and not again else None
            found += [full] if known is None else []
    return tuple(found)


def is_measured(card: CostCard, rate: int, buffer: int) -> bool:
    """Whether every condition of this size was measured on this computer."""
    cells = (card.cell(rate, buffer, condition) for condition in CONDITIONS)
    return all(cell is not None and cell.provenance == "measured" for cell in cells)


def has_details(card: CostCard) -> bool:
    """Whether all that is measured beside the cells is there, and from this computer."""
    if card.upkeep is None or (card.key.voices > 1 and not card.polyphony):
        return False
    return any(cell.provenance == "measured" for cell in card.cells)


def run(
    todo: Sequence[Job],
    known: Mapping[CardKey, CostCard],
    cancelled: Callable[[], bool] = lambda: False,
    effort: Effort | None = None,
    quiet_seconds: float = isolation.QUIET_SECONDS,
    paused: Callable[[], bool] = lambda: False,
) -> Iterator[Progress]:
    """Fills the cards of `todo`, in order. Cells from elsewhere in a known card give way to measured ones.

    While one plugin is measured on the last core, the next one is loaded on another.
    """
    installed = installed_for(job.use for job in todo)
    core = max(os.sched_getaffinity(0))
    others = tuple(sorted(os.sched_getaffinity(0) - {core}, reverse=True))
    pace: float | None = None

    def prepared(job: Job) -> isolation.Worker | str:
        """A worker that loads the plugin of a job, or why there can be none."""
        path = path_of(job.use, installed)
        if path is None:
            return not_installed(job.use)
        request = Request(
            job.use,
            job.rate,
            job.buffers,
            path,
            effort or Effort(),
            core,
            job.details,
            pace,
            others=others,
            against=job.against,
        )
        return isolation.Worker(request)

    ready = [prepared(todo[0])] if todo else []
    try:
        for number, job in enumerate(todo):
            worker = ready[0]
            ready += [prepared(next_job) for next_job in todo[number + 1 : number + 2]]
            card = without_foreign(known.get(job.key) or CostCard(job.key, job.use.label))
            card = msgspec.structs.replace(card, failure=worker if isinstance(worker, str) else None)
            if isinstance(worker, isolation.Worker):
                with turn(core, cancelled) as is_ours:
                    for message in worker.results(cancelled, quiet_seconds, paused) if is_ours else ():
                        if isinstance(message, FactsMessage):
                            pace = min(pace or message.pace, message.pace)
                        card, cell = taken_in(card, message)
                        yield Progress(job, card, cell, False)
                worker.close()
            del ready[0]
            if cancelled():
                return
            yield Progress(job, card, None, True)
    finally:
        for worker in ready:
            if isinstance(worker, isolation.Worker):
                worker.close()


def sweep(
    use: PluginUse,
    rate: int,
    buffer: int,
    known: CostCard | None = None,
    seconds: float = SWEEP_SECONDS,
    cancelled: Callable[[], bool] = lambda: False,
    quiet_seconds: float = isolation.QUIET_SECONDS,
) -> Iterator[CostCard]:
    """Tries single settings of a plugin for so long, and yields the card with what they cost after each.

    A value that ends the plugin's process is noted with the reason, and the rest is tried in another one. A failure of
    the plugin as it is stands in the card's `failure`.
    """
    card = known or CostCard(use.card_key(), use.label)
    path = path_of(use, installed_for([use]))
    if path is None:
        yield msgspec.structs.replace(card, failure=not_installed(use))
        return
    core, until = max(os.sched_getaffinity(0)), time.monotonic() + seconds
    tried: tuple[Effect, ...] = ()
    while True:
        trying = Trying(max(until - time.monotonic(), 0.0), tried)
        request = Request(use, rate, (buffer,), path, core=core, trying=trying)
        so_far: Sweep | None = None
        with turn(core, cancelled) as is_ours:
            for message in isolation.run(request, cancelled, quiet_seconds) if is_ours else ():
                if isinstance(message, SweepMessage):
                    so_far = message.sweep
                    yield msgspec.structs.replace(card, sweep=so_far)
                if isinstance(message, isolation.Failure):
                    if so_far is None:
                        yield msgspec.structs.replace(card, failure=message.reason)
                        return
                    last = msgspec.structs.replace(so_far.effects[-1], failure=message.reason)
                    so_far = msgspec.structs.replace(so_far, effects=(*so_far.effects[:-1], last))
                    yield msgspec.structs.replace(card, sweep=so_far)
                    tried = so_far.effects
                    break
            else:
                return


def installed_for(uses: Iterable[PluginUse]) -> Mapping[tuple[str, str], catalogue.Installed]:
    """What is installed, if any of these plugins has to be looked for; the house processors have not."""
    wanted = any(use.plugin.standard != "house" for use in uses)
    return catalogue.paths_by_identifier(catalogue.catalogue()) if wanted else {}


def path_of(use: PluginUse, installed: Mapping[tuple[str, str], catalogue.Installed]) -> str | None:
    """The file of a plugin; empty for a house processor, None if it is not installed."""
    if use.plugin.standard == "house":
        return ""
    found = installed.get((use.plugin.standard, use.plugin.identifier))
    return found.path if found is not None else None


def taken_in(card: CostCard, message: Result | isolation.Failure) -> tuple[CostCard, Cell | None]:
    """The card with what a worker has told, and the cell if it was one."""
    if isinstance(message, CellMessage):
        return with_cell(card, message.cell), message.cell
    if isinstance(message, isolation.Failure):
        return msgspec.structs.replace(card, failure=message.reason), None
    if isinstance(message, DetailsMessage):
        rates = {c.rate for c in message.company}
        company = (*(c for c in card.company if c.rate not in rates), *message.company)
        polyphony = (*(c for c in card.polyphony if c.rate not in rates), *message.polyphony)
        more = {"company": company, "silence": message.silence, "upkeep": message.upkeep, "polyphony": polyphony}
        return msgspec.structs.replace(card, **more), None
    if isinstance(message, NullsMessage):
        made = {(null.setting, null.voices) for null in message.nulls}
        kept = (null for null in card.nulls if (null.setting, null.voices) not in made)
        return msgspec.structs.replace(card, nulls=(*kept, *message.nulls)), None
    assert isinstance(message, FactsMessage)
    facts = {name: getattr(message, name) for name in ("latency", "tail", "truth", "positions", "listened")}
    return msgspec.structs.replace(card, **facts), None


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
