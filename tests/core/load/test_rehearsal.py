"""What a rehearsal's figures mean: agreement, reasons, and what is learned from it."""

from __future__ import annotations

import msgspec
import numpy as np
import pytest

from nimbleload.core.decisions.decision import Plan
from nimbleload.core.load.helped import Helped
from nimbleload.core.load.missed import Missed
from nimbleload.core.load.rehearsal import Prediction, Rehearsal, Streamed, Undisturbed, agreement, learned, own_error
from nimbleload.core.session.computer import Machine
from nimbleload.core.survey import foreseen, instant, prediction, survey
from nimbleload.core.told.rehearsal import checks, conditions, helped_words, taken, verdict, why_late
from tests.helpers.sessions import cards_for, session, track

OF = session(track("a", "p"), track("b", "q"))
PREDICTED = Prediction(0.5, 0.6, np.array([1e-3, 1e-3, 0.0]), {"a/p": 1e-3, "b/q": 1e-3}, alone=0.48)


ALWAYS = Undisturbed(1.0, (0.5,) * 100)


def outcome(**more) -> Rehearsal:
    return msgspec.structs.replace(Rehearsal(
        buffer=256, rate=48000, second=1.0, cores=2, real_time=True, locked=True, loads=(0.5,) * 99 + (1.2,), missed=1,
        strips={"a": 1e-3, "b": 1e-3, "main": 0.0}, strip_peaks={"a": 1.1e-3, "b": 1.1e-3},
        uses={"a/p": 1e-3, "b/q": 1e-3}, busy=(0.4, 0.4), overhead=2e-6, wake=1e-5, slowdown=1.0,
        undisturbed=ALWAYS,
    ), **more)  # fmt: skip


def test_its_loads_are_told_as_median_and_hundredth():
    of = outcome()
    assert (of.typical, of.bad, of.worst) == (0.5, 1.2, 1.2)
    assert of.missed_per_minute == pytest.approx(60 / (100 * 256 / 48000))
    assert agreement(PREDICTED, of) == (pytest.approx(0.0), pytest.approx(-0.5))
    assert "Missed 1 of 100 deadlines" in verdict(of) and verdict(of).endswith("on 2 cores.")
    assert verdict(outcome(why=Missed(taken=1))).endswith("on 2 cores; by the computer's doing.")
    most = Missed(woken=2, give_way=1, taken=1, slower=1, longer=4)
    assert verdict(outcome(missed=9, why=most)).endswith("on 2 cores; 5 of them by the computer's doing.")
    assert verdict(outcome(missed=11, why=most)).endswith("on 2 cores.")
    assert verdict(outcome(missed=2, why=Missed(woken=2))).endswith("; all of them by the computer's doing.")
    assert verdict(outcome(missed=0)) == "Held every deadline at 256 samples on 2 cores."
    assert taken(PREDICTED, of).startswith(
        "Blocks took 50 % of the deadline as a rule, one in a hundred 120 %, the worst 120 %."
    )
    assert taken(PREDICTED, of).endswith("typical 50 % (right), one in a hundred 60 % (50 % low).")


@pytest.mark.parametrize(
    ("why", "words"),
    [
        (Missed(), []),
        (Missed(woken=1), ["Why a block was late: it began late, since no core was to be had in time."]),
        (Missed(longer=4, longer_in={"a/p": 4}), ["Why 4 blocks were late: they took longer in p on a."]),
        (Missed(longer=2, longer_in={"a/p": 1, "b/q": 1}), [
            "Why 2 blocks were late: they took longer in p on a, q on b."]),
        (Missed(longer=9, longer_in={"a/p": 3, "b/q": 6}), [
            "Why 9 blocks were late: they took longer in q on b, p on a."]),
        (Missed(longer=9, longer_in={"a/p": 8, "b/q": 1}), [
            "Why 9 blocks were late: they took longer mostly in p on a."]),
        (Missed(give_way=2, read=3, slept_in={"b/q": 3}), [
            "Why 5 blocks were late: 3 waited for memory that was read from the disk, in q on b; 2 had to give way to "
            "other threads."]),
        (Missed(longer=5, longer_in={f"a/{k}": 1 for k in range(5)}), [
            "Why 5 blocks were late: they took longer in a plugin, each time in another: cores were slowed down or "
            "taken away meanwhile."]),
        (Missed(too_much=60), ["They are late since the work is too much: as a rule a block takes 50 % of its time."]),
    ],
)  # fmt: skip
def test_why_blocks_were_late_is_a_sentence(why, words):
    assert why_late(OF, outcome(why=why)) == words


