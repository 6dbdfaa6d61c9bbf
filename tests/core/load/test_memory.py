"""What plugins keep, against sums by hand, and what a plan leaves of it."""

from __future__ import annotations

import msgspec
import pytest

from nimbleload.core.decisions.apply import apply
from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.load.how_many import of_plugin, of_strips
from nimbleload.core.load.memory import ROOM, fits, memory, played_uses, room_for
from nimbleload.core.optimise.weigh import given_back, weigh
from nimbleload.core.session.computer import Machine
from nimbleload.core.session.plugins import Setting
from nimbleload.core.survey import instant, survey
from nimbleload.core.told import memory as told
from nimbleload.core.told.outlook import outlook
from nimbleload.core.told.verdict import verdict
from tests.helpers.sessions import bus, card, cards_for, session, track, use

MB, GB = 1 << 20, 1 << 30
NOTHING = Plan()


def kept(cards, **by_name):
    """The cards with what plugins keep: (each, pool, code, grows), by their identifiers."""
    found = {}
    for key, each in cards.items():
        more = dict(zip(("memory", "pool", "code", "grows"), by_name.get(key.identifier, (0, 0, 0, 0.0)), strict=True))
        found[key] = msgspec.structs.replace(each, upkeep=msgspec.structs.replace(each.upkeep, **more))
    return found


def choir(singers=3, **more):
    """So many tracks with a sampler and an equaliser each, and a reverb on their bus."""
    tracks = (track(f"t{k}", "sampler", "eq", output="b") for k in range(singers))
    of = session(*tracks, bus("b", "verb"), **more)
    cards = kept(
        cards_for(of, {"sampler": 1e-5, "eq": 1e-6, "verb": 1e-5}),
        sampler=(30 * MB, 2 * GB, 5 * MB, 0.0), eq=(MB, 0, 3 * MB, 0.0), verb=(8 * MB, 0, 0, 1000.0),
    )  # fmt: skip
    return of, cards


def test_each_instance_the_pool_of_a_setting_and_the_code_of_a_plugin_count_as_they_are_kept():
    of, cards = choir()
    found = memory(of, cards)
    assert found.bytes == 3 * 30 * MB + 2 * GB + 5 * MB + 3 * MB + 3 * MB + 8 * MB
    assert [(each.label, each.many) for each in found.kinds] == [("sampler", 3), ("verb", 1), ("eq", 3)]
    assert not found.is_at_least
    # Another setting has samples of its own, and the same code.
    other = msgspec.structs.replace(of.strips[0].inserts[0], setting=Setting((("kit", 2.0),)))
    strip = msgspec.structs.replace(of.strips[0], inserts=(other, *of.strips[0].inserts[1:]))
    mixed = msgspec.structs.replace(of, strips=(strip, *of.strips[1:]))
    cards |= kept({other.card_key(): card(other, 1e-5)}, sampler=(30 * MB, GB, 4 * MB, 0.0))
    assert memory(mixed, cards).bytes == found.bytes + GB


def test_what_is_not_known_is_told():
    of, cards = choir()
    sampler = of.strips[0].inserts[0].card_key()
    some = {key: each for key, each in cards.items() if key != sampler}
    assert (memory(of, some).unknown, memory(of, some).is_at_least) == (3, True)
    up = msgspec.structs.replace(cards[sampler].upkeep, pool=None)
    earlier = cards | {sampler: msgspec.structs.replace(cards[sampler], upkeep=up)}
    found = memory(of, earlier)
    assert (found.unknown, found.earlier, found.is_at_least) == (0, 3, True)
    assert found.bytes == memory(of, cards).bytes - 2 * GB
    assert told.kept_words(memory(of, {})) == "not known"
    assert told.kept_words(found).startswith("at least ")
    assert told.not_known(found) == "What 3 plugins share with others is not known yet."
    assert told.not_known(memory(of, some)) == "Of 3 plugins it is not known."


