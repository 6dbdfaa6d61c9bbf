"""Edits: what each does, what it refuses, and what holds of any number of them in a row."""

from __future__ import annotations

import random

import msgspec
import pytest
from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, rule

from nimbleload.core.decisions.after_edit import after_edit
from nimbleload.core.decisions.apply import apply
from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.session import chain_edits, edits, joined, time_edits
from nimbleload.core.session.plugins import PluginRef, PluginUse
from nimbleload.core.session.routing import build
from nimbleload.core.session.session import Meter, Session, SessionError, TempoPoint
from nimbleload.core.session.strips import Clip, Send, Strip
from nimbleload.store.limits import impossible
from tests.helpers.often import often


def plugin(name="Comp", family="dynamics", **more):
    return PluginUse("", PluginRef("house", f"house.{name.lower()}", name), family=family, **more)


def mix():
    """Two tracks on a bus, a return, and the main output; the second track's plugin listens to the first one."""
    made = edits.empty("Mix", length=60)
    made = edits.add(made, "bus", "Band")
    made = edits.add(made, "track", "Drum", output="bus1")
    made = edits.add(made, "track", "Bass", output="bus1")
    made = edits.add(made, "return", "Hall")
    made = edits.send(made, ["track1", "track2"], "return1", 0.5)
    made = chain_edits.insert(made, "track1", [plugin("Gate"), plugin("Eq", "equaliser")])
    made = chain_edits.insert(made, "track2", [plugin("Comp")])
    return chain_edits.listen(made, ["plugin3"], "track1")


def names(session):
    return [strip.name for strip in session.strips]


def chain(session, strip):
    return [use.label for use in session.strip(strip).uses()]