@pytest.mark.parametrize(
    ("found", "words"),
    [
        (Helped(), []),
        (Helped(1, {"a/p": 0}, {"a": 0}, {512: (0, 50)}),
         ["Without p on a it would have been in time.", "In blocks of 512 samples none would have been late."]),
        # A plugin is the lesser step, unless the track helps clearly more.
        (Helped(20, {"a/p": 4, "b/q": 20}, {"a": 3}, {512: (3, 50), 1024: (1, 25)}),
         ["Without p on a 4 of the 20 would have been late.",
          "In blocks of 1024 samples 1 of 25 would have been late."]),
        (Helped(20, {"a/p": 9, "b/q": 20}, {"a": 0}, {512: (10, 50), 1024: (5, 25)}),
         ["With a frozen none of the 20 would have been late.",
          "In larger blocks hardly fewer would have been late."]),
        (Helped(20, {"a/p": 19}, {"a": 18}, {512: (10, 50)}), ["In larger blocks hardly fewer would have been late."]),
        (Helped(20, {}, {}, {}), []),
    ],
)  # fmt: skip
def test_what_would_have_helped_is_told_if_it_helps(found, words):
    assert helped_words(OF, outcome(helped=found, missed=found.late)) == words


@pytest.mark.parametrize(
    ("more", "words"),
    [
        ({"strips": {"a": 1e-3}}, ""),
        ({"strips": {"a": 1.5e-3}, "slowdown": 1.4}, "slow each other down, here by 40 %"),
        ({"strips": {"a": 1.5e-3}, "strip_peaks": {"a": 9e-3}}, "interrupted"),
        ({"strips": {"a": 1.5e-3}, "rested": 1.6}, "60 % slower after each rest"),
        ({"strips": {"a": 1.5e-3}}, "time between its plugins: 500 µs"),
        ({"strips": {"a": 1.5e-3}, "streamed": Streamed(("a",))}, "taking its sound from its file: 500 µs"),
        ({"strips": {"a": 1.5e-3}, "uses": {"a/p": 1.5e-3}}, "colder caches"),
        ({"strips": {"a": 0.5e-3}, "uses": {"a/p": 0.5e-3}}, "quicker than measured"),
        ({"strips": {"a": 0.1e-3}, "uses": {}, "refused": {"a/p": "p: not installed here"}}, "not played: p"),
    ],
)
def test_large_differences_get_the_reason_that_the_figures_tell(more, words):
    found = {c.strip: c for c in checks(OF, PREDICTED, outcome(**more))}
    assert words in found["a"].reason
    assert bool(found["a"].reason) == bool(words)


def test_a_plugin_without_a_figure_is_the_reason():
    unknown = PREDICTED._replace(uses={"a/p": 0.0, "b/q": 1e-3}, strips=np.array([0.0, 1e-3, 0.0]))
    assert checks(OF, unknown, outcome())[0].reason == "no figure for p"


def test_what_was_learned_makes_the_prediction_that_was_rehearsed():
    cards = cards_for(OF, {"p": 1e-3, "q": 1e-3})
    of = survey(OF, Plan(), cards, Machine(2), 256)
    predicted = prediction(of, instant(of))
    made = learned(OF, predicted, outcome(
        uses={"a/p": 1.3e-3, "b/q": 1.1e-3}, overhead=5e-6, undisturbed=Undisturbed(),
    ))  # fmt: skip
    assert made.plugin_factor == pytest.approx(1.2)
    # What another host takes beside the plugins stays as it is known.
    assert made == msgspec.structs.replace(OF.host, plugin_factor=made.plugin_factor)
    after = instant(survey(msgspec.structs.replace(OF, host=made), Plan(), cards, Machine(2), 256))
    assert after.strip_costs[:2] == pytest.approx([1.2e-3] * 2)