@pytest.mark.parametrize(("decisions", "gone"), [
    ((Decision("freeze", "t0"),), 0),
    ((Decision("freeze", "t0", unloaded=True),), 31 * MB),
    ((Decision("freeze", "t0", through=0, unloaded=True),), 30 * MB),
    ((Decision("off", "t0", "t0/eq"),), 0),
    ((Decision("off", "t0"),), 31 * MB),
    ((Decision("bounce", "t0"),), 31 * MB),
    ((Decision("bounce", "t0", muted=True),), 0),
    # One on the bus in the place of three.
    (tuple(Decision("share", f"t{k}", f"t{k}/eq", into="shared") for k in range(3)), 2 * MB),
    # With the last of them their samples go.
    (tuple(Decision("freeze", f"t{k}", unloaded=True) for k in range(3)), 3 * 31 * MB + 2 * GB + 8 * MB),
])  # fmt: skip
def test_what_decisions_give_back(decisions, gone):
    of, cards = choir()
    after = apply(of, Plan(decisions))
    assert not after.warnings or decisions[0].kind == "bounce"
    assert memory(of, cards).bytes - memory(after.session, cards).bytes == gone
    # What is unloaded costs no more and no less than what is frozen alone.
    loaded = Plan(tuple(msgspec.structs.replace(each, unloaded=False) for each in decisions))
    one, other = (survey(of, plan, cards, Machine(2), 256).after.load for plan in (Plan(decisions), loaded))
    assert (one == other).all()


def of_room(room, plan=NOTHING, limit=0.8):
    of, cards = choir()
    return survey(msgspec.structs.replace(of, limit=limit), plan, cards, Machine(2, memory=room), 256)


def test_too_little_memory_is_the_first_thing_said_with_what_would_help():
    short = of_room(2.0 * GB)
    said = verdict(short, instant(short))
    assert said.kind == "memory" and said.overload
    assert said.headline.endswith("There is not enough memory.")
    assert "keep 2.1 GB of memory, and this computer has 2.0 GB" in said.advice
    assert "Most of it: sampler (3: 2.1 GB)." in said.advice
    assert "Unloading" not in said.advice
    # The slower half says the same.
    assert outlook(short, instant(short)).verdict.headline == said.headline
    frozen = of_room(2.0 * GB, Plan(tuple(Decision("freeze", f"t{k}") for k in range(3))))
    advice = verdict(frozen, instant(frozen)).advice
    assert "Unloading what the plan freezes gives back 2.1 GB: 8.0 MB would have room." in advice
    # As tried: with it done nothing is said any more.
    plan = Plan(tuple(Decision("freeze", f"t{k}", unloaded=True) for k in range(3)))
    done = of_room(2.0 * GB, plan)
    assert verdict(done, instant(done)).kind == "fits" and not told.trouble(done)
    one = of_room(2.0 * GB, Plan((Decision("freeze", "t0"),)))
    assert "gives back 31 MB: 2.1 GB would still be too much." in verdict(one, instant(one)).advice


def test_nearly_all_of_it_is_tight_and_an_overload_stays_one():
    bytes_kept = of_room(0).memory.bytes
    tight = of_room(bytes_kept / ROOM - MB)
    said = verdict(tight, instant(tight))
    assert said.kind == "memory" and not said.overload
    assert "too little is left for the system, the host and the audio" in said.advice
    enough = of_room(bytes_kept / ROOM + MB)
    assert verdict(enough, instant(enough)).kind == "fits"
    said = told.sentence(enough)
    assert said.startswith("Its plugins keep 2.1 GB of the 2.6 GB of memory that this computer has. Most")
    over = of_room(2.0 * GB, limit=0.001)
    said = verdict(over, instant(over))
    assert said.kind not in ("fits", "memory") and said.headline.endswith("There is not enough memory.")
    # Where it is not known how much there is, nothing is said of it.
    unknown = of_room(0)
    assert verdict(unknown, instant(unknown)).kind == "fits"
    assert told.sentence(unknown).startswith("Its plugins keep 2.1 GB of memory. Most")


