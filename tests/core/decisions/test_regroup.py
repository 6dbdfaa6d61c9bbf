"""Decisions beyond one strip: sharing, bouncing groups, outboard; and every trap that has a warning, provoked."""

from __future__ import annotations

import random

import msgspec
import pytest

from nimbleload.core.cards.card import Truth
from nimbleload.core.decisions.alike import groups, is_near, similar
from nimbleload.core.decisions.apply import apply, obstacle, told_as, without_effect
from nimbleload.core.decisions.bounce import group_of
from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.decisions.options import options
from nimbleload.core.load.case import case
from nimbleload.core.load.load_map import load_map
from nimbleload.core.load.prepared import prepare
from nimbleload.core.optimise.candidates import Wishes, candidates
from nimbleload.core.optimise.weigh import given_back, weigh
from nimbleload.core.piece.moments import passes_on
from nimbleload.core.session.computer import Device, Host, Machine
from nimbleload.core.session.cut_at_sends import split
from nimbleload.core.session.strips import Send
from nimbleload.core.survey import instant, survey
from nimbleload.core.told.findings import findings
from nimbleload.core.told.restore_list import restore_list
from tests.helpers.sessions import bus, cards_for, random_cards, random_session, session, setting, track, use

BLOCK = 256 / 48000
COSTS = {"eq": 1e-4, "comp": 2e-4, "verb": 5e-4}


def one_core_work(of, *decisions):
    """Seconds of work in the first moment on one core; also checks that nothing is left out."""
    after = apply(of, Plan(decisions))
    return load_map(case(prepare(after.session, cards_for(of, COSTS)), Machine(1), 256)).load[0] * BLOCK


def with_shared(of):
    plan = Plan()
    for group in groups(of, {}):
        for decision in group.decisions():
            plan = plan.decide(decision)
    return plan


