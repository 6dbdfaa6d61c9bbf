"""The figures of cards as arrays: at one clock, and at every size."""

from __future__ import annotations

import msgspec
import numpy as np
import pytest

from nimbleload.core.cards.card import Cell, CostCard, Paced
from nimbleload.core.load.figures import Figures
from tests.helpers.sessions import use

KEYS = tuple(use(name).card_key() for name in "abc")


def cards(*clocks: float) -> dict:
    """Three plugins that take 10, 20 and 30 µs at 256 samples, each measured at a clock of its own."""
    return {
        key: CostCard(key, key.identifier, (
            Cell(48000, 256, "sounding", cost, clock=clock), Cell(48000, 256, "silent", cost / 2, clock=clock),
        ))
        for key, cost, clock in zip(KEYS, (1e-5, 2e-5, 3e-5), clocks, strict=True)
    }  # fmt: skip


def test_figures_from_several_clocks_are_brought_to_one():
    """The chain took 1.0, 1.15 and 1.0 µs: what was measured at the lower clock takes less at that of the others."""
    found = Figures(cards(1.0e-6, 1.15e-6, 1.0e-6), KEYS, 48000)
    assert found.clock == pytest.approx(1.0e-6)
    assert found.at(256).seconds[1] == pytest.approx([1e-5, 2e-5 / 1.15, 3e-5])
    assert found.at(256).seconds[0] == pytest.approx([0.5e-5, 1e-5 / 1.15, 1.5e-5])


def test_what_says_nothing_of_its_clock_stays_as_it_is():
    found = Figures(cards(0.0, 1.2e-6, 1.2e-6), KEYS, 48000)
    assert found.clock == pytest.approx(1.2e-6)
    assert found.at(256).seconds[1] == pytest.approx([1e-5, 2e-5, 3e-5])
    assert Figures(cards(0.0, 0.0, 0.0), KEYS, 48000).clock == 0
    # The clock of another computer says nothing of this one's, and those of another rate have no part in it.
    of = cards(1.0e-6, 1.2e-6, 9e-6)
    far = tuple(msgspec.structs.replace(cell, provenance="elsewhere") for cell in of[KEYS[2]].cells)
    of[KEYS[2]] = msgspec.structs.replace(of[KEYS[2]], cells=far)
    found = Figures(of, KEYS, 48000)
    assert found.clock == pytest.approx(1.1e-6) and found.at(256).seconds[1, 2] == pytest.approx(3e-5)
    assert Figures(cards(1e-6, 1e-6, 2e-6), KEYS, 44100).clock == 0


def test_what_coming_back_costs_is_read_between_the_sizes_that_were_measured():
    of = cards(0.0, 0.0, 0.0)
    of[KEYS[0]] = msgspec.structs.replace(of[KEYS[0]], paced=(
        Paced(48000, 512, 1e-5, 1.2e-5), Paced(48000, 64, 1e-6, 1.8e-6), Paced(44100, 64, 1e-6, 9e-6),
    ))  # fmt: skip
    of[KEYS[1]] = msgspec.structs.replace(of[KEYS[1]], paced=(Paced(48000, 64, 1e-6, 0.5e-6),))
    found = Figures(of, KEYS, 48000)
    # 0.8 µs more once a deadline at 64 samples, 2 µs at 512, 0.4 with each doubling; below them no larger share than
    # at 64 of what a row takes.
    added = {32: 0.8 * (1 - 9 / 14), 64: 0.8, 128: 1.2, 256: 1.6, 512: 2.0, 4096: 3.2}
    for size, more in added.items():
        # What is cheaper is not told to be; what was not measured adds nothing.
        found_here = found.paced(size) * found.at(size).seconds[1]
        assert found_here == pytest.approx(np.array([more * 1e-6, 0.0, 0.0]))


def test_what_is_brought_back_once_a_block_is_microseconds_and_a_share_of_the_cells_cost():
    def added(*paced):
        of = cards(0.0, 0.0, 0.0)
        of[KEYS[0]] = msgspec.structs.replace(of[KEYS[0]], paced=paced)
        found = Figures(of, KEYS, 48000)
        return [1e6 * float((found.paced(size) * found.at(size).seconds[1])[0]) for size in (32, 64, 512, 1024, 4096)]

    # The same 2 µs at any size, whatever the cell is (here 2.5 µs at 64 samples, bursts and all, where a row took 1);
    # at 32 samples no larger share of the row than at 64.
    assert added(Paced(48000, 64, 1e-6, 3e-6), Paced(48000, 512, 8e-6, 10e-6)) == pytest.approx([1, 2, 2, 2, 2])
    # It is no less in longer blocks for being a little less at 512 samples than at 64.
    assert added(Paced(48000, 64, 1e-6, 3e-6), Paced(48000, 512, 8e-6, 9e-6))[-1] == pytest.approx(1)
    # What grows with the block does so by as much for each doubling beyond the sizes, and is never less than nothing.
    assert added(Paced(48000, 64, 1e-6, 1e-6), Paced(48000, 512, 8e-6, 16e-6))[-1] == pytest.approx(16)
    assert added(Paced(48000, 64, 1e-6, 1.1e-6), Paced(48000, 512, 8e-6, 16e-6))[0] == 0
    # Of one size it is a share of the row at any size.
    assert added(Paced(48000, 64, 1e-6, 3e-6)) == pytest.approx([1, 2, 16, 32, 128])
