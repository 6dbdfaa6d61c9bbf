"""Measures all plugins of a session, one after the other; what is known already is left out."""

from __future__ import annotations

import time
from collections.abc import Callable, Generator, Iterable, Iterator, Mapping, Sequence
from contextlib import closing
from pathlib import Path
from typing import NamedTuple

import msgspec

from ..core.cards.card import CONDITIONS, MEASURED, Cards, Cell, Condition, CostCard, Effect, Made, Sweep
from ..core.cards.doubt import disturbed, disturbed_in_turns, sizes_to_repeat, to_repeat
from ..core.session.computer import BUFFER_SIZES
from ..core.session.plugins import CardKey, PluginUse
from ..core.session.session import Session
from ..store.allowed import allowed
from . import catalogue, isolation
from .effort import Effort
from .messages import (
    Again,
    Best,
    BestMessage,
    CellMessage,
    DetailsMessage,
    FactsMessage,
    NullsMessage,
    Request,
    Result,
    SweepMessage,
    Trying,
    TurnsMessage,
)
from .restraint import place
from .standards import STANDARDS
from .turn import turn

SWEEP_SECONDS = 30.0
# What others disturbed is measured once more as long as each round leaves no more than this share. A round goes on as
# long as that holds for what has been measured in it, once these are so many results and this part of them all.
FEWER, HEARD, PART = 0.75, 24, 0.125


class Job(NamedTuple):
    """One cost card to fill: the use that stands for it, how many uses share it (0: a variant), and the sizes missing.

    `details` says whether what is found at few sizes is missing, too; `rate` is in hertz. `against` are the same plugin
    in the fuller settings that a variant stands for, where the two were not compared yet. With `again` there are only
    cells to be measured once more, since others disturbed them.
    """

    key: CardKey
    use: PluginUse
    uses: int
    buffers: tuple[int, ...]
    rate: int
    details: bool = True
    against: tuple[PluginUse, ...] = ()
    again: Again | None = None

    @property
    def steps(self) -> int:
        """How many results it brings: a cell for each size and condition, or for each place once more; what is measured
        in turns once more, together; and its end."""
        if self.again is not None:
            return len(self.again.places) + bool(self.again.sizes) + 1
        return len(MEASURED) * len(self.buffers) + 1


class Progress(NamedTuple):
    """A step of a run: the card as it is now. `finished` is true with the last message of a job. After the last job
    what others disturbed may be measured once more: `again` says how many cells that are so far."""

    job: Job
    card: CostCard
    cell: Cell | None
    finished: bool
    again: int = 0

    @property
    def lasting(self) -> tuple[Cell, ...]:
        """What of it belongs in a library: its cell, unless it is a first figure, whose place is taken soon."""
        return (self.cell,) if self.cell is not None and self.cell.provenance == "measured" else ()


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
    rate, needed = rate or session.rate, session.cards_needed()
    outdated = of_other_files({key: card for key, card in known.items() if key in needed})
    for key, (use, count) in needed.items():
        card = known.get(key) if key not in outdated else None
        missing, details = tuple(buffers), True
        if card is not None and not again:
            missing = () if card.failure else tuple(b for b in buffers if not is_measured(card, rate, b))
            details = not card.failure and not has_details(card)
        fuller = () if card is not None and card.failure and not again else against(session, card, key, again)
        if missing or details or fuller:
            found.append(Job(key, use, count, missing, rate, details, fuller))
    return sorted(found, key=lambda job: -job.uses)


def doubtful(session: Session, known: Mapping[CardKey, CostCard]) -> list[Job]:
    """What others disturbed of a session's plugins when they were measured on this computer."""
    found, needed = [], session.cards_needed()
    outdated = of_other_files({key: card for key, card in known.items() if key in needed})
    for key, (use, count) in needed.items():
        card = known.get(key)
        if card is not None and key not in outdated:
            places = tuple((cell.buffer, cell.condition) for cell in disturbed(card, session.rate))
            sizes = tuple(each.buffer for each in disturbed_in_turns(card, session.rate))
            found.append(_once_more(Job(key, use, count, (), session.rate), card, places, sizes))
    return sorted((job for job in found if job is not None), key=lambda job: -job.uses)