class TestSharing:
    def three(self, **more):
        return session(
            track("a", "eq", "comp", "verb"), track("b", "comp", "verb"), track("c", "eq", "verb", **more),
            bus("main", kind="main", output=None),
        )  # fmt: skip

    def test_the_longest_end_that_is_the_same_on_all_is_shared(self):
        found = groups(self.three(), {})
        assert [(g.members, [u.label for u in g.chain]) for g in found] == [
            ((("a", "a/verb"), ("b", "b/verb"), ("c", "c/verb")), ["verb"])
        ]
        pair = session(track("a", "eq", "comp", "verb"), track("b", "comp", "verb"))
        assert [u.label for u in groups(pair, {})[0].chain] == ["comp", "verb"]

    def test_what_is_automated_is_shared_with_nobody_nor_what_stands_before_it(self):
        pair = session(track("a", "comp", "eq", "verb"), track("b", "comp", "eq", "verb"))
        moving = [
            msgspec.structs.replace(u, automated=u.label == "eq") if s.id == "a" else u
            for s in pair.strips for u in s.inserts
        ]  # fmt: skip
        strips = tuple(msgspec.structs.replace(s, inserts=tuple(u for u in moving if u.id.startswith(s.id)))
                       for s in pair.strips)  # fmt: skip
        assert [u.label for u in groups(pair, {})[0].chain] == ["comp", "eq", "verb"]
        assert [u.label for u in groups(msgspec.structs.replace(pair, strips=strips), {})[0].chain] == ["verb"]
        # What is off does not count, however it moves.
        off = tuple(
            msgspec.structs.replace(s, inserts=tuple(msgspec.structs.replace(u, enabled=u.label != "eq")
                                                     for u in s.inserts)) for s in strips
        )  # fmt: skip
        assert [u.label for u in groups(msgspec.structs.replace(pair, strips=off), {})[0].chain] == ["comp", "verb"]

    def test_all_but_one_of_what_is_shared_is_saved(self):
        of = self.three()
        assert one_core_work(of) - one_core_work(of, *with_shared(of).decisions) == pytest.approx(2 * COSTS["verb"])

    def test_the_bus_stands_between_them_and_what_they_fed(self):
        after = apply(self.three(), with_shared(self.three())).session
        made = after.strips[-1]
        assert (made.name, made.kind, made.output) == ("Shared verb", "bus", "main")
        assert {s.output for s in after.strips if s.kind == "track"} == {made.id}
        assert [u.label for u in after.strip("a").live_uses()] == ["eq", "comp"]

    @pytest.mark.parametrize(
        "other",
        [
            track("c", "eq", "verb", output="elsewhere"),
            track("c", "verb", "eq"),
            msgspec.structs.replace(track("c"), inserts=(use("verb", "c/verb", setting=setting(size=2)),)),
            msgspec.structs.replace(track("c"), inserts=(use("verb", "c/verb", sidechain="a"),)),
            track("c", "verb", enabled=False),
            track("c", "verb", frozen_through=0),
        ],
    )
    def test_other_ends_settings_ways_and_what_listens_elsewhere_do_not_share(self, other):
        of = session(track("a", "verb"), other, bus("elsewhere"))
        assert groups(of, {}) == []

    def test_a_frozen_member_drops_out_with_a_word_and_the_rest_share(self):
        of = self.three()
        plan = with_shared(of).decide(Decision("freeze", "a"))
        after = apply(of, plan)
        assert any("a: verb is frozen, so it cannot be shared: two decisions exclude" in w for w in after.warnings)
        assert after.session.strip("a").output == "main"
        assert after.session.strip("b").output == after.session.strips[-1].id

    def test_one_alone_shares_with_nobody(self):
        of = self.three()
        plan = with_shared(of).decide(Decision("off", "a")).decide(Decision("bounce", "b"))
        plan = plan.decide(Decision("freeze", "c"))
        after = apply(of, plan.without(Decision("off", "a")))
        assert any("nobody left to share verb with" in w for w in after.warnings)
        assert len(after.session.strips) == len(of.strips)

    def test_equal_sends_are_carried_by_the_bus(self):
        send = (Send("hall", 0.3),)
        of = session(track("a", "verb", sends=send), track("b", "verb", sends=send), bus("hall", kind="return"))
        (group,) = groups(of, {})
        assert (group.fault, group.sends) == ("", send)
        after = apply(of, with_shared(of))
        assert after.session.strips[-1].sends == send
        assert after.session.strip("a").sends == after.session.strip("b").sends == ()
        assert after.warnings == ()

    def test_unequal_sends_leave_before_what_is_shared_and_that_is_a_fault(self):
        of = session(
            track("a", "verb", sends=(Send("hall"),)), track("b", "verb", sends=(Send("hall", 0.5),)),
            bus("hall", kind="return"),
        )  # fmt: skip
        (group,) = groups(of, {})
        assert (group.fault, group.sends, group.keeps_sound) == ("sends", (), False)
        told = apply(of, with_shared(of)).warnings
        assert "a: its send to hall leaves before the shared verb." in told

    def test_a_send_within_the_chain_stays_with_its_track_and_what_it_leaves_is_not_shared(self):
        sends = (Send("hall", 0.3, after=0),)
        of = session(
            track("a", "eq", "verb", sends=sends), track("b", "eq", "verb", sends=sends), bus("hall", kind="return")
        )
        (group,) = groups(of, {})
        assert [use.label for use in group.chain] == ["verb"]
        after = apply(of, with_shared(of)).session
        assert after.strip("a").sends == sends
        assert after.strips[-1].sends == ()

    @pytest.mark.parametrize(
        ("change", "fault"), [({"pan": 0.5}, "pan"), ({"rides": True}, "fader"), ({"volume": 0.5}, "")]
    )
    def test_what_is_panned_or_rides_is_kept_apart_unless_a_null_test_lets_it(self, change, fault):
        strips = [msgspec.structs.replace(track(n, "verb"), **change) for n in "abc"]
        of = session(*strips)
        known = cards_for(of, COSTS)
        key = of.strip("a").inserts[-1].card_key()
        known[key] = msgspec.structs.replace(known[key], truth=Truth(linear_db=-130.0, pan_db=-13.0, ride_db=-19.0))
        (group,) = groups(of, known)
        assert (group.fault, group.keeps_sound) == (fault, not fault)
        known[key] = msgspec.structs.replace(known[key], truth=Truth(linear_db=-130.0, pan_db=-120.0, ride_db=-110.0))
        (group,) = groups(of, known)
        assert group.keeps_sound
        assert group.null_db == {"pan": -120.0, "fader": -110.0, "": -130.0}[fault]
        # What stands after the fader already does not move behind it.
        after = session(*(msgspec.structs.replace(s, post_fader=1) for s in strips))
        known[key] = msgspec.structs.replace(known[key], truth=Truth(linear_db=-130.0, pan_db=-13.0, ride_db=-19.0))
        assert groups(after, known)[0].keeps_sound

    def test_a_send_before_the_fader_cannot_be_carried_where_faders_stand_apart(self):
        send = (Send("hall", 0.3, pre_fader=True),)
        level = [track(n, "verb", sends=send) for n in "ab"]
        assert [g.fault for g in groups(session(*level, bus("hall")), {})] == [""]
        lower = [msgspec.structs.replace(strip, volume=0.5) for strip in level]
        assert [g.fault for g in groups(session(*lower, bus("hall")), {})] == ["sends"]

    def test_a_chain_that_has_changed_since_is_left_out(self):
        of = self.three()
        plan = with_shared(of)
        changed = msgspec.structs.replace(of.strip("c"), output="a")
        strips = tuple(changed if s.id == "c" else s for s in of.strips)
        told = apply(msgspec.structs.replace(of, strips=strips), plan).warnings
        assert "c: it feeds another strip than a, so they cannot share a bus." in told

    def test_the_null_test_says_whether_it_is_exact(self):
        of = self.three()
        known = cards_for(of, COSTS)
        key = of.strip("a").inserts[-1].card_key()
        words = {}
        for depth in (-130.0, -80.0, -20.0, None):
            known[key] = msgspec.structs.replace(known[key], truth=Truth(linear_db=depth))
            assert groups(of, known)[0].null_db == depth
            found = [
                o for o in options(of.strip("a"), of, groups(of, known)) if o.title.startswith("Share verb with 2")
            ]
            words[depth] = found[0].gives_up
        assert "exact to −130 dB" in words[-130.0]
        assert "nearly" in words[-80.0]
        assert "changes the sound" in words[-20.0]
        assert "measure it" in words[None]


