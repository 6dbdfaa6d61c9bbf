"""The session's own words: chains, places, cards that are shared."""

from __future__ import annotations

import msgspec
import pytest

from nimbleload.core.session.computer import Host, Machine, deadline, threads
from nimbleload.core.session.plugins import Setting, Variant
from tests.helpers.sessions import session, setting, track, use


def test_uses_share_a_card_exactly_when_plugin_setting_and_width_agree():
    one = use("eq", "1", setting=Setting((("gain", 1.0), ("q", 2.0))))
    same = use("eq", "2", setting=Setting((("q", 2), ("gain", 1))))  # whole numbers are the same numbers
    assert one.card_key() == same.card_key()
    for other in (
        use("eq", "3", setting=Setting((("gain", 1.1), ("q", 2.0)))),
        use("eq", "4", setting=Setting((("gain", 1.0), ("q", 2.0)), b"state")),
        msgspec.structs.replace(one, channels=1),
        msgspec.structs.replace(one, voices=3),
        msgspec.structs.replace(one, plugin=msgspec.structs.replace(one.plugin, version="2")),
    ):
        assert other.card_key() != one.card_key()


def test_cards_are_listed_once_with_all_their_uses():
    of = session(track("a", "eq", "comp"), track("b", "eq"))
    assert {key.identifier: len(uses) for key, uses in of.card_keys().items()} == {"eq": 2, "comp": 1}


def test_places_count_the_instrument_as_minus_one():
    strip = track("a", "eq", "comp", instrument=use("synth", "a/synth", voices=1))
    assert [(place, u.label) for place, u in strip.places()] == [(-1, "synth"), (0, "eq"), (1, "comp")]
    assert strip.place_of("a/synth") == -1
    assert strip.place_of("a/comp") == 1
    with pytest.raises(KeyError, match="no plugin"):
        strip.place_of("b/eq")


def test_threads_are_the_cores_that_are_left_but_at_least_one():
    assert threads(Host(2), Machine(6)) == 4
    assert threads(Host(9), Machine(6)) == 1


@pytest.mark.parametrize(("buffer", "rate"), [(0, 48000), (256, 0), (-1, 48000)])
def test_a_block_without_length_has_no_deadline(buffer, rate):
    with pytest.raises(ValueError, match="positive"):
        deadline(buffer, rate)


def test_the_cards_needed_are_those_of_uses_and_variants_each_once_with_how_many_share_it():
    of = session(track("a", "p", "q"), track("b", "p"))
    found = of.strip("a").inserts[0]
    light = Variant(found.card_key(), "light", setting(q=0))
    same = Variant(found.card_key(), "as it is", found.setting)
    needed = msgspec.structs.replace(of, variants=(light, same)).cards_needed()
    counts = {key: count for key, (_, count) in needed.items()}
    assert sorted(counts.values()) == [0, 1, 2]
    assert counts[light.applied(found).card_key()] == 0
