"""What is worked out of a moment while others wait: it can be ended in the middle."""

from __future__ import annotations

import msgspec
import numpy as np
import pytest

from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.optimise.steps import stepped
from nimbleload.core.session.computer import Machine
from nimbleload.core.survey import instant, survey
from nimbleload.core.told.outlook import band, outlook
from nimbleload.demo.cards import sample_cards
from nimbleload.demo.session import MACHINE, session
from tests.helpers.sessions import RATE, cards_for, track
from tests.helpers.sessions import session as session_of


class EndedError(Exception):
    pass


@pytest.fixture(scope="module")
def of():
    whole = session()
    frozen = [strip.id for strip in whole.strips if strip.kind == "track" and strip.inserts and not strip.armed][:8]
    return survey(whole, Plan(tuple(Decision("freeze", each) for each in frozen)), sample_cards(), MACHINE, 256)


@pytest.mark.parametrize("find", [lambda of, go_on: outlook(of, instant(of), go_on), band, stepped])
def test_who_asks_is_asked_now_and_then_whether_to_go_on(of, find):
    asked = []
    find(of, lambda: asked.append(1))
    often = len(asked)
    assert often > 5
    for call in (1, often // 2, often):
        asked.clear()

        def go_on(call=call):
            asked.append(1)
            if len(asked) == call:
                raise EndedError

        with pytest.raises(EndedError):
            find(of, go_on)
        assert len(asked) == call


@pytest.mark.parametrize(("share", "headline"), [
    (0.6, "Fits at 0:05, but its peaks do not: one block in a hundred takes 115 %."),
    (0.9, "Tight at 0:05.  90 % of the 5.33 ms deadline, and one block in a hundred takes 173 %."),
])  # fmt: skip
def test_peaks_that_are_late_where_the_usual_block_is_not(share, headline):
    """A plugin that takes so much of a block on average, and nearly twice as much in one of 16."""
    of = session_of(track("t", "p"), limit=0.8)
    cards = bursting(of, share)
    whole = survey(of, Plan(), cards, Machine(1), 256)
    said = outlook(whole, instant(whole)).verdict
    assert (said.kind, said.headline, said.overload) == ("peaks", headline, True)
    assert said.advice.startswith("Expect 703 dropouts a minute. p on t bursts now and then.")
    # What helps is told where the usual block is over the limit, too.
    assert ("What helps most at once: Freeze t" in said.advice) == (share > 0.8)


def bursting(of, share):
    """Cards of plugins that take 1.92 times the mean in each 16th block."""
    own = share * 256 / RATE
    blocks = np.full(64, own * (16 - 1.92) / 15)
    blocks[15::16] = own * 1.92
    kept = {}
    for key, each in cards_for(of, {"p": own}).items():
        sequence = np.round(blocks * 1e9).astype("<i4").tobytes()
        cells = tuple(msgspec.structs.replace(cell, sequence=sequence) if cell.buffer == 256 else cell
                      for cell in each.cells)  # fmt: skip
        kept[key] = msgspec.structs.replace(each, cells=cells)
    return kept
