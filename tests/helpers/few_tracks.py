"""The example with a few of its tracks, on one core or two: forty to sixty decisions, many of which do as well."""

from __future__ import annotations

import random
from collections.abc import Iterable

import msgspec

from nimbleload.core.load.in_part import only
from nimbleload.core.optimise.candidates import Wishes
from nimbleload.core.session.computer import Machine
from nimbleload.core.survey import Survey, survey
from nimbleload.shell.common import demo_saved
from nimbleload.store.session_file import Saved


def with_tracks(saved: Saved, ids: Iterable[str], cores: int) -> Saved:
    """A session with these tracks alone and all its buses, on so many cores."""
    buses = {strip.id for strip in saved.session.strips if strip.kind != "track"}
    return msgspec.structs.replace(saved, session=only(saved.session, buses | set(ids)), machine=Machine(cores))


def fewer_saved() -> Saved:
    """Every fifth track of the example, and the narrator: a little too much for two cores, and soon looked through."""
    saved = demo_saved()
    tracks = [strip.id for strip in saved.session.strips if strip.kind == "track"]
    return with_tracks(saved, {tracks[0], *tracks[1::5]}, 2)


def few_tracks(seed: int) -> tuple[Survey, Wishes]:
    """Four to sixteen tracks with all their buses, at some buffer size; and a limit of 80 %."""
    saved, rng = demo_saved(), random.Random(seed)
    tracks = [strip.id for strip in saved.session.strips if strip.kind == "track"]
    ids, cores, buffer = rng.sample(tracks, rng.randint(4, 16)), rng.choice((1, 1, 2)), rng.choice((64, 128, 256, 512))
    saved = with_tracks(saved, ids, cores)
    of = survey(saved.session, saved.plan, {card.key: card for card in saved.cards}, saved.machine, buffer)
    return of, Wishes(0.8, pinned=frozenset(saved.plan.pinned))
