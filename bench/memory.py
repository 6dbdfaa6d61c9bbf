"""What plugins keep of memory, as measured one by one, against a process that has them all.

    .venv/bin/python -m bench.memory [--times 4] [--seconds 1] [WORDS ...]

Of each installed plugin whose name holds one of the WORDS (without: some of Debian's) what an instance keeps, what all
of them keep together, and its code, in MB; then all of them, so many times each, are loaded in a rehearsal, which says
what came with them, and how long loading took. The ratios are what counts.
"""

from __future__ import annotations

import sys

from nimbleload.core.cards.families import kind
from nimbleload.core.decisions.decision import Plan
from nimbleload.core.load.memory import memory
from nimbleload.core.session.computer import Machine
from nimbleload.core.session.plugins import PluginRef, PluginUse
from nimbleload.core.session.session import Session
from nimbleload.core.session.strips import Clip, Strip
from nimbleload.core.survey import instant, prediction, survey
from nimbleload.probe import catalogue, rehearsal, session_run
from nimbleload.probe.effort import Effort
from nimbleload.probe.isolation import Failure
from nimbleload.probe.messages import PlayedMessage

SOME = (
    "dragonfly", "zamverb", "zamdelay", "calf reverb", "calf vinyl", "black pearl drumkit", "mda epiano",
    "impulse reverb stereo", "multisampler x12", "setbfree",
)  # fmt: skip
MOST = 24


def some(words: list[str], times: int) -> list[list[PluginUse]]:
    """So many uses of each plugin whose name holds one of the words, one of each name and standard."""
    found: dict[tuple[str, str], list[PluginUse]] = {}
    for scanned in catalogue.catalogue():
        for each in scanned.plugins:
            name = each.name.casefold()
            if not any(word == name or (len(word) > 3 and word in name) for word in words):
                continue
            plugin, family = PluginRef(each.standard, each.identifier, each.name), kind(each.features, each.name).family
            voices = 4 if family == "instrument" else 0
            uses = [
                PluginUse(f"{each.standard}:{each.identifier}/{k}", plugin, family=family, voices=voices)
                for k in range(times)
            ]
            found.setdefault((each.standard, each.name), uses)
    return list(found.values())[:MOST]


def session_of(groups: list[list[PluginUse]]) -> Session:
    """A track for each use; instruments play notes."""
    strips = []
    for use in (use for group in groups for use in group):
        instrument = use if use.voices else None
        notes = Clip(0.0, 10.0, "notes", voices=((0.0, use.voices),))
        clips = (notes if use.voices else Clip(0.0, 10.0),)
        strips.append(
            Strip(use.id, use.id, instrument=instrument, inserts=() if instrument else (use,), output="m", clips=clips)
        )
    return Session("memory", 48000, 10.0, (*strips, Strip("m", "Main", "main")))


def main() -> None:
    words, times, seconds = list[str](), 4, 1.0
    left = sys.argv[1:]
    while left:
        word = left.pop(0)
        if word == "--times":
            times = int(left.pop(0))
        elif word == "--seconds":
            seconds = float(left.pop(0))
        else:
            words.append(word.casefold())
    groups = some(words or list(SOME), times)
    of, cards = session_of(groups), {}
    jobs = [job._replace(details=True) for job in session_run.jobs(of, {}, (512,))]
    for step in session_run.run(jobs, {}, effort=Effort(2, 0.05, rounds=1)):
        if step.card is not None:
            cards[step.job.key] = step.card
        if step.finished and step.card is not None:
            up = step.card.upkeep
            told = f"failed: {step.card.failure}" if up is None else "  ".join(
                f"{size / 2**20:7.1f}" for size in (up.memory, up.pool or 0, up.code, up.grows * 60)
            ) + f"  {up.load * 1e3:7.1f} {up.again * 1e3:7.1f} ms"
            print(f"{step.card.name[:34]:34} {step.job.key.standard:6} {told}", flush=True)
    failed = {key for key, card in cards.items() if card.failure}
    groups = [group for group in groups if group[0].card_key() not in failed]
    of = session_of(groups)
    at = survey(of, Plan(), cards, Machine(1), 512)
    predicted = prediction(at, instant(at, 5.0))
    for message in rehearsal.run(at, instant(at, 5.0), seconds):
        if isinstance(message, PlayedMessage):
            here = message.rehearsal
            print(f"\n{len(groups)} plugins, {times} times each ({len(here.refused)} refused): predicted", end=" ")
            ratio = predicted.memory / here.memory
            print(f"{predicted.memory / 2**20:.1f} MB, loaded {here.memory / 2**20:.1f} MB: {ratio:.3f};", end=" ")
            ratio = predicted.loaded_in / here.loaded_in
            print(f"in {predicted.loaded_in:.2f} s, loaded in {here.loaded_in:.2f} s: {ratio:.2f}")
        elif isinstance(message, Failure):
            print(message.reason)
    print(f"All that the session keeps: {memory(of, cards).bytes / 2**20:.1f} MB")


if __name__ == "__main__":
    main()
