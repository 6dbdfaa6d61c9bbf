"""From a running host into the model: a session made of what was seen of it, and what a session predicts against it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..cards.card import Cell, CostCard
from ..cards.families import by_name
from ..session.computer import Host, Machine
from ..session.edits import empty
from ..session.plugins import PluginRef, PluginUse
from ..session.session import Session
from ..session.strips import Clip, Strip
from ..watching.blocks import Seen
from ..watching.records import short, wholes
from ..watching.shares import COMPUTES, Share, computing, shares
from .case import Case
from .clients import as_clients
from .ranking import at_moment

# The standard of a plugin of which only its file is known.
SEEN = "seen"
LENGTH = 60.0


class Taken(NamedTuple):
    """A session made of what was seen: `cards` hold the costs that were seen at `buffer` samples, `unknown` the files
    of plugins that are not known here by name. With `is_routed` the strips are a sound server's clients, connected as
    they were but for `circles`, connections that would close one."""

    session: Session
    cards: tuple[CostCard, ...]
    machine: Machine
    buffer: int
    unknown: tuple[str, ...]
    is_routed: bool = False
    circles: tuple[str, ...] = ()


def session_of(of: Seen, buffer: int, rate: int, plugins: Mapping[str, PluginUse], name: str) -> Taken:
    """A strip for each thread of the engine that plugins were met in, with these plugins in it, the dearest first.

    `plugins` says by file which plugin it holds. Which of them lies behind which is not seen, nor how many of a kind
    there are: one for each thread that it was met in, and all of them cost the same. What the engine takes beside them
    is the host's own, shared out over the strips. ValueError without a cycle, or if no plugin was met.
    """
    if of.blocks is None:
        raise ValueError("no cycle was found, so it is not known what a block costs")
    period, found = of.blocks.period * played(of), _with_what_they_share(of)
    if not found:
        raise ValueError("no plugin was met in the engine's threads")
    uses: dict[int, PluginUse] = {}
    cards, unknown = [], []
    for share in found:
        file = of.recording.files[share.owner - 1]
        use = plugins.get(file)
        if use is None:
            label = short(file) or file
            use = PluginUse("", PluginRef(SEEN, file, label), family=by_name(label))
            unknown.append(file)
        uses[share.owner] = use
        each = share.core * period / len(share.threads)
        cell = Cell(rate, buffer, "sounding", each, each, provenance="seen", watched=of.recording.seconds)
        cards.append(CostCard(use.card_key(), use.label, (cell,)))
    blank = empty(name, rate, max(LENGTH, of.recording.seconds))
    strips = _strips(of, [(share.owner, share.threads) for share in found], uses, blank.length)
    heard = of.recording.heard
    made, circles = as_clients(strips, heard.server, blank.length) if heard else ([s for _, s in strips], ())
    # What is in mono clients has cards of its own.
    there = {use.card_key() for strip in made for use in strip.uses()}
    wide = [(card, (card.key, msgspec.structs.replace(card.key, channels=1))) for card in cards]
    cards = [msgspec.structs.replace(card, key=key) for card, keys in wide for key in keys if key in there]
    rest = max(computing(of) - sum(share.core for share in found), 0.0)
    host = Host(strip_overhead=rest * period / (len(made) + 1))
    session = msgspec.structs.replace(blank, strips=(*made, *blank.strips), host=host, source=name)
    threads = threads_of(of)
    machine = Machine(threads, measured_cores=threads)
    return Taken(session, tuple(cards), machine, buffer, tuple(unknown), heard is not None, circles)


def _with_what_they_share(of: Seen) -> list[Share]:
    """What each plugin takes, the dearest first. What several of one file share is dealt out among those that were met,
    by what each takes itself."""
    found, whole = {share.owner: share for share in shares(of) if share.owner > 0}, wholes(of.recording.files)
    for file in set(whole.values()) & found.keys():
        own = [share for share in found.values() if whole.get(share.owner) == file]
        taken = sum(share.core for share in own)
        if taken > 0:
            shared = found.pop(file).core / taken
            found |= {share.owner: share._replace(core=share.core * (1 + shared)) for share in own}
    return sorted(found.values(), key=lambda share: -share.core)


def threads_of(of: Seen) -> int:
    """How many of the engine's threads ever computed at the same time: clients of a server mostly take turns. At least
    one."""
    engine = [of.runs[k] for k, role in enumerate(of.roles) if role in COMPUTES]
    if not engine:
        return 1
    begin, end = (np.concatenate([getattr(each, part) for each in engine]) for part in ("begin", "end"))
    times = np.concatenate([end, begin])
    step = np.repeat([-1, 1], len(begin))
    order = np.lexsort((step, times))
    return max(int(np.cumsum(step[order]).max(initial=0)), 1)


def played(of: Seen) -> float:
    """By how much a recording is longer than the blocks in it: a host that stands still costs nothing meanwhile."""
    if of.blocks is None or not len(of.blocks.load):
        return 1.0
    return of.recording.seconds / (of.blocks.number * of.blocks.period)


def _strips(
    of: Seen, met: list[tuple[int, tuple[int, ...]]], uses: Mapping[int, PluginUse], length: float
) -> list[tuple[int, Strip]]:
    """A strip for each thread with its process; a second instrument of one thread has a strip of its own."""
    made: list[tuple[int, Strip]] = []
    count = 0
    for place, thread in enumerate(of.recording.threads):
        own = []
        for owner, threads in met:
            if place in threads:
                count += 1
                own.append(msgspec.structs.replace(uses[owner], id=f"plugin{count}"))
        instruments = [use for use in own if use.family == "instrument"]
        effects = tuple(use for use in own if use.family != "instrument")
        for number in range(max(len(instruments), 1 if effects else 0)):
            name = thread.name if number == 0 else f"{thread.name} {number + 1}"
            instrument = instruments[number] if number < len(instruments) else None
            inserts, clips = effects if number == 0 else (), (Clip(0.0, length),)
            strip = Strip(f"track{len(made) + 1}", name, "track", instrument, inserts, output="main", clips=clips)
            made.append((thread.process, strip))
    return made


class Against(NamedTuple):
    """One plugin, predicted against seen, as shares of one core while blocks were played; what was seen lies between
    `low` and `high`."""

    file: str
    name: str
    predicted: float
    seen: float
    low: float
    high: float


def against(of: Case, states: NDArray[np.int16], seen: Seen, plugins: Mapping[str, PluginUse]) -> list[Against]:
    """What a session predicts for one moment (states: S) against what was seen in a host that plays it.

    By plugin, whatever its setting, the dearest first: those that both have. `plugins` says by file which one it holds.
    """
    wanted: dict[tuple[str, str], float] = {}
    costs = at_moment(of, states).uses
    for use, live in zip(of.prepared.uses.uses, of.prepared.uses.live.tolist(), strict=True):
        if live:
            key = (use.plugin.standard, use.plugin.identifier)
            wanted[key] = wanted.get(key, 0.0) + costs[use.id] / of.deadline
    found, factor = [], played(seen)
    for share in shares(seen):
        file = seen.recording.files[share.owner - 1] if share.owner > 0 else ""
        known = plugins.get(file)
        if known is not None and (known.plugin.standard, known.plugin.identifier) in wanted:
            predicted = wanted[known.plugin.standard, known.plugin.identifier]
            figures = (share.core * factor, share.low * factor, share.high * factor)
            found.append(Against(file, known.label, predicted, *figures))
    return sorted(found, key=lambda each: -each.seen)
