"""A plan goes on in a newer export of its mix: it does there what it did, whatever the ids are; what does not is named.
"""

from __future__ import annotations

import random

import msgspec
import pytest

from nimbleload.core.decisions.alike import groups
from nimbleload.core.decisions.apply import apply
from nimbleload.core.decisions.decision import Decision, KeptPlan, Plan
from nimbleload.core.decisions.renewed import renewed
from nimbleload.core.session.computer import Device, Host
from nimbleload.core.session.plugins import Variant
from nimbleload.core.session.strips import Clip, Send
from tests.helpers.often import often
from tests.helpers.renumbered import renumbered
from tests.helpers.sessions import bus, random_cards, random_session, session, setting, track, use


def a_plan(rng, of, cards):
    """Decisions of many kinds about random tracks."""
    decisions = [each for group in groups(of, cards)[:1] for each in group.decisions()]
    for strip in of.strips:
        if not strip.uses():
            continue
        chosen = rng.choice(strip.uses())
        decisions.append(rng.choice([
            Decision("off", strip.id, chosen.id), Decision("freeze", strip.id, through=rng.randint(-1, 2)),
            Decision("suspend", strip.id), Decision("bounce", strip.id, start=1.0, end=2.0),
            Decision("lighten", strip.id, chosen.id, variant="light"), Decision("off", strip.id),
        ]))  # fmt: skip
    return Plan(pinned=(of.strips[0].id,), done=(of.strips[1].id,), in_work=(of.strips[2].id,)).with_all(decisions)


def as_heard(of, plan):
    """What a plan makes of a session, by names: nothing of ids is in it."""
    made = apply(of, plan).session
    names = {strip.id: strip.name for strip in made.strips}
    return sorted(
        (strip.name, str(names.get(strip.output)), strip.enabled, strip.suspended, str(strip.frozen_through),
         [(use.label, use.enabled, use.setting.words()) for use in strip.uses()],
         [(clip.start, clip.end) for clip in strip.clips])
        for strip in made.strips
    )  # fmt: skip


@pytest.mark.parametrize("seed", range(often(20)))
def test_in_the_same_mix_numbered_anew_a_plan_does_what_it_did(seed):
    rng = random.Random(seed)
    before = random_session(rng)
    light = tuple(Variant(key, "light", setting(quality=0.0)) for key in before.card_keys())
    before = msgspec.structs.replace(before, variants=light)
    after, strips, _ = renumbered(before, "n")
    after = msgspec.structs.replace(after, variants=(), host=Host(), source="newer.dawproject")
    plan = a_plan(rng, before, random_cards(rng, before))
    found = renewed(before, after, plan, [KeptPlan("by", plan, 64)])
    assert as_heard(found.session, found.plan) == as_heard(before, plan)
    assert found.kept == (KeptPlan("by", found.plan, 64),)
    assert not found.lost
    assert found.session.source == "newer.dawproject"
    shared = {each.into for each in found.plan.decisions if each.into is not None}
    assert shared <= {group.into for group in groups(found.session, random_cards(rng, found.session))}
    for field in ("pinned", "done", "in_work"):
        assert getattr(found.plan, field) == tuple(strips[each] for each in getattr(plan, field))


BEFORE = session(track("a", "eq", "comp", "verb"), track("b", "eq"), bus("c", "verb"))
A, B, C, MAIN = BEFORE.strips


def carried(decision, *strips, before=BEFORE):
    found = renewed(before, msgspec.structs.replace(before, strips=strips, variants=()), Plan((decision,)))
    assert not found.done
    return found.plan.decisions, found.lost


def test_what_spoke_of_what_is_gone_is_named():
    off = Decision("off", "a", "a/comp")
    without = msgspec.structs.replace(A, inserts=(A.inserts[0], A.inserts[2]))
    assert carried(off, without, B, C, MAIN) == ((), (off,))
    assert carried(Decision("freeze", "b"), A, C, MAIN) == ((), (Decision("freeze", "b"),))
    assert carried(Decision("freeze", "a", through=1), without, B, C, MAIN) == (
        (Decision("freeze", "a", through=0),), ()
    )  # fmt: skip


def test_a_plugin_that_went_to_a_track_that_is_new_takes_its_decision_along():
    new = msgspec.structs.replace(track("new"), inserts=(A.inserts[1],))
    without = msgspec.structs.replace(A, inserts=(A.inserts[0], A.inserts[2]))
    off = Decision("off", "a", "a/comp")
    assert carried(off, without, B, new, C, MAIN) == ((Decision("off", "new", "a/comp"),), ())


def test_a_track_that_is_new_by_the_number_of_one_that_is_gone_gets_nothing_of_its_plan():
    new = msgspec.structs.replace(track("x", "verb", clips=((3.0, 4.0),)), id="b", name="Quite another")
    assert carried(Decision("freeze", "b"), A, new, C, MAIN) == ((), (Decision("freeze", "b"),))


