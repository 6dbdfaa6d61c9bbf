"""How a host plays one block: what computes in the live thread, what ahead of time, and how cores slow each other down.

Everything that speaks of a load goes through `play`; there is no second way to compute one.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..session.computer import Host
from ..session.routing import Graph
from ..session.session import Session
from .schedule import Block, makespans, schedule


class Played(NamedTuple):
    """Blocks (M each, seconds): finishing time, longest chain, all work; and how much slower everything ran (factor).

    `own_work` is the work as it would be without that slowing, `beside` what it would take more if all cores computed
    all the time.

    `aside` is what plugins' own threads and processes compute beside them: it takes whatever core is free, so all that
    is computed must fit onto the cores.

    With a host that reads ahead, `live` and `background` are the finishing times of the two, both for one block of the
    device; else `background` is the finishing time and `live` 0.
    """

    makespan: NDArray[np.float64]
    chain: NDArray[np.float64]
    work: NDArray[np.float64]
    factor: NDArray[np.float64]
    live: NDArray[np.float64]
    background: NDArray[np.float64]
    own_work: NDArray[np.float64]
    beside: NDArray[np.float64]
    aside: NDArray[np.float64]


def live_strips(session: Session, graph: Graph) -> NDArray[np.bool_]:
    """Which strips are live (S, bool): the record-armed ones, and all that lies downstream of them."""
    live = np.array([strip.armed and strip.enabled for strip in session.strips], np.bool_)
    for task in graph.order:
        if live[task]:
            live[graph.successors_of(task)] = True
    return live


def play(
    graph: Graph,
    host: Host,
    live: NDArray[np.bool_],
    rows: NDArray[np.float64],
    beside: NDArray[np.float64],
    cores: int,
    aside: NDArray[np.float64] | None = None,
) -> Played:
    """Plays rows of strip costs (M, S, seconds) on `cores` threads. `graph` holds S tasks for each part of the block.

    `beside` (M, S, seconds) is what they cost more while all threads compute; it counts by the share of them that do,
    on average over the block. `aside` (M, seconds) is what plugins' own threads compute meanwhile: a block ends no
    sooner than all of it, evenly spread over the cores, is through.
    """
    parts = len(graph.ids) // max(rows.shape[1], 1)
    if parts > 1:
        rows, beside, live = (np.tile(each, parts) for each in (rows / parts, beside / parts, live))
    if host.read_ahead and live.any():
        # What is live is computed by one thread, the rest by the others, in their own time.
        foreground, _ = makespans(graph, rows * live, 1)
        rest = max(cores - 1, 1)
        background, chain = makespans(graph, rows * ~live, rest)
        if cores == 1:
            # On the only core what is computed ahead gets what the live thread leaves.
            background, chain = background + foreground, chain + foreground
        makespan = np.maximum(foreground, background)
        chain = np.maximum(chain, foreground)
    else:
        makespan, chain = makespans(graph, rows, cores)
        foreground, background = np.zeros_like(makespan), makespan
    work = rows.sum(axis=1)
    lost = beside.sum(axis=1)
    factor = slowed(work, lost, makespan, cores)
    extra = np.zeros_like(work) if aside is None else np.asarray(aside, np.float64)
    ends = makespan * factor
    if extra.any():
        ends = np.maximum(ends, (work * factor + extra) / cores)
    return Played(
        ends, chain * factor, work * factor, factor, foreground * factor, background * factor, work, lost, extra
    )  # fmt: skip


def slowed(
    work: NDArray[np.float64], beside: NDArray[np.float64], makespan: NDArray[np.float64], cores: int
) -> NDArray[np.float64]:
    """How many times longer blocks take because cores that compute at once slow each other down (M)."""
    if cores < 2 or not beside.any():
        return np.ones_like(work)
    at_once = np.divide(work, makespan, out=np.ones_like(work), where=makespan > 0)
    share = np.clip((at_once - 1) / (cores - 1), 0.0, 1.0)
    return 1 + share * np.divide(beside, work, out=np.zeros_like(work), where=work > 0)


def placed(graph: Graph, host: Host, live: NDArray[np.bool_], row: NDArray[np.float64], cores: int) -> Block:
    """One block with every task in its place: `row` (S, seconds) are the strips' costs as slowed down as they are."""
    parts = len(graph.ids) // max(len(row), 1)
    row, live = np.tile(row / parts, parts), np.tile(live, parts)
    if not (host.read_ahead and live.any()):
        return schedule(graph, row, cores)._replace(parts=parts)
    foreground = schedule(graph, row * live, 1)
    background = schedule(graph, row * ~live, max(cores - 1, 1))
    if cores == 1:
        after = foreground.makespan
        background = background._replace(
            start=background.start + after, end=background.end + after, makespan=background.makespan + after,
            chain_bound=background.chain_bound + after,
        )  # fmt: skip
    longer = foreground if foreground.makespan >= background.makespan else background
    return longer._replace(
        start=np.where(live, foreground.start, background.start),
        end=np.where(live, foreground.end, background.end),
        core=np.where(live, 0, background.core + (cores > 1)).astype(np.int32),
        work=foreground.work + background.work,
        threads=cores,
        spread_bound=(foreground.work + background.work) / cores,
        chain_bound=max(foreground.makespan, background.chain_bound),
        parts=parts,
    )


def in_a_row(
    graph: Graph, host: Host, live: NDArray[np.bool_], row: NDArray[np.float64], cores: int
) -> NDArray[np.float64]:
    """How much of each strip (S, 0 to 1) must run one after the other in a block in which they cost `row` (S, seconds).

    That is all of the live thread, or the longest chain of what several threads share, whichever is longer.
    """
    count = len(row)
    parts = len(graph.ids) // max(count, 1)
    if not (host.read_ahead and live.any()):
        block = schedule(graph, np.tile(row / parts, parts), cores)
        return np.bincount(np.array(block.chain) % count, minlength=count) / parts
    if cores == 1:
        return np.ones(count)
    background = schedule(graph, np.tile(row * ~live / parts, parts), cores)
    if float(row[live].sum()) >= background.chain_bound:
        return live.astype(np.float64)
    return np.bincount(np.array(background.chain) % count, minlength=count) / parts * ~live
