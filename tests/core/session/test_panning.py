"""Pan laws, against what each is named after: decibels at the centre and at the sides, and what stays the same."""

from __future__ import annotations

import numpy as np
import pytest

from nimbleload.core.session.panning import LAWS, changes, sides

PANS = np.linspace(-1, 1, 201)


def db(gain):
    return 20 * np.log10(gain)


@pytest.mark.parametrize(
    ("law", "centre", "side"),
    [("balance", 0, 0), ("-3", -3.0103, 0), ("-4.5", -4.5154, 0), ("-6", -6.0206, 0),
     ("+3", 0, 3.0103), ("+4.5", 0, 4.5154), ("+6", 0, 6.0206)],
)  # fmt: skip
def test_the_centre_and_the_sides_are_so_loud(law, centre, side):
    assert db(sides(law, np.array([0.0]))[0]) == pytest.approx([centre, centre], abs=1e-3)
    left, right = sides(law, np.array([-1.0, 1.0]))
    assert db(left[0]) == pytest.approx(side, abs=1e-3) and left[1] == pytest.approx(0, abs=1e-12)
    assert db(right[1]) == pytest.approx(side, abs=1e-3) and right[0] == pytest.approx(0, abs=1e-12)
    assert changes(law, 0.0) == (centre != 0) and changes(law, 0.5)


@pytest.mark.parametrize("law", LAWS)
def test_left_mirrors_right_and_a_side_only_gets_softer_as_the_pan_leaves_it(law):
    gains = sides(law, PANS)
    assert np.allclose(gains, gains[::-1, ::-1])
    assert (np.diff(gains[:, 1]) >= 0).all() and (np.diff(gains[:, 0]) <= 0).all()


def test_what_each_law_keeps():
    assert np.allclose((sides("-3", PANS) ** 2).sum(axis=1), 1)
    assert np.allclose(sides("-6", PANS).sum(axis=1), 1)
    assert np.allclose(sides("-4.5", PANS) ** 2, sides("-3", PANS) * sides("-6", PANS))
    assert np.allclose(sides("balance", PANS).max(axis=1), 1)


def test_what_is_no_law_is_refused():
    for law in ("", "-2", "+", "loud", "!3"):
        with pytest.raises(ValueError, match="is no pan law"):
            sides(law, PANS)
