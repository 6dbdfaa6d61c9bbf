"""Predicted against rehearsed on this computer: the example scaled to fit, and real plugins from Debian's packages.

    .venv/bin/python -m bench.accuracy [--seconds 4] [--minutes 20] [--cards FOLDER]

Everything is measured first, and what others disturbed again and again until little of it is left or nothing comes of
it; no rehearsal goes before. Then each session is rehearsed at three buffer sizes on one core
and on two, with as many of its tracks as give about 25, 55 and 85 % load. A known piece of arithmetic beside every
block tells the blocks in which the computer was as fast as when plugins are measured: against these stands what was
predicted, with the interval of their median (95 %, by drawing them again). What the computer added in the other blocks
has a column of its own. With `--minutes` rows in which others took too many blocks are rehearsed again, round by round,
until there is something to go by or the time is over; with `--cards` what was measured is kept for the next run.
"""

from __future__ import annotations

import math
import os
import time
from collections.abc import Sequence
from pathlib import Path
from typing import NamedTuple

import click
import msgspec
import numpy as np

from nimbleload.core.cards.card import Cards, CostCard
from nimbleload.core.cards.doubt import sizes_to_repeat, to_repeat
from nimbleload.core.decisions.decision import Plan
from nimbleload.core.load.rehearsal import Rehearsal
from nimbleload.core.session.computer import Machine
from nimbleload.core.session.plugins import CardKey, PluginRef, PluginUse
from nimbleload.core.session.session import Session
from nimbleload.core.session.strips import Clip, Strip
from nimbleload.core.survey import Survey, foreseen, instant, survey, to_rehearse
from nimbleload.demo import session as demo
from nimbleload.probe import catalogue, session_run
from nimbleload.probe.messages import Again
from nimbleload.shell import prove

BUFFERS = (64, 256, 1024)
# What is measured: sizes beside these tell what stands out. So many runs at most.
SIZES, PATIENCE = (32, 64, 128, 256, 512, 1024, 2048), 6
LEVELS = (0.25, 0.55, 0.85)
# So many blocks that follow each other are drawn together.
TOGETHER = 10
REAL = (
    "urn:zamaudio:ZamEQ2", "urn:zamaudio:ZamComp", "urn:zamaudio:ZamTube", "urn:zamaudio:ZamGEQ31",
    "urn:zamaudio:ZamDelay", "http://calf.sourceforge.net/plugins/Reverb",
    "http://calf.sourceforge.net/plugins/Compressor", "http://calf.sourceforge.net/plugins/Equalizer5Band",
    "http://drobilla.net/plugins/mda/Ambience", "http://lsp-plug.in/plugins/lv2/para_equalizer_x16_stereo",
    "urn:dragonfly:plate",
)  # fmt: skip


def scaled(of: Session, cards: Cards, cores: int, buffer: int, wanted: float) -> Session:
    """The session with as many of its tracks as give about the wanted load on so many cores."""
    tracks = [strip for strip in of.strips if strip.kind == "track"]
    others = tuple(strip for strip in of.strips if strip.kind != "track")
    for count in range(len(tracks), 0, -1):
        step = len(tracks) / count
        kept = tuple(tracks[int(k * step)] for k in range(count))
        made = msgspec.structs.replace(of, strips=kept + others)
        if survey(made, Plan(), cards, Machine(cores), buffer).after.load.max() <= wanted:
            return made
    return made


def real_session() -> Session:
    """Twelve tracks of installed LV2 plugins into one bus."""
    there = catalogue.paths_by_identifier(catalogue.catalogue())
    found = [there["lv2", uri] for uri in REAL if ("lv2", uri) in there]
    strips = []
    for track in range(12):
        chain = [found[(track + k) % len(found)] for k in range(4)]
        uses = tuple(
            PluginUse(f"t{track}/{k}", PluginRef("lv2", plugin.identifier, plugin.name))
            for k, plugin in enumerate(chain)
        )
        strips.append(Strip(f"t{track}", f"Track {track + 1}", inserts=uses, output="bus", clips=(Clip(0, 60),)))
    uses = tuple(PluginUse(f"bus/{k}", PluginRef("lv2", p.identifier, p.name)) for k, p in enumerate(found[:2]))
    strips.append(Strip("bus", "Bus", "bus", inserts=uses, output="main"))
    return Session("Debian plugins", 48000, 60.0, (*strips, Strip("main", "Main", "main")))


def measured(of: Session) -> dict[CardKey, CostCard]:
    """The cost cards of a session, patiently: what is doubtful is measured once more in up to so many further runs."""
    cards: dict[CardKey, CostCard] = {}
    todo = session_run.jobs(of, {}, SIZES)
    for number in range(PATIENCE):
        for step in session_run.run(todo, cards):
            cards[step.job.key] = step.card
        left = sum(len(to_repeat(each, of.rate)) + len(sizes_to_repeat(each, of.rate)) for each in cards.values())
        count = sum(len(card.cells) + len(card.paced) for card in cards.values())
        print(f"{left} of {count} figures are to be measured again.", flush=True)
        if not left or number + 1 == PATIENCE:
            break
        todo = [job._replace(again=Again((), None, 0.0)) for job in session_run.jobs(of, {}, SIZES)]
    return cards


def rehearsed(of: Survey, seconds: float) -> Rehearsal | None:
    """What came of rehearsing its worst moment; None, and the reason is printed, if nothing did."""
    try:
        return prove.rehearsed(of, instant(of), seconds)
    except click.ClickException as error:
        print(error.message)
        return None