def _once_more(
    job: Job, card: CostCard, places: tuple[tuple[int, Condition], ...], sizes: tuple[int, ...]
) -> Job | None:  # fmt: skip
    """A job like this one for cells in some places of a card, and for what blocks of some sizes cost in turns; None if
    there are none."""
    if card.failure or not (places or sizes):
        return None
    buffers = tuple(sorted({*(buffer for buffer, _ in places), *sizes}))
    again = Again(places, card.tail, card.filled, sizes)
    return job._replace(buffers=buffers, details=False, against=(), again=again)


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


def is_of_another_file(card: CostCard) -> bool:
    """Whether the plugin's file has changed since the card was made: another version of it, perhaps."""
    return bool(of_other_files({card.key: card}))


def of_other_files(cards: Cards) -> dict[CardKey, Made]:
    """How those cards were made whose plugin's file has changed since."""
    found, looked_at = {}, dict[str, tuple[int, int]]()
    for key, card in cards.items():
        made = card.made
        if made is not None and made.path:
            if made.path not in looked_at:
                looked_at[made.path] = fingerprint(made.path)
            size, modified = looked_at[made.path]
            if size > 0 and (size, modified) != (made.size, made.modified):
                found[key] = made
    return found


def fingerprint(path: str) -> tuple[int, int]:
    """The size of a plugin's file (bytes) and when it was changed (ns); of a bundle, of all in it. (0, 0) for none."""
    try:
        found = Path(path)
        files = [each.stat() for each in found.rglob("*") if each.is_file()] if found.is_dir() else [found.stat()]
    except (OSError, ValueError):
        return 0, 0
    return sum(each.st_size for each in files), max((each.st_mtime_ns for each in files), default=0)


def has_details(card: CostCard) -> bool:
    """Whether all that is measured beside the cells is there, and from this computer."""
    if card.upkeep is None or card.upkeep.pool is None or not card.slowing:
        return False
    if card.key.voices > 1 and not card.polyphony:
        return False
    return any(cell.provenance == "measured" for cell in card.cells)


def run(
    todo: Sequence[Job],
    known: Mapping[CardKey, CostCard],
    cancelled: Callable[[], bool] = lambda: False,
    effort: Effort | None = None,
    quiet_seconds: float = isolation.QUIET_SECONDS,
    paused: Callable[[], bool] = lambda: False,
    first: int | None = None,
) -> Iterator[Progress]:
    """Fills the cards of `todo`, in order. Cells from elsewhere in a known card give way to measured ones; where there
    are none, since the plugin fails here, they stay.

    With `first`, a buffer size (samples), all that have no figure of this computer at it are tried there quickly
    before anything is measured thoroughly, which then goes by what all uses of a plugin cost together there: what may
    change a decision most comes first. What fails in the first round has failed. Cells that others disturbed are
    measured once more when all else is: whoever shares the core does so for minutes, and has gone perhaps.
    """
    made = _Run(todo, effort or Effort(), cancelled, quiet_seconds, paused)

    def after(job: Job, message: Result | isolation.Failure) -> Progress:
        card, cell = taken_in(cards[job.key], message)
        if card.failure and not card.cells and job.key in known:
            card = msgspec.structs.replace(card, cells=known[job.key].cells)
        cards[job.key] = card
        return Progress(job, card, cell, False)

    fresh = [job for job in todo if job.again is None]
    cards = {job.key: known[job.key] for job in todo if job.again is not None}
    cards |= {job.key: begun(job, known.get(job.key), path_of(job.use, made.installed) or "") for job in fresh}
    if first is not None:
        quick = [job for job in fresh if cards[job.key].cell(job.rate, first, "sounding") is None]
        for job, message in made.passed(quick, first):
            if message is not None:
                yield after(job, message)
    failed = [job for job in fresh if cards[job.key].failure]
    for job in failed:
        yield Progress(job, cards[job.key], None, True)
    left = [job for job in fresh if job not in failed]
    if first is not None:
        left.sort(key=lambda job: -job.uses * cards[job.key].cost(job.rate, first, "sounding").seconds)
    for job, message in made.passed(left):
        yield after(job, message) if message is not None else Progress(job, cards[job.key], None, True)
    yield from _again(made, todo, cards, cancelled)


