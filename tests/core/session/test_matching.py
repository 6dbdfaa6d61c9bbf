"""Tracks and plugins of a newer export: found by construction, whatever the host did to ids, names and order."""

from __future__ import annotations

import random

import msgspec
import pytest

from nimbleload.core.session.matching import same_in
from nimbleload.core.session.plugins import Setting
from nimbleload.core.session.strips import Clip, Strip
from tests.helpers.often import often
from tests.helpers.renumbered import renumbered
from tests.helpers.sessions import bus, session, track, use


def playing(name, *plugins, file=None, **more):
    strip = track(name, *plugins, **more)
    return msgspec.structs.replace(strip, clips=(Clip(0.0, 10.0, file=file or f"audio/{name}.wav"),))


@pytest.mark.parametrize("seed", range(often(13)))
def test_whatever_is_put_in_moved_taken_out_or_renamed_the_same_are_found(seed):
    """Both exports number their elements through: the same number is as a rule another track."""
    rng = random.Random(seed)
    plugins = ["eq", "comp", "verb", "gate"]
    tracks = [
        playing(f"t{k}", *rng.choices(plugins, k=rng.randint(0, 4)), output=rng.choice(["b0", "b1", "main"]))
        for k in range(rng.randint(4, 30))
    ]
    whole = session(*tracks, bus("b0", "eq"), bus("b1", "comp"))
    kept = [strip for strip in whole.strips if strip.kind != "track" or rng.random() < 0.8]
    rng.shuffle(kept)
    for k in range(rng.randint(0, 5)):
        kept.insert(rng.randrange(len(kept)), playing(f"new{k}", *rng.choices(plugins, k=2)))
    renamed = [
        msgspec.structs.replace(strip, name=f"{strip.name} II")
        if strip.kind == "track" and rng.random() < 0.15 else strip for strip in kept
    ]  # fmt: skip
    later = msgspec.structs.replace(whole, strips=tuple(renamed))
    (before, was_strips, was_uses), (after, now_strips, now_uses) = renumbered(whole, "id"), renumbered(later, "id")
    found = same_in(before, after)
    there = {strip.id for strip in kept}
    assert found.strips == {was_strips[one]: now_strips[one] for one in was_strips if one in there}
    for old, new in was_uses.items():
        # Two of a kind in one setting are as good as each other.
        if old in now_uses:
            mine, yours = (
                next(u for s in of.strips for u in s.uses() if u.id == place)
                for of, place in ((before, new), (after, found.uses[new]))
            )  # fmt: skip
            assert mine.plugin == yours.plugin
    assert len(found.uses) == len({*found.uses.values()}) == sum(1 for old in was_uses if old in now_uses)


def matched(before, after):
    return same_in(session(*before), session(*after)).strips


def test_a_new_track_with_the_number_and_plugins_of_one_that_is_gone_is_not_that_one():
    gone, come = playing("Kick", "eq", "comp"), playing("Snare", "eq", "comp")
    assert "Kick" not in matched([gone], [msgspec.structs.replace(come, id="Kick")])
    # Of notes only times are known: that both begin at zero says nothing.
    notes = tuple(Clip(0.0, 10.0, "notes") for _ in range(1))
    harp, oboe = (msgspec.structs.replace(track(name, "synth"), clips=notes) for name in ("Harp", "Oboe"))
    assert "Harp" not in matched([harp], [oboe])
    assert matched([harp], [msgspec.structs.replace(oboe, id="Harp")])["Harp"] == "Harp", "called otherwise"


def test_a_bus_of_another_name_and_number_is_known_by_what_feeds_it():
    before = [track("a", output="b"), track("c", output="b"), bus("b", "eq")]
    after = [track("a", output="x"), track("c", output="x"), msgspec.structs.replace(bus("x", "eq"), name="Voices")]
    assert matched(before, after) == {"a": "a", "c": "c", "b": "x", "main": "main"}


def test_a_name_goes_before_a_number_and_a_track_is_no_bus():
    one, two = playing("one", "eq"), playing("two", "verb")
    swapped = [msgspec.structs.replace(one, id="two"), msgspec.structs.replace(two, id="one")]
    assert matched([one, two], swapped) == {"one": "two", "two": "one", "main": "main"}
    assert "one" not in matched([one], [Strip("one", "one", "bus", output="main")])


def test_of_many_of_one_name_each_goes_to_its_own():
    audio = [msgspec.structs.replace(playing(f"t{k}", file=f"{k}.wav"), name="Audio") for k in range(5)]
    now = [msgspec.structs.replace(strip, id=f"n{strip.id}") for strip in reversed(audio)]
    assert matched(audio, now) == {f"t{k}": f"nt{k}" for k in range(5)} | {"main": "main"}
    alike = [msgspec.structs.replace(strip, clips=()) for strip in audio]
    now = [msgspec.structs.replace(strip, id=f"n{strip.id}") for strip in alike]
    assert matched(alike, now) == {f"t{k}": f"nt{k}" for k in range(5)} | {"main": "main"}, "in their order"


