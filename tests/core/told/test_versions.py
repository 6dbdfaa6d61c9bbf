"""Two versions of a session, told against each other."""

from __future__ import annotations

import numpy as np

from nimbleload.core.decisions.decision import Plan
from nimbleload.core.load.load_map import LoadMap
from nimbleload.core.session.computer import Machine
from nimbleload.core.session.session import Section
from nimbleload.core.survey import survey
from nimbleload.core.told.versions import against_held, load_at, sections_against
from tests.helpers.sessions import cards_for, session, track


def made(times, loads, buffer=256):
    load = np.array(loads, float)
    return LoadMap(buffer, 4, 0.005, np.array(times, float), load, load, load, load)


def test_the_load_of_a_second_is_that_of_its_moment():
    of = made([0, 10, 20], [0.5, 0.75])
    assert [load_at(of, second) for second in (0, 9.99, 10, 19.9, 20, 99)] == [0.5, 0.5, 0.75, 0.75, 0.75, 0.75]


def test_worst_moments_may_lie_in_other_places():
    held, now = made([0, 10, 20], [0.5, 0.9]), made([0, 5, 20], [0.8, 0.4])
    assert against_held(held, now, 12) == "worst: held 90 % at 0:15 → now 80 % at 0:02;  here 90 % → 40 %"
    same = made([0, 5, 20], [0.9, 0.4], buffer=512)
    assert against_held(same, held, 0) == "worst 90 %, as in the version held (held at 512 samples);  here 90 % → 50 %"


def test_sections_are_those_of_now_and_end_where_the_next_begins():
    tracks = session(track("a", "p", clips=((0, 4),)), track("b", "q", clips=((6, 10),)),
                     sections=(Section("Verse", 0.0), Section("Storm", 5.0)))  # fmt: skip
    found = {}
    for cost in (1e-3, 2e-3):
        cards = cards_for(tracks, {"p": 1e-3, "q": cost}, silent=0.0)
        found[cost] = survey(tracks, Plan(), cards, Machine(1), 256).after
    told = sections_against(tracks, found[1e-3], found[2e-3])
    assert [name for name, *_ in told] == ["Verse", "Storm"]
    assert told[0][1] == told[0][2] and told[1][2] > told[1][1]
    assert told[1][1] == found[1e-3].load[found[1e-3].times[:-1] >= 5].max()
    # Brute force: the load at many seconds.
    assert told[1][2] == max(load_at(found[2e-3], second) for second in np.linspace(5, 9.999, 500))
    # A held version that was shorter has nothing there.
    assert sections_against(tracks, made([0, 4], [0.5]), found[2e-3])[1] == ("Storm", 0, told[1][2])
