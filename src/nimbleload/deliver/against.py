"""Two ways that strips lead to one place, in one rendering: what both have in common is rendered once."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path

import numpy as np
from msgspec.structs import replace

from ..core.session.plugins import CardKey, PluginUse
from ..store import audio
from ..store.audio import CHANNELS, Sources
from ..store.sounding import Sounding
from .carrying import MIX
from .difference import decibels
from .proof import Heard, Proof, compared
from .render import Job, loudness_of, paths_of
from .rendering import Elsewhere, Rendering, peak_of
from .stage import Feed, Stage

# What the ids of strips begin with that are only in the second mix, or not the same there.
AFTER = "after/"
# And of what is rendered once of a strip that is the same in both as far as its first plugins.
BOTH = "both/"
# What comes together of each mix by itself, and the files that it is written to.
SIDES = {"heard/before": "Mix before.wav", "heard/after": "Mix after.wav"}
NOTHING: Mapping[str, int] = {}
# Two renderings of the same may differ at most by so much less (dB) than what is found, and explain it.
AS_LOUD_DB = 3.0


def merged(
    before: Job, after: Job, is_same: Callable[[Sounding], bool], apart: Mapping[str, int] = NOTHING
) -> tuple[Job, dict[str, int]]:
    """Both mixes in one rendering, at whose end the second is taken from the first; and which strips of the first (ids)
    are not the same in the second, each with how many of its first plugins are.

    A strip of the second is the same if it is made of the same plugins, plays the same audio as far as `is_same` can
    tell, and is fed alike by strips of which that is true as well; as far as its first plugins are, they are rendered
    once. What is to be kept `apart` has no more plugins in common than is said there.
    """
    known = {stage.strip.id: stage for stage in before.before}
    into, into_after = _feeders(before.before), _feeders(after.before)
    shared: set[str] = set()
    common = dict.fromkeys(known, 0)
    for stage in after.before:
        own, was = stage.strip.id, known.get(stage.strip.id)
        if (
            was is not None and _played(was) == _played(stage) and is_same(stage.sounding)
            and into[own] == into_after[own] and shared.issuperset(each for each, _ in into[own])
        ):  # fmt: skip
            if own not in apart and _made_of(was) == _made_of(stage):
                shared.add(own)
            common[own] = apart.get(own, _alike(was.uses, stage.uses))

    def led(feed: Feed, first: bool) -> tuple[Feed, ...]:
        """Where a strip leads to in the first or the second mix; nowhere in the second where it does so in both."""
        own, side = feed.target, list(SIDES)[not first]
        if own in (before.strip.id, after.strip.id):
            return replace(feed, target=MIX.id, gain=feed.gain if first else -feed.gain), replace(feed, target=side)
        if own in shared:
            return (feed,) if first else ()
        if common.get(own) and not feed.use:
            return (replace(feed, target=BOTH + own),) if first else ()
        return (feed,) if first else (replace(feed, target=AFTER + own),)

    def feeds(stage: Stage, first: bool) -> tuple[Feed, ...]:
        return tuple(each for feed in stage.feeds for each in led(feed, first))

    later = {stage.strip.id: stage for stage in after.before}
    stages = []
    for own, stage in known.items():
        count = 0 if own in shared else common[own]
        if count:
            on = Feed(own, 1.0), Feed(AFTER + own, 1.0)
            stages.append(replace(stage, strip=replace(stage.strip, id=BOTH + own), uses=stage.uses[:count], feeds=on))
        rest = _rest(stage, count)
        stages.append(replace(rest, feeds=feeds(stage, True) + (feeds(later[own], False) if own in shared else ())))
        if count:
            # Right after it: what they have in common need not be kept for long.
            stages.append(_second(later[own], count, feeds(later[own], False)))
    stages += [
        _second(stage, 0, feeds(stage, False)) for own, stage in later.items()
        if own not in shared and not common.get(own)
    ]  # fmt: skip
    job = replace(before, strip=MIX, before=tuple(stages), samples=max(before.samples, after.samples))
    return job, {own: common[own] for own in known if own not in shared}


def _played(stage: Stage) -> tuple[object, ...]:
    """What a strip's plugins are given, but for what feeds it; how its fader moves counts where it leads to."""
    sounding = replace(stage.sounding, fader=None, heard=None, awake=None, pan=None, sends=())
    return sounding, stage.plays_notes


def _made_of(stage: Stage) -> list[tuple[CardKey, str | None]]:
    """The plugins of a strip as they are set, and what each listens to."""
    return [(use.card_key(), use.sidechain) for use in stage.uses]


def _alike(one: Sequence[PluginUse], other: Sequence[PluginUse]) -> int:
    """How many of the first plugins of two chains are the same, up to one that listens to a side-chain."""
    count = 0
    for a, b in zip(one, other, strict=False):
        if a.card_key() != b.card_key() or a.sidechain is not None or b.sidechain is not None:
            break
        count += 1
    return count


def _second(stage: Stage, count: int, feeds: tuple[Feed, ...]) -> Stage:
    """What is left of a strip of the second mix, under a name of its own."""
    return replace(_rest(stage, count), strip=replace(stage.strip, id=AFTER + stage.strip.id), feeds=feeds)


def _rest(stage: Stage, count: int) -> Stage:
    """What is left of a strip behind its first plugins, which play what it plays."""
    return replace(stage, uses=stage.uses[count:], sounding=Sounding(moving=stage.sounding.moving)) if count else stage


def _feeders(stages: Sequence[Stage]) -> dict[str, Counter[tuple[str, Feed]]]:
    """By whom each strip is fed, and how."""
    found: dict[str, Counter[tuple[str, Feed]]] = {stage.strip.id: Counter() for stage in stages}
    for stage in stages:
        for feed in stage.feeds:
            if feed.target in found:
                found[feed.target][stage.strip.id, feed] += 1
    return found


def rendered_together(job: Job, was: Sources, now: Elsewhere | None, before: Job) -> Rendering:
    """A rendering of both mixes; the strips of the second find their audio and their plugins elsewhere."""
    second = {each.strip.id: now for each in job.before if now is not None and each.strip.id.startswith(AFTER)}
    return Rendering(
        job.stages, was, paths_of(before.all_uses), job.rate, job.buffer, job.samples, job.timing, second
    )  # fmt: skip


def written(mix: Rendering, rate: int, folder: Path) -> tuple[Heard, ...]:
    """Both mixes as files, to be listened to."""
    folder.mkdir(parents=True, exist_ok=True)
    found = []
    for target, name in SIDES.items():
        audio.write(folder / name, mix.fed_to(target), rate)
        peak, lufs = decibels(peak_of(mix.fed_to(target))), loudness_of(mix.fed_to(target), rate)
        found.append(Heard(name, peak, lufs))
    return tuple(found)


def left_of(mix: Rendering, job: Job, residual: Path | None = None) -> Proof:
    """What is left of the first mix."""
    return compared(mix.sound(), np.zeros((0, CHANNELS), np.float32), job.rate, residual)
