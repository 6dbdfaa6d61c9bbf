"""The example with a few of its tracks, on one core or two: forty to sixty decisions, many of which do as well."""

from __future__ import annotations

import random

from nimbleload.core.load.in_part import only
from nimbleload.core.optimise.candidates import Wishes
from nimbleload.core.session.computer import Machine
from nimbleload.core.survey import Survey, survey
from nimbleload.shell.common import demo_saved


def few_tracks(seed: int) -> tuple[Survey, Wishes]:
    """Four to sixteen tracks with all their buses, at some buffer size; and a limit of 80 %."""
    saved, rng = demo_saved(), random.Random(seed)
    tracks = [strip.id for strip in saved.session.strips if strip.kind == "track"]
    buses = {strip.id for strip in saved.session.strips if strip.kind != "track"}
    session = only(saved.session, buses | set(rng.sample(tracks, rng.randint(4, 16))))
    cores, buffer = rng.choice((1, 1, 2)), rng.choice((64, 128, 256, 512))
    of = survey(session, saved.plan, {card.key: card for card in saved.cards}, Machine(cores), buffer)
    return of, Wishes(0.8, pinned=frozenset(saved.plan.pinned))
