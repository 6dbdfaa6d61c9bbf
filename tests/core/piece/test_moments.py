"""When strips sound: against asking every strip at many single instants."""

from __future__ import annotations

import random

import msgspec
import numpy as np
import pytest

from nimbleload.core.piece.moments import activity, cut, same_activity, sounding_spans, union
from nimbleload.core.session.routing import build
from nimbleload.core.session.strips import Send
from tests.helpers.sessions import bus, card, random_cards, random_session, session, track, use

STEP = 0.01


def sounding_on_a_grid(of, cards):
    """Who sounds at each hundredth of a second (strips, steps): sound spread over a grid until nothing changes."""
    steps = round(of.length / STEP)
    second = (np.arange(steps) + 0.5) * STEP
    sounding = {s.id: np.zeros(steps, bool) for s in of.strips}
    for _ in range(len(of.strips) + 1):
        for strip in of.strips:
            if not strip.enabled:
                continue
            heard = np.zeros(steps, bool)
            for clip in strip.clips:
                inside = (second >= clip.start) & (second < clip.end)
                for at, count in clip.voices:
                    inside = np.where(second >= at, (second < clip.end) & (count > 0), inside)
                heard |= inside
            for other in of.strips:
                feeds = [send.target for send in other.sends if send.enabled and (send.pre_fader or not other.mute)]
                feeds += [other.output] if other.output and not other.mute else []
                if strip.id in feeds:
                    heard |= sounding[other.id]
            lasting = sum(cards[u.card_key()].tail or 0.0 for u in strip.uses() if u.enabled and u.card_key() in cards)
            for _ in range(round(lasting / STEP)):
                heard[1:] |= heard[:-1].copy()
            sounding[strip.id] = np.ones(steps, bool) if strip.armed else heard
    return second, np.array([sounding[s.id] for s in of.strips])


@pytest.mark.parametrize("seed", range(12))
def test_moments_agree_with_sound_spread_over_a_grid(seed):
    rng = random.Random(seed)
    of = random_session(rng, tracks=4)
    cards = {key: msgspec.structs.replace(c, tail=rng.choice([None, 0.5])) for key, c in random_cards(rng, of).items()}
    moments = cut(of, build(of), cards)
    second, expected = sounding_on_a_grid(of, cards)
    # A grid is off by a step at a border; along a chain of strips the steps add up.
    clear = np.min(np.abs(second[:, None] - moments.times[None, :]), axis=1) > STEP * (len(of.strips) + 1)
    found = np.array([moments.sounding[moments.at(s)] for s in second]).T
    assert clear.mean() > 0.3
    assert np.array_equal(found[:, clear], expected[:, clear])


def test_moments_cover_the_piece_without_gaps():
    of = session(track("a", clips=((1, 3), (2, 5))), track("b", clips=((4, 20),)), length=12.0)
    moments = cut(of, build(of), {})
    assert moments.times[0] == 0.0
    assert moments.times[-1] == 12.0
    assert np.all(np.diff(moments.times) > 0)
    assert moments.times.tolist() == [0, 1, 4, 5, 12]


def test_equal_sets_are_one_distinct_row():
    of = session(track("a", clips=((1, 2), (3, 4), (5, 6))), length=10.0)
    moments = cut(of, build(of), {})
    assert len(moments.of) == 7
    assert len(moments.distinct) == 2
    assert np.array_equal(moments.distinct[moments.of], moments.sounding)


def test_a_tail_keeps_the_strip_and_its_bus_sounding():
    of = session(track("a", "verb", clips=((0, 2),), output="b"), bus("b"))
    cards = {use("verb").card_key(): card(use("verb"), 1e-5, tail=1.5)}
    spans = sounding_spans(of, build(of), cards)
    assert spans[0] == [(0.0, 3.5)]
    assert spans[1] == [(0.0, 3.5)]


def test_a_mute_silences_the_output_but_not_the_track_nor_a_send_before_the_fader():
    muted = track("a", clips=((0, 2),), output="b", mute=True, sends=(Send("pre", pre_fader=True), Send("post")))
    of = session(muted, bus("b"), bus("pre"), bus("post"))
    spans = dict(zip([s.id for s in of.strips], sounding_spans(of, build(of), {}), strict=True))
    assert spans["a"] == [(0.0, 2.0)]
    assert spans["pre"] == [(0.0, 2.0)]
    assert spans["b"] == spans["post"] == []


def test_an_armed_track_sounds_all_through_and_one_that_is_off_never():
    of = session(track("a", clips=(), armed=True), track("b", enabled=False), length=7.0)
    spans = sounding_spans(of, build(of), {})
    assert spans[0] == [(0.0, 7.0)]
    assert spans[1] == []


def test_a_second_is_found_in_its_moment_and_outside_ones_at_the_ends():
    of = session(track("a", clips=((1, 3),)), length=5.0)
    moments = cut(of, build(of), {})
    assert [moments.at(s) for s in (-1, 0, 0.99, 1, 2.9, 3, 5, 99)] == [0, 0, 0, 1, 1, 2, 2, 2]


def test_a_piece_without_length_is_one_silent_moment():
    of = session(track("a", clips=()), length=0.0)
    moments = cut(of, build(of), {})
    assert len(moments.of) == 1
    assert not moments.sounding.any()


def test_freezing_keeps_the_moments_and_switching_off_a_tail_does_not():
    before = session(track("a", "verb"))
    strip = before.strips[0]
    frozen = msgspec.structs.replace(
        before, strips=(msgspec.structs.replace(strip, frozen_through=0), *before.strips[1:])
    )
    silent = msgspec.structs.replace(strip, inserts=(msgspec.structs.replace(strip.inserts[0], enabled=False),))
    bypassed = msgspec.structs.replace(before, strips=(silent, *before.strips[1:]))
    assert same_activity(before, frozen)
    assert not same_activity(before, bypassed)


def test_union_merges_what_overlaps_or_touches():
    assert union([(3, 4), (0, 1), (1, 2), (3.5, 5), (7, 7)]) == [(0, 2), (3, 5)]


def test_activity_is_the_share_of_each_part_that_sounds():
    of = session(track("a", clips=((0, 2.5), (5, 6))), length=10.0)
    shares = activity(cut(of, build(of), {}), 4)
    assert shares[0].tolist() == pytest.approx([1.0, 0.0, 0.4, 0.0])
