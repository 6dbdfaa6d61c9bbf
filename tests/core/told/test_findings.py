"""Findings, each provoked by a session made for it; and none in a session that gives nothing away."""

from __future__ import annotations

import msgspec
import pytest

from nimbleload.core.cards.card import Truth
from nimbleload.core.decisions.decision import Plan
from nimbleload.core.session.computer import Machine
from nimbleload.core.session.plugins import PluginRef, PluginUse
from nimbleload.core.session.strips import Clip, Send
from nimbleload.core.survey import instant, survey
from nimbleload.core.told.findings import findings, weighed
from tests.helpers.sessions import bus, cards_for, session, track, use

MAIN = bus("main", kind="main", output=None)


def names(of, cards=None) -> list[str]:
    return [f.name for f in findings(of, cards or {}, 256)]


def only(of, name: str, cards=None):
    return next(f for f in findings(of, cards or {}, 256) if f.name == name)


def test_a_session_in_order_gives_nothing_away():
    of = session(track("a", "eq"), track("b", "comp", output="bus"), bus("bus", "glue"), MAIN)
    assert findings(of, cards_for(of, {"eq": 1e-4, "comp": 1e-4, "glue": 1e-4}), 256) == []


def test_a_track_that_nothing_plays_on_is_switched_off_but_not_a_folder_or_a_key_source():
    of = session(
        track("empty", "eq", clips=()), track("folder", "eq", clips=()), track("child", "comp", output="folder"),
        track("armed", "gate", clips=(), armed=True), track("key", "x", clips=()),
        msgspec.structs.replace(track("ducked"), inserts=(use("comp2", sidechain="key"),)), MAIN,
    )  # fmt: skip
    found = only(of, "unused tracks")
    assert [(d.kind, d.strip) for d in found.decisions] == [("off", "empty")]


def test_a_bus_that_nothing_feeds_and_clips_after_the_end():
    of = session(track("a", clips=((0, 5), (12, 14))), bus("lost", "verb"), MAIN, length=10.0)
    assert [d.strip for d in only(of, "buses without input").decisions] == ["lost"]
    assert "a begin after the end" in only(of, "unused clips").sentence


@pytest.mark.parametrize("way", [{"output": None}, {"mute": True}])
def test_what_cannot_be_heard_but_costs(way):
    of = session(track("quiet", "eq", **way), track("a", "comp"), MAIN)
    found = only(of, "without a way out")
    assert [d.strip for d in found.decisions] == ["quiet"]
    assert ("muted" in found.sentence) == ("mute" in way)
    heard = session(track("quiet", "eq", output=None, sends=(Send("hall", pre_fader=True),)), bus("hall"), MAIN)
    assert "without a way out" not in names(heard)


def with_first(of, use):
    """The session with this plugin in the first place of its first strip."""
    first = of.strips[0]
    return msgspec.structs.replace(
        of, strips=(msgspec.structs.replace(first, inserts=(use, *first.inserts[1:])), *of.strips[1:])
    )


def test_plugins_that_do_nothing_are_known_from_their_cards():
    of = session(track("a", "flat", "eq"), MAIN)
    cards = cards_for(of, {"flat": 1e-4, "eq": 1e-4})
    key = of.strip("a").inserts[0].card_key()
    cards[key] = msgspec.structs.replace(cards[key], truth=Truth(idle=True))
    assert [d.use for d in only(of, "plugins that do nothing", cards).decisions] == ["a/flat"]
    moving = msgspec.structs.replace(of.strip("a").inserts[0], automated=True)
    assert "plugins that do nothing" not in names(with_first(of, moving), cards)
    cards[key] = msgspec.structs.replace(cards[key], truth=Truth(silent=True))
    assert "flat" in only(of, "plugins without output", cards).sentence