def interval(loads: Sequence[float]) -> tuple[float, float]:
    """Within which the median lies (95 %): of as many drawn from these again, a thousand times. Blocks follow each
    other, so ten neighbours are drawn together."""
    found, rng = np.array(loads), np.random.default_rng(1)
    starts = rng.integers(0, max(len(found) - TOGETHER, 1), (1000, max(len(found) // TOGETHER, 1)))
    drawn = found[(starts[..., None] + np.arange(min(TOGETHER, len(found)))).reshape(1000, -1)]
    low, high = np.quantile(np.median(drawn, axis=1), (0.025, 0.975))
    return float(low), float(high)


class Wanted(NamedTuple):
    """A row that is wanted: a session with its cards, on so many cores, at a buffer size, about so full."""

    session: Session
    cards: Cards
    cores: int
    buffer: int
    level: float


class Row(NamedTuple):
    """What came of it: the row as it is printed, and by how much typical and one in a hundred are off (NaN where too
    few blocks had their cores to themselves)."""

    text: str
    typical: float
    bad: float


def row(wanted: Wanted, seconds: float) -> Row | None:
    """Rehearses once; None if nothing came of it."""
    of = survey(wanted.session, Plan(), wanted.cards, Machine(wanted.cores), wanted.buffer)
    outcome = rehearsed(of, seconds)
    if outcome is None:
        return None
    predicted, quiet = foreseen(of, instant(of), outcome), outcome.undisturbed
    typical = bad = math.nan
    told = ["–"] * 4
    if quiet.is_telling:
        typical, bad = predicted.alone / quiet.typical - 1, predicted.alone_bad / quiet.bad - 1
        low, high = interval(quiet.loads)
        told = [f"{100 * quiet.typical:.1f} ({100 * low:.1f} … {100 * high:.1f})", f"{100 * typical:+.1f}",
                f"{100 * quiet.bad:.1f}", f"{100 * bad:+.1f}"]  # fmt: skip
    doubt = instant(of).doubt
    cells = [
        f"{wanted.session.name[:22]:22}", str(wanted.cores), f"{wanted.buffer:4d}", f"{100 * wanted.level:.0f}",
        f"{100 * predicted.alone:.1f}",
        f"{100 * doubt:.0f}", told[0], told[1], f"{100 * predicted.alone_bad:.1f}", told[2], told[3],
        f"{100 * quiet.share:.0f}",
        f"{100 * (outcome.typical - quiet.typical):+.1f}" if quiet.is_telling else "–",
        f"{100 * (predicted.typical - predicted.alone):+.1f}", f"{predicted.clock:.2f}", f"{outcome.units:.2f}",
        f"{outcome.missed} of {len(outcome.loads)}",
    ]  # fmt: skip
    return Row(f"| {' | '.join(cells)} |", typical, bad)


def kept(of: Session, folder: Path | None) -> dict[CardKey, CostCard]:
    """The cards of a session: those of an earlier run that are kept in the folder, else measured, and kept there."""
    path = folder / f"{of.name}.json" if folder is not None else None
    if path is not None and path.exists():
        return {card.key: card for card in msgspec.json.decode(path.read_bytes(), type=tuple[CostCard, ...])}
    cards = measured(of)
    if path is not None:
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(msgspec.json.encode(tuple(cards.values())))
    return cards


@click.command()
@click.option("--seconds", default=4.0, help="how long each row is rehearsed")
@click.option("--minutes", default=0.0, help="rows that were never undisturbed are rehearsed again for so long")
@click.option("--cards", type=click.Path(path_type=Path), help="a folder that keeps what was measured")
def main(seconds: float, minutes: float, cards: Path | None) -> None:
    wanted = []
    for of in (demo.session(), real_session()):
        of = to_rehearse(msgspec.structs.replace(of, variants=()))
        known = kept(of, cards)
        for cores in range(1, min(len(os.sched_getaffinity(0)), 2) + 1):
            wanted += [
                Wanted(scaled(of, known, cores, buffer, level), known, cores, buffer, level)
                for buffer in BUFFERS for level in LEVELS
            ]  # fmt: skip
    found: dict[int, Row] = {}
    begun, tries = time.monotonic(), 0
    while tries == 0 or time.monotonic() - begun < 60 * minutes:
        left = [k for k in range(len(wanted)) if k not in found or math.isnan(found[k].typical)]
        if not left:
            break
        tries += 1
        for k in left:
            one = row(wanted[k], seconds)
            if one is not None:
                found[k] = one
                print(f"{tries}: {one.text}", flush=True)
            if tries > 1 and time.monotonic() - begun >= 60 * minutes:
                break
    print(f"\nEach row at most {tries} times, until enough blocks had their cores to themselves:\n")
    print("| session | cores | buffer | load % | predicted % | of it in doubt % | undisturbed % (95 %) | off % "
          "| 1 in 100 predicted % | undisturbed % | off % | of blocks % | all against these, points "
          "| predicted, points | clock | units | missed |")  # fmt: skip
    print("|---" * 17 + "|")
    for k in sorted(found):
        print(found[k].text)
    for level in LEVELS:
        rows = [found[k] for k, each in enumerate(wanted) if each.level == level and k in found]
        typical, bad = (np.abs([getattr(each, name) for each in rows]) for name in ("typical", "bad"))
        told = int(np.isfinite(typical).sum())
        print(f"at {100 * level:.0f} %: typical within 5 % in {int((typical <= 0.05).sum())}, one in a hundred within "
              f"15 % in {int((bad <= 0.15).sum())} of {told} rows (of {len(typical)}; the others were never "
              "undisturbed)")  # fmt: skip


if __name__ == "__main__":
    main()