class TestStrips:
    def test_what_is_added_stands_before_the_main_output_and_feeds_it(self):
        made = edits.add(edits.empty("x"), "track", "Pad", 3)
        assert names(made) == ["Pad 1", "Pad 2", "Pad 3", "Main"]
        assert {strip.output for strip in made.strips} == {"main", None}
        assert names(edits.add(edits.add(made, "track"), "track"))[3:5] == ["Track", "Track 2"]

    def test_a_session_has_one_main_output(self):
        with pytest.raises(SessionError, match="one main output"):
            edits.add(edits.empty("x"), "main")
        with pytest.raises(SessionError, match="cannot be removed"):
            edits.remove(mix(), ["main"])
        with pytest.raises(SessionError, match="cannot be doubled"):
            edits.duplicate(mix(), ["main"])
        with pytest.raises(SessionError, match="audio device"):
            edits.route(mix(), ["main"], "bus1")

    @pytest.mark.parametrize("count", [0, -1, 1001])
    def test_absurd_counts_are_refused(self, count):
        with pytest.raises(SessionError, match="at once is not possible"):
            edits.add(mix(), "track", "x", count)
        with pytest.raises(SessionError, match="at once is not possible"):
            edits.duplicate(mix(), ["track1"], count)

    def test_no_session_gets_too_large(self, monkeypatch):
        monkeypatch.setattr(edits, "MOST_STRIPS", 8)
        assert len(edits.add(mix(), "track", "x", 3).strips) == 8
        with pytest.raises(SessionError, match="8 tracks at most, this would be 9"):
            edits.add(mix(), "track", "x", 4)

    def test_a_circle_is_refused_by_name(self):
        with pytest.raises(SessionError, match=r"circle: .*Band"):
            edits.route(edits.add(mix(), "bus", "Sub", output="bus1"), ["bus1"], "bus2")
        with pytest.raises(SessionError, match="circle"):
            edits.send(mix(), ["bus1"], "track1")
        with pytest.raises(SessionError, match="circle"):
            chain_edits.listen(mix(), ["plugin1"], "track2")

    def test_a_circle_through_what_is_switched_off_is_refused_as_well(self):
        made = edits.switch(mix(), ["track2"], False)
        with pytest.raises(SessionError, match="circle"):
            chain_edits.listen(made, ["plugin1"], "track2")
        with pytest.raises(SessionError, match="circle"):
            edits.send(mix(), ["bus1"], "track1", on=False)

    def test_a_copy_has_its_own_plugins_and_feeds_what_the_first_one_feeds(self):
        made = edits.duplicate(mix(), ["track2"], 2)
        assert names(made) == ["Band", "Drum", "Bass", "Bass 2", "Bass 3", "Hall", "Main"]
        first, *copies = (strip for strip in made.strips if strip.name.startswith("Bass"))
        for copy in copies:
            assert (copy.output, copy.sends) == (first.output, first.sends)
            assert copy.inserts[0].sidechain == "track1"
        ids = [use.id for strip in made.strips for use in strip.uses()]
        assert len(ids) == len(set(ids)) == 5

    def test_a_bus_with_its_members_is_copied_whole(self):
        made = edits.duplicate(mix(), ["bus1"], members=True)
        assert names(made) == ["Band", "Band 2", "Drum", "Drum 2", "Bass", "Bass 2", "Hall", "Main"]
        by_name = {strip.name: strip for strip in made.strips}
        assert by_name["Drum 2"].output == by_name["Band 2"].id
        # What listens to a track that is copied as well listens to the copy; the return is shared.
        assert by_name["Bass 2"].inserts[0].sidechain == by_name["Drum 2"].id
        assert by_name["Bass 2"].sends[0].target == "return1"

    def test_what_fed_a_removed_bus_feeds_what_that_fed(self):
        made = edits.remove(mix(), ["bus1", "return1"])
        assert [strip.output for strip in made.strips] == ["main", "main", None]
        assert all(strip.sends == () for strip in made.strips)
        nested = edits.route(edits.add(mix(), "bus", "Sub"), ["bus1"], "bus2")
        assert edits.remove(nested, ["bus1", "bus2"]).strip("track1").output == "main"

    def test_nothing_listens_to_what_is_gone(self):
        assert edits.remove(mix(), ["track1"]).strip("track2").inserts[0].sidechain is None

    def test_moving_keeps_the_order_of_the_moved_and_the_main_output_last(self):
        assert names(edits.move(mix(), ["track1", "track2"], -1)) == ["Drum", "Bass", "Band", "Hall", "Main"]
        assert names(edits.move(mix(), ["bus1", "track1"], 9)) == ["Bass", "Hall", "Band", "Drum", "Main"]
        assert names(edits.move(mix(), ["main"], -2)) == names(mix())

    def test_a_send_is_made_once_and_then_changed(self):
        made = edits.send(mix(), ["track1"], "return1", 0.25, True)
        assert made.strip("track1").sends == (Send("return1", 0.25, True),)
        assert edits.unsend(made, ["track1"], "return1").strip("track1").sends == ()
        with pytest.raises(SessionError, match="level"):
            edits.send(mix(), ["track1"], "return1", -1)

    def test_only_tracks_are_recorded(self):
        assert edits.arm(mix(), ["track1"], True).strip("track1").armed
        with pytest.raises(SessionError, match="Band is a bus"):
            edits.arm(mix(), ["track1", "bus1"], True)

    def test_what_is_on_a_track_is_as_wide_as_it(self):
        made = edits.widen(mix(), ["track1"], 1)
        assert [use.channels for use in made.strip("track1").uses()] == [1, 1]
        made = chain_edits.insert(made, "track1", [plugin("New"), plugin("Synth", "instrument", voices=2)])
        assert {use.channels for use in made.strip("track1").uses()} == {1}
        # What goes to another track becomes as wide as that, and back.
        moved = chain_edits.put(made, ["plugin1"], "track2")
        assert {use.channels for use in moved.strip("track2").uses()} == {2}
        assert chain_edits.put(moved, ["plugin1"], "track1").strip("track1").channels == 1
        assert {use.channels for use in edits.widen(made, ["track1"], 6).strip("track1").uses()} == {6}
        assert edits.widen(made, ["track2"], 2) == made

    @pytest.mark.parametrize("channels", [0, -1, 65])
    def test_absurd_widths_are_refused(self, channels):
        with pytest.raises(SessionError, match="1 to 64 channels"):
            edits.widen(mix(), ["track1"], channels)

    def test_what_is_not_there_is_named(self):
        with pytest.raises(SessionError, match="no track 'x'"):
            edits.rename(mix(), "x", "y")
        with pytest.raises(SessionError, match="needs a name"):
            edits.rename(mix(), "track1", "  ")