class TestBounce:
    def group(self, **more):
        return session(
            track("a", "eq", output="b"), track("d", "comp", output="b", clips=((2, 4), (6, 7)), **more),
            bus("b", "verb"), bus("main", kind="main", output=None),
        )  # fmt: skip

    def test_a_track_costs_nothing_more_and_sounds_when_it_did(self):
        of = self.group()
        after = apply(of, Plan().decide(Decision("bounce", "d"))).session.strip("d")
        assert after.uses() == ()
        assert [(c.start, c.end, c.kind) for c in after.clips] == [(2, 4, "audio"), (6, 7, "audio")]

    def test_up_to_the_instrument_the_inserts_stay_live(self):
        of = session(track("a", "eq", "comp", instrument=use("synth", voices=2)))
        after = apply(of, Plan().decide(Decision("bounce", "a", through=-1))).session.strip("a")
        assert [u.label for u in after.live_uses()] == ["eq", "comp"]
        assert after.instrument is None

    def test_a_stretch_goes_to_a_track_of_its_own_and_the_rest_stays(self):
        of = session(track("a", "eq", clips=((0, 5), (6, 9)), volume=0.5), bus("main", kind="main", output=None))
        known = cards_for(of, {"eq": 1e-3}, silent=2e-4, tail=0.0)
        plan = Plan().decide(Decision("bounce", "a", start=4.0, end=7.0))
        after = apply(of, plan).session
        assert [(c.start, c.end) for c in after.strip("a").clips] == [(0, 4), (7, 9)]
        new = after.strips[-1]
        assert [(c.start, c.end) for c in new.clips] == [(4, 5), (6, 7)]
        assert (new.output, new.volume, new.uses()) == ("main", 0.5, ())
        loads = load_map(case(prepare(after, known), Machine(1), 256))
        inside = (loads.times[:-1] >= 4) & (loads.times[1:] <= 7)
        assert loads.load[inside] * BLOCK == pytest.approx(2e-4)
        assert loads.load[~inside][0] * BLOCK == pytest.approx(1e-3)
        assert told_as(of, plan.decisions[0]) == "Bounce 0:04 to 0:07 of a"

    def test_a_stretch_is_priced_by_what_is_printed_of_it_and_frees_no_memory(self):
        of = session(track("a", "eq", clips=((0, 8),)))
        found = survey(of, Plan(), cards_for(of, {"eq": 1e-3}), Machine(1), 256)
        whole, part = (
            next(w for w in weigh(found, instant(found), ["a"], (2.0, 4.0)) if w.option.title == title)
            for title in ("Bounce", "Bounce 0:02 to 0:04")
        )
        assert whole.disk == 8 * 48000 * 2 * 4  # 8 s of two channels, 32 bits
        assert part.disk == 2 * 48000 * 2 * 4
        assert part.price.minutes < whole.price.minutes
        assert whole.memory > 0
        assert part.memory == 0

    def test_where_nothing_plays_there_is_nothing_to_print(self):
        of = session(track("a", "eq", clips=((0, 4),)))
        decision = Decision("bounce", "a", start=5.0, end=7.0)
        assert "no clips in this stretch" in (obstacle(of.strip("a"), decision, of) or "")

    def test_a_bus_is_printed_with_all_that_feeds_it(self):
        of = self.group()
        plan = Plan().decide(Decision("bounce", "b"))
        after = apply(of, plan).session
        assert [s.id for s in after.strips if not s.enabled] == ["a", "d"]
        assert [(c.start, c.end) for c in after.strip("b").clips] == [(0.0, 10.0)]
        assert one_core_work(of, *plan.decisions) == 0.0

    def test_not_if_a_member_also_feeds_something_else(self):
        of = self.group(sends=(Send("main"),))
        reason = "d also feeds main, which would lose it."
        assert group_of(of, "b") == (["a", "d"], reason)
        assert obstacle(of.strip("b"), Decision("bounce", "b"), of) == reason
        assert apply(of, Plan().decide(Decision("bounce", "b"))).warnings == (f"b: {reason}",)

    def test_a_bus_without_input_has_nothing_to_print(self):
        of = session(track("a", "eq"), bus("b", "verb"))
        assert "nothing feeds it" in (obstacle(of.strip("b"), Decision("bounce", "b"), of) or "")

    def test_its_traps_no_way_back_a_fader_and_sends_that_count_twice(self):
        of = session(track("a", "eq", volume=0.5, sends=(Send("hall"),)), bus("hall", "verb", kind="return"))
        told = " ".join(apply(of, Plan().decide(Decision("bounce", "a"))).warnings)
        for words in ("cannot be undone", "fader stands at -6.0 dB", "hall still hears it by its sends"):
            assert words in told