def test_it_is_learned_from_the_blocks_in_which_the_computer_was_as_fast_as_ever():
    uses = {"a/p": 1.3e-3, "b/q": 1.1e-3}
    disturbed = outcome(uses={"a/p": 2.6e-3, "b/q": 2.2e-3}, undisturbed=Undisturbed(0.4, (0.4,) * 40, uses=uses))
    assert learned(OF, PREDICTED, disturbed).plugin_factor == pytest.approx(1.2)
    # A handful of blocks tells nothing.
    few = outcome(uses=uses, undisturbed=Undisturbed(0.4, (0.4,) * 5, uses={"a/p": 9e-3, "b/q": 9e-3}))
    assert learned(OF, PREDICTED, few).plugin_factor == pytest.approx(1.2)


def test_the_error_of_the_prediction_is_told_apart_from_what_the_computer_did():
    of = outcome(undisturbed=Undisturbed(0.3, (0.4,) * 30, strips={"a": 1e-3}))
    assert own_error(PREDICTED, of) == pytest.approx(0.2)
    assert taken(PREDICTED, of).endswith(
        "In the 30 % of blocks in which the computer was as fast as when plugins are measured they took 40 %; 48 % was "
        "predicted for such (20 % high)."
    )
    never = outcome(undisturbed=Undisturbed())
    assert own_error(PREDICTED, never) is None and "as fast as when" not in taken(PREDICTED, never)
    # Where nearly all were, there is nothing to tell apart.
    assert "as fast as when" not in taken(PREDICTED, outcome(undisturbed=Undisturbed(0.99, (0.5,) * 99)))


def test_a_strip_that_took_longer_because_the_computer_was_slower_has_that_reason():
    quiet = Undisturbed(0.3, (0.4,) * 30, strips={"a": 1.1e-3, "b": 1.9e-3})
    of = outcome(strips={"a": 2e-3, "b": 2e-3}, uses={"a/p": 2e-3, "b/q": 2e-3}, undisturbed=quiet)
    found = {check.strip: check.reason for check in checks(OF, PREDICTED, of)}
    assert found["a"] == "the computer: where it was as fast as at its best, this took 1.10 ms"
    assert "colder caches" in found["b"]


def test_conditions_are_said_only_where_they_matter():
    assert conditions(PREDICTED, outcome()) == []
    said = " ".join(conditions(PREDICTED, outcome(
        real_time=False, locked=False, slowdown=1.3, refused={"x": "why"}, units=1.4,
        undisturbed=Undisturbed(),
    )))  # fmt: skip
    for words in (
        "held up what computes in parallel by 40 %",
        "The cores were shared with others nearly all the time",
        "did not allow real-time", "could not be locked", "30 % slower", "1 plugin was not played: why",
    ):  # fmt: skip
        assert words in said


def test_a_prediction_is_off_by_its_share_of_what_was_rehearsed():
    assert agreement(PREDICTED._replace(typical=0.75), outcome())[0] == pytest.approx(0.5)
    nothing = outcome(loads=(), missed=0)
    assert (agreement(PREDICTED, nothing), nothing.missed_per_minute) == ((0.0, 0.0), 0.0)


def test_figures_from_elsewhere_are_the_reason_where_no_other_is_seen():
    of = outcome(strips={"a": 0.5e-3}, uses={"a/p": 0.5e-3})
    assert checks(OF, PREDICTED, of)[0].reason == "quicker than measured"
    foreign = PREDICTED._replace(is_foreign=True)
    assert checks(OF, foreign, of)[0].reason == "predicted from figures that are not this computer's"
    cards = cards_for(OF, {"p": 1e-3, "q": 1e-3})
    for provenance, is_foreign in (("measured", False), ("first", False), ("sample", True), ("elsewhere", True)):
        known = {
            key: msgspec.structs.replace(
                card, cells=tuple(msgspec.structs.replace(c, provenance=provenance) for c in card.cells)
            )
            for key, card in cards.items()
        }
        at = survey(OF, Plan(), known, Machine(2), 256)
        assert prediction(at, instant(at)).is_foreign == is_foreign


