"""How well renders of real plugins null, and how busy rendering keeps the cores.

    .venv/bin/python -m bench.carry [--most 80] [--seconds 60]

Every installed effect (up to so many) is frozen behind four seconds of noise and proven at another block size; then
more jobs than there are cores are rendered at once: how busy they keep the cores, and how long they take against what
their blocks take then, and by the cost cards.
"""

from __future__ import annotations

import argparse
import math
import os
import resource
import tempfile
import time
from collections import Counter
from pathlib import Path

from nimbleload.core.cards.card import CostCard
from nimbleload.core.cards.families import kind
from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.session.plugins import CardKey, PluginRef, PluginUse
from nimbleload.core.session.session import Session
from nimbleload.core.session.strips import Clip, Strip
from nimbleload.deliver import carrying, render
from nimbleload.deliver.lasting import TimeLeft, efforts
from nimbleload.machine import background
from nimbleload.probe import catalogue, session_run
from nimbleload.probe.performance import slowdown
from nimbleload.store import dawproject, dawproject_out
from nimbleload.store.dawproject_out import Loop
from tests.helpers.stems import RATE, noise, wave

SECONDS, BUFFER = 4.0, 512


def written(path: Path, chains: list[list[PluginUse]], seconds: float = SECONDS) -> Path:
    """An exchange file with a track of noise for each chain."""
    strips = tuple(
        Strip(f"t{k}", f"Track {k}", inserts=tuple(chain), output="m", clips=(Clip(0.0, seconds),))
        for k, chain in enumerate(chains)
    )
    loop = Loop("noise.wav", wave(noise(SECONDS)), SECONDS, RATE, 2)
    session = Session("Bench", RATE, seconds, (*strips, Strip("m", "Main", "main")))
    dawproject_out.write(path, session, lambda strip: loop if strip.kind == "track" else None)
    return path


def nulls(folder: Path, most: int) -> list[PluginUse]:
    """Renders and proves every effect; prints what came of it. Those that came out the same."""
    found = [
        p for file in catalogue.catalogue() for p in file.plugins if kind(p.features, p.name).family != "instrument"
    ]
    uses = [PluginUse("u", PluginRef(p.standard, p.identifier, p.name, p.vendor, p.version)) for p in found[:most]]
    verdicts: Counter[str] = Counter()
    same = []
    for number, use in enumerate(uses):
        source = written(folder / f"{number}.dawproject", [[use]])
        imported = dawproject.read(source)
        (job,) = render.jobs(imported.session, Plan((Decision("freeze", "t0"),)), imported.audio, BUFFER)
        *_, last = render.carry_out(job, source, folder / "out")
        made = last.rendered
        verdict = made.proof.verdict if made is not None and made.proof is not None else "ended early"
        verdicts[verdict] += 1
        if verdict in ("same", "rounded"):
            same.append(use)
        else:
            why = last.trouble or f"{made.proof.peak_db:.0f} dBFS at {made.proof.at:.2f} s" if made else last.trouble
            print(f"  {use.plugin.standard:7} {use.label:28} {verdict}: {why}")
    print(f"{len(uses)} effects: " + ", ".join(f"{count} {verdict}" for verdict, count in verdicts.most_common()))
    return same


def processor_seconds() -> tuple[float, float]:
    """When it is (s), and how long all processors of this computer have been busy since it was started (s)."""
    ticks = background.sample(Path("/")).ticks
    assert ticks is not None
    return time.monotonic(), sum(ticks[:3]) / os.sysconf("SC_CLK_TCK")  # user, nice, system


def busy(folder: Path, uses: list[PluginUse], seconds: float) -> None:
    """How busy jobs of six plugins each keep the cores while there are enough, and how long they take against what
    their blocks do."""
    cores = len(os.sched_getaffinity(0))
    count = 3 * cores
    chains = [[uses[(k + j * count) * len(uses) // (6 * count)] for j in range(6)] for k in range(count)]
    chains = [[PluginUse(f"u{j}", use.plugin) for j, use in enumerate(chain)] for chain in chains]
    source = written(folder / "busy.dawproject", chains, seconds)
    session = dawproject.read(source).session
    plan = Plan(tuple(Decision("freeze", f"t{k}") for k in range(len(chains))))
    prepared = carrying.prepare(session, plan, BUFFER)
    for _ in carrying.run(prepared, folder / "before", prove=False, jobs=prepared.jobs[:1]):
        pass  # what is imported and compiled once is no part of it
    cards = measured(session)
    left = TimeLeft(efforts(prepared, cards, proven=False), cards)
    told = left.seconds()
    by_cards = block_seconds(session, cards) * math.ceil(seconds * RATE / BUFFER) / cores
    begun, done, share, blocks = processor_seconds(), 0, 0.0, 0.0
    for step in carrying.run(prepared, folder / "together", prove=False, jobs=left.longest_first(prepared.jobs)):
        done += step.rendered is not None or bool(step.trouble)
        blocks += step.rendered.computed / cores if step.rendered is not None else 0.0
        if done == len(prepared.jobs) - cores + 1 and not share:
            now = processor_seconds()
            share = (now[1] - begun[1]) / (now[0] - begun[0]) / cores
    ended = processor_seconds()
    together, computed = ended[0] - begun[0], (ended[1] - begun[1]) / cores
    print(f"{len(prepared.jobs)} jobs of {seconds:.0f} s on {cores} cores: {together:.1f} s; {share:.0%} of the cores "
          "busy while there was one for each (goal 95)")  # fmt: skip
    print(f"Their blocks took {blocks:.1f} s of that, shared out: {together / blocks:.2f} times as long (goal 1.1), "
          f"{computed / blocks:.2f} times as much computed; by the cost cards {by_cards:.1f} s")  # fmt: skip
    print(f"Before it began, {told:.1f} s were told: {told / together:.2f} of what it took")
    print(f"Fixed work on all cores at once takes {slowdown(tuple(os.sched_getaffinity(0)), 2.0):.2f} times as long as "
          f"at its best here; this process took {resource.getrusage(0).ru_maxrss >> 10} MB at most")  # fmt: skip


def measured(session: Session) -> dict[CardKey, CostCard]:
    """Cards with the cells of this block size, measured now."""
    cards = {}
    for step in session_run.run([job._replace(details=False) for job in session_run.jobs(session, {}, (BUFFER,))], {}):
        cards[step.job.key] = step.card
    return cards


def block_seconds(session: Session, cards: dict[CardKey, CostCard]) -> float:
    """What a block of all plugins takes together (seconds)."""
    uses = [use for strip in session.strips for use in strip.live_uses()]
    found = (cards[use.card_key()].cell(RATE, BUFFER, "sounding") for use in uses)
    return sum(cell.mean for cell in found if cell is not None)


def main() -> None:
    words = argparse.ArgumentParser()
    words.add_argument("--most", type=int, default=80)
    words.add_argument("--seconds", type=float, default=60.0, help="how long the jobs are that keep the cores busy")
    asked = words.parse_args()
    with tempfile.TemporaryDirectory() as place:
        same = nulls(Path(place), asked.most)
        busy(Path(place), same, asked.seconds)


if __name__ == "__main__":
    main()
