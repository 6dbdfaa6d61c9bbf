"""What is said of the dropouts of a watched host."""

from __future__ import annotations

import time

import pytest

from nimbleload.core.told.dropouts import line, past_words
from nimbleload.core.told.watching import calling, thread_names
from nimbleload.core.watching.blocks import see
from nimbleload.core.watching.history import Mark, past_of
from nimbleload.core.watching.records import Heard, Others
from nimbleload.core.watching.server import Server
from tests.helpers.rare import BEGUN, PERIOD, rare

LONG = (1_000_000, 6_000_000)
NAMES = {"/plugins/Stone.so": "Stone EQ"}


@pytest.fixture(autouse=True)
def _in_london(monkeypatch):
    monkeypatch.setenv("TZ", "UTC")
    time.tzset()
    yield
    monkeypatch.undo()
    time.tzset()


def told(made, day=0.0, **changes):
    of = see(made)
    past = past_of(of, day)._replace(**changes)
    return past_words(past, calling(of, NAMES), thread_names(of)), past, of


def at(block):
    return BEGUN + block * PERIOD


def test_nothing_is_said_of_a_short_time_without_one():
    assert told(rare(2000, (), LONG))[0] == []
    assert told(rare(2000, (), LONG), played=600.0)[0] == ["No dropout in 10 min of playing."]


def test_one_is_told_with_when_it_came_and_how_large_it_was():
    said, past, of = told(rare(2000, (1000,), LONG), 1_700_000_000.0)
    # 5 s after the first block was due, which 1 s after zero: at 22:13:26 in UTC.
    assert said[0] == "A dropout in 10 s of playing, at 22:13:26: 2 blocks, 2.55 ms late."
    assert said[1] == "Why 2 blocks were late: they took longer by themselves, by whom is not clear from so few looks."
    one = line(past.dropouts[0], past, calling(of, NAMES), thread_names(of))
    assert one.whole == (
        "22:13:26  2 blocks, 2.55 ms late. Took longer by themselves, by whom is not clear from so few looks."
    )
    assert told(rare(2000, (1000,), LONG))[0][0].endswith("at 0:05 of watching: 2 blocks, 2.55 ms late.")


def test_several_name_who_took_longer_and_what_was_at_work():
    late = (700, 1533, 2101, 3090, 3712, 4640)
    made = rare(5000, late, LONG, [(at(k), at(k) + 2_000_000) for k in late])
    said, past, of = told(made)
    assert said[0] == "6 dropouts in 25 s of playing, the last at 0:23 of watching."
    assert said[1] == "Why 12 blocks were late: they took longer by themselves, 100 % of it in Stone EQ."
    assert said[2] == "With 480 samples all would have come all the same, with 960 samples none."
    assert said[3] == "In all the thread saver was at work, as it is hardly ever else."
    assert len(said) == 4
    assert line(past.dropouts[0], past, calling(of, NAMES), thread_names(of)).beside == "saver"


def test_a_clock_and_a_program_are_told():
    late = range(400, 4400, 400)
    looks = [Others(at(200 * k), {"indexer": 0.5 if k % 2 else 0.0}, {}) for k in range(24)]
    said, _, _ = told(rare(5000, late, LONG, others=looks))
    assert said[3].startswith("All came in steps of 2.00 s, which is no chance: something starts by a clock then")
    # In every other second it is at work anyway.
    assert len(said) == 4
    looks = [Others(at(200 * k), {"indexer": 0.5 if k in (3, 5, 7, 9) else 0.0}, {}) for k in range(24)]
    said, _, _ = told(rare(5000, [507, 951, 1222, 1313, 1789], LONG, others=looks))
    told_so = "In all the program indexer was at work, as it is in 13 % of the time else: play once without it."
    assert said[-1] == told_so


