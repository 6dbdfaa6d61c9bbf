"""What is worth measuring once more: what others disturbed, and what stands out from the sizes beside it."""

from __future__ import annotations

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from nimbleload.core.cards.card import Cell, CostCard, Paced
from nimbleload.core.cards.doubt import most_shared, sizes_to_repeat, to_repeat
from nimbleload.core.cards.slowing import Slowing
from nimbleload.core.session.computer import BUFFER_SIZES
from nimbleload.core.told.card import card_sentences
from tests.helpers.sessions import use

KEY = use("eq").card_key()


def card(costs: dict[int, float], clocks: dict[int, float] | None = None, **changes) -> CostCard:
    cells = [
        Cell(48000, size, condition, cost * part, clock=(clocks or {}).get(size, 1e-6))
        for size, cost in costs.items()
        for condition, part in (("sounding", 1.0), ("silent", 0.3), ("waking", 7.0))
    ]
    return CostCard(KEY, "Eq", tuple(msgspec.structs.replace(cell, **changes) for cell in cells))


def line(fixed: float, each: float) -> dict[int, float]:
    return {size: fixed + each * size for size in BUFFER_SIZES}


@given(st.floats(0, 1e-4), st.floats(1e-10, 1e-6), st.floats(0.9, 1.05))
def test_what_lies_on_a_line_or_below_it_does_not_stand_out(fixed, each, bent):
    assert to_repeat(card({size: cost * bent ** (size % 3) for size, cost in line(fixed, each).items()}), 48000) == ()


@pytest.mark.parametrize("size", BUFFER_SIZES)
def test_one_size_that_costs_half_as_much_again_stands_out(size):
    costs = line(1e-5, 1e-7)
    raised = card({**costs, size: 1.5 * costs[size]})
    assert to_repeat(raised, 48000) == ((size, "sounding"), (size, "silent"))
    # A fraction of a microsecond is no matter.
    small = {each: cost / 1000 for each, cost in costs.items()}
    assert to_repeat(card({**small, size: 1.5 * small[size]}), 48000) == ()
    # At another rate, or not measured here, there is nothing to repeat.
    assert to_repeat(raised, 44100) == ()
    assert to_repeat(card({**costs, size: 1.5 * costs[size]}, provenance="sample"), 48000) == ()


def test_what_was_measured_at_a_lower_clock_does_not_stand_out():
    costs = line(1e-5, 1e-7)
    slow = {**costs, 256: 1.2 * costs[256]}
    assert to_repeat(card(slow, {256: 1.2e-6}), 48000) == ()
    assert to_repeat(card(slow), 48000) == ((256, "sounding"), (256, "silent"))
    # Where one clock is not known, none counts.
    assert to_repeat(card(costs, {32: 0.5e-6, 64: 0.0, 128: 0.5e-6}), 48000) == ()


def test_what_others_disturbed_is_repeated_wherever_it_lies():
    disturbed = card(line(1e-5, 1e-7), quiet=False, shared=1.5)
    assert len(to_repeat(disturbed, 48000)) == 2 * len(BUFFER_SIZES)
    assert to_repeat(card(line(1e-5, 1e-7), quiet=False, shared=1.03), 48000) == ()


def in_turns(costs: dict[int, float], rows: dict[int, float], known: float = 1.0, **changes) -> CostCard:
    """A card whose blocks took so long in a row while they were measured in turns."""
    paced = tuple(Paced(48000, size, row, 2 * row, **changes) for size, row in rows.items())
    slowing = tuple(Slowing(48000, size, known=known) for size in rows)
    return msgspec.structs.replace(card(costs), paced=paced, slowing=slowing)


def test_what_was_measured_in_turns_is_repeated_where_its_cell_was_clearly_cheaper():
    costs = line(1e-5, 1e-7)
    same = {size: 1.1 * costs[size] for size in (64, 512)}
    assert sizes_to_repeat(in_turns(costs, same), 48000) == ()
    dearer = {**same, 512: 1.3 * costs[512]}
    assert sizes_to_repeat(in_turns(costs, dearer), 48000) == (512,)
    assert sizes_to_repeat(in_turns(costs, dearer), 44100) == ()
    # A cell that is in doubt itself, or from elsewhere, says nothing of it; nor what is a fraction of a microsecond.
    of = in_turns(costs, dearer)
    for changes in ({"quiet": False, "shared": 1.5}, {"provenance": "sample"}):
        cells = tuple(msgspec.structs.replace(each, **changes) for each in of.cells)
        assert sizes_to_repeat(msgspec.structs.replace(of, cells=cells), 48000) == ()
    assert sizes_to_repeat(in_turns(line(0, 1e-9), {64: 0.3e-6}), 48000) == ()


def test_what_others_disturbed_in_turns_is_repeated():
    costs = line(1e-5, 1e-7)
    rows = {size: costs[size] for size in (64, 512)}
    assert sizes_to_repeat(in_turns(costs, rows, shared=1.3), 48000) == (64, 512)
    assert sizes_to_repeat(in_turns(costs, rows, shared=1.05), 48000) == ()
    assert [most_shared(in_turns(costs, rows, shared=each), 48000) for each in (1.3, 1.05)] == [1.3, 1.0]
    assert most_shared(in_turns(costs, rows, shared=1.3), 44100) == 1.0
    assert most_shared(card(costs, quiet=False, shared=1.5), 48000) == 1.5
    assert sizes_to_repeat(in_turns(costs, rows, known=0.3), 48000) == (64, 512)
    assert sizes_to_repeat(in_turns(costs, rows, known=0.3), 44100) == ()


@pytest.mark.parametrize(("shared", "row", "better"), [(1.0, 3e-6, True), (1.5, 1.9e-6, True), (1.5, 2e-6, False),
                                                       (1.8, 1e-6, False)])  # fmt: skip
def test_of_two_figures_in_turns_the_less_shared_or_the_lower_is_better(shared, row, better):
    before = Paced(48000, 64, 2e-6, 3e-6, 1.5)
    assert Paced(48000, 64, row, 9e-6, shared).is_better(before) is better


def test_a_card_says_that_what_coming_back_costs_may_be_others_doing():
    costs = line(1e-5, 1e-7)
    rows = {size: costs[size] for size in (64, 512)}
    for shared, expected in ((1.0, False), (1.3, True)):
        said = card_sentences(in_turns(costs, rows, shared=shared), 48000, 64)
        begin = next(k for k, each in enumerate(said) if each.startswith("Called once a deadline"))
        assert ("Others shared the core all the while this was measured: it may be less." in said[begin:]) is expected