class TestAfterTheFader:
    def of(self, after: int):
        return session(
            track("a", "eq", "comp", "limit", volume=0.5, post_fader=after, instrument=use("synth", voices=2))
        )

    def told(self, after: int, *decisions):
        return " ".join(apply(self.of(after), Plan(decisions)).warnings)

    @pytest.mark.parametrize(
        ("after", "through", "words"),
        [
            (0, None, None), (1, 1, None), (1, -1, None),
            (1, None, "limit comes after the fader; frozen too, the fader and its automation are frozen in."),
            (1, None, "A freeze of insert 2 keeps them live"),
            (2, None, "comp and limit come after the fader"), (2, 1, "a: comp comes after the fader"),
            (3, None, "A freeze of the instrument keeps them live"),
        ],
    )  # fmt: skip
    def test_a_freeze_that_takes_in_what_comes_after_it_is_told(self, after, through, words):
        told = self.told(after, Decision("freeze", "a", through=through))
        assert ("after the fader" in told) == (words is not None)
        assert words is None or words in told

    def test_a_bounce_of_it_holds_the_fader_and_so_the_new_one_goes_to_unity(self):
        assert "Print before the fader" in self.told(0, Decision("bounce", "a"))
        told = self.told(1, Decision("bounce", "a"))
        assert "Print before the fader" not in told
        assert "limit comes after the fader: the print holds the fader and its automation" in told
        assert "after the fader" not in self.told(1, Decision("bounce", "a", through=-1))

    def test_freezing_up_to_it_is_offered_and_is_what_a_suggestion_takes(self):
        of = self.of(1)
        titles = {o.title: o.decision.through for o in options(of.strip("a"), of)}
        assert titles["Freeze up to the fader"] == 1
        assert "Freeze up to the fader" not in {o.title for o in options(self.of(0).strip("a"), self.of(0))}
        found = candidates(survey(of, Plan(), cards_for(of, {"synth": 1e-3, "eq": 1e-4}), Machine(1), 256), Wishes())
        assert {c.decision.through for c in found if c.decision.kind == "freeze"} == {-1, 1}

    def test_it_stays_with_the_last_part_of_a_chain_that_a_send_leaves(self):
        of = session(track("a", "eq", "comp", "limit", post_fader=2, sends=(Send("x", after=1),)), bus("x"))
        parts = [s for s in split(of).strips if s.id.startswith("a")]
        assert [(len(s.inserts), s.post_fader) for s in parts] == [(2, 0), (1, 1)]


