"""How long a session's plugins take to load, against loading them one after the other on paper."""

from __future__ import annotations

import msgspec
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nimbleload.core.decisions.apply import KINDS
from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.decisions.price import Terms
from nimbleload.core.load.opening import Loads, opening
from nimbleload.core.optimise.weigh import given_back
from nimbleload.core.session.computer import Machine
from nimbleload.core.session.plugins import Setting
from nimbleload.core.survey import instant, prediction, survey
from nimbleload.core.told.card import card_sentences
from nimbleload.core.told.memory import lines
from nimbleload.core.told.opening import opening_words
from tests.helpers.often import often
from tests.helpers.sessions import card, cards_for, session, track, use

GB = 1 << 30


def timed(cards, **by_name):
    """The cards with what loading takes: the first, and one beside it, by their identifiers."""
    found = {}
    for key, each in cards.items():
        load, again = by_name.get(key.identifier, (0.0, 0.0))
        found[key] = msgspec.structs.replace(each, upkeep=msgspec.structs.replace(each.upkeep, load=load, again=again))
    return found


def of_plugins(*names):
    of = session(*(track(f"t{k}", name) for k, name in enumerate(names)))
    return of, cards_for(of, dict.fromkeys(names, 1e-5))


def test_the_first_one_of_a_plugin_takes_longer_than_those_after_it():
    of, cards = of_plugins("verb", "verb", "eq", "verb", "eq")
    found = opening(of, timed(cards, verb=(1.4, 0.025), eq=(0.08, 0.08)))
    assert found.kinds == (Loads("verb", 3, pytest.approx(1.45)), Loads("eq", 2, pytest.approx(0.16)))
    assert found.seconds == pytest.approx(1.61) and (found.unknown, found.earlier) == (0, 0)


@given(st.floats(0, 3), st.lists(st.tuples(st.floats(0, 2), st.floats(0, 1), st.integers(1, 4)), max_size=4))
@settings(max_examples=often(100), deadline=None)
def test_settings_of_one_plugin_share_its_code(code, settings_of):
    """Each setting shares samples of its own, the first of which is the least: none."""
    strips, cards, whole, is_first = [], {}, 0.0, True
    for place, (samples, each, many) in enumerate(settings_of):
        samples = samples if place else 0.0
        for k in range(many):
            made = use("kit", f"{place}/{k}", setting=Setting((("number", float(place)),)))
            strips.append(msgspec.structs.replace(track(f"t{place}-{k}"), inserts=(made,)))
            whole += each + (samples if k == 0 else 0.0) + (code if is_first else 0.0)
            is_first = False
        one = card(made, 1e-5)
        up = msgspec.structs.replace(one.upkeep, load=code + samples + each, again=each)
        cards[made.card_key()] = msgspec.structs.replace(one, upkeep=up)
    assert opening(session(*strips), cards).seconds == pytest.approx(whole, abs=1e-9)


def test_what_was_timed_once_counts_like_the_first_and_what_was_not_measured_is_left_out():
    of, cards = of_plugins("verb", "verb", "eq", "new")
    cards = timed(cards, verb=(2.0, -1.0), eq=(1.0, 0.5))
    new = next(key for key in cards if key.identifier == "new")
    cards[new] = msgspec.structs.replace(cards[new], upkeep=None)
    found = opening(of, cards)
    assert (found.seconds, found.unknown, found.earlier) == (5.0, 1, 2)
    assert opening_words(found).startswith("Its plugins take at least 5 s to load")
    del cards[new]
    whole = opening(msgspec.structs.replace(of, strips=of.strips[:3] + of.strips[4:]), cards)
    assert opening_words(whole) == (
        "Its plugins take at most 5 s to load, one after the other, most of it verb (2 instances, 4 s), "
        "eq (1 instance, 1 s)."
    )


def test_a_short_while_is_worth_no_word_and_what_is_read_first_is_told():
    of, cards = of_plugins("kit")
    assert opening_words(opening(of, timed(cards, kit=(1.99, 0.1))), 9 * GB) == ""
    found = opening(of, timed(cards, kit=(2.0, 0.1)))
    assert opening_words(found, 255 << 20) == (
        "Its plugins take about 2 s to load, one after the other, most of it kit (1 instance, 2 s)."
    )
    assert opening_words(found, 9 * GB).endswith("Before that 9.0 GB are read, if they are not in memory yet.")


def test_what_is_off_or_unloaded_is_not_loaded():
    of, cards = of_plugins("verb", "verb", "verb")
    cards = timed(cards, verb=(3.0, 1.0))
    off = msgspec.structs.replace(of.strips[0], enabled=False)
    inserts = (msgspec.structs.replace(of.strips[1].inserts[0], loaded=False),)
    out = msgspec.structs.replace(of.strips[1], inserts=inserts)
    assert opening(msgspec.structs.replace(of, strips=(off, out, *of.strips[2:])), cards).seconds == 3.0


def test_unloading_all_but_one_gives_back_what_further_ones_take_and_the_last_its_code():
    of, cards = of_plugins("verb", "verb")
    cards = timed(cards, verb=(3.0, 1.0))
    one, both = (
        Plan(tuple(Decision("freeze", f"t{k}", through=0, unloaded=True) for k in range(many))) for many in (1, 2)
    )
    assert given_back(survey(of, one, cards, Machine(2), 256)).seconds == pytest.approx(1.0)
    assert given_back(survey(of, both, cards, Machine(2), 256)).seconds == pytest.approx(4.0)


def test_coming_back_to_an_unloaded_freeze_counts_its_plugins_beside_others():
    of, cards = of_plugins("verb", "verb")
    def price(unloaded, again):
        terms = Terms(of, timed(cards, verb=(600.0, again)), Machine(2), Plan())
        return KINDS["freeze"].price(terms, Decision("freeze", "t0", through=0, unloaded=unloaded)).minutes

    # It is expected that one comes back to a track once.
    assert price(True, 60.0) - price(False, 60.0) == pytest.approx(1.0)
    assert price(True, -1.0) - price(False, -1.0) == pytest.approx(10.0)


def test_a_card_says_what_the_first_and_each_further_instance_take():
    one = card(use("verb"), 1e-5)

    def said(load, again):
        up = msgspec.structs.replace(one.upkeep, load=load, again=again)
        return " ".join(card_sentences(msgspec.structs.replace(one, upkeep=up), 48000, 256))

    assert "Takes 1.4 s to load, 25.0 ms for each further instance." in said(1.41, 0.025)
    assert "Takes 0.6 s to load." in said(0.6, -1.0) and "to load" not in said(0.4, 0.3)
    assert "Takes 0.3 s to load, 0.7 s for each further instance." in said(0.3, 0.7)


def test_what_loading_takes_stands_beside_the_memory_and_is_predicted_for_a_rehearsal():
    of, cards = of_plugins("verb", "verb")
    surveyed = survey(of, Plan(), timed(cards, verb=(3.0, 1.0)), Machine(2), 256)
    assert "Its plugins take about 4 s to load" in " ".join(lines(surveyed))
    assert prediction(surveyed, instant(surveyed, 1.0)).loaded_in == 4.0
    earlier = survey(of, Plan(), timed(cards, verb=(3.0, -1.0)), Machine(2), 256)
    assert prediction(earlier, instant(earlier, 1.0)).loaded_in == 0.0