def test_another_clock_is_told_and_what_is_predicted_is_brought_to_it():
    said = taken(PREDICTED._replace(clock=0.87), outcome())
    assert "The clock of the cores was 15 % higher than while the plugins were measured" in said
    assert "20 % lower" in taken(PREDICTED._replace(clock=1.25), outcome())
    assert "clock" not in taken(PREDICTED._replace(clock=1.01), outcome())
    cards = {
        key: msgspec.structs.replace(each, cells=tuple(msgspec.structs.replace(c, clock=1e-6) for c in each.cells))
        for key, each in cards_for(OF, {"p": 1e-3, "q": 1e-3}).items()
    }
    of = survey(OF, Plan(), cards, Machine(2), 256)
    predicted = foreseen(of, instant(of), outcome(clock=2e-6))
    assert predicted.clock == 2 and predicted.uses["a/p"] == pytest.approx(2e-3)
    # What others computed on a core lowered its clock, too: blocks that were alone are held against theirs.
    alone = Undisturbed(0.5, (0.2,) * 50, clock=1.5e-6)
    assert foreseen(of, instant(of), outcome(clock=2e-6, undisturbed=alone)).clock == 1.5
    for few in (Undisturbed(0.5, (0.2,) * 50), Undisturbed(0.001, (0.2,) * 2, clock=1.5e-6)):
        assert foreseen(of, instant(of), outcome(clock=2e-6, undisturbed=few)).clock == 2
    unknown = survey(OF, Plan(), cards_for(OF, {"p": 1e-3, "q": 1e-3}), Machine(2), 256)
    assert foreseen(unknown, instant(unknown), outcome(clock=2e-6)).uses["a/p"] == pytest.approx(1e-3)


def test_blocks_that_leave_no_time_to_look_are_not_called_shared():
    """In an overload there is none; nothing is known of others then."""
    (said,) = conditions(PREDICTED, outcome(undisturbed=Undisturbed()))
    assert said.startswith("Too few blocks left time to look at what the computer did meanwhile")


@pytest.mark.parametrize(("streamed", "words"), [
    (Streamed(("a",), (), 384e3, 0.004), (
        "1 rendered track was played from its file, as a host does: 0.4 MB a second were read, which took 0.4 % of one "
        "core beside the blocks. All of it was there in time.",
    )),
    (Streamed(("a", "b"), ("main",), 4e6, 0.15, 3, {"c": "c.wav: gone"}), (
        "2 rendered tracks were played from their files, as a host does: 4.0 MB a second were read, which took 15 % of "
        "one core beside the blocks. 3 blocks of a track had not been read in time, and went by in silence: the disk "
        "is too slow for all of them, or was busy.",
        "1 frozen track has no file here: what reading takes is not in this rehearsal. What the plan freezes has one "
        "when it is carried out.",
        "1 file was not played: c.wav: gone.",
    )),
    (Streamed(), ()),
])  # fmt: skip
def test_what_was_read_from_files_is_told(streamed, words):
    assert tuple(conditions(PREDICTED, outcome(streamed=streamed))) == words


def test_how_long_loading_took_is_told_against_what_was_predicted():
    assert conditions(PREDICTED, outcome(loaded_in=1.9)) == []
    assert conditions(PREDICTED, outcome(loaded_in=75.0)) == ["It was loaded in 75 s."]
    found = conditions(PREDICTED._replace(loaded_in=190.0), outcome(loaded_in=75.0))
    assert found == ["It was loaded in 75 s; 3 min were predicted."]


def test_what_was_loaded_is_told_against_what_was_predicted():
    mb = 1 << 20
    predicted = PREDICTED._replace(memory=100 * mb)
    assert conditions(predicted, outcome(memory=2100 * mb)) == [
        "What was loaded keeps 2.1 GB of memory; 100 MB were predicted."
    ]
    assert conditions(PREDICTED, outcome(memory=100 * mb)) == ["What was loaded keeps 100 MB of memory."]
    assert conditions(predicted, outcome()) == conditions(PREDICTED, outcome(memory=1000)) == []
