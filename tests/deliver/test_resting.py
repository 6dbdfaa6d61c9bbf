"""Suspending written as automation: off while it is silent and never else, read again as the planned session."""

from __future__ import annotations

import zipfile

import msgspec
import numpy as np
import pytest

from nimbleload.core.decisions.apply import apply
from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.session.computer import Machine
from nimbleload.core.survey import survey
from nimbleload.deliver import exchange_out, render, resting
from nimbleload.store import dawproject, dawproject_curves
from nimbleload.store.splice import Text
from tests.helpers import exchange as x
from tests.helpers.sessions import cards_for
from tests.helpers.stems import audio, noise, wave

# With a switch that has an id, one without, and none at all.
DEVICES = (
    x.plugin("ClapPlugin", "one", "One").replace("<Enabled ", '<Enabled id="e1" ')
    + x.plugin("ClapPlugin", "two", "Two")
    + '<ClapPlugin deviceID="three" deviceName="Three" deviceRole="audioFX"><Parameters/></ClapPlugin>'
)
COSTS = dict.fromkeys(("one", "two", "three", "four"), 100e-6)
SUSPEND = Plan((Decision("suspend", "t"),))
CLIPS = x.clip(10, 20, audio()) + x.clip(60, 10, audio()) + x.clip(70.2, 5, audio())


def made(path, devices=DEVICES, more="", clips=CLIPS, unit="seconds"):
    structure = (
        x.track("t", "Voice", x.channel("c", devices=devices))
        + x.track("u", "Other", x.channel("cu", devices=x.plugin("ClapPlugin", "four", "Four"))) + x.main_track()
    )  # fmt: skip
    lanes = x.lanes("t", clips, unit=unit) + x.lanes("u", x.clip(0, 120, audio()), unit="seconds") + more
    return x.write(path, x.project(structure, lanes), {"audio/a.wav": wave(noise())})


def written(source, cards=None, plan=SUSPEND):
    session = dawproject.read(source).session
    target = source.with_name("b.dawproject")
    cards = cards_for(session, COSTS) if cards is None else cards
    return session, exchange_out.write(target, source, session, plan, {}, source.parent, cards), target


def off(target):
    """From when to when each switch is off, straight from the text of the file."""
    root = Text(zipfile.ZipFile(target).read("project.xml")).root
    found = {}
    for points in root.iter("Points"):
        of = points.find("Target").attributes["parameter"]
        rows = [(float(p.attributes["time"]), p.attributes["value"]) for p in points.children if p.tag == "BoolPoint"]
        ends = [*(second for second, _ in rows[1:]), 120.0]
        found[of] = [(a, b) for (a, value), b in zip(rows, ends, strict=True) if value == "false"]
    return found


def test_what_was_written_costs_nothing_while_it_is_silent_and_reads_as_the_plan(tmp_path):
    session, said, target = written(made(tmp_path / "a.dawproject"))
    assert said.by_hand == () and said.done == ("Voice: its plugins are switched off while it is silent",)
    switched = off(target)
    # Until a moment before it sounds, and not for the fifth of a second between two clips.
    assert len(switched) == 3 and "e1" in switched
    for spans in switched.values():
        assert np.allclose(spans, [(0, 10 - resting.LEAD), (30, 60 - resting.LEAD), (75.2, 120)])
    found = dawproject.read(target)
    planned = apply(session, SUSPEND).session
    assert found.session.strip("t").suspended and not found.session.strip("u").suspended
    assert "switched on and off" not in " ".join(found.report.left_out)
    cards = cards_for(session, COSTS)
    theirs = survey(found.session, Plan(), cards, Machine(2), 256)
    ours = survey(msgspec.structs.replace(planned, source=found.session.source), Plan(), cards, Machine(2), 256)
    assert np.array_equal(theirs.after.load, ours.after.load) and np.array_equal(theirs.after.times, ours.after.times)
    assert theirs.after.load.min() < survey(session, Plan(), cards, Machine(2), 256).after.load.min()
    # It can be frozen as before: nothing of it is off while it sounds.
    (job,) = render.jobs(found.session, Plan((Decision("freeze", "t"),)), found.audio, 256)
    assert render.obstacles(job) == []


