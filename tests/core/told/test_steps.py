"""How good a plan is, in words that claim no more than was proven."""

from __future__ import annotations

from types import SimpleNamespace

import pytest

from nimbleload.core.decisions.apply import told_as
from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.optimise.suggest import Suggestion
from nimbleload.core.told.steps import how_good, words
from tests.helpers.sessions import session, track


@pytest.mark.parametrize(
    ("chain", "said"),
    [("p", "p"), ("pq", "p and q"), ("pqr", "p, q and r"), ("pqrst", "p, q, r and 2 more")],
)  # fmt: skip
def test_a_shared_bus_is_told_with_all_that_moves_to_it(chain, said):
    of = SimpleNamespace(session=session(*(track(name, *chain) for name in "abcd")))
    shared = [Decision("share", name, f"{name}/p", into="x") for name in "abcd"]
    assert words(of, shared) == f"One {said} on a bus for four: a, b, c and 1 more"
    assert words(of, shared[:1]) == f"One {said} on a bus for one: a"
    assert told_as(of.session, shared[0]) == f"Share {said} of a on a bus"


@pytest.mark.parametrize(
    ("least", "said"),
    [
        (4.0, "No plan gives up less."), (3.999999, "No plan gives up less."), (3.99, "No plan gives up 0.5 % less."),
        (3.6, "Another plan may give up less, but by 0.4 min at most (10 %)."),
    ],
)  # fmt: skip
def test_it_claims_what_was_proven(least, said):
    assert how_good(Suggestion(Plan(), (), 0.8, 4.0, least, True, False, None, ())) == said


@pytest.mark.parametrize(
    ("smallest", "said"),
    [(0.3, ""), (0.39, ""), (0.5, ", which is no more than its smallest step"),
     (0.6, ", which is at most three quarters of its smallest step"),
     (1.0, ", which is at most half of its smallest step"), (2.0, ", which is at most a quarter of its smallest step")],
)  # fmt: skip
def test_what_is_not_proven_is_held_against_its_smallest_step(smallest, said):
    steps = tuple(SimpleNamespace(price=SimpleNamespace(minutes=each)) for each in (3.0, smallest))
    found = Suggestion(Plan(), steps, 0.8, 4.0, 3.6, True, False, None, ())
    assert how_good(found) == f"Another plan may give up less, but by 0.4 min at most (10 %){said}."
