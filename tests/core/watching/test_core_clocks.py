"""At which clock an engine computed, and what that explains of what is seen."""

from __future__ import annotations

import numpy as np
import pytest

from nimbleload.core.told.held_up import clock_words
from nimbleload.core.told.watching import by_name, change_words, late_words, table
from nimbleload.core.watching.before import Before
from nimbleload.core.watching.blocks import see
from nimbleload.core.watching.core_clocks import clock
from nimbleload.core.watching.records import Clocks
from tests.helpers.recordings import blocks, recording, thread

PERIOD, COUNT = 5_000_000, 400
GHZ, BEGUN, SECOND = 10**9, 1_000_000_000, 10**9


def looks(*clocks, hot=None, begun=BEGUN, cores=(0,), most=(4 * GHZ,)):
    """A look a second, the last of them a second before two seconds of blocks are over, at the clock of all cores, or
    of each."""
    times = [begun + (k - len(clocks) + 2) * SECOND for k in range(len(clocks))]
    each = [(one,) * len(cores) if isinstance(one, (int, float)) else one for one in clocks]
    counts = hot or [0] * len(clocks)
    most = most if len(most) == len(cores) else most * len(cores)
    told = zip(times, each, counts, strict=True)
    return Clocks.of(cores, most, [(t, [int(c * GHZ) for c in one], [h] * len(cores)) for t, one, h in told])


def seen(clocks, busy=(2_000_000,), owner=1, cores=None):
    stretches = blocks(PERIOD, COUNT, list(busy))
    at = [(at, owner) for begin, end in stretches for at in range(begin + 50_000, end, 100_000)]
    of = thread(1, stretches, looks=at, weight=100_000)
    if cores is not None:
        of = of._replace(switch_core=np.repeat(np.resize(cores, len(stretches)), 2))
    made = recording(of, files=["/lv2/Tar.lv2", "/lv2/Mist.lv2"], begun=BEGUN)
    return see(made._replace(clocks=clocks))


def test_each_core_counts_by_how_much_the_engine_computes_there():
    of = seen(looks((2, 4, 1), (2, 4, 1), cores=(0, 3, 5), most=(3 * GHZ, 5 * GHZ, GHZ)), cores=(0, 3, 3, 3))
    assert clock(of) == pytest.approx((3.5 * GHZ, 4.5 * GHZ, 0, 0, 0))


def test_a_core_whose_clock_is_not_told_does_not_count():
    of = seen(looks(2, 2, cores=(3,)), cores=(0, 3))
    assert clock(of).now == 2 * GHZ
    assert clock(seen(looks(2, 2, cores=(5,)))) is None
    assert clock(seen(Clocks.of((), (), ()))) is None


def test_cores_have_whatever_numbers():
    of = seen(looks(2, 2, cores=(3, 10**15, 2**62)), cores=(-7, 2**62, 2**61))
    assert clock(of) == pytest.approx((2 * GHZ, 4 * GHZ, 0, 0, 0))


def test_a_look_at_which_it_is_not_told_is_left_out():
    assert clock(seen(looks(3, 0))).now == 3 * GHZ
    assert clock(seen(looks(0, 0))) is None
    # And what was before it began.
    assert clock(seen(looks(4, 3, 3))).now == 3 * GHZ


def test_what_ran_before_is_told_if_it_lasted():
    fell = seen(looks(*[4] * 8, *[3] * 20))
    assert clock(fell)[2:4] == pytest.approx((4 * GHZ, 21), abs=0.01)
    assert clock_words(fell) == [
        "Its cores ran at 3.0 GHz, of 4.0 GHz that they may have (see Machine).",
        "Until about 21 s ago they ran at 4.0 GHz: the same work takes up to 1.3 times as long since.",
    ]
    # A short rise is none, nor what is hardly more, nor where it was slower before.
    for clocks in ([3] * 8 + [4] * 7 + [3] * 20, [3.2] * 20 + [3] * 20, [2] * 20 + [3] * 20):
        assert clock(seen(looks(*clocks)))[2:4] == (0, 0)


def test_a_clock_that_came_down_in_steps_ended_where_it_was_nearer_to_the_last():
    assert clock(seen(looks(*[4] * 8, *[3.6] * 5, *[3.4] * 5, *[3] * 5))).ago == pytest.approx(11, abs=0.01)