def _again(
    made: _Run, todo: Sequence[Job], cards: dict[CardKey, CostCard], cancelled: Callable[[], bool]
) -> Iterator[Progress]:
    """Measures once more what others disturbed: what was asked for, and then what is still worth it of all jobs, in
    rounds for as long as each leaves clearly fewer (see `to_repeat`)."""
    yield from _visited(made, [job for job in todo if job.again and (job.again.places or job.again.sizes)], cards, 0)
    fresh, count, left = {job.key: job for job in todo}, 0, 0
    for _ in range(made.rounds):
        again = [once for job in todo if (once := _worth_it(job, cards[job.key])) is not None]
        now = sum(job.steps - 1 for job in again)
        if cancelled() or not again or (left and now > FEWER * left):
            return
        left, count, heard, still = now, count + now, 0, 0
        for step in _visited(made, again, cards, count):
            if not step.finished:
                yield step
                continue
            heard += step.job.steps - 1
            disturbed = _worth_it(fresh[step.job.key], step.card)
            still += disturbed.steps - 1 if disturbed is not None else 0
            if heard >= max(HEARD, PART * now) and still > FEWER * heard:
                return


def _worth_it(job: Job, card: CostCard) -> Job | None:
    """What of a card is worth measuring once more: cells of the sizes that a job is about, and sizes to be measured in
    turns if it is about details; None if nothing is."""
    found, sizes = to_repeat(card, job.rate), sizes_to_repeat(card, job.rate)
    if job.again is None:
        found, sizes = tuple(place for place in found if place[0] in job.buffers), sizes if job.details else ()
    return _once_more(job, card, found, sizes)


def _visited(made: _Run, jobs: list[Job], cards: dict[CardKey, CostCard], count: int) -> Iterator[Progress]:
    """Measures some cells once more; each takes the place of the one before if it is better. `count` is what `again` of
    each step says."""
    with closing(made.passed(jobs)) as told:
        for job, message in told:
            if message is None:
                yield Progress(job, cards[job.key], None, True, count)
                continue
            before = cards[job.key]
            after, cell = taken_in(before, message)
            if cell is not None:
                old = before.cell(cell.rate, cell.buffer, cell.condition)
                if old is not None and not cell.is_better(old):
                    after, cell = before, None
            cards[job.key] = after
            yield Progress(job, after, cell, False, count)


class _Run:
    """Workers for jobs, one after the other: while one plugin is measured on the last core, the next one is loaded on
    another. `installed` is where the plugins lie."""

    def __init__(
        self,
        todo: Sequence[Job],
        effort: Effort,
        cancelled: Callable[[], bool],
        quiet_seconds: float,
        paused: Callable[[], bool],
    ) -> None:
        self.installed = installed_for(job.use for job in todo)
        self._effort, self._cancelled, self._quiet, self._paused = effort, cancelled, quiet_seconds, paused
        self.rounds = effort.rounds
        self._place = place()
        self._best: Best | None = None

    def _worker(self, job: Job, first: int | None) -> isolation.Worker | isolation.Failure:
        """A worker that loads the plugin of a job, or why there can be none."""
        path = path_of(job.use, self.installed)
        if path is None:
            return isolation.Failure(not_installed(job.use))
        request = Request(
            job.use, job.rate, job.buffers if first is None else (first,), path, self._effort, self._place,
            job.details and first is None, self._best, against=job.against,
            first=first is not None,
            allowed=allowed(job.use.plugin.standard, job.use.plugin.identifier), again=job.again,
        )  # fmt: skip
        return isolation.Worker(request)

    def passed(
        self, jobs: Sequence[Job], first: int | None = None
    ) -> Generator[tuple[Job, Result | isolation.Failure | None], None, None]:
        """What comes of each job, in order; None at the end of each. Ends early when it is cancelled."""
        ready = [self._worker(jobs[0], first)] if jobs else []
        try:
            for number, job in enumerate(jobs):
                worker = ready[0]
                ready += [self._worker(following, first) for following in jobs[number + 1 : number + 2]]
                if isinstance(worker, isolation.Failure):
                    yield job, worker
                else:
                    yield from ((job, message) for message in self._heard(worker))
                    worker.close()
                del ready[0]
                if self._cancelled():
                    return
                yield job, None
        finally:
            for worker in ready:
                if isinstance(worker, isolation.Worker):
                    worker.close()

    def _heard(self, worker: isolation.Worker) -> Iterator[Result | isolation.Failure]:
        """All that a worker tells while it is its turn on the core."""
        with turn(self._place.core, self._cancelled) as is_ours:
            for message in worker.results(self._cancelled, self._quiet, self._paused) if is_ours else ():
                if isinstance(message, BestMessage):
                    self._best = message.best.with_another(self._best or message.best)
                else:
                    yield message


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
    asked = request_for(use, rate, buffer)
    if isinstance(asked, isolation.Failure):
        yield msgspec.structs.replace(card, failure=asked.reason)
        return
    where, until = place(), time.monotonic() + seconds
    tried: tuple[Effect, ...] = ()
    while True:
        trying = Trying(max(until - time.monotonic(), 0.0), tried)
        request = msgspec.structs.replace(asked, place=where, trying=trying)
        so_far: Sweep | None = None
        with turn(where.core, cancelled) as is_ours:
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