class TestHowItIsDone:
    def test_a_source_that_stays_muted_costs_what_it_did_and_is_not_heard(self):
        of = session(
            track("a", "eq", instrument=use("synth", voices=2), sends=(Send("hall", pre_fader=True),)),
            bus("hall", "verb", kind="return"),
        )
        off, muted = Decision("bounce", "a"), Decision("bounce", "a", muted=True)
        assert one_core_work(of, muted) == pytest.approx(one_core_work(of))
        assert one_core_work(of, off) < one_core_work(of)
        after = apply(of, Plan((muted,)))
        source = after.session.strip("a/source")
        assert source.mute
        assert passes_on(source) == []
        ids = [u.id for s in after.session.strips for u in s.uses()]
        assert len(set(ids)) == len(ids)
        told = " ".join(after.warnings)
        assert "its source stays, muted, and costs as before" in told
        assert "keep its source, switched off" in " ".join(apply(of, Plan((off,))).warnings)
        assert told_as(of, muted) == "Bounce a, source muted"

    def test_unloaded_plugins_give_memory_back_and_say_how_long_they_take_to_load(self):
        of = session(track("a", "eq", "verb"), track("b", "eq"))
        cards = cards_for(of, COSTS)
        loaded, unloaded = (Decision("freeze", "a", unloaded=x) for x in (False, True))
        assert given_back(survey(of, Plan((loaded,)), cards, Machine(1), 256)) == (0.0, 0.0)
        given = given_back(survey(of, Plan((unloaded, Decision("off", "b"))), cards, Machine(1), 256))
        assert given == (2 * (1 << 20), pytest.approx(0.02))
        # It plays the same.
        assert one_core_work(of, loaded) == one_core_work(of, unloaded)
        assert "Its plugins load again." in restore_list(of, Plan((unloaded,)))[0]
        assert told_as(of, unloaded) == "Freeze a, unloaded"

    def test_a_decision_is_replaced_in_its_place(self):
        first, last = Decision("freeze", "a"), Decision("freeze", "c")
        other = Decision("freeze", "a", unloaded=True)
        assert Plan((first, last), ("d",)).replaced(first, other) == Plan((other, last), ("d",))