class TestChains:
    def test_plugins_go_where_they_are_put(self):
        made = chain_edits.insert(mix(), "track1", [plugin("Tar", "distortion")], 1)
        assert chain(made, "track1") == ["Gate", "Tar", "Eq"]
        assert chain(chain_edits.insert(made, "track1", [plugin("Last")]), "track1")[-1] == "Last"

    def test_a_track_has_one_instrument_and_a_bus_none(self):
        synth = plugin("Synth", "instrument", voices=4)
        made = chain_edits.insert(mix(), "track1", [synth])
        assert made.strip("track1").instrument.label == "Synth" and chain(made, "track1")[0] == "Synth"
        with pytest.raises(SessionError, match="has it already"):
            chain_edits.insert(made, "track1", [synth])
        with pytest.raises(SessionError, match="Band is no track"):
            chain_edits.insert(made, "bus1", [synth])
        with pytest.raises(SessionError, match="one of them is an instrument"):
            chain_edits.replace(made, ["plugin1"], synth)

    def test_an_instrument_plays_as_many_notes_as_its_track_does(self):
        """With the pedal down a piano plays many more than the few that are taken for granted."""
        synth = plugin("Synth", "instrument", voices=8)
        profiles = ((0.0, ((0.0, 3), (2.0, 19), (3.0, 1))), (4.0, ((4.0, 7),)))
        notes = [Clip(start, start + 4, "notes", voices=voices) for start, voices in profiles]
        playing = edits.changed(mix(), ["track1"], lambda strip: msgspec.structs.replace(strip, clips=tuple(notes)))
        made = chain_edits.insert(playing, "track1", [synth])
        assert made.strip("track1").instrument.voices == 19
        moved = chain_edits.put(made, [made.strip("track1").instrument.id], "track2")
        assert moved.strip("track2").instrument.voices == 19, "nothing is known of what that track plays"
        assert chain_edits.insert(mix(), "track2", [synth]).strip("track2").instrument.voices == 8

    def test_moving_within_a_chain_counts_places_as_they_are_seen(self):
        made = chain_edits.insert(mix(), "track1", [plugin("C"), plugin("D")])  # Gate, Eq, C, D
        assert chain(chain_edits.put(made, ["plugin1"], "track1", 3), "track1") == ["Eq", "C", "Gate", "D"]
        assert chain(chain_edits.put(made, ["plugin5"], "track1", 0), "track1") == ["D", "Gate", "Eq", "C"]
        both = chain_edits.put(made, ["plugin1", "plugin4"], "track2", 1)
        assert (chain(both, "track1"), chain(both, "track2")) == (["Eq", "D"], ["Comp", "Gate", "C"])
        assert both.strip("track2").inserts[1].id == "plugin1"

    def test_a_copy_leaves_the_first_one_where_it_is(self):
        made = chain_edits.put(mix(), ["plugin1"], "track2", 0, copy=True)
        assert (chain(made, "track1"), chain(made, "track2")) == (["Gate", "Eq"], ["Gate", "Comp"])
        assert made.strip("track2").inserts[0].id == "plugin4"

    def test_a_send_that_left_behind_a_plugin_leaves_behind_the_one_before_it(self):
        made = mix()
        tapped = msgspec.structs.replace(made.strip("track1"), sends=(Send("return1", after=1),), post_fader=1)
        made = edits.with_strips(made, [tapped if s.id == "track1" else s for s in made.strips])
        out = chain_edits.take_out(made, ["plugin2"]).strip("track1")
        assert (out.sends[0].after, out.post_fader) == (0, 0)
        assert chain_edits.take_out(made, ["plugin1", "plugin2"]).strip("track1").sends[0].after == -1
        first = msgspec.structs.replace(made.strip("track1"), sends=(Send("return1", after=0),))
        made = edits.with_strips(made, [first if s.id == "track1" else s for s in made.strips])
        assert chain_edits.take_out(made, ["plugin1"]).strip("track1").sends[0].after == -1
        assert chain_edits.take_out(made, ["plugin2"]).strip("track1").sends[0].after == 0

    def test_the_fader_stays_where_it_is_when_a_plugin_before_it_goes(self):
        made = chain_edits.place_fader(chain_edits.insert(mix(), "track1", [plugin("C")]), "track1", 2)  # Gate | Eq C
        assert chain_edits.take_out(made, ["plugin1"]).strip("track1").post_fader == 2
        assert chain_edits.take_out(made, ["plugin2"]).strip("track1").post_fader == 1
        assert chain_edits.take_out(made, ["plugin1", "plugin2", "plugin4"]).strip("track1").post_fader == 0

    def test_what_goes_in_behind_the_fader_stays_behind_it(self):
        made = chain_edits.place_fader(mix(), "track1", 1)  # Gate | Eq
        assert chain_edits.insert(made, "track1", [plugin("C")]).strip("track1").post_fader == 2
        assert chain_edits.insert(made, "track1", [plugin("C")], 0).strip("track1").post_fader == 1

    def test_values_are_set_one_by_one(self):
        made = chain_edits.set_values(mix(), ["plugin1"], {"a": 1.0, "b": 2.0})
        made = chain_edits.set_values(made, ["plugin1"], {"b": 3.0})
        assert dict(chain_edits.find(made, "plugin1").setting.values) == {"a": 1.0, "b": 3.0}
        with pytest.raises(SessionError, match="cannot be nan"):
            chain_edits.set_values(made, ["plugin1"], {"a": float("nan")})

    def test_another_plugin_in_its_place_keeps_what_belongs_to_the_place(self):
        made = chain_edits.replace(chain_edits.bypass(mix(), ["plugin3"], True), ["plugin3"], plugin("Ballast"))
        use = chain_edits.find(made, "plugin3")
        assert (use.label, use.enabled, use.sidechain) == ("Ballast", False, "track1")


