"""Comparing cards: what is lighter, what settings save, variants, and cards found by words."""

from __future__ import annotations

import msgspec
import pytest

from nimbleload.core.cards.card import Cell, Company, CostCard, Effect, Position, Silence, Sweep
from nimbleload.core.cards.comparison import VOICES_NAME, card_named, lighter, savings, variant_of
from nimbleload.core.cards.families import by_name, kind
from nimbleload.core.cards.stand_ins import Reading, from_readings, standing_in
from nimbleload.core.cards.upkeep import Upkeep
from nimbleload.core.session.plugins import PluginRef, PluginUse
from nimbleload.core.session.session import Session
from nimbleload.core.told.card import card_sentences
from nimbleload.core.told.card_comparison import comparison, lighter_words, other_standards, reasons, sweep_sentences
from tests.helpers.sessions import card, session, setting, track, use

RATE = 48000


def cards_of(**costs):
    return {use(name).card_key(): card(use(name), seconds) for name, seconds in costs.items()}


class TestLighter:
    def reverb(self, name: str) -> PluginUse:
        return use(name, family="reverb")

    def test_only_cheaper_plugins_of_the_same_family_count_the_cheapest_first(self):
        cards = cards_of(own=1e-4, half=5e-5, tenth=1e-5, dearer=2e-4, other=1e-6, same=9.9e-5)
        families = {("test", name): "reverb" for name in ("own", "half", "tenth", "dearer", "same")}
        families["test", "other"] = "equaliser"
        found = lighter(cards, families, self.reverb("own"), RATE, 256)
        assert [f.card.name for f in found] == ["tenth", "half"]
        assert [f.saved for f in found] == pytest.approx([0.9, 0.5])

    def test_of_one_plugin_only_its_lightest_setting_is_told_and_never_its_own(self):
        light, heavy = (use("b", setting=setting(size=n)) for n in (1, 2))
        own_other = use("own", setting=setting(size=3))
        cards = cards_of(own=1e-4) | {
            u.card_key(): card(u, s) for u, s in ((light, 1e-5), (heavy, 5e-5), (own_other, 1e-6))
        }
        families = {("test", "own"): "reverb", ("test", "b"): "reverb"}
        found = lighter(cards, families, self.reverb("own"), RATE, 256)
        assert [(f.card.key.identifier, f.seconds) for f in found] == [("b", pytest.approx(1e-5))]

    def test_only_as_many_channels_and_notes_are_compared(self):
        mono, notes = use("b", channels=1), use("b", voices=1)
        alike = use("b", setting=setting(size=3))
        cards = cards_of(own=1e-4) | {u.card_key(): card(u, 1e-6) for u in (mono, notes)}
        families = {("test", "own"): "reverb", ("test", "b"): "reverb"}
        assert lighter(cards, families, self.reverb("own"), RATE, 256) == []
        (found,) = lighter(
            cards | {alike.card_key(): card(alike, 2.5e-5)}, families, self.reverb("own"), RATE, 256
        )  # fmt: skip
        assert lighter_words(found) == "b (TEST), 25 µs: 75 % less"

    def test_without_a_figure_or_a_family_there_is_nothing_to_say(self):
        assert lighter({}, {}, self.reverb("own"), RATE, 256) == []
        assert lighter(cards_of(own=1e-4, b=1e-5), {("test", "b"): "other"}, use("own"), RATE, 256) == []


SWEEP = Sweep(RATE, 256, 100e-6, (
    Effect("q", 0, 40e-6, "quality off"), Effect("q", 2, 180e-6, "quality 2"), Effect("n", 4, 97e-6, "count 4"),
    Effect(VOICES_NAME, 4, 60e-6, "4 voices"), Effect("x", 9, 0.0, "x 9", "crashed: SIGSEGV"),
), 3)  # fmt: skip


def test_settings_are_ranked_and_noise_saves_nothing():
    assert [(e.words, pytest.approx(s)) for e, s in savings(SWEEP)] == [("quality off", 0.6), ("4 voices", 0.4)]
    said = " ".join(sweep_sentences(SWEEP))
    for words in ("5 other values", "quality 2, 180 %", "x 9: crashed: SIGSEGV", "3 more values were left out"):
        assert words in said


def test_a_variant_is_the_use_with_the_chosen_values():
    of = use("synth", setting=setting(q=1, n=8), voices=16)
    made = variant_of(of, [SWEEP.effects[0], SWEEP.effects[3]])
    assert made.of == of.card_key()
    assert made.name == "quality off, 4 voices"
    changed = made.applied(of)
    assert (dict(changed.setting.values), changed.voices) == ({"q": 0, "n": 8}, 4)
    assert made.applied(of).card_key() != of.card_key()