class TestOutboard:
    def test_the_device_has_room_for_so_many_in_the_plans_order(self):
        of = session(track("a", "eq", "comp"), track("b", "comp"), device=Device(outboard=1))
        plan = Plan().decide(Decision("outboard", "b", "b/comp")).decide(Decision("outboard", "a", "a/comp"))
        after = apply(of, plan)
        assert after.warnings == ("a: the outboard device has room for 1 plugin; comp stays here.",)
        assert [u.label for u in after.session.strip("a").live_uses()] == ["eq", "comp"]
        assert after.session.strip("b").live_uses() == ()

    def test_it_is_offered_only_where_there_is_such_a_device(self):
        of = session(track("a", "eq"))
        titles = [o.title for o in options(of.strip("a"), of)]
        assert not any("outboard" in title for title in titles)
        there = msgspec.structs.replace(of, device=Device(outboard=2))
        assert "Move eq outboard" in [o.title for o in options(of.strip("a"), there)]


class TestOtherTraps:
    def test_what_a_freeze_holds_cannot_be_decided_about(self):
        of = session(track("a", "eq", "comp"))
        plan = Plan().decide(Decision("freeze", "a", through=0)).decide(Decision("off", "a", "a/eq"))
        assert any("eq has no effect while the freeze holds it" in w for w in apply(of, plan).warnings)
        assert without_effect(of, plan) == (Decision("off", "a", "a/eq"),)
        outside = Plan().decide(Decision("freeze", "a", through=0)).decide(Decision("off", "a", "a/comp"))
        assert apply(of, outside).warnings == () == without_effect(of, outside)

    def test_what_has_no_effect_may_be_taken_back_and_the_load_stays(self):
        rng, found = random.Random(8), 0
        for _ in range(40):
            of = random_session(rng)
            cards, plan = random_cards(rng, of), Plan()
            for strip in of.strips:
                if strip.kind == "track" and rng.random() < 0.7:
                    through = rng.randrange(len(strip.inserts)) if strip.inserts else None
                    kind = rng.choice(["freeze", "bounce"])
                    plan = plan.decide(Decision(kind, strip.id, through=through if kind == "freeze" else None))
                for each in strip.inserts:
                    plan = plan.decide(Decision("off", strip.id, each.id)) if rng.random() < 0.6 else plan
            idle = without_effect(of, plan)
            with_all, without = (
                survey(of, each, cards, Machine(2), 256).after.load for each in (plan, plan.without(*idle))
            )
            assert with_all.tolist() == without.tolist()
            assert restore_list(of, plan) == restore_list(of, plan.without(*idle))
            found += len(idle)
        assert found > 40

    def told(self, of, decision, tail):
        return survey(of, Plan().decide(decision), cards_for(of, COSTS, tail=tail), Machine(1), 256).warnings

    @pytest.mark.parametrize("kind", ["freeze", "bounce"])
    def test_a_tail_that_outlasts_the_piece(self, kind):
        of = session(track("a", "verb", clips=((0, 9),)), length=10.0)
        told = self.told(of, Decision(kind, "a"), 4.0)
        assert f"a: its tail of 4.0 s goes on after the end of the piece; the {kind} must be 3.0 s longer." in told
        assert not any("tail" in w for w in self.told(of, Decision(kind, "a"), 0.9))

    def test_a_tail_that_outlasts_the_hosts_patience(self):
        of = session(track("a", "verb"), host=Host(tail_limit=3.0))
        told = self.told(of, Decision("suspend", "a"), 4.0)
        assert told == ("a: its tail of 4.0 s is longer than the 3 s that the host waits before it suspends: "
                        "the end is cut.",)  # fmt: skip
        assert self.told(of, Decision("suspend", "a"), 2.0) == ()