class TestTime:
    def test_clips_make_the_piece_longer_and_are_in_order(self):
        made = time_edits.add_clip(time_edits.add_clip(mix(), "track1", 50, 90), "track1", 5, 10)
        assert [(clip.start, clip.end) for clip in made.strip("track1").clips] == [(5, 10), (50, 90)]
        assert made.length == 90

    def test_clearing_cuts_what_reaches_into_it(self):
        made = time_edits.add_clip(mix(), "track1", 10, 30)
        made = time_edits.clear(made, ["track1"], 15, 20)
        assert [(clip.start, clip.end) for clip in made.strip("track1").clips] == [(10, 15), (20, 30)]
        # The second part begins ten seconds into its file.
        assert [clip.offset for clip in made.strip("track1").clips] == [0, 10]
        assert time_edits.clear(made, ["track1"]).strip("track1").clips == ()

    def test_the_notes_of_a_cut_clip_are_those_that_were_there(self):
        made = chain_edits.insert(mix(), "track1", [plugin("Synth", "instrument", voices=8)])
        clip = Clip(10, 30, "notes", voices=((10.0, 2), (16.0, 5), (22.0, 1)))
        strip = msgspec.structs.replace(made.strip("track1"), clips=(clip,))
        made = edits.with_strips(made, [strip if s.id == "track1" else s for s in made.strips])
        parts = time_edits.clear(made, ["track1"], 15, 20).strip("track1").clips
        assert [part.voices for part in parts] == [((10.0, 2),), ((20.0, 5), (22.0, 1))]
        later = time_edits.shift(made, ["track1"], 5).strip("track1").clips[0]
        assert (later.start, later.voices[1]) == (15, (21.0, 5))

    @pytest.mark.parametrize(
        ("start", "end", "left"),
        [
            (10, 20, [(20, 30)]), (20, 30, [(10, 20)]), (5, 10, [(10, 30)]), (30, 40, [(10, 30)]),
            (10 + 1e-9, 30 - 1e-9, []),
        ],
    )
    def test_nothing_without_length_is_left_where_clips_begin_or_end(self, start, end, left):
        made = time_edits.clear(time_edits.add_clip(mix(), "track1", 10, 30), ["track1"], start, end)
        assert [(clip.start, clip.end) for clip in made.strip("track1").clips] == left

    def test_a_clip_that_would_be_gone_when_it_is_moved_is_refused(self):
        with pytest.raises(SessionError, match="has no length"):
            time_edits.add_clip(mix(), "track1", 0.0, 6e-277)

    def test_the_borders_of_what_can_be_can_be(self):
        assert time_edits.set_tempo(mix(), [TempoPoint(0, 1.0)]).tempo[0].bpm == 1
        assert time_edits.set_tempo(mix(), [TempoPoint(0, 10_000.0)]).tempo[0].bpm == 10_000
        assert time_edits.set_tempo(mix(), []).tempo == (TempoPoint(0.0, 120.0),)
        assert time_edits.set_meters(mix(), []).meters == (Meter(),)
        assert time_edits.set_meters(mix(), [Meter(0, 99, 64)]).meters[0].beats == 99
        for rate in (8000, 768_000):
            assert time_edits.set_rate(mix(), rate).rate == rate
        for rate in (7999, 768_001):
            with pytest.raises(SessionError, match="from 8000 to 768000"):
                time_edits.set_rate(mix(), rate)
        for level in (0.0, 1e6):
            assert edits.send(mix(), ["track1"], "return1", level).strip("track1").sends[0].level == level
        assert (edits.empty("x").rate, edits.empty("x").length) == (48000, 180.0)

    def test_nothing_begins_before_the_piece(self):
        made = time_edits.add_clip(mix(), "track1", 10, 30)
        assert time_edits.shift(made, ["track1"], -25).strip("track1").clips[0].start == 0

    def test_chosen_clips_are_moved_copied_and_taken_out_together(self):
        notes = Clip(5.0, 9.0, "notes", voices=((5.0, 2), (7.0, 3)))
        strips = (
            Strip("a", "A", clips=(Clip(2.0, 4.0), notes), output="m"), Strip("b", "B", clips=(Clip(3.0, 8.0),),
            output="m"), Strip("m", "M", "main"),
        )  # fmt: skip
        of = Session("S", 48_000, 10.0, strips)
        chosen = [("a", notes), ("b", strips[1].clips[0])]
        later = time_edits.move_clips(of, chosen, 4.5)
        assert later.strip("a").clips == (
            Clip(2.0, 4.0), Clip(9.5, 13.5, "notes", voices=((9.5, 2), (11.5, 3)))
        )  # fmt: skip
        assert later.strip("b").clips == (Clip(7.5, 12.5),) and later.length == 13.5
        assert time_edits.moved(chosen, 4.5) == [("a", later.strip("a").clips[1]), ("b", later.strip("b").clips[0])]
        # The first of them comes to the start, and no further; what lies on the track stays in order of time.
        first = time_edits.move_clips(of, chosen, -100)
        assert [(c.start, c.end) for c in first.strip("a").clips] == [(2.0, 4.0), (2.0, 6.0)]
        assert first.strip("b").clips[0].start == 0.0 and first.length == 10.0
        both = time_edits.move_clips(of, chosen, 1, copies=True)
        assert [c.start for c in both.strip("a").clips] == [2.0, 5.0, 6.0]
        assert time_edits.take_out_clips(both, chosen) == msgspec.structs.replace(
            time_edits.move_clips(of, chosen, 1), length=both.length
        )
        # What is not there any more is no clip to move.
        assert time_edits.move_clips(of, [("a", Clip(1.0, 2.0))], 3) == of

    @pytest.mark.parametrize(
        "edit",
        [
            lambda s: time_edits.add_clip(s, "track1", 5, 5),
            lambda s: time_edits.add_clip(s, "track1", -1, 5),
            lambda s: time_edits.add_clip(s, "track1", 0, float("inf")),
            lambda s: time_edits.add_clip(s, "track1", 0, 1, -1),
            lambda s: time_edits.add_clip(s, "bus1", 0, 1),
            lambda s: time_edits.set_rate(s, 0),
            lambda s: time_edits.set_length(s, float("nan")),
            lambda s: time_edits.set_tempo(s, [TempoPoint(0, 0)]),
            lambda s: time_edits.set_meters(s, [Meter(0, 4, 3)]),
            lambda s: time_edits.add_section(s, " ", 1),
            lambda s: time_edits.remove_section(s, 1),
            lambda s: time_edits.clear(s, ["track1"], 5, 4),
            lambda s: time_edits.clear(s, ["track1"], 5, 5),
        ],
    )
    def test_what_cannot_be_is_refused_in_a_sentence(self, edit):
        with pytest.raises(SessionError):
            edit(mix())

    def test_sections_are_in_order_and_renamed_in_place(self):
        made = time_edits.add_section(time_edits.add_section(mix(), "B", 20), "A", 0)
        made = time_edits.add_section(made, "C", 20)
        assert [(section.name, section.start) for section in made.sections] == [("A", 0), ("C", 20)]
        assert len(time_edits.remove_section(made, 20).sections) == 1
        moved = time_edits.move_section(made, 0, 30)
        assert [(each.name, each.start) for each in moved.sections] == [("C", 20), ("A", 30)]
        assert time_edits.move_section(made, 20, 20) == made
        assert time_edits.move_section(made, 20, made.length + 5).length == made.length + 5
        for start, to in ((0, 20), (1, 5)):
            with pytest.raises(SessionError, match="section begins"):
                time_edits.move_section(made, start, to)