def test_that_cores_were_taken_away_around_them_is_told_with_how_much_at_least():
    made = rare(5000, [507, 951], LONG)
    there = sum(float((runs_.end - runs_.begin).sum()) for runs_ in see(made).runs[:1]) / 1e9

    def ran(share):
        return made._replace(threads=(made.threads[0]._replace(ran=share * there), *made.threads[1:]))

    said = told(ran(0.9))[0]
    assert said[2].startswith("Around all of them at least 10 % of the engine's time on cores was taken away by")
    assert not any("taken away" in each for each in (*told(ran(0.995))[0], *told(made)[0]))
    one = past_of(see(ran(0.9)))
    some = one._replace(dropouts=(one.dropouts[0]._replace(taken=0.0), *one.dropouts[1:]))
    assert past_words(some, str, ["engine", "saver"])[2].startswith("Around 1 of them at least 10 %")


def test_a_device_that_interrupts_then_is_told():
    late = [507, 951, 1222, 1313, 1789]
    looks = [Others(at(200 * k), {}, {"wlan": 5000.0 if k in (3, 5, 7, 9) else 40.0}) for k in range(24)]
    said, past, of = told(rare(5000, late, LONG, others=looks))
    words = "wlan interrupted far more often than usual, as it does in 13 % of the time else: play once without it."
    assert said[-1] == f"In all {words}"
    assert line(past.dropouts[0], past, calling(of, NAMES), thread_names(of)).beside == "interrupts of wlan"


def test_what_ended_before_it_was_looked_at_is_told_by_who_starts_it():
    looks = [Others(at(200 * k), {}, {}, {"bar": 0.3} if k in (3, 5, 7, 9) else {}) for k in range(24)]
    said, past, of = told(rare(5000, [507, 951, 1222, 1313, 1789], LONG, others=looks))
    words = "was at work, as it is in 13 % of the time else: play once without it."
    assert said[-1] == f"In all something that bar starts {words}"
    assert line(past.dropouts[0], past, calling(of, NAMES), thread_names(of)).beside == "something that bar starts"


def test_that_all_came_at_first_or_only_lately_is_told():
    said = told(rare(40_000, (100, 150, 400), LONG))[0]
    assert said[-1] == "All came in the first 2 s of playing; none in the 3 min since."
    said = told(rare(40_000, (39_500, 39_800, 39_900), LONG))[0]
    assert said[-1] == "None came in the first 3 min of playing: something is different since."


def test_what_the_server_gave_up_alone_is_told_as_such():
    server = Server("JACK", "", 1, 48000, 240, True, -1, -1, ())
    made = rare(2000, (), LONG)._replace(heard=Heard.of(server, [(at(1200) + 1_000_000, 0.002)], ()))
    said, past, of = told(made)
    assert said == [
        "A dropout in 10 s of playing, at 0:06 of watching: an xrun.",
        "One of them is an xrun of the sound server while no block was late: look at the device and its driver.",
    ]
    assert line(past.dropouts[0], past, calling(of, NAMES), ["engine", "saver"]).why == (
        "The sound server gave a block up; every block was in time"
    )
    absent = past.dropouts[0]._replace(absent=1)
    assert line(absent, past, calling(of, NAMES), ["engine", "saver"]).why.endswith("while saver did not compute")


def test_what_somebody_heard_is_compared_with_what_was_late():
    made = rare(4000, (2000,), LONG)
    heard, else_ = Mark(0, 0.0, True, 1.2), Mark(0, 0.0, False, 0.62)
    assert told(made, marks=(heard,))[0][-1] == (
        "You heard one: a block was late just before it. By chance 13 % would have one."
    )
    assert "You heard 3: a block was late just before 2 of them." in told(made, marks=(heard, else_, heard))[0][-1]
    said = told(made, marks=(else_, else_))[0][-1]
    assert said.startswith("You heard 2, and no block was late before any of them; the fullest took 62 %.")
    assert "look at the device" in said
    assert "before it; the fullest took 62 %" in told(made, marks=(else_,))[0][-1]


def test_what_could_not_be_seen_is_told():
    assert told(rare(2000, (), LONG), unseen=12.0)[0][-1].startswith("12 s of it could not be seen")
    assert told(rare(2000, (), LONG), no_cycle=3.0)[0][-1].startswith("For 3 s no cycle could be found")
    assert told(rare(2000, (), LONG), no_cycle=0.5)[0] == told(rare(2000, (), LONG))[0]
