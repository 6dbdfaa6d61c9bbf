"""Who could stand in for plugins without figures: of the same name, then of the same family, never an instrument."""

from __future__ import annotations

import msgspec

from nimbleload.core.cards.stand_ins import standing_in, suggested
from nimbleload.core.session.plugins import PluginRef, PluginUse
from tests.helpers.sessions import card


def use(name, standard="clap", family="equaliser", **more):
    return PluginUse(f"{standard}/{name}", PluginRef(standard, name, name), family=family, **more)


def found(*uses, known=(), counts=None):
    needed = {each.card_key(): (each, (counts or {}).get(each.id, 1)) for each in uses}
    cards = {each.card_key(): card(each, 1e-4) for each in known}
    return [(each.use.id, [other.id for other in each.others]) for each in suggested(needed, cards)]


def test_the_same_plugin_in_another_standard_comes_first_then_those_of_its_family_by_name():
    lost = use("Zam EQ-2", "vst3")
    known = [use("Green EQ"), use("ZamEQ2", "lv2"), use("Zam EQ 3"), use("Hall", family="reverb")]
    assert found(lost, *known, known=known) == [("vst3/Zam EQ-2", ["lv2/ZamEQ2", "clap/Zam EQ 3", "clap/Green EQ"])]


def test_who_is_called_alike_comes_in_whatever_its_family_and_of_no_family_nobody_else():
    lost = use("Plate Verb", family="other")
    known = [use("PlateVerb Pro", family="reverb"), use("Gate", family="other")]
    assert found(lost, *known, known=known) == [("clap/Plate Verb", ["clap/PlateVerb Pro"])]


def test_an_instrument_stands_in_for_an_instrument_only_and_the_nearer_in_channels_first():
    lost = use("Pipes", family="instrument", channels=1)
    reeds, bells = (use(name, family="instrument") for name in ("Reeds", "Bells"))
    known = [use("Pipes", "lv2"), reeds, bells]
    ((_, others),) = found(lost, *known, known=known)
    assert others[0] in ("clap/Reeds", "clap/Bells") and "lv2/Pipes" not in others
    same = [use("Pipes", "lv2", "instrument", channels=8), use("Pipes", "vst3", "instrument", channels=2)]
    assert found(lost, *same, known=same) == [("clap/Pipes", ["vst3/Pipes", "lv2/Pipes"])]


def test_the_most_used_is_named_first_and_what_nobody_is_like_not_at_all():
    lost = [use("Left"), use("Right"), use("Alone", family="spatial")]
    known = [use("Middle")]
    ids = [each for each, _ in found(*lost, *known, known=known, counts={"clap/Left": 2, "clap/Right": 30})]
    assert ids == ["clap/Right", "clap/Left"]
    assert found(*lost) == []


def test_what_failed_has_no_figures_and_what_is_lent_is_lent_no_further():
    lost, failed, first = use("Lost EQ"), use("Failed EQ"), use("First EQ")
    cards = {
        first.card_key(): card(first, 1e-4),
        failed.card_key(): msgspec.structs.replace(card(failed, 0.0), cells=(), failure="crashed"),
    }
    needed = {each.card_key(): (each, 1) for each in (lost, failed, first)}
    assert {each.use.id for each in suggested(needed, cards)} == {"clap/Lost EQ", "clap/Failed EQ"}
    cards[failed.card_key()] = standing_in(failed, cards[first.card_key()])
    ((only,),) = ([other.id for other in each.others] for each in suggested(needed, cards))
    assert only == "clap/First EQ"