class TestJoining:
    def test_the_other_session_feeds_this_ones_main_output(self):
        made, notes = joined.joined(mix(), mix())
        assert len(made.strips) == 9 and [s.kind for s in made.strips].count("main") == 1
        assert made.strip(next(s.id for s in made.strips if s.name == "Band 2")).output == "main"
        bass = next(s for s in made.strips if s.name == "Bass 2")
        assert made.strip(bass.inserts[0].sidechain).name == "Drum 2"
        assert notes == ()

    def test_what_is_not_taken_is_said(self):
        other = chain_edits.insert(time_edits.set_rate(mix(), 96000), "main", [plugin("Limiter")])
        _, notes = joined.joined(mix(), other)
        assert len(notes) == 2 and "96000 Hz" in notes[0] and "Its main output, with 1 plugin, was left out" in notes[1]

    def test_pasted_tracks_keep_what_there_is_here(self):
        tracks = [mix().strip("track2"), mix().strip("track1")]
        made = joined.pasted(mix(), tracks)
        bass, drum = (next(s for s in made.strips if s.name == f"{name} 2") for name in ("Bass", "Drum"))
        assert bass.inserts[0].sidechain == drum.id and bass.output == "bus1"
        alone = joined.pasted(edits.empty("other"), tracks[:1])
        assert alone.strips[0].output == "main" and alone.strips[0].sends == ()
        assert alone.strips[0].inserts[0].sidechain is None