def turned(strip, **values):
    """A track with its first insert set so."""
    first = msgspec.structs.replace(strip.inserts[0], setting=setting(**values))
    return msgspec.structs.replace(strip, inserts=(first, *strip.inserts[1:]))


def test_a_lighter_setting_changes_of_the_setting_that_is_now_what_it_changed_of_the_one_before():
    one = turned(B, quality=3.0, gain=1.0)
    light = Variant(one.inserts[0].card_key(), "light", setting(quality=1.0, gain=1.0))
    before = msgspec.structs.replace(BEFORE, strips=(A, one, C, MAIN), variants=(light,))
    decision = Decision("lighten", "b", "b/eq", variant="light")
    now = turned(B, quality=3.0, gain=7.0)
    found = renewed(before, msgspec.structs.replace(BEFORE, strips=(A, now, C, MAIN)), Plan((decision,)))
    (variant,) = found.session.variants
    assert (variant.of, dict(variant.setting.values)) == (now.inserts[0].card_key(), {"quality": 1.0, "gain": 7.0})
    assert (found.plan.decisions, found.lost) == ((decision,), ())
    # Already as light as that: nothing is left to do, and no variant to choose.
    already = msgspec.structs.replace(before, strips=(A, turned(B, quality=1.0, gain=7.0), C, MAIN))
    found = renewed(before, already, Plan((decision,)))
    assert (found.plan.decisions, found.done, found.session.variants) == ((), (decision,), ())


def test_a_lighter_setting_of_a_plugin_whose_saved_state_has_changed_is_given_up():
    saved = use("eq", "b/eq", setting=msgspec.structs.replace(setting(), state=b"one"))
    with_state = msgspec.structs.replace(B, inserts=(saved,))
    light = Variant(saved.card_key(), "light", msgspec.structs.replace(setting(), state=b"light"))
    before = msgspec.structs.replace(BEFORE, strips=(A, with_state, C, MAIN), variants=(light,))
    decision = Decision("lighten", "b", "b/eq", variant="light")
    assert carried(decision, A, with_state, C, MAIN, before=before) == ((decision,), ())
    lightened = msgspec.structs.replace(with_state, inserts=(msgspec.structs.replace(saved, setting=light.setting),))
    by_hand = msgspec.structs.replace(before, strips=(A, lightened, C, MAIN))
    assert renewed(before, by_hand, Plan((decision,))).done == (decision,)
    other = msgspec.structs.replace(saved, setting=msgspec.structs.replace(setting(), state=b"two"))
    now = msgspec.structs.replace(B, inserts=(other,))
    assert carried(decision, A, now, C, MAIN, before=before) == ((), (decision,))


def test_host_device_limit_and_where_the_fader_stands_are_those_that_were_set_here():
    behind = msgspec.structs.replace(A, post_fader=2)
    here = {"host": Host(read_ahead=512), "device": Device(periods=3), "limit": 0.6}
    before = msgspec.structs.replace(BEFORE, strips=(behind, B, C, MAIN), **here)
    new = use("new", "x")
    for inserts, after in (
        (A.inserts, 2), ((*A.inserts[:2], new, A.inserts[2]), 1), ((new, *A.inserts), 2), ((*A.inserts, new), 0),
        ((), 0),
    ):  # fmt: skip
        now = msgspec.structs.replace(BEFORE, strips=(msgspec.structs.replace(A, inserts=inserts), B, C, MAIN))
        found = renewed(before, now, Plan()).session
        assert found.strip("a").post_fader == after
        assert {field: getattr(found, field) for field in here} == here
    said = msgspec.structs.replace(BEFORE, strips=(msgspec.structs.replace(A, post_fader=1), B, C, MAIN))
    assert renewed(before, said, Plan()).session.strip("a").post_fader == 1, "as the newer one has it"


def test_two_settings_that_became_one_have_one_lighter_setting():
    one, other = turned(A, quality=3.0), turned(B, quality=2.0)
    light = [Variant(each.inserts[0].card_key(), "light", setting(quality=1.0)) for each in (one, other)]
    before = msgspec.structs.replace(BEFORE, strips=(one, other, C, MAIN), variants=tuple(light))
    now = msgspec.structs.replace(BEFORE, strips=(turned(A, quality=4.0), turned(B, quality=4.0), C, MAIN))
    assert len(renewed(before, now, Plan()).session.variants) == 1


OFF = [msgspec.structs.replace(use, enabled=False) for use in A.inserts]


