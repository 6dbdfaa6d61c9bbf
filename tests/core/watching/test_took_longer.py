"""Who took longer: what is known of several late blocks, far apart, adds up."""

from __future__ import annotations

import numpy as np
import pytest

from nimbleload.core.watching.blocks import see
from nimbleload.core.watching.late import reasons, why_late
from nimbleload.core.watching.took_longer import judged
from tests.helpers.held_up import host
from tests.helpers.rare import rare
from tests.helpers.recordings import recording, thread


@pytest.mark.parametrize("seed", range(3))
def test_reasons_of_some_and_of_the_others_are_those_of_all(seed):
    made = host(seed, 1_000_000, 2_500_000)
    looks = [(begin, 1 + (begin // 1000) % 2) for begin, _ in made.leader[::3]]
    of = see(recording(thread(1, made.leader, looks=looks), thread(2, made.worker), files=("a", "b")))
    chance = np.random.default_rng(seed).random(len(of.blocks.late)) < 0.5
    both, whole = reasons(of, chance).and_of(reasons(of, ~chance)), reasons(of)
    assert both.late[:7] == whole.late[:7]
    for mine, its in zip(both.took, whole.took, strict=True):
        assert np.asarray(mine) == pytest.approx(np.asarray(its))
    assert both.told()[:7] == why_late(of)[:7]


def test_of_one_late_block_nobody_knows_who_took_longer_and_of_eight_it_is_named():
    """A look falls into every millisecond: a block of 7 ms has seven of them."""
    of = see(rare(blocks=4000, late=range(300, 3900, 450), took=(1_000_000, 6_000_000)))
    late = np.flatnonzero(of.blocks.late)
    assert len(late) == 8
    which = np.arange(len(of.blocks.late))
    alone = [reasons(of, which == place) for place in late]
    assert [each.told().owner for each in alone] == [None] * 8
    together = alone[0]
    for each in alone[1:]:
        together = together.and_of(each)
    assert together.told().owner == 2 and together.told().part > 0.9
    assert judged(together.took).owner == 2


def test_nothing_is_known_of_blocks_that_were_in_time():
    of = see(rare(blocks=600, late=(), took=(1_000_000, 6_000_000)))
    assert reasons(of) is None
    of = see(rare(blocks=600, late=(300,), took=(1_000_000, 6_000_000)))
    # The block after it, computed in one go, is late, too.
    assert reasons(of, np.zeros(len(of.blocks.late), bool)) is None and reasons(of).late.longer == 2