class TestPlans:
    def test_a_plan_goes_on_for_what_is_still_there(self):
        before = mix()
        plan = Plan((Decision("freeze", "track1", through=1), Decision("off", "track2", "plugin3"),
                     Decision("off", "track1", "plugin1")), pinned=("track1", "track2"))  # fmt: skip
        # The plugin moves to another track, the frozen one gets another first insert, the last goes.
        after = chain_edits.put(chain_edits.listen(before, ["plugin3"], None), ["plugin3"], "track1", 0)
        after = chain_edits.take_out(after, ["plugin1"])
        made = after_edit(plan, before, after)
        assert made.decisions == (
            Decision("freeze", "track1", through=1), Decision("off", "track1", "plugin3"),
        )  # fmt: skip
        assert after_edit(plan, before, edits.remove(before, ["track1"])).pinned == ("track2",)
        assert not [warning for warning in apply(after, made).warnings if "not in this session" in warning]

    def test_a_freeze_of_the_instrument_alone_goes_with_the_instrument(self):
        source = Plan((Decision("freeze", "track1", through=-1),))
        with_synth = chain_edits.insert(mix(), "track1", [plugin("Synth", "instrument", voices=2)])
        other = chain_edits.insert(with_synth, "track1", [plugin("New")], 0)
        assert after_edit(source, with_synth, other) == source
        synth = with_synth.strip("track1").instrument.id
        assert after_edit(source, with_synth, chain_edits.take_out(with_synth, [synth])).decisions == ()
        # Of a track that plays audio the source stays, whatever becomes of its plugins.
        assert after_edit(source, mix(), chain_edits.take_out(mix(), ["plugin1"])) == source

    def test_a_setting_is_shared_with_a_plugin_only_while_that_is_there(self):
        shared = Plan((Decision("share", "track1", "plugin1", into="new", like="plugin3"),))
        assert after_edit(shared, mix(), edits.rename(mix(), "track1", "X")) == shared
        assert after_edit(shared, mix(), chain_edits.take_out(mix(), ["plugin3"])).decisions[0].like is None

    def test_a_freeze_up_to_a_plugin_follows_it(self):
        before = mix()
        plan = Plan((Decision("freeze", "track1", through=0),))
        ahead = chain_edits.insert(before, "track1", [plugin("New")], 0)
        assert after_edit(plan, before, ahead).decisions[0].through == 1
        assert after_edit(plan, before, chain_edits.take_out(before, ["plugin1"])).decisions == ()


