"""Surveys that come from the process beside: those that are computed here, with the very objects that were given."""

from __future__ import annotations

import os
import pickle
import signal
import threading

import msgspec
import numpy as np
import pytest

from nimbleload.beside.client import BesideError
from nimbleload.beside.packing import packed, roots, unpacked
from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.load.host_fit import MeterReading
from nimbleload.core.load.rehearsal import Rehearsal
from nimbleload.core.optimise.steps import stepped
from nimbleload.core.optimise.weigh import weigh
from nimbleload.core.session.computer import Machine
from nimbleload.core.session.session import SessionError
from nimbleload.core.survey import fitted, foreseen, host_seen, instant, prediction, ranked, survey
from nimbleload.core.told.outlook import band, outlook
from nimbleload.core.watching.blocks import see
from nimbleload.demo.cards import sample_cards
from nimbleload.demo.recording import recording
from nimbleload.demo.session import session
from tests.beside.test_client import same


def asked(beside, of, second=None, **other):
    """The survey that `of` is, from beside; but for what is said otherwise."""
    given = {"session": of.session, "plan": of.plan, "cards": of.now.cards, "machine": of.machine, "buffer": of.buffer}
    return beside.survey(**(given | other), second=second)


def assert_alike(found, at, of, second=None):
    """Whether a survey from beside is as good as the one that is computed here."""
    here = instant(of, second)
    assert same(at, here)
    for name in ("before", "after", "warnings", "latencies", "threads", "deadline"):
        assert same(getattr(found, name), getattr(of, name)), name
    for mine, other in ((found.now, of.now), (found.planned, of.planned)):
        assert mine.session == other.session
        for name in ("graph", "uses", "live", "tasks"):
            assert same(getattr(mine, name), getattr(other, name)), name
    assert found.cases.keys() == of.cases.keys()
    # What is computed from it here is the same as well.
    assert same(instant(found, 33.0), instant(of, 33.0)) and same(band(found), band(of))
    assert same(outlook(found, at), outlook(of, here)) and same(prediction(found, at), prediction(of, here))
    assert same(weigh(found, at, ("track-3", "track-9"), None), weigh(of, here, ("track-3", "track-9"), None))
    assert same(ranked(found, at, "mean", (0.0, 90.0)), ranked(of, here, "mean", (0.0, 90.0)))


def test_it_is_the_one_that_is_computed_here(of, beside):
    found, at = asked(beside, of)
    assert_alike(found, at, of)
    again, later = asked(beside, of, 33.0)
    assert_alike(again, later, of, 33.0)


def test_it_holds_what_was_given_and_shares_what_has_not_changed(of, beside):
    found, _ = asked(beside, of)
    assert found.session is of.session and found.plan is of.plan and found.machine is of.machine
    assert found.now.cards is of.now.cards and found.planned.cards is of.now.cards
    assert all(use is own for use, own in zip(found.now.uses.uses, of.now.uses.uses, strict=True))
    frozen = {decision.strip for decision in of.plan.decisions}
    for mine, given in zip(found.planned.session.strips, of.session.strips, strict=True):
        assert mine is given or mine.id in frozen
    plan = Plan(of.plan.decisions[1:])
    other, at = asked(beside, of, plan=plan)
    assert_alike(other, at, survey(of.session, plan, of.now.cards, of.machine, of.buffer))
    assert other.now is found.now and other.before is found.before
    assert other.planned.moments is found.planned.moments and other.planned.figures is found.planned.figures


def test_whatever_is_asked_in_between_each_is_right(of, beside):
    """Surveys of other plans, sessions, cards and computers, and questions of those that came earlier."""
    dearer = {
        key: msgspec.structs.replace(
            card, cells=tuple(msgspec.structs.replace(cell, mean=cell.mean * 2) for cell in card.cells)
        )
        for key, card in of.now.cards.items()
    }
    fewer = msgspec.structs.replace(of.session, strips=tuple(
        msgspec.structs.replace(strip, enabled=strip.id != "track-5") for strip in of.session.strips
    ))  # fmt: skip
    rng, came = np.random.default_rng(5), []
    for _ in range(14):
        choice = {
            "plan": (of.plan, Plan(), Plan((Decision("off", "track-3"),)))[rng.integers(3)],
            "session": (of.session, fewer)[rng.integers(2)], "cards": (of.now.cards, dearer)[rng.integers(2)],
            "machine": (of.machine, Machine(2))[rng.integers(2)], "buffer": (128, 256)[rng.integers(2)],
        }  # fmt: skip
        if rng.random() < 0.4:
            # Blocks last another time then, and moments that are shorter than one are joined in another way.
            choice["session"] = msgspec.structs.replace(choice["session"], rate=176400)
        found, at = asked(beside, of, 100.0, **choice)
        here = survey(*(choice[name] for name in ("session", "plan", "cards", "machine", "buffer")))
        assert same(at, instant(here, 100.0)) and same(found.after, here.after) and same(found.before, here.before)
        came.append((found, here))
        for mine, other in [came[k] for k in rng.integers(len(came), size=2)]:
            assert same(beside.steps(mine), stepped(other))
            assert same(beside.instant(mine, 77.0), instant(other, 77.0))