def test_a_fast_clock_is_worth_no_word():
    assert clock_words(seen(looks(3.5, 3.5))) == []
    said = "Its cores ran at 3.3 GHz, of 4.0 GHz that they may have (see Machine)."
    assert clock_words(seen(looks(3.3, 3.3))) == [said]
    assert clock_words(seen(looks(3.3, 3.3, most=(0,)))) == []


def test_heat_is_counted_of_what_is_shown_alone():
    counts = seen(looks(3.5, 3.5, 3.5, 3.5, hot=[5, 7, 8, 10]))
    assert clock(counts).hot == 3
    assert clock_words(counts) == ["Its cores were too hot and were slowed down 3 times: they ran at 3.5 GHz."]
    elsewhere = Clocks.of((0, 1), (4 * GHZ,) * 2, [(BEGUN + k * SECOND, (4 * GHZ,) * 2, (3, 9 * k)) for k in range(3)])
    assert clock(seen(elsewhere)).hot == 0 and clock(seen(elsewhere, cores=(1,))).hot == 18
    one = seen(looks(2, 2, hot=[7, 8]))
    assert clock_words(one) == [
        "Its cores were too hot and were slowed down 1 time: they ran at 2.0 GHz, of 4.0 GHz that they may have."
    ]


def test_blocks_that_took_longer_at_a_lower_clock_are_told_so():
    # The last fifth of them takes as long as the clock is slower there; looks tell of the second before.
    busy = [4_000_000] * 300 + [5_400_000] * 20 + [4_000_000] * 80
    times = range(BEGUN + 100_000_000, BEGUN + 1_900_000_001, 100_000_000)
    slow = [(t, [3 * GHZ if BEGUN + 300 * PERIOD < t <= BEGUN + 325 * PERIOD else 4 * GHZ], [0]) for t in times]
    of = seen(Clocks.of((0,), (4 * GHZ,), slow), busy)
    said = "longer by themselves at 3.0 GHz, where others were computed at 4.0 GHz, 100 % of it in Tar."
    assert late_words(of, {})[0].endswith(said)
    (one,) = of.recording.threads
    both = one._replace(look_owner=np.resize([1, 2], len(one.look_owner)))
    assert late_words(see(of.recording._replace(threads=(both,))), {})[0].endswith("at 4.0 GHz, and all in them alike.")
    even = Clocks.of((0,), (4 * GHZ,), [(t, [4 * GHZ], [0]) for t in times])
    said = late_words(see(of.recording._replace(threads=(both,), clocks=even)), {})[0]
    assert "alike: cores were slowed down or taken away meanwhile (power saving" in said


def held(of):
    return Before.of(of, by_name(table(of, {})))


@pytest.mark.parametrize(
    ("now", "busy", "is_real"),
    [(3, 2_600_000, False), (3, 2_000_000, False), (3, 3_000_000, True), (3, 1_700_000, True), (4, 2_600_000, True)],
)
def test_what_a_slower_clock_explains_is_no_difference(now, busy, is_real):
    before, after = seen(looks(4, 4)), seen(looks(now, now), [busy])
    (change,) = held(before).changes(by_name(table(after, {})), after)
    assert change.is_real == is_real


def test_what_a_faster_clock_explains_is_none_either():
    before, after = seen(looks(3, 3), [2_600_000]), seen(looks(4, 4), [2_000_000])
    then = held(before)
    assert not then.changes(by_name(table(after, {})), after)[0].is_real
    assert change_words([], then.slower(after)) == (
        "No difference to before is more than chance. The cores run faster now: what only takes as little as 0.75 of "
        "the time is no difference."
    )


def test_where_a_clock_is_not_told_a_difference_stays_one():
    before, after = seen(looks(4, 4)), seen(Clocks.of((), (), ()), [2_600_000])
    found = held(before).changes(by_name(table(after, {})), after)
    assert found[0].is_real and held(before).slower(after) == 1
    assert change_words(found) == "Against before +12 % of one core: Tar +12 %."
    assert change_words(found, 1.33).endswith(
        "Tar +12 %. The cores run slower now: what only takes up to 1.33 times as long is no difference."
    )