def test_tails_are_let_ring(tmp_path):
    source = made(tmp_path / "a.dawproject")
    session = dawproject.read(source).session
    cards = {key: msgspec.structs.replace(card, tail=2.0) for key, card in cards_for(session, COSTS).items()}
    _, _, target = written(source, cards)
    # Three plugins of two seconds each.
    assert all(np.allclose(spans[1], (36, 60 - resting.LEAD)) for spans in off(target).values())


def test_a_track_that_never_rests_or_is_switched_already_is_left_to_the_hand(tmp_path):
    source = made(tmp_path / "a.dawproject", clips=x.clip(0, 119.5, audio()))
    _, said, target = written(source)
    assert said.by_hand == ("suspend: Voice (it is never silent for a second)",) and off(target) == {}
    moves = (
        '<Lanes track="t"><Points timeUnit="seconds"><Target parameter="e1"/><BoolPoint time="0" value="true"/>'
        '<BoolPoint time="20" value="false"/></Points></Lanes>'
    )
    source = made(tmp_path / "a.dawproject", more=moves)
    before = dawproject.read(source)
    assert not before.session.strip("t").suspended
    assert "Plugins on “Voice” are switched on and off by automation" in " ".join(before.report.left_out)
    _, said, target = written(source)
    assert said.by_hand == ("suspend: Voice (its switches are automated already)",)
    assert list(off(target)) == ["e1"]


def test_what_the_plan_could_not_do_is_not_written(tmp_path):
    source = made(tmp_path / "a.dawproject")
    session = dawproject.read(source).session
    armed = msgspec.structs.replace(session, strips=tuple(
        msgspec.structs.replace(strip, armed=strip.id == "t") for strip in session.strips
    ))  # fmt: skip
    target, plan = tmp_path / "b.dawproject", Plan((Decision("suspend", "t"), Decision("suspend", "gone")))
    said = exchange_out.write(target, source, armed, plan, {}, tmp_path, cards_for(session, COSTS))
    assert off(target) == {} and said.done == ()


def switching(*rows):
    inside = "".join(f'<BoolPoint time="{second}" value="{value}"/>' for second, value in rows)
    points = f'<Points timeUnit="seconds"><Target parameter="e1"/>{inside}</Points>'
    return f'<Lanes track="t">{points}</Lanes>'


@pytest.mark.parametrize(
    ("rows", "is_suspended", "is_followed"),
    [
        (((0, "false"), (10, "true"), (30, "false"), (60, "true"), (80, "false")), True, True),
        (((0, "false"), (9, "true"), (45, "false"), (59, "true"), (90, "false")), True, True),  # tails are left time
        (((0, "false"), (10.5, "true"), (30, "false"), (60, "true"), (80, "false")), False, False),  # while it sounds
        (((0, "false"), (10, "true")), False, True),  # on for most of what is silent
        (((0, "true"),), False, False),
    ],
)
def test_who_is_switched_off_in_the_right_places_is_suspended(tmp_path, rows, is_suspended, is_followed):
    one = x.plugin("ClapPlugin", "one", "One").replace("<Enabled ", '<Enabled id="e1" ')
    found = dawproject.read(made(tmp_path / "a.dawproject", one, switching(*rows)))
    assert found.session.strip("t").suspended is is_suspended
    told = "switched on and off by automation" in " ".join(found.report.left_out)
    assert told is (not is_suspended and len(rows) > 1)
    assert dict(found.audio["t"].unclear) == ({"t/0": dawproject_curves.SWITCHED} if told and not is_followed else {})
    # What is off while nothing sounds gives nothing then, and can be rendered.
    awake = found.audio["t"].awake
    assert (awake is not None) is is_followed
    if awake is not None:
        assert [awake.value_at(second) for second, _ in rows] == [float(value == "true") for _, value in rows]


def test_one_of_two_plugins_is_not_the_track(tmp_path):
    rows = ((0, "false"), (10, "true"), (30, "false"), (60, "true"), (80, "false"))
    found = dawproject.read(made(tmp_path / "a.dawproject", DEVICES, switching(*rows)))
    assert not found.session.strip("t").suspended and "Plugins on “Voice”" in " ".join(found.report.left_out)
