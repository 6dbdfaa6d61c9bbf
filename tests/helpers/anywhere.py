"""Blocks whose tasks begin on any core that is free, by events: threads of one core slow each other, slow cores all."""

from __future__ import annotations

import heapq
import random
from collections.abc import Sequence

import msgspec

from nimbleload.core.decisions.decision import Plan
from nimbleload.core.session.computer import Host, Machine
from nimbleload.core.survey import survey
from tests.helpers.sessions import RATE, bus, cards_for, session, track

BLOCK = 256 / RATE


def real_core(machine: Machine, core: int) -> int:
    return core if core < machine.real else core - machine.real


def is_slow(machine: Machine, core: int) -> bool:
    return real_core(machine, core) >= machine.fast


def finished(
    costs: Sequence[float], feeds: Sequence[Sequence[int]], machine: Machine, threads: int, paired: float,
    slower: float, rng: random.Random,
) -> float:  # fmt: skip
    """When all tasks are through. Each takes so long on a core of its own, `paired` times as long while another runs on
    the other thread of its core, `slower` times as long on a slow one; `feeds` are the tasks that wait for each."""
    tail = list(costs)
    for k in reversed(range(len(costs))):
        tail[k] += max((tail[after] for after in feeds[k]), default=0.0)
    wait = [sum(k in after for after in feeds) for k in range(len(costs))]
    ready = [(-tail[k], k) for k in range(len(costs)) if not wait[k]]
    heapq.heapify(ready)
    running: dict[int, list[float]] = {}
    time = 0.0
    while ready or running:
        while ready and len(running) < threads:
            _, task = heapq.heappop(ready)
            core = rng.choice([core for core in range(machine.cores) if core not in running])
            running[core] = [task, costs[task]]
        real = [real_core(machine, core) for core in running]
        speed = {
            core: 1 / (paired if real.count(real_core(machine, core)) > 1 else 1)
            / (slower if is_slow(machine, core) else 1)
            for core in running
        }  # fmt: skip
        step = min(left / speed[core] for core, (_, left) in running.items())
        time += step
        for core in list(running):
            running[core][1] -= step * speed[core]
            if running[core][1] <= 1e-12:
                for after in feeds[int(running.pop(core)[0])]:
                    wait[after] -= 1
                    if not wait[after]:
                        heapq.heappush(ready, (-tail[after], after))
    return time


def against_events(
    machine: Machine, threads: int, tracks: int, paired: float, slower: float, ways: int, rng: random.Random
) -> tuple[float, list[float]]:
    """Of a random session on so many threads: its load by the load computation, and by events in so many ways to lie
    on the cores."""
    buses = [bus(f"b{k}", f"q{k}") for k in range(max(tracks // 8, 2))]
    of = session(
        *(track(f"t{k}", f"p{k}", output=rng.choice(buses).id) for k in range(tracks)), *buses,
        host=Host(cores_left_free=machine.cores - threads),
    )  # fmt: skip
    shares = {use.plugin.identifier: rng.lognormvariate(-4, 0.8) for strip in of.strips for use in strip.uses()}
    cards = cards_for(of, {name: share * BLOCK for name, share in shares.items()})
    for key, card in cards.items():
        assert card.upkeep is not None
        up = msgspec.structs.replace(card.upkeep, paired=paired, slower=slower)
        cards[key] = msgspec.structs.replace(card, upkeep=up)
    place = {strip.id: k for k, strip in enumerate(of.strips)}
    own = [sum(shares[use.plugin.identifier] for use in strip.uses()) for strip in of.strips]
    feeds = [[place[strip.output]] if strip.output else [] for strip in of.strips]
    seen = [finished(own, feeds, machine, threads, paired, slower, rng) for _ in range(ways)]
    return float(survey(of, Plan(), cards, machine, 256).after.load.max()), seen
