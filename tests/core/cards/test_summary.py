"""What runs come to: the own time of each block, and what the machine added."""

from __future__ import annotations

import numpy as np
import pytest

from nimbleload.core.cards.summary import summarise


def test_a_summary_keeps_the_blocks_and_their_mean():
    own = np.array([100, 100, 100, 900] * 50)
    runs = np.vstack((own, own + 24, own))
    runs[1, 5] += 3000  # one run was interrupted once
    cell = summarise(runs, True, 48000, 64, "sounding")
    assert cell.mean == pytest.approx(300e-9)
    assert cell.median == pytest.approx(100e-9)
    assert cell.largest == pytest.approx(900e-9)
    assert cell.jitter == pytest.approx((8 + 3000 / 600) * 1e-9)
    assert (cell.interruptions, cell.interrupted_ns().tolist()) == (1, [3024])
    assert cell.watched == pytest.approx(runs.sum() / 1e9)
    assert cell.sequence_ns().tolist() == own.tolist()


def test_a_summary_of_nothing_is_refused():
    with pytest.raises(ValueError, match="at least one"):
        summarise(np.zeros((3, 0), np.int64), True, 48000, 64, "sounding")