def test_what_grows_without_an_end_is_named():
    of, cards = choir()
    assert told.growing(memory(of, cards)) == ""
    verb = of.strip("b").inserts[0].card_key()
    up = msgspec.structs.replace(cards[verb].upkeep, grows=100 * 1024.0)
    found = memory(of, cards | {verb: msgspec.structs.replace(cards[verb], upkeep=up)})
    assert told.growing(found) == "1 plugin takes more memory for as long as it sounds: verb (352 MB an hour)."
    # Of three instances each does.
    eq = of.strips[0].inserts[1].card_key()
    up = msgspec.structs.replace(cards[eq].upkeep, grows=100 * 1024.0)
    found = memory(of, cards | {eq: msgspec.structs.replace(cards[eq], upkeep=up)})
    assert told.growing(found).endswith(": eq (1.0 GB an hour together).")


def test_what_is_suspended_and_silent_is_not_in_a_rehearsal():
    of, _ = choir()
    sounding = [strip.id != "t1" for strip in of.strips]
    assert len(played_uses(of, sounding)) == 7
    asleep = tuple(msgspec.structs.replace(strip, suspended=True) for strip in of.strips)
    assert len(played_uses(msgspec.structs.replace(of, strips=asleep), sounding)) == 5
    host = msgspec.structs.replace(of.host, suspends=True)
    assert len(played_uses(msgspec.structs.replace(of, host=host), sounding)) == 5


def test_how_many_more_there_is_room_for_is_counted():
    of, cards = choir()
    now = memory(of, cards).bytes

    def counted(copies, room):
        return next(n for n in range(1000) if not fits(memory(copies(n + 1), cards), room))

    for copies in (of_strips(of, ["t0"]), of_plugin(of, "b/verb"), of_strips(of, ["b"])):
        for left in (0, 7 * MB, 8 * MB, 31 * MB, 400 * MB):
            room = (now + left) / ROOM
            assert room_for(copies, cards, room) == counted(copies, room)
    alone = session(track("a", "eq"))
    with_sampler = session(track("a", "eq"), track("s", "sampler"))

    def samplers(count):
        return with_sampler if count == 1 else of_strips(with_sampler, ["s"])(count - 1) if count else alone

    # The first brings the samples of all.
    first = memory(with_sampler, cards).bytes
    for room in (first - MB, first, first + 29 * MB, first + 30 * MB):
        assert room_for(samplers, cards, room / ROOM) == counted(samplers, room / ROOM)
    assert room_for(of_strips(of, ["t0"]), cards, 0) is None
    nothing = kept(cards)
    assert room_for(of_strips(of, ["t0"]), nothing, GB) is None
    assert told.room_words(3, 12) == "But there is memory for 3 more alone."
    assert told.room_words(0, 12) == "But there is no memory for one more."
    assert told.room_words(None, 12) == told.room_words(12, 12) == ""


def test_strips_that_are_off_are_not_loaded():
    of, cards = choir()
    off = tuple(msgspec.structs.replace(strip, enabled=strip.id != "b") for strip in of.strips)
    assert memory(of, cards).bytes - memory(msgspec.structs.replace(of, strips=off), cards).bytes == 8 * MB
    assert use("eq").loaded


def test_what_goes_with_plugins_has_what_they_share_once_the_last_one_does():
    of, cards = choir()
    found, strips = memory(of, cards), of.strips
    assert found.given_back(strips[0].inserts) == 31 * MB
    assert found.given_back(use for strip in strips[:3] for use in strip.inserts) == 3 * 31 * MB + 2 * GB
    assert found.given_back(()) == 0
    unloaded = Plan(tuple(Decision("freeze", f"t{k}", unloaded=True) for k in range(3)))
    assert given_back(of_room(0, unloaded)).memory == 3 * 31 * MB + 2 * GB
    alone = survey(session(track("a", "sampler")), Plan(), cards, Machine(1), 256)
    (option,) = [each for each in weigh(alone, instant(alone), ["a"]) if each.option.title == "Freeze through insert 1"]
    assert option.memory == 30 * MB + 2 * GB