def test_what_every_option_saves_is_what_the_load_says_after_it():
    """At the moment and at the worst one, with work and chain, for sharing and bouncing as for the rest."""
    of = session(
        track("a", "eq", "comp", "verb", output="b", clips=((0, 6),)),
        track("c", "comp", "verb", output="b", clips=((2, 10),)),
        bus("b", "eq"), bus("main", "comp", kind="main", output=None), device=Device(outboard=3),
    )  # fmt: skip
    known = cards_for(of, COSTS, silent=3e-5, tail=0.0)
    found = survey(of, Plan(), known, Machine(2), 256)
    at = instant(found, 1.0)
    kinds = set()
    for strip in ("a", "c", "b"):
        for weighed in weigh(found, at, [strip]):
            if not weighed.decisions:
                continue
            plan = Plan()
            for decision in weighed.decisions:
                plan = plan.decide(decision)
                kinds.add(decision.kind)
            after = survey(of, plan, known, Machine(2), 256)
            for second, saving in ((1.0, weighed.saving), (found.worst_second(), weighed.worst)):
                loads = [s.after.load[s.planned.moments.at(second)] for s in (found, after)]
                chains = [s.after.chain[s.planned.moments.at(second)] for s in (found, after)]
                assert saving.load == pytest.approx(loads[0] - loads[1], abs=1e-12)
                assert saving.chain == pytest.approx(chains[0] - chains[1], abs=1e-12)
    assert {"freeze", "suspend", "off", "bounce", "share", "outboard"} <= kinds


def test_every_new_kind_is_told_and_can_be_put_back():
    of = session(track("a", "verb"), track("b", "verb"), bus("x"))
    plan = with_shared(of).decide(Decision("bounce", "x")).decide(Decision("outboard", "a", "a/verb"))
    assert told_as(of, Decision("share", "b", "b/verb", into="s")) == "Share verb of b on a bus"
    assert told_as(of, Decision("bounce", "x")) == "Bounce x with all that feeds it"
    assert told_as(of, Decision("outboard", "a", "a/verb")) == "Move verb of a outboard"
    back = restore_list(of, plan)
    assert len(back) == len(plan.decisions)
    assert any("Put verb on b back on its own track" in line for line in back)