def request_for(use: PluginUse, rate: int, frames: int) -> Request | isolation.Failure:
    """What is asked of a single plugin, at one block size (samples); or that it is not here."""
    path = path_of(use, installed_for([use]))
    if path is None:
        return isolation.Failure(not_installed(use))
    return Request(use, rate, (frames,), path, allowed=allowed(use.plugin.standard, use.plugin.identifier))


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
        more["inputs"] = message.inputs
        more["paced"] = (*(c for c in card.paced if c.rate not in rates), *message.paced)
        more["slowing"] = (*(c for c in card.slowing if c.rate not in rates), *message.slowing)
        return msgspec.structs.replace(card, **more), None
    if isinstance(message, TurnsMessage):
        return with_turns(card, message), None
    if isinstance(message, NullsMessage):
        made = {(null.setting, null.voices) for null in message.nulls}
        kept = (null for null in card.nulls if (null.setting, null.voices) not in made)
        return msgspec.structs.replace(card, nulls=(*kept, *message.nulls)), None
    assert isinstance(message, FactsMessage)
    facts = {name: getattr(message, name) for name in ("latency", "tail", "truth", "positions", "listened", "filled")}
    told = {name: getattr(message, name) for name in ("version", "real_time", "held", "instances", "hears")}
    return msgspec.structs.replace(card, made=msgspec.structs.replace(card.made or Made(), **told), **facts), None


def with_turns(card: CostCard, told: TurnsMessage) -> CostCard:
    """The card with what of this is better than what it has for the same rate and size."""
    paced = {(each.rate, each.buffer): each for each in card.paced}
    slowing = {(each.rate, each.buffer): each for each in card.slowing}
    for one in told.paced:
        before = paced.get((one.rate, one.buffer))
        if before is None or one.is_better(before):
            paced[one.rate, one.buffer] = one
    for other in told.slowing:
        known = slowing.get((other.rate, other.buffer))
        if known is None or other.known >= known.known:
            slowing[other.rate, other.buffer] = other
    return msgspec.structs.replace(card, paced=tuple(paced.values()), slowing=tuple(slowing.values()))


def not_installed(use: PluginUse) -> str:
    """Why a plugin cannot be run: it is not here, or its standard is none that is hosted."""
    standard = use.plugin.standard
    if standard in STANDARDS:
        return f"not installed here: nothing in the search folders for {standard.upper()} holds it"
    return f"cannot be measured yet: plugins of the kind “{standard}” are read, but not run"


def begun(job: Job, known: CostCard | None, path: str) -> CostCard:
    """The card that a job goes on filling: with only what was measured on this computer, of this file, in this way."""
    size, modified = fingerprint(path) if path else (0, 0)
    if known is None or is_of_another_file(known):
        known = CostCard(job.key, job.use.label)
    cells = tuple(c for c in known.cells if c.provenance in ("measured", "first"))
    return msgspec.structs.replace(known, cells=cells, made=Made(path=path, size=size, modified=modified))


def with_cell(card: CostCard, cell: Cell) -> CostCard:
    """The card with this cell in place of the one for the same rate, size and condition."""
    place = (cell.rate, cell.buffer, cell.condition)
    others = tuple(c for c in card.cells if (c.rate, c.buffer, c.condition) != place)
    return msgspec.structs.replace(card, cells=(*others, cell))
