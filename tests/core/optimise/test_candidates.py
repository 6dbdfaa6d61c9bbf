"""What candidates say of themselves, against the sessions that their decisions make."""

from __future__ import annotations

import random

from nimbleload.core.decisions.decision import Plan
from nimbleload.core.optimise.candidates import Wishes, candidates
from nimbleload.core.session.computer import Machine
from nimbleload.core.survey import survey
from tests.helpers.exhaustive import hosted, small
from tests.helpers.often import often


def test_of_a_strip_that_is_cut_only_parts_with_what_is_shared_are_members():
    cut = 0
    for seed in range(often(140)):
        rng = random.Random(seed)
        of, cards = small(rng)
        before = survey(hosted(of, rng), Plan(), cards, Machine(2), 256)
        strips = before.planned.session.strips
        for found in candidates(before, Wishes(0.5)):
            if found.kind != "share":
                continue
            gone = set()
            for decision in found.decisions:
                strip = of.strip(decision.strip)
                gone |= {use.id for use in strip.inserts[strip.place_of(decision.use) :]}
            wanted = {n for n, strip in enumerate(strips) if gone & {use.id for use in strip.uses()}}
            assert set(found.members) == wanted
            ids = {decision.strip for decision in found.decisions}
            cut += sum(1 for s in strips if s.part_of in ids or s.id in ids) > len(wanted)
    assert cut > 0