class EditMachine(RuleBasedStateMachine):
    """Any edits in any order: the session stays valid, whatever was refused changed nothing."""

    @initialize()
    def begin(self):
        self.session, self.plan, self.random = mix(), Plan((Decision("freeze", "track1", through=1),)), random.Random(1)

    def do(self, edit):
        before = self.session
        try:
            self.session = edit(before)
        except SessionError as error:
            assert str(error)
            return
        self.plan = after_edit(self.plan, before, self.session)

    def strip(self, number):
        return self.session.strips[number % len(self.session.strips)].id

    def use(self, number):
        uses = [use.id for strip in self.session.strips for use in strip.uses()]
        return uses[number % len(uses)] if uses else "none"

    numbers = st.integers(0, 40)

    @rule(kind=st.sampled_from(["track", "bus", "return", "main"]), count=st.integers(-1, 3))
    def add(self, kind, count):
        self.do(lambda s: edits.add(s, kind, "x", count))

    @rule(n=numbers, members=st.booleans())
    def duplicate(self, n, members):
        if len(self.session.strips) < 40:
            self.do(lambda s: edits.duplicate(s, [self.strip(n)], 1, members))

    @rule(n=numbers, m=numbers)
    def remove(self, n, m):
        self.do(lambda s: edits.remove(s, {self.strip(n), self.strip(m)}))

    @rule(n=numbers, by=st.integers(-3, 3))
    def move(self, n, by):
        self.do(lambda s: edits.move(s, [self.strip(n)], by))

    @rule(n=numbers, m=numbers)
    def route(self, n, m):
        self.do(lambda s: edits.route(s, [self.strip(n)], self.strip(m)))

    @rule(n=numbers, channels=st.integers(0, 3))
    def widen(self, n, channels):
        self.do(lambda s: edits.widen(s, [self.strip(n)], channels))

    @rule(n=numbers, m=numbers, level=st.floats(-1, 2))
    def send(self, n, m, level):
        self.do(lambda s: edits.send(s, [self.strip(n)], self.strip(m), level))

    @rule(n=numbers, instrument=st.booleans(), place=st.one_of(st.none(), st.integers(-2, 5)))
    def insert(self, n, instrument, place):
        what = plugin("Synth", "instrument", voices=3) if instrument else plugin()
        self.do(lambda s: chain_edits.insert(s, self.strip(n), [what], place))

    @rule(n=numbers, m=numbers, place=st.one_of(st.none(), st.integers(0, 5)), copy=st.booleans())
    def put(self, n, m, place, copy):
        self.do(lambda s: chain_edits.put(s, [self.use(n)], self.strip(m), place, copy))

    @rule(n=numbers)
    def take_out(self, n):
        self.do(lambda s: chain_edits.take_out(s, [self.use(n)]))

    @rule(n=numbers, after=st.integers(0, 3))
    def fader(self, n, after):
        strip = self.session.strips[n % len(self.session.strips)]
        self.do(lambda s: chain_edits.place_fader(s, strip.id, min(after, len(strip.inserts))))

    @rule(n=numbers, m=numbers)
    def listen(self, n, m):
        self.do(lambda s: chain_edits.listen(s, [self.use(n)], self.strip(m)))

    @rule(n=numbers, start=st.floats(-1, 100), length=st.floats(-1, 50), clears=st.booleans())
    def clip(self, n, start, length, clears):
        edit = time_edits.clear if clears else time_edits.add_clip
        strip = [self.strip(n)] if clears else self.strip(n)
        self.do(lambda s: edit(s, strip, start, start + length))

    @rule(n=numbers, by=st.floats(-50, 50))
    def shift(self, n, by):
        self.do(lambda s: time_edits.shift(s, [self.strip(n)], by))

    @rule(start=st.floats(-1, 100), to=st.floats(0, 100), what=st.sampled_from(("add", "move", "remove")))
    def section(self, start, to, what):
        known = [section.start for section in self.session.sections]
        at = min(known, key=lambda each: abs(each - start), default=start) if what != "add" else start
        edits = {
            "add": lambda s: time_edits.add_section(s, "S", at), "remove": lambda s: time_edits.remove_section(s, at),
            "move": lambda s: time_edits.move_section(s, at, to),
        }  # fmt: skip
        self.do(edits[what])

    @invariant()
    def is_valid(self):
        if not hasattr(self, "session"):
            return
        session = self.session
        build(session)
        ids = [strip.id for strip in session.strips] + [u.id for s in session.strips for u in s.uses()]
        assert len(ids) == len(set(ids))
        assert [strip.kind for strip in session.strips].count("main") == 1
        assert impossible(session) is None
        assert max([clip.end for s in session.strips for clip in s.clips], default=0) <= session.length + 1e-9
        assert msgspec.json.decode(msgspec.json.encode(session), type=type(session)) == session
        for strip in session.strips:
            assert strip.post_fader <= len(strip.inserts)
            assert {use.channels for use in strip.uses()} <= {strip.channels}
            assert all(send.after is None or -1 <= send.after < len(strip.inserts) for send in strip.sends)
            for clip in strip.clips:
                assert clip.end > clip.start and clip.offset >= 0
                assert all(clip.start <= second <= clip.end for second, _ in clip.voices)
        # The plan has nothing to say of what is gone.
        assert not [w for w in apply(session, self.plan).warnings if "not in this session" in w]


TestAnyEdits = EditMachine.TestCase
TestAnyEdits.settings = settings(max_examples=often(25), stateful_step_count=30, deadline=None)


def test_a_strip_needs_no_main_output():
    made = edits.add(msgspec.structs.replace(edits.empty("x"), strips=()), "track")
    assert made.strips == (Strip("track1", "Track"),)


def test_what_is_switched_on_again_is_loaded():
    unloaded = msgspec.structs.replace(plugin("Ballast"), id="b", enabled=False, loaded=False)
    strips = Strip("t", "T", inserts=(unloaded,), output="main"), Strip("main", "Main", "main")
    of = Session("Test", 48000, 10.0, strips)
    on = chain_edits.bypass(of, ["b"], False)
    assert [(use.enabled, use.loaded) for use in on.strip("t").inserts] == [(True, True)]
    off = chain_edits.bypass(on, ["b"], True)
    assert [(use.enabled, use.loaded) for use in off.strip("t").inserts] == [(False, True)]
    assert chain_edits.bypass(of, ["b"], True) == of
