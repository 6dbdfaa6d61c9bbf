"""Two ways that strips lead to one place, in one rendering: one is taken from the other.

A strip that is the same in both, with all that feeds it, is rendered once for both, and chains as far as they are the
same: only what differs can be heard in what is left, and what sounds by chance is no difference where both have it.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import NamedTuple

import numpy as np
from msgspec.structs import replace

from ..core.session.plugins import CardKey, PluginUse
from ..core.session.strips import Strip
from ..store import audio, scratch
from ..store.audio import CHANNELS, Sources
from ..store.sounding import Sounding
from .asked import Asked
from .difference import decibels
from .proof import Heard, Proof, compared, verdict_of
from .render import Job, Step, check_room, loudness_of, paths_of
from .rendering import Elsewhere, Rendering, peak_of
from .stage import Feed, Stage

# What the ids of strips begin with that are only in the second way, or not the same there.
AFTER = "after/"
# And of what is rendered once of a strip that is the same in both as far as its first plugins.
BOTH = "both/"
# Where each comes together by itself.
SIDES = ("heard/before", "heard/after")
NOTHING: Mapping[str, int] = {}
# Two renderings of the same may differ at most by so much less (dB) than what is found, and explain it.
AS_LOUD_DB = 3.0
# What is said while what differs is rendered once more.
AGAIN = "compares again"


def merged(
    before: Job, after: Job, into: Strip, is_same: Callable[[Sounding], bool], apart: Mapping[str, int] = NOTHING
) -> tuple[Job, dict[str, int]]:
    """Both in one rendering, at whose end (`into`) the second is taken from the first; and which strips of the first
    (ids) are not the same in the second, each with how many of its first plugins are.

    A strip of the second is the same if it is made of the same plugins, plays the same audio as far as `is_same` can
    tell, and is fed alike by strips of which that is true as well; as far as its first plugins are, they are rendered
    once. What is to be kept `apart` has no more plugins in common than is said there.
    """
    known = {stage.strip.id: stage for stage in before.before}
    fed, fed_after = _feeders(before.before), _feeders(after.before)
    shared: set[str] = set()
    common = dict.fromkeys(known, 0)
    for stage in after.before:
        own, was = stage.strip.id, known.get(stage.strip.id)
        if (
            was is not None and _played(was) == _played(stage) and is_same(stage.sounding)
            and fed[own] == fed_after[own] and shared.issuperset(each for each, _ in fed[own])
        ):  # fmt: skip
            if own not in apart and _made_of(was) == _made_of(stage):
                shared.add(own)
            common[own] = apart.get(own, _alike(was.uses, stage.uses))

    def led(feed: Feed, first: bool) -> tuple[Feed, ...]:
        """Where a strip leads to in the first or the second; nowhere in the second where it does so in both."""
        own, side = feed.target, SIDES[not first]
        if own in (before.strip.id, after.strip.id):
            return replace(feed, target=into.id, gain=feed.gain if first else -feed.gain), replace(feed, target=side)
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
    job = replace(before, strip=into, before=tuple(stages), samples=max(before.samples, after.samples))
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
    """What is left of a strip of the second, under a name of its own."""
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


class Kept(NamedTuple):
    """The files to which what is left, and each of the two by itself, are written if they differ; none if not said."""

    residual: Path | None = None
    sides: Sequence[Path] = ()


NOTHING_KEPT = Kept()


def against(
    before: Job, after: Job, into: Strip, was: Sources, now: Sources, kept: Kept, asked: Asked
) -> Iterator[Step]:  # fmt: skip
    """Renders both, with their audio, and takes the second from the first; all is told as a job of the strip `into`,
    and the last step says what is left.

    If it is more than rounding, it is written to be listened to, and what differs is rendered once more as it was
    before: what never sounds the same twice differs from itself by as much. AudioError, RenderError and OSError end it.
    """

    def is_same(sounding: Sounding) -> bool:
        return all(was.has(part) and was.stamp(part) == now.stamp(part) for part in sounding.parts)

    job, differ = merged(before, after, into, is_same)
    if not differ and len(job.before) == len(before.before):
        yield Step(job, "compared", 1.0, compared=Proof("same"))
        return
    check_room(job, kept.residual.parent if kept.residual is not None else scratch.folder(), prove=False)
    lies, lies_after = Elsewhere(was, paths_of(before.all_uses)), Elsewhere(now, paths_of(after.all_uses))
    with _rendering(job, lies, lies_after) as both:
        for share in both.render(asked):
            yield Step(job, "compares", share)
        found = _left_of(both, job, kept.residual)
        verdict = verdict_of(found.peak_db, "")
        if not verdict:
            found = replace(found, sides=tuple(_written(both, job.rate, kept.sides)))
    if not verdict:
        # As far as to where most of it lies: that is enough to tell, and half of the time as a rule.
        again, _ = merged(before, before, into, lambda _: True, differ)
        again = replace(again, samples=min(again.samples, round((found.at + 1.0) * job.rate)))
        with _rendering(again, lies, lies) as twice:
            for share in twice.render(asked):
                yield Step(again, AGAIN, share)
            itself = _left_of(twice, again)
        verdict = "random" if itself.peak_db >= found.peak_db - AS_LOUD_DB else "different"
    yield Step(job, "compared", 1.0, compared=replace(found, verdict=verdict))


def _rendering(job: Job, lies: Elsewhere, lies_after: Elsewhere) -> Rendering:
    """A rendering of both, with where the audio and the plugins of each lie."""
    second = {each.strip.id: lies_after for each in job.before if each.strip.id.startswith(AFTER)}
    return Rendering(job.stages, *lies, job.rate, job.buffer, job.samples, job.timing, second)


def _written(both: Rendering, rate: int, sides: Sequence[Path]) -> Iterator[Heard]:
    """Each by itself as a file, to be listened to."""
    for target, path in zip(SIDES, sides, strict=False):
        path.parent.mkdir(parents=True, exist_ok=True)
        audio.write(path, both.fed_to(target), rate)
        peak, lufs = decibels(peak_of(both.fed_to(target))), loudness_of(both.fed_to(target), rate)
        yield Heard(path.name, peak, lufs)


def _left_of(both: Rendering, job: Job, residual: Path | None = None) -> Proof:
    """What is left of the first."""
    return compared(both.sound(), np.zeros((0, CHANNELS), np.float32), job.rate, residual)
