"""Predicted against rehearsed on this machine: the example scaled to fit, and real plugins from Debian's packages.

    .venv/bin/python -m bench.accuracy [--seconds 8]

Everything is measured first; then each session is rehearsed at three buffer sizes on one core and on two: as it was
predicted from the measurements alone, and again after taking over what the first rehearsal on these cores has taught.
"""

from __future__ import annotations

import os
import sys

import click
import msgspec

from nimbleload.core.decisions.decision import Plan
from nimbleload.core.load.rehearsal import Rehearsal, learned
from nimbleload.core.session.computer import Machine
from nimbleload.core.session.plugins import PluginRef, PluginUse
from nimbleload.core.session.session import Session
from nimbleload.core.session.strips import Clip, Strip
from nimbleload.core.survey import Survey, instant, prediction, survey
from nimbleload.demo import session as demo
from nimbleload.probe import catalogue, session_run
from nimbleload.shell import prove

BUFFERS = (64, 256, 1024)
WANTED = 0.55
REAL = (
    "urn:zamaudio:ZamEQ2", "urn:zamaudio:ZamComp", "urn:zamaudio:ZamTube", "urn:zamaudio:ZamGEQ31",
    "urn:zamaudio:ZamDelay", "http://calf.sourceforge.net/plugins/Reverb",
    "http://calf.sourceforge.net/plugins/Compressor", "http://calf.sourceforge.net/plugins/Equalizer5Band",
    "http://drobilla.net/plugins/mda/Ambience", "http://lsp-plug.in/plugins/lv2/para_equalizer_x16_stereo",
    "urn:dragonfly:plate",
)  # fmt: skip


def scaled(of: Session, cards: dict, cores: int, buffer: int) -> Session:
    """The session with as many of its tracks as give about the wanted load on so many cores."""
    tracks = [strip for strip in of.strips if strip.kind == "track"]
    others = tuple(strip for strip in of.strips if strip.kind != "track")
    for count in range(len(tracks), 0, -1):
        step = len(tracks) / count
        kept = tuple(tracks[int(k * step)] for k in range(count))
        made = msgspec.structs.replace(of, strips=kept + others)
        if survey(made, Plan(), cards, Machine(cores), buffer).after.load.max() <= WANTED:
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


def rehearsed(of: Survey, seconds: float) -> Rehearsal | None:
    """What came of rehearsing its worst moment; None, and the reason is printed, if nothing did."""
    try:
        return prove.rehearsed(of, instant(of), seconds)
    except click.ClickException as error:
        print(error.message)
        return None


def compare(session: Session, cards: dict, cores: int, buffer: int, seconds: float, note: str) -> Session:
    """Rehearses once, prints a row, and returns the session with what was learned."""
    of = survey(session, Plan(), cards, Machine(cores), buffer)
    predicted = prediction(of, instant(of))
    outcome = rehearsed(of, seconds)
    if outcome is None:
        return session
    typical, bad = predicted.typical / outcome.typical - 1, predicted.bad / outcome.bad - 1
    cells = [
        f"{session.name[:22]:22}", str(cores), f"{buffer:5d}", f"{note:8}",
        *(f"{100 * x:5.1f}" for x in (predicted.typical, outcome.typical)), f"{100 * typical:+6.1f}",
        *(f"{100 * x:5.1f}" for x in (predicted.bad, outcome.bad)), f"{100 * bad:+6.1f}",
        f"{outcome.missed} of {len(outcome.loads)}", f"{outcome.slowdown:.2f}",
    ]  # fmt: skip
    print(f"| {' | '.join(cells)} |", flush=True)
    return msgspec.structs.replace(session, host=learned(of.planned.session, predicted, outcome))


def main() -> None:
    seconds = float(sys.argv[sys.argv.index("--seconds") + 1]) if "--seconds" in sys.argv else 8.0
    print("| session | cores | buffer | from | typical predicted % | rehearsed % | off % | 1 in 100 predicted % "
          "| rehearsed % | off % | missed | slowdown |")  # fmt: skip
    print("|---|---|---|---|---|---|---|---|---|---|---|---|")
    for of in (demo.session(), real_session()):
        of = msgspec.structs.replace(of, variants=())
        cards: dict = {}
        for step in session_run.run(session_run.jobs(of, {}, BUFFERS), {}):
            cards[step.job.key] = step.card
        for cores in range(1, min(len(os.sched_getaffinity(0)), 2) + 1):
            for buffer in BUFFERS:
                session = scaled(of, cards, cores, buffer)
                taught = compare(session, cards, cores, buffer, seconds, "measured")
                compare(taught, cards, cores, buffer, seconds, "taught")


if __name__ == "__main__":
    main()