def test_a_name_goes_before_what_is_played():
    """A take is printed anew, the old one kept beside it under another name."""
    old, new = playing("Bass", "eq"), playing("Bass", "eq", file="audio/new.wav")
    kept = msgspec.structs.replace(old, id="kept", name="Bass old take")
    assert matched([old], [kept, msgspec.structs.replace(new, id="x")])["Bass"] == "x"
    written = msgspec.structs.replace(new, id="x", name=" BASS")
    assert matched([old], [kept, written])["Bass"] == "x", "as people write it"


AUDIO = msgspec.structs.replace(track("x"), name="Audio", clips=())


@pytest.mark.parametrize(
    "parts",
    [
        ({"inserts": (use("eq", "1"),)}, {"inserts": (use("comp", "2"),)}),
        ({"inserts": (use("eq", "1"),)}, {"inserts": (use("eq", "2"), use("eq", "3"))}),
        ({"output": "b"}, {"output": "c"}),
    ],
    ids=["plugins", "how many of a kind", "what they feed"],
)
def test_of_two_of_one_name_the_rest_decides_wherever_they_stand(parts):
    a, b = (msgspec.structs.replace(AUDIO, **more) for more in parts)
    buses = [bus("b"), bus("c")]

    def numbered(first, second, ids):
        return [msgspec.structs.replace(strip, id=each) for strip, each in zip((first, second), ids, strict=True)]

    before, after = [*numbered(a, b, "pq"), *buses], [*numbered(b, a, "rs"), *buses]
    found = matched(before, after)
    assert (found["p"], found["q"]) == ("s", "r")


def test_where_all_else_is_alike_the_number_decides_and_then_the_place():
    def numbered(ids):
        return [msgspec.structs.replace(AUDIO, id=each) for each in ids]

    assert matched(numbered("ab"), numbered("ba")) == {"a": "a", "b": "b", "main": "main"}
    found = matched(numbered("abcd"), numbered("xy"))
    # The main output stands last in both: each place is a fifth, or a third, of the way through the list.
    assert found == {"a": "x", "c": "y", "main": "main"}
    chains = [
        session(msgspec.structs.replace(track("t"), inserts=tuple(use("eq", each) for each in ids)))
        for ids in ("1234", "ab", "21")
    ]  # fmt: skip
    assert same_in(chains[0], chains[1]).uses == {"1": "a", "3": "b"}
    assert same_in(chains[0], chains[2]).uses == {"1": "1", "2": "2"}


def test_a_bus_that_nothing_feeds_is_not_known_by_its_number_alone():
    before, after = bus("b", "eq", "comp", "verb"), msgspec.structs.replace(bus("b", "eq", "gate", "lim"), name="Other")
    assert "b" not in matched([before], [after])
    after = msgspec.structs.replace(bus("b", "eq", "comp", "lim"), name="Other")
    assert matched([before], [after])["b"] == "b"


def test_a_plugin_that_went_to_another_track_is_the_same_by_number_where_numbers_stay_or_as_the_only_one_so_set():
    eq, verb = use("eq"), use("verb", setting=Setting((("size", 2.0),)))

    def of(numbers, a, b):
        """A session with these plugins on two tracks, numbered so."""
        numbered = iter(numbers)
        chains = [[msgspec.structs.replace(each, id=next(numbered)) for each in chain] for chain in (a, b)]
        return session(*(msgspec.structs.replace(track(name), inserts=tuple(chain))
                         for name, chain in zip("ab", chains, strict=True)))  # fmt: skip

    before = of("12", (eq, verb), ())
    assert same_in(before, of("12", (eq,), (verb,))).uses == {"1": "1", "2": "2"}
    assert same_in(before, of("89", (eq,), (verb,))).uses == {"1": "8", "2": "9"}
    assert same_in(before, of("827", (eq,), (verb, verb))).uses == {"1": "8"}, "either of two could be meant"
    as_it_starts = use("verb")
    assert same_in(of("12", (eq, as_it_starts), ()), of("82", (eq,), (as_it_starts,))).uses == {"1": "8"}


def test_of_two_plugins_of_a_kind_the_setting_goes_before_the_place():
    one, two = (use("eq", number, setting=Setting((("low", float(number)),))) for number in ("1", "2"))
    before, after = (
        session(msgspec.structs.replace(track("a"), inserts=inserts))
        for inserts in ((one, two), (msgspec.structs.replace(two, id="8"), msgspec.structs.replace(one, id="9")))
    )  # fmt: skip
    assert same_in(before, after).uses == {"1": "9", "2": "8"}


def test_sessions_without_tracks_have_nothing_in_common():
    empty = msgspec.structs.replace(session(), strips=())
    assert same_in(empty, session(track("a"))).strips == {}