def test_meters_needless_arming_and_the_same_plugin_in_two_standards():
    meter = use("m", family="analyser")
    twice = [PluginUse(f"x{k}", PluginRef(k, f"{k}:echo", "Echo")) for k in ("lv2", "vst3")]
    of = session(
        msgspec.structs.replace(track("a", clips=((0, 9),), armed=True), inserts=(meter, *twice)), MAIN, length=10.0
    )
    assert [d.use for d in only(of, "meters and analysers").decisions] == ["m"]
    assert [(d.kind, d.strip) for d in only(of, "armed without need").decisions] == [("disarm", "a")]
    assert "Echo is used as LV2 and VST3" in only(of, "in two standards").sentence


def test_look_ahead_while_something_is_armed():
    slow = use("slow", latency=480)
    of = session(msgspec.structs.replace(track("a", armed=True, clips=()), inserts=(slow,)), MAIN)
    assert "slow on a by 10.0 ms" in only(of, "look-ahead while tracking").sentence
    idle = msgspec.structs.replace(of, strips=tuple(msgspec.structs.replace(s, armed=False) for s in of.strips))
    assert "look-ahead while tracking" not in names(idle)


def test_many_of_one_effect_in_several_settings():
    strips = [
        msgspec.structs.replace(track(f"t{k}"), inserts=(use("verb", f"v{k}", family="reverb", voices=k),))
        for k in range(6)
    ]
    assert "verb runs 6 times in 6 settings" in only(session(*strips, MAIN), "many of one effect").sentence
    assert "many of one effect" not in names(session(*strips[:5], MAIN))


def test_what_bends_the_sound_is_not_offered_to_be_shared_unless_it_is_measured_to_be_exact():
    def two(family):
        pair = [msgspec.structs.replace(track(n), inserts=(use("x", f"{n}/x", family=family),)) for n in ("a", "b")]
        return session(*pair, MAIN)

    assert "alike on several tracks" in names(two("reverb"))
    assert "alike on several tracks" not in names(two("dynamics"))
    of = two("dynamics")
    cards = cards_for(of, {"x": 1e-4})
    key = of.strip("a").inserts[0].card_key()
    cards[key] = msgspec.structs.replace(cards[key], truth=Truth(linear_db=-120.0))
    assert "alike on several tracks" in names(of, cards)


def test_findings_are_ordered_by_what_they_save_at_the_moment():
    of = session(track("cheap", "eq", output=None), track("dear", "verb"), track("dear2", "verb"), MAIN)
    cards = {
        k: msgspec.structs.replace(c, truth=Truth(linear_db=-120.0))
        for k, c in cards_for(of, {"eq": 1e-5, "verb": 1e-3}).items()
    }
    found = survey(of, Plan(), cards, Machine(1), 256)
    listed = weighed(found, instant(found))
    assert [each.finding.name for each in listed] == ["alike on several tracks", "without a way out"]
    assert listed[0].saving.work == pytest.approx(1e-3 / (256 / 48000))


def test_clips_that_the_host_converts_or_stretches_and_files_of_several_depths():
    clips = {
        "a": (Clip(0, 5, rate=44100, bits=16), Clip(5, 10, rate=48000, bits=24)),
        "b": (Clip(0, 5, rate=96000, bits=16),),
        "c": (Clip(0, 5, rate=48000, bits=16, stretched=True),),
        "d": (Clip(0, 5),),
    }
    of = session(*(msgspec.structs.replace(track(name), clips=each) for name, each in clips.items()))
    said = {f.name: f.sentence for f in findings(of, {}, 256)}
    assert said["mixed sample rates"].startswith("Clips on a, b are at 44.1, 96 kHz, the session at 48:")
    assert said["clips stretched live"].startswith("Clips on c are stretched")
    assert "16 bit on a, b and 1 more; 24 bit on a" in said["mixed bit depths"]
    plain = session(msgspec.structs.replace(track("a"), clips=(Clip(0, 5, rate=48000, bits=24),)), track("d"))
    assert not {"mixed sample rates", "clips stretched live", "mixed bit depths"} & {
        f.name for f in findings(plain, {}, 256)
    }