def test_a_session_needs_the_cards_of_its_variants_too():
    of = session(track("a", "eq"))
    found = of.strip("a").inserts[0]
    made = variant_of(found, [Effect("q", 0, 1e-6, "quality off")])
    stale = msgspec.structs.replace(made, of=use("gone").card_key())
    after = msgspec.structs.replace(of, variants=(made, stale))
    assert list(after.variant_uses()) == [made.applied(found).card_key()]
    assert msgspec.json.decode(msgspec.json.encode(after), type=Session) == after


def test_a_comparison_gives_both_costs_and_their_ratio():
    one, other = card(use("one"), 100e-6), card(use("other"), 50e-6)
    rows = comparison(one, other, RATE, (256, 512))
    assert rows[0] == ["buffer", "one", "other", "second against first"]
    assert rows[1] == ["256", "1.9 %, 100 µs", "0.9 %, 50 µs", "50 %"]
    assert comparison(one, CostCard(use("x").card_key()), RATE, (256,)) == rows[:0] + comparison(
        one, CostCard(use("x").card_key()), RATE, ()
    )


def test_a_card_is_found_by_words_and_whole_numbers():
    uses = [use("tar", setting=setting(drive=12, oversampling=n)) for n in (2, 4)]
    by_key = {u.card_key(): u for u in uses}
    assert [u for u, _ in card_named({}, by_key, "TAR oversampling 2")] == [uses[0]]
    assert len(card_named({}, by_key, "tar 12")) == 2
    assert card_named({}, by_key, "tar 1") == []


class TestElsewhere:
    def test_two_readings_make_a_line_and_stay_typed(self):
        block = 256 / RATE
        of = from_readings(use("a"), [Reading(256, 0.10), Reading(1024, 0.04)], RATE)
        assert of.cost(RATE, 256, "sounding") == (pytest.approx(0.10 * block), "typed")
        assert of.cost(RATE, 1024, "sounding").seconds == pytest.approx(0.04 * 4 * block)
        fit = of.fit(RATE, "sounding")
        assert fit is not None
        assert fit.fixed + 256 * fit.per_sample == pytest.approx(0.10 * block)
        with pytest.raises(ValueError, match="must be there"):
            from_readings(use("a"), [], RATE)

    def test_a_stand_in_gives_its_figures_under_the_other_key(self):
        made = standing_in(use("missing"), msgspec.structs.replace(card(use("b"), 3e-5), failure="crashed"))
        assert made.key == use("missing").card_key()
        assert made.cost(RATE, 256, "sounding") == (pytest.approx(3e-5), "stand-in")
        assert made.failure is None


@pytest.mark.parametrize(
    ("features", "name", "expected"),
    [
        (("audio-effect", "reverb", "stereo"), "Plate", ("reverb", False)),
        (("Fx|EQ",), "Zed", ("equaliser", False)),
        (("Compressor Plugin",), "X", ("dynamics", False)),
        (("Plugin",), "Big Hall", ("reverb", True)),
        ((), "Nothing In It", ("other", True)),
        (("Instrument Plugin",), "Delay of trains", ("instrument", False)),
    ],
)
def test_a_family_is_declared_or_guessed_and_marked_as_such(features, name, expected):
    assert tuple(kind(features, name)) == expected
    assert ("guessed" in kind(features, name).words()) == expected[1]


def test_a_name_alone_is_a_guess():
    assert by_name("Tape Echo") == "delay"


class TestCompany:
    CURVES = (
        Company(RATE, 256, (0, 1 << 20, 2 << 20), (10e-6, 12e-6, 11e-6)),
        Company(RATE, 1024, (0, 1 << 20, 2 << 20), (40e-6, 44e-6, 48e-6)),
    )

    def test_the_extra_grows_on_a_line_never_falls_and_ends_at_the_last_level(self):
        curve = self.CURVES[0]
        assert [curve.extra(b) for b in (0, 1 << 19, 1 << 20, 2 << 20, 99 << 20)] == pytest.approx(
            [0, 0.1, 0.2, 0.2, 0.2]
        )

    def test_between_the_sizes_it_is_read_on_the_line_over_the_logarithm(self):
        of = msgspec.structs.replace(card(use("a"), 1e-5), company=self.CURVES)
        assert of.in_company(RATE, 512, 2 << 20) == pytest.approx(0.2)
        assert of.in_company(RATE, 32, 1 << 20) == pytest.approx(0.2)
        assert of.in_company(RATE, 4096, 1 << 20) == pytest.approx(0.1)
        assert of.in_company(RATE, 512, 1 << 20) == pytest.approx(0.15)
        assert of.in_company(44100, 256, 2 << 20) == 0.0

    def test_a_card_says_what_company_silence_and_upkeep_mean(self):
        of = msgspec.structs.replace(
            card(use("a"), 10e-6), company=self.CURVES, upkeep=Upkeep(30 << 20, 0, 2.0, 500.0, 3 << 20),
            silence=Silence(RATE, 512, 20e-6, (30e-6, 10e-6, 1e-6), 40e-6, 400e-6),
        )  # fmt: skip
        said = " ".join(card_sentences(of, RATE, 256))
        for words in ("takes 20 % more", "keeps 30 MB", "2.0 s to load", "Reads 3.0 MB", "500 page faults",
                      "Falls asleep by itself", "costs up to 200 %", "would cost 1000 %"):  # fmt: skip
            assert words in said
        quiet = msgspec.structs.replace(of, silence=Silence(RATE, 512, 20e-6, (20e-6,) * 3, 20e-6, 20e-6), company=())
        said = " ".join(card_sentences(quiet, RATE, 256))
        assert "asleep" not in said
        assert "dying tail" not in said
        assert "Among others" not in said


