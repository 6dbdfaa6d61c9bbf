"""Bars under changes of the time signature, against bars that are counted one by one."""

from __future__ import annotations

from fractions import Fraction
from itertools import islice

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nimbleload.core.piece.notes import bars
from nimbleload.core.session.meter import UNITS, BarMap, Bars
from nimbleload.core.session.session import Meter, SessionError, TempoPoint, Timing

METERS = st.lists(
    st.tuples(st.integers(0, 400), st.integers(1, 13), st.sampled_from(UNITS)), min_size=1, max_size=5,
    unique_by=lambda each: each[0],
)  # fmt: skip


def counted(meters: list[Meter], until: float) -> list[tuple[Fraction, Meter]]:
    """Every bar from the start on: where it begins, and how it is counted. In fractions, one after the other."""
    ordered = sorted(meters, key=lambda each: each.beat)
    found, at = [], Fraction(0)
    while at < until:
        meter = max((each for each in ordered if each.beat <= at), key=lambda each: each.beat, default=ordered[0])
        found.append((at, meter))
        after = at + Fraction(4 * meter.beats, meter.unit)
        # A change ends the bar that it lies in.
        at = min([after, *(Fraction(each.beat) for each in ordered if at < each.beat < after)])
    return found


@given(METERS)
@settings(deadline=None)
def test_bars_are_those_that_are_counted_one_by_one(rows):
    meters = [Meter(quarters / 4, beats, unit) for quarters, beats, unit in rows]
    expected, of = counted(meters, 120), BarMap(meters)
    assert list(islice(of.lines(), len(expected))) == pytest.approx([float(at) for at, _ in expected])
    for number, (at, meter) in enumerate(expected[:200]):
        end = float(expected[number + 1][0]) if number + 1 < len(expected) else None
        inside = [float(at), *([(float(at) + end) / 2] if end is not None else [])]
        for beat in inside:
            kind = of.at(beat)
            assert (kind.number(beat), kind.beats, kind.unit) == (number, meter.beats, meter.unit)
            assert kind.begins(beat) == pytest.approx(float(at))


def test_a_beat_that_is_a_hair_before_a_line_lies_in_the_bar_behind_it():
    of = BarMap([Meter(0, 4, 4), Meter(8, 3, 4)])
    assert of.at(8 - 1e-12) == Bars(8, 2, 3, 4)
    assert Bars(0, 0, 4, 4).number(4 - 1e-12) == 1 and Bars(0, 0, 4, 4).number(4 - 1e-6) == 0


def test_without_any_it_goes_in_fours_and_the_first_holds_from_the_start():
    assert BarMap([]).at(5.0) == Bars(0.0, 0, 4, 4)
    assert BarMap([Meter(6, 3, 4)]).at(1.0).beats == 3
    assert list(islice(BarMap([Meter(6, 3, 4)]).lines(), 3)) == [0.0, 3.0, 6.0]


@pytest.mark.parametrize("sign", [(0, 4), (100, 4), (4, 3), (4, 0), (4, 128)])
def test_what_no_time_signature_can_be_is_refused(sign):
    with pytest.raises(SessionError, match=f"{sign[0]}/{sign[1]} is not possible"):
        BarMap([Meter(0, *sign)])


def test_bar_lines_in_seconds_go_by_both():
    of = Timing((TempoPoint(0, 120), TempoPoint(8, 60)), (Meter(0, 4, 4), Meter(4, 6, 8)))
    assert bars(of, 9.0).tolist() == pytest.approx([0, 2, 3.5, 6.0, 9.0])