def test_a_session_that_cannot_be_computed_is_refused_in_its_own_words_and_the_next_one_is_not(of, beside):
    whole = asked(beside, of)
    strips = list(of.session.strips)
    strips[-1] = msgspec.structs.replace(strips[-1], output=strips[0].id)
    broken = msgspec.structs.replace(of.session, strips=tuple(strips))
    with pytest.raises(SessionError) as here:
        survey(broken, of.plan, of.now.cards, of.machine, of.buffer)
    with pytest.raises(SessionError) as told:
        asked(beside, of, session=broken)
    assert str(told.value) == str(here.value) and not isinstance(told.value, BesideError)
    assert same(asked(beside, of)[1], whole[1])


def test_a_process_that_is_killed_meanwhile_is_asked_anew_and_told_everything(of, process, beside):
    assert asked(beside, of)
    child = process.id
    os.kill(child, signal.SIGSTOP)
    killed = threading.Timer(0.3, lambda: os.kill(child, signal.SIGKILL))
    killed.start()
    found, at = asked(beside, of, plan=Plan())
    killed.join()
    assert same(at, instant(survey(of.session, Plan(), of.now.cards, of.machine, of.buffer)))
    assert beside.steps(found).steps == []


def test_arrays_can_be_written_to_as_those_that_are_made_here(of, beside):
    found, _ = asked(beside, of)
    assert found.after.load.flags.writeable and found.case.costs.by_state.flags.writeable


def test_little_is_sent_a_second_time(of):
    known = roots(of.session, of.plan, of.now.cards, of.machine)
    first, sent = packed(of, instant(of), known, {}, 1)
    came = unpacked(first, known)[0]
    next_one = survey(of.session, Plan(of.plan.decisions[1:]), of.now.cards, of.machine, of.buffer, of)
    known["plan"] = next_one.plan
    second, _ = packed(next_one, instant(next_one), known, sent.names, 2)
    assert len(second.content) < len(first.content)
    assert sum(map(len, second.arrays)) < sum(map(len, first.arrays)) / 2
    assert len(first.content) < len(pickle.dumps((of, instant(of)), 5)) / 5
    found, at = unpacked(second, known | {"base": came})
    assert same(at, instant(next_one)) and found.now is came.now


def test_what_the_host_and_a_rehearsal_show_is_worked_out_there_and_refusals_are_those_of_here(of, beside):
    at = instant(of)
    readings = (MeterReading(128, 0.9), MeterReading(1024, 0.6))
    assert same(beside.fitted(of, at, readings), fitted(of, at, readings))
    with pytest.raises(ValueError) as here:
        fitted(of, at, readings[:1])
    with pytest.raises(ValueError) as told:
        beside.fitted(of, at, readings[:1])
    assert str(told.value) == str(here.value)
    outcome = Rehearsal(256, 48000, at.second, 2, True, True, (0.5, 0.6), 0, {}, {}, {}, (0.4, 0.5), 2e-6, 0.0, 1.0)
    assert same(beside.foreseen(of, at, outcome), foreseen(of, at, outcome))
    seen = see(recording({card.key: card for card in sample_cards().values()}))
    assert same(beside.host_seen(of, at, [seen], {}), host_seen(of, at, [seen], {}))


class Grows:
    """What is asked in the very middle of its being sent."""

    def __init__(self, moments):
        self.moments = moments

    def __reduce__(self):
        self.moments.lasting(0.0123 * (1 + len(self.moments.joined)))
        return float, (1.0,)


def test_what_a_survey_keeps_may_grow_while_it_is_sent_and_after(of):
    """Other questions are answered meanwhile: what they have kept in it is there, but the window does not have it."""
    fresh = survey(of.session, of.plan, of.now.cards, of.machine, of.buffer)
    moments = fresh.planned.moments
    moments.joined[0.4] = Grows(moments)
    known, at = roots(fresh.session, fresh.plan, fresh.now.cards, fresh.machine), instant(fresh)
    before = dict(moments.joined)
    first, sent = packed(fresh, at, known, {}, 1)
    came, _ = unpacked(first, known)
    assert len(moments.joined) > len(before) and came.planned.moments.joined.keys() == before.keys()
    assert all(id(kept) not in sent.names for block, kept in moments.joined.items() if block not in before)
    # The next one has what was kept since: it comes along.
    del moments.joined[0.4]
    second, _ = packed(fresh, at, known, sent.names, 2)
    found, later = unpacked(second, known | {"base": came})
    assert same(later, at) and found.now is came.now


def test_what_is_kept_for_blocks_of_another_length_comes_along(beside):
    """Moments that last less long than a block are joined: anew, where blocks last longer or shorter."""
    whole, cards = session(), sample_cards()
    other = msgspec.structs.replace(whole, rate=176400)
    for given in (
        (whole, Plan(), cards, Machine(6), 256), (other, Plan(), cards, Machine(6), 256),
        (other, Plan(), cards, Machine(8), 256), (whole, Plan(), cards, Machine(8), 64),
        (other, Plan(), cards, Machine(8), 4096),
    ):  # fmt: skip
        found, at = beside.survey(*given)
        here = survey(*given)
        assert same(at, instant(here)) and same(found.after, here.after)
        assert any(each.moments is not found.planned.moments for each in found.cases.values())