class TestOtherStandards:
    """One plugin in two standards: what the card says of the other one."""

    def pair(self, seconds: float, positions=((("Time", 160.0), ("Mix", 0.5)),) * 2, **changes):
        ours, theirs = (
            PluginUse("echo", PluginRef(standard, f"{standard}:echo", "Echo")) for standard in ("lv2", "ladspa")
        )
        cards = [
            msgspec.structs.replace(card(of, cost), positions=tuple(Position(*p) for p in stood))
            for of, cost, stood in zip((ours, theirs), (1e-4, seconds), positions, strict=True)
        ]
        cards[1] = msgspec.structs.replace(cards[1], **changes)
        return {c.key: c for c in cards}, cards[0]

    def said(self, *given, **changes) -> str:
        cards, ours = self.pair(*given, **changes)
        return " ".join(other_standards(cards, ours, RATE, 256))

    def test_within_a_tenth_they_agree(self):
        assert self.said(1.09e-4) == "As LADSPA it costs the same: 109 µs."

    def test_parameters_that_stand_elsewhere_are_named_with_both_values(self):
        stood = ((("Time", 160.0), ("Mix", 0.5)), (("Time", 2000.75), ("Mix", 0.5)))
        assert self.said(2e-4, stood) == (
            "As LADSPA it costs 200 µs, 100 % more: not set alike (Time 2001 there, 160 here)."
        )

    def test_latency_and_a_computer_that_was_not_quiet_are_reasons(self):
        cards, ours = self.pair(5e-5)
        theirs = next(c for c in cards.values() if c is not ours)
        noisy = tuple(msgspec.structs.replace(cell, quiet=False) for cell in theirs.cells)
        theirs = msgspec.structs.replace(theirs, latency=64, cells=noisy)
        found = reasons(ours, theirs, RATE, 256)
        assert found == [
            "it reports 64 samples of latency, not 0",
            "the computer was not quiet while it was measured",
        ]

    def test_where_everything_stands_alike_the_build_is_the_reason(self):
        why = "nothing else that is known differs, so it is how the plugin was built for that standard"
        assert self.said(5e-5).endswith(f"50 % less: {why}.")

    def test_other_surroundings_are_reasons_and_no_other_standard(self):
        cards, ours = self.pair(2e-4)
        theirs = next(c for c in cards.values() if c is not ours)
        key = msgspec.structs.replace(theirs.key, channels=1, voices=4, keyed=True)
        theirs = msgspec.structs.replace(theirs, key=key)
        assert reasons(ours, theirs, RATE, 256) == [
            "its track has 1 channel, not 2", "it plays 4 notes, not 0", "its side-chain hears something",
        ]  # fmt: skip
        assert other_standards({ours.key: ours, key: theirs}, ours, RATE, 256) == []
        same = msgspec.structs.replace(theirs, key=ours.key)
        assert reasons(ours, same, RATE, 256) == ["nothing else that is known differs"]

    def test_the_price_of_each_call_is_a_reason_when_it_makes_most_of_the_difference(self):
        cards, _ = self.pair(1e-4)
        of = [
            tuple(Cell(RATE, b, "sounding", fixed + b * 1e-7) for b in (64, 256, 1024)) for fixed in (5e-6, 30e-6)
        ]  # fmt: skip
        one, other = (msgspec.structs.replace(c, cells=cells) for c, cells in zip(cards.values(), of, strict=True))
        assert reasons(one, other, RATE, 256) == ["each call costs 30 µs there, 5.0 µs here"]

    def test_another_plugin_and_the_same_standard_are_not_told(self):
        cards, ours = self.pair(2e-4)
        renamed = {k: msgspec.structs.replace(c, name=c.key.standard, positions=()) for k, c in cards.items()}
        assert other_standards(renamed, renamed[ours.key], RATE, 256) == []
        assert other_standards({ours.key: ours}, ours, RATE, 256) == []
