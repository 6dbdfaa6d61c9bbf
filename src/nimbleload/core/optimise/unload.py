"""What to freeze and unload so that a session's plugins keep no more memory than there is: the least that can be paid.

Every instance gives back what it keeps for itself; what instances share goes with the last of them. So it is a program
in whole numbers: a variable for each way to freeze a track, and one for each pool of samples, and each plugin's code,
that is at most what is taken of any plugin that needs it.
"""

from __future__ import annotations

from collections.abc import Hashable, Iterator
from typing import NamedTuple

import numpy as np

from ..decisions.apply import apply, obstacle, price
from ..decisions.decision import Decision
from ..decisions.rendering import audio_bytes, last_place
from ..load.memory import loaded_uses, memory
from ..session.plugins import PluginUse
from ..session.strips import Strip
from ..survey import Survey
from .candidates import Wishes, whole_strip

# How near the solver goes to the least (a share of it), and in how many nodes of its tree.
NEAR, NODES = 1e-6, 20_000
# Its sums are in megabytes, and so much more is asked for (of them) than is needed, for it rounds.
MEGABYTE, ROUNDED = 2**20, 0.004


class Unloading(NamedTuple):
    """Freezes that unload what they hold, in addition to a plan or in the place of its own. `least` minutes must any
    such choice cost at least."""

    decisions: tuple[Decision, ...]
    least: float


class _Way(NamedTuple):
    """One way to unload plugins of a strip, with the minutes that it costs more than what is decided now."""

    decision: Decision
    minutes: float
    uses: tuple[PluginUse, ...]
    disk: float


def unload(of: Survey, wishes: Wishes) -> Unloading | None:
    """The cheapest freezes that bring what plugins keep under `wishes.memory` (bytes); None if none do.

    Strips that are pinned, armed or decided about otherwise stay as they are. A freeze or suspension of the plan may
    give way to a freeze that unloads.
    """
    needed = of.memory.bytes - wishes.memory if wishes.memory is not None else 0.0
    if needed <= 0:
        return Unloading((), 0.0)
    ways = list(_ways(of, wishes)) if "freeze" in wishes.kinds else []
    return _least(of, wishes, ways, needed) if ways else None


def least_kept(of: Survey, wishes: Wishes) -> float:
    """What plugins keep (bytes) where all is frozen and unloaded that may be."""
    most: dict[str, Decision] = {}
    for way in _ways(of, wishes) if "freeze" in wishes.kinds else ():
        most[way.decision.strip] = way.decision
    return float(memory(apply(of.session, of.plan.with_all(most.values())).session, of.planned.cards).bytes)


def _ways(of: Survey, wishes: Wishes) -> Iterator[_Way]:
    """Every way to freeze and unload that is open, of each strip those first that unload least."""
    terms = wishes.terms(of)
    for strip in of.session.strips:
        if strip.kind != "track" or not strip.enabled or strip.id in wishes.pinned:
            continue
        now = of.plan.for_strip(strip.id)
        if now is not None and now.kind not in ("freeze", "suspend"):
            continue
        decided = {decision.use for decision in of.plan.decisions if decision.strip == strip.id and decision.use}
        paid = price(terms, now).minutes if now is not None else 0.0
        planned = whole_strip(of, strip.id)
        for through in _places(strip, now):
            decision = Decision("freeze", strip.id, through=through, unloaded=True)
            uses = tuple(use for place, use in planned.places() if place <= through and use.loaded)
            if not uses or decided & {use.id for use in uses} or obstacle(strip, decision, of.session) is not None:
                continue
            disk = 0.0 if now is not None and now.kind == "freeze" else audio_bytes(strip, of.session.rate)
            yield _Way(decision, max(price(terms, decision).minutes - paid, 0.0), uses, disk)