class TestSharingSettingsNearlyAlike:
    SETTINGS = (
        {"time": 2.0, "wet": 1.0}, {"time": 2.0, "wet": 1.0}, {"time": 2.2, "wet": 1.0},
        {"time": 2.5, "wet": 0.9}, {"time": 9.0, "wet": 0.2, "tone": 1.0, "size": 3.0},
    )  # fmt: skip

    def of(self, **truth):
        """Five tracks that end in one reverb; four of them are set nearly alike."""
        strips = []
        for name, values in zip("abcde", self.SETTINGS, strict=True):
            last = use("verb", f"{name}/verb", setting=setting(**values), family="reverb")
            strips.append(msgspec.structs.replace(track(name, "eq"), inserts=(use("eq", f"{name}/eq"), last)))
        of = session(*strips)
        cards = cards_for(of, {"eq": 1e-4, "verb": 1e-3})
        return of, {k: msgspec.structs.replace(c, truth=Truth(**truth)) for k, c in cards.items()}

    def test_those_of_other_values_in_two_parameters_at_most_are_one_group(self):
        of, cards = self.of(linear_db=-120.0)
        (found,) = similar(of, cards)
        assert [strip for strip, _ in found.members] == ["a", "b", "c", "d"]
        assert found.differs == ("time", "wet")
        # Two of them have the same setting: that one counts.
        assert dict(found.chain[0].setting.values) == {"time": 2.0, "wet": 1.0}
        assert [strip for strip, _ in groups(of, cards)[0].members] == ["a", "b"]

    @pytest.mark.parametrize(
        ("values", "near"),
        [
            ({"time": 2.4, "wet": 1.0}, True), ({"time": 2.7, "wet": 1.0}, False), ({"time": 2.0, "wet": -1.0}, False),
            ({"time": 2.0}, False), ({"time": 2.0, "wet": 1.0, "tone": 0.0}, False), ({"time": 2.0, "wet": 1.0}, True),
        ],
    )  # fmt: skip
    def test_near_is_a_quarter_at_most(self, values, near):
        one, other = (use("verb", setting=setting(**v)) for v in ({"time": 2.0, "wet": 1.0}, values))
        assert is_near(one, other) == is_near(other, one) == near

    def test_not_if_one_on_a_bus_would_sound_different_in_any_setting(self):
        of, cards = self.of(linear_db=-20.0)
        assert similar(of, cards) == []
        same, cards = self.of(linear_db=-120.0)
        alike = tuple(s for s in same.strips if s.id in ("a", "b", "main"))
        assert similar(msgspec.structs.replace(same, strips=alike), cards) == []

    def test_the_bus_takes_the_setting_of_the_most_and_the_saving_is_that_of_the_load(self):
        of, cards = self.of(linear_db=-120.0)
        (found,) = similar(of, cards)
        plan = Plan(found.decisions())
        after = apply(of, plan)
        assert after.warnings == ()
        shared = after.session.strips[-1]
        assert shared.inserts[0].setting == setting(time=2.0, wet=1.0)
        assert {s.id for s in after.session.strips if s.output == shared.id} == {"a", "b", "c", "d"}
        before, then = (load_map(case(prepare(each, cards), Machine(1), 256)).load[0] for each in (of, after.session))
        assert (before - then) * 256 / 48000 == pytest.approx(3e-3)
        lines = restore_list(of, plan)
        assert "Put verb on d back on its own track, set as it was: time 2.5, wet 0.9." in lines

    def test_its_price_says_what_differs_and_it_is_found_but_not_suggested(self):
        of, cards = self.of(linear_db=-120.0)
        at = survey(of, Plan(), cards, Machine(1), 256)
        offered = next(w.option for w in weigh(at, instant(at), ("d",)) if "set alike" in w.option.title)
        assert offered.title == "Share verb with 3 more, set alike"
        assert offered.gives_up == "one setting for all: they differ in time, wet"
        said = next(f for f in findings(of, cards, 256) if f.name == "nearly alike on several tracks")
        assert said.decisions == similar(of, cards)[0].decisions()
        assert all(d.like is None for c in candidates(at, Wishes()) for d in c.decisions)

    def test_a_member_that_ends_in_something_else_by_now_is_left_out_and_told(self):
        of, cards = self.of(linear_db=-120.0)
        (found,) = similar(of, cards)
        changed = msgspec.structs.replace(of.strip("c"), inserts=(*of.strip("c").inserts, use("limit", "c/limit")))
        other = msgspec.structs.replace(of, strips=tuple(changed if s.id == "c" else s for s in of.strips))
        after = apply(other, Plan(found.decisions()))
        assert after.warnings == ("c: its chain does not end in verb alone.",)
        assert after.session.strip("c").output == "main"
        # Another plugin in its place, alone at the end, is none of it either.
        inserts = (of.strip("c").inserts[0], use("hall", "c/verb", family="reverb"))
        swapped = msgspec.structs.replace(of.strip("c"), inserts=inserts)
        other = msgspec.structs.replace(of, strips=tuple(swapped if s.id == "c" else s for s in of.strips))
        after = apply(other, Plan(found.decisions()))
        assert after.warnings == ("c: its chain does not end in verb alone.",)