@pytest.mark.parametrize(
    ("decision", "now"),
    [
        (Decision("freeze", "a"), {"inserts": tuple(OFF)}),
        (Decision("freeze", "a", through=1), {"inserts": (*OFF[:2], A.inserts[2])}),
        (Decision("freeze", "a"), {"frozen_through": 2}),
        (Decision("off", "a", "a/eq"), {"inserts": (OFF[0], *A.inserts[1:])}),
        (Decision("off", "a"), {"enabled": False}),
        (Decision("suspend", "a"), {"suspended": True}),
        (Decision("bounce", "a", start=1.0, end=2.0), {"clips": (Clip(0.0, 1.0), Clip(2.0, 10.0))}),
    ],
)
def test_what_the_newer_export_has_carried_out_is_done(decision, now):
    before = msgspec.structs.replace(BEFORE, strips=(msgspec.structs.replace(A, clips=(Clip(0.0, 10.0),)), B, C, MAIN))
    other = Decision("freeze", "b")
    plan = Plan((decision, other))
    done = msgspec.structs.replace(before, strips=(msgspec.structs.replace(before.strips[0], **now), B, C, MAIN))
    found = renewed(before, done, plan)
    assert (found.plan.decisions, found.done, found.lost) == ((other,), (decision,), ())
    # As long as it is not, it stays.
    found = renewed(before, before, plan)
    assert (found.plan.decisions, found.done, found.lost) == (plan.decisions, (), ())


def test_what_exchange_files_do_not_say_is_as_it_was():
    """Or a narrator who records would no longer be heard in time, and plugins be known by no kind."""
    verb = use("verb", "a/verb", sidechain="b", family="reverb")
    strips = (
        msgspec.structs.replace(
            A, armed=True, inserts=(*A.inserts[:2], verb), sends=(Send("c", after=0), Send("main", after=-1))
        ),
        B, C, MAIN,
    )  # fmt: skip
    before = msgspec.structs.replace(BEFORE, strips=strips)
    said = msgspec.structs.replace(
        before, strips=(
            msgspec.structs.replace(
                A, inserts=(use("new", "new"), *A.inserts), sends=(Send("c"), Send("main")),
            ),
            B, C, MAIN,
        ),
    )  # fmt: skip
    after, ids, _ = renumbered(said, "n")
    made = renewed(before, after, Plan((Decision("disarm", "a"),)))
    strip = made.session.strip(ids["a"])
    assert strip.armed and made.plan.decisions == (Decision("disarm", ids["a"]),)
    assert [(send.target, send.after) for send in strip.sends] == [(ids["c"], 1), (ids["main"], -1)]
    assert (strip.inserts[3].sidechain, strip.inserts[3].family) == (ids["b"], "reverb")
    assert [each.family for each in strip.inserts[:3]] == ["other"] * 3
    # A lighter setting is for the plugin as it listens.
    light = Variant(verb.card_key(), "light", setting(quality=1.0))
    (variant,) = renewed(msgspec.structs.replace(before, variants=(light,)), after, Plan()).session.variants
    assert variant.of == strip.inserts[3].card_key() and variant.of.keyed
    # The insert behind which a send left may be gone, and a track be routed so that nothing can listen to it any more.
    bare = msgspec.structs.replace(said.strips[0], inserts=(A.inserts[2],), output="b")
    found = renewed(before, msgspec.structs.replace(said, strips=(bare, B, C, MAIN)), Plan()).session.strip("a")
    assert [send.after for send in found.sends] == [None, -1]
    assert found.inserts[0].sidechain is None and found.armed and found.inserts[0].family == "reverb"


def test_what_cannot_be_done_before_and_now_stays_as_it_was_planned():
    plan = Plan((Decision("freeze", "c"),))
    assert renewed(BEFORE, BEFORE, plan).plan == plan


def test_tracks_that_share_on_a_bus_by_now_have_nothing_left_to_share():
    plan = Plan(tuple(Decision("share", *each, into="shared/x") for each in (("a", "a/verb"), ("b", "b/eq"))))
    on_bus = msgspec.structs.replace(A, inserts=A.inserts[:2], output="shared")
    after = msgspec.structs.replace(BEFORE, strips=(on_bus, B, C, bus("shared", "verb"), MAIN))
    found = renewed(BEFORE, after, plan)
    assert (found.plan.decisions, found.done, found.lost) == (plan.decisions[1:], plan.decisions[:1], ())
    # The bus may hold another plugin, or be one that was there before.
    holds = msgspec.structs.replace(after, strips=(on_bus, B, C, bus("shared", "gate"), MAIN))
    assert renewed(BEFORE, holds, plan).lost == plan.decisions[:1]
    feeds = msgspec.structs.replace(BEFORE, strips=(msgspec.structs.replace(on_bus, output="c"), B, C, MAIN))
    assert renewed(BEFORE, feeds, plan).lost == plan.decisions[:1]
    # The plugin may as well be gone without a bus.
    gone = msgspec.structs.replace(after, strips=(msgspec.structs.replace(on_bus, output="main"), B, C, MAIN))
    assert renewed(BEFORE, gone, plan).lost == plan.decisions[:1]