def _places(strip: Strip, now: Decision | None) -> list[int]:
    """Up to where a strip could be frozen: as far as it is, or as any freeze goes."""
    last, before = len(strip.inserts) - 1, strip.last_before_fader
    first = [-1] if strip.instrument is not None else []
    places = sorted({*first, *([before] if before >= 0 else []), last})
    if now is not None and now.kind == "freeze":
        return [place for place in {*places, last_place(strip, now)} if place >= last_place(strip, now)]
    return places


def _least(of: Survey, wishes: Wishes, ways: list[_Way], needed: float) -> Unloading | None:
    """The program: minutes at least, bytes enough, one way a strip, and what is shared gone only with the last."""
    from scipy.optimize import Bounds, LinearConstraint, milp  # imported here: it would lengthen every start
    from scipy.sparse import csr_matrix

    own, pools = _kept(of)
    count = len(ways)
    rows: list[dict[int, float]] = []
    most: list[float] = []
    gives = {k: sum(own[use.id] for use in way.uses) for k, way in enumerate(ways)}
    shared = {count + k: size for k, (size, _) in enumerate(pools)}
    rows.append({k: -size / MEGABYTE for k, size in (gives | shared).items()})
    most.append(-needed / MEGABYTE - ROUNDED)
    if wishes.disk is not None:
        rows.append({k: way.disk / MEGABYTE for k, way in enumerate(ways)})
        most.append((wishes.disk - sum(_disk(of, each) for each in of.plan.decisions)) / MEGABYTE)
    by_strip: dict[str, list[int]] = {}
    by_use: dict[str, list[int]] = {}
    for k, way in enumerate(ways):
        by_strip.setdefault(way.decision.strip, []).append(k)
        for use in way.uses:
            by_use.setdefault(use.id, []).append(k)
    for those in by_strip.values():
        rows.append(dict.fromkeys(those, 1.0))
        most.append(1.0)
    for k, (_, uses) in enumerate(pools):
        for use in uses:
            rows.append({count + k: 1.0} | dict.fromkeys(by_use.get(use.id, ()), -1.0))
            most.append(0.0)
    places = [(row, column, value) for row, each in enumerate(rows) for column, value in each.items()]
    where, columns, values = zip(*places, strict=True)
    width = count + len(pools)
    matrix = csr_matrix((values, (where, columns)), (len(rows), width))
    prices = np.zeros(width)
    prices[:count] = [way.minutes + 1e-9 for way in ways]
    whole = np.concatenate((np.ones(count), np.zeros(len(pools))))
    found = milp(
        prices, constraints=LinearConstraint(matrix, -np.inf, np.array(most)), integrality=whole, bounds=Bounds(0, 1),
        options={"mip_rel_gap": NEAR, "node_limit": NODES},
    )  # fmt: skip
    if found.x is None:
        return None
    chosen = tuple(way.decision for way, taken in zip(ways, found.x[:count] > 0.5, strict=True) if taken)
    return Unloading(chosen, max(float(found.mip_dual_bound or 0.0), 0.0))


def _kept(of: Survey) -> tuple[dict[str, float], list[tuple[float, list[PluginUse]]]]:
    """What each loaded plugin keeps for itself (bytes, by use id); and what several keep together, with all of these:
    the pools of settings, and the code of plugins."""
    own: dict[str, float] = {}
    pools: dict[Hashable, tuple[float, list[PluginUse]]] = {}
    for use in loaded_uses(of.planned.session):
        key = use.card_key()
        card = of.planned.cards.get(key)
        up = card.upkeep if card is not None else None
        own[use.id] = float(up.memory) if up is not None else 0.0
        for name, size in ((key, up.pool or 0), ((key.standard, key.identifier), up.code)) if up is not None else ():
            before, uses = pools.get(name, (0.0, []))
            pools[name] = max(before, float(size)), [*uses, use]
    return own, [each for each in pools.values() if each[0] > 0]


def _disk(of: Survey, decision: Decision) -> float:
    """What a freeze of the plan takes of the disk."""
    known = {strip.id: strip for strip in of.session.strips}
    strip = known.get(decision.strip)
    return audio_bytes(strip, of.session.rate) if decision.kind == "freeze" and strip is not None else 0.0
