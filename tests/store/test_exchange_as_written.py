"""Exchange files as different programs write them, and as they get damaged: what can be taken is taken, and said."""

from __future__ import annotations

import zipfile

import pytest

from nimbleload.core.load.prepared import prepare
from nimbleload.core.session.session import TempoPoint
from nimbleload.core.session.tempo import TempoMap
from nimbleload.store import dawproject
from nimbleload.store.archive import ImportRefusedError
from tests.helpers import exchange as x

NOTE = '<Note time="0" duration="1" key="60"/>'
NOTES = f"<Notes>{NOTE}</Notes>"
SYNTH = x.plugin("ClapPlugin", "org.synth", "Organ", role="instrument")


def read(tmp_path, structure="", arrangement="", files=None, **more):
    structure = structure or x.track("t", "T", x.channel("c", devices=SYNTH))
    xml = x.project(structure + ("" if '<Channel id="cm"' in structure else x.main_track()), arrangement, **more)
    return dawproject.read(x.write(tmp_path / "a.dawproject", xml, files))


def clips(found, name="T"):
    strip = next(s for s in found.session.strips if s.name == name)
    return [(pytest.approx(c.start), pytest.approx(c.end), c.kind) for c in strip.clips]


def told(found):
    return "\n".join(found.report.left_out)


class TestWhatSounds:
    """120 beats a minute: a beat lasts half a second."""

    def of(self, tmp_path, *arranged, **more):
        return read(tmp_path, arrangement=x.lanes("t", *arranged), **more)

    def test_an_instrument_with_notes_and_audio_can_be_computed(self, tmp_path):
        for other in (x.clip(8, 8), x.clip(8, 8, ""), x.clip(8, 8, "<Points><RealPoint time='0' value='1'/></Points>")):
            found = self.of(tmp_path, x.clip(0, 8, NOTES), other)
            moments = prepare(found.session, {}).moments
            assert moments.sounding[:, 0].any()

    def test_automation_and_empty_clips_are_silent(self, tmp_path):
        points = "<Points id='p'><RealPoint time='0' value='1'/></Points>"
        found = self.of(tmp_path, x.clip(0, 4, points), x.clip(4, 4, ""), x.clip(8, 4, reference="p"), x.clip(16, 4))
        assert clips(found) == [(8.0, 10.0, "audio")]
        assert "not exist" not in told(found)

    def test_a_clip_without_duration_lasts_as_long_as_the_clips_in_it(self, tmp_path):
        inner = "<Clips>" + x.clip(0, 2) + x.clip(4, 4) + "</Clips>"
        assert clips(self.of(tmp_path, f'<Clip time="8">{inner}</Clip>')) == [(4.0, 5.0, "audio"), (6.0, 8.0, "audio")]

    def test_what_stops_playing_ends_there(self, tmp_path):
        stopped = f'<Clip time="8" playStart="1" playStop="5">{x.AUDIO}</Clip>'
        assert clips(self.of(tmp_path, stopped)) == [(4.0, 6.0, "audio")]

    def test_content_straight_in_a_lane_sounds(self, tmp_path):
        lane = '<Lanes track="t"><Notes><Note time="4" duration="4" key="60"/></Notes></Lanes>'
        assert clips(read(tmp_path, arrangement=lane))[-1][1:] == (4.0, "notes")
        audio = '<Audio duration="3" channels="2"><File path="a.wav"/></Audio>'
        assert clips(read(tmp_path, arrangement=f'<Lanes track="t">{audio}</Lanes>')) == [(0.0, 3.0, "audio")]

    def test_inner_clips_may_count_seconds(self, tmp_path):
        inner = '<Clips timeUnit="seconds">' + x.clip(1, 2) + "</Clips>"
        assert clips(self.of(tmp_path, x.clip(8, 16, inner))) == [(5.0, 7.0, "audio")]

    def test_content_may_count_otherwise_than_the_lane(self, tmp_path):
        # Four beats from beat 8 on: two seconds. Of its content the second half second is a gap.
        inner = "<Clips>" + x.clip(0, 0.5) + x.clip(1, 0.5) + "</Clips>"
        clip = x.clip(8, 4, inner, contentTimeUnit="seconds")
        assert clips(self.of(tmp_path, clip)) == [(4.0, 4.5, "audio"), (5.0, 5.5, "audio")]
        # And the other way round, in a lane of seconds: beats inside.
        inner = "<Clips>" + x.clip(0, 1) + x.clip(2, 1) + "</Clips>"
        lane = x.lanes("t", x.clip(4, 1, inner, contentTimeUnit="beats"), unit="seconds")
        assert clips(read(tmp_path, arrangement=lane)) == [(4.0, 4.5, "audio")]

    def test_a_loop_of_seconds_in_a_lane_of_beats(self, tmp_path):
        inner = "<Clips>" + x.clip(0, 0.5) + "</Clips>"
        clip = x.clip(8, 6, inner, contentTimeUnit="seconds", playStart=0, loopStart=0, loopEnd=1)
        assert clips(self.of(tmp_path, clip)) == [(4.0, 4.5, "audio"), (5.0, 5.5, "audio"), (6.0, 6.5, "audio")]

    def test_lanes_inside_a_clip_play_their_notes_once(self, tmp_path):
        lanes = f"<Lanes>{NOTES}<Points><RealPoint time='0' value='1'/></Points></Lanes>"
        found = self.of(tmp_path, x.clip(0, 4, lanes))
        assert clips(found) == [(0.0, 2.0, "notes")]
        assert found.session.strips[0].instrument.voices == 1

    def test_warped_audio_and_whole_clips_can_be_referred_to(self, tmp_path):
        warps = f'<Warps id="w">{x.AUDIO}<Warp time="0" contentTime="0"/></Warps>'
        named = f'<Clip id="k" time="8" duration="2">{NOTES}</Clip>'
        found = self.of(
            tmp_path, x.clip(0, 4, warps), x.clip(16, 2, reference="w"), named, x.clip(24, 2, reference="k")
        )
        assert clips(found) == [
            (0.0, 2.0, "audio"), (4.0, 5.0, "notes"), (8.0, 9.0, "audio"), (12.0, 13.0, "notes"),
        ]  # fmt: skip

    def test_a_missing_reference_is_silent_and_said_once(self, tmp_path):
        found = self.of(tmp_path, x.clip(0, 4, reference="ghost"), x.clip(4, 4, reference="ghost"), x.clip(8, 4))
        assert clips(found) == [(4.0, 6.0, "audio")]
        assert told(found).count("'ghost'") == 1

    def test_references_that_fan_out_are_bounded(self, tmp_path, monkeypatch):
        monkeypatch.setattr("nimbleload.store.dawproject_timeline.MOST_PIECES", 2000)
        level, doubled = x.clip(0, 4, "<Clips id='l0'></Clips>"), ""
        for k in range(1, 25):
            inner = x.clip(0, 1, reference=f"l{k - 1}") * 2
            doubled += x.clip(0, 4, f"<Clips id='l{k}'>{inner}</Clips>")
        with pytest.raises(ImportRefusedError, match="loops run wild"):
            self.of(tmp_path, level, doubled)

    def test_a_loop_of_no_length_is_none(self, tmp_path):
        clip = x.clip(0, 4, NOTES, playStart=0, loopStart=1, loopEnd=1)
        assert clips(self.of(tmp_path, clip)) == [(0.0, 2.0, "notes")]


class TestTempo:
    def test_places_in_seconds_are_turned_into_beats(self, tmp_path):
        # 60 beats a minute for 4 s, then 120: beat 4 falls on second 4, beat 8 on second 6.
        tempo = (
            '<TempoAutomation timeUnit="seconds" unit="bpm"><Points><RealPoint time="0" value="60"/>'
            '<RealPoint time="4" value="120"/></Points></TempoAutomation>'
        )
        found = read(tmp_path, arrangement=x.lanes("t", x.clip(4, 4)) + tempo)
        assert found.session.tempo == (TempoPoint(0.0, 60.0), TempoPoint(4.0, 120.0))
        assert clips(found) == [(4.0, 6.0, "audio")]

    def test_beats_and_seconds_are_each_others_inverse(self):
        points = (
            TempoPoint(2, 60, True),
            TempoPoint(10, 180),
            TempoPoint(10, 90, True),
            TempoPoint(20, 91),
            TempoPoint(30, 200),
        )
        tempo = TempoMap(points)
        for beat in (-3.0, 0.0, 1.0, 2.0, 5.5, 9.99, 10.0, 14.0, 25.0, 1000.0):
            assert tempo.beat(tempo.seconds(beat)) == pytest.approx(beat, abs=1e-9)

    def test_thousands_of_tempo_points_are_no_matter(self):
        tempo = TempoMap([TempoPoint(float(k), 100 + k % 7) for k in range(50_000)])
        assert tempo.seconds(49_999.5) > tempo.seconds(49_998.5)


class TestStructure:
    def test_a_track_that_is_not_loaded_costs_nothing(self, tmp_path):
        off = x.track("t", "T", x.channel("c", devices=SYNTH)).replace('loaded="true"', 'loaded="false"', 1)
        assert not next(s for s in read(tmp_path, off).session.strips if s.name == "T").enabled

    def test_a_group_that_says_it_is_the_main_output_is_a_bus(self, tmp_path):
        # One routed only by destination, one told by its content, one that nothing tells.
        structure = (
            x.track("g", "Group", x.channel("cg", "master", destination="cm"), "tracks")
            + x.track("h", "Other group", x.channel("ch", "master"), "tracks audio")
            + x.track("t", "T", x.channel("c", destination="cg"))
            + x.main_track()
            + x.track("k", "Third", x.channel("ck", "master"))
        )
        found = read(tmp_path, structure)
        kinds = {s.name: s.kind for s in found.session.strips}
        assert kinds == {"Group": "bus", "Other group": "bus", "T": "track", "Main": "main", "Third": "bus"}
        outputs = {s.name: s.output for s in found.session.strips}
        assert outputs["Group"] == outputs["Other group"] == outputs["Third"] == "tm"
        assert "“Third” says that it is the main output, too" in told(found)

    def test_sends_that_lead_nowhere_are_left_out_and_the_rest_is_taken(self, tmp_path):
        vca = x.track("v", "V", x.channel("cv", "vca"))
        sends = x.send("gone") + x.send("gone2", on="false") + x.send("cv") + x.send("") + x.send("cr")
        structure = x.track("t", "T", x.channel("c", sends=sends)) + vca + x.track("r", "R", x.channel("cr", "effect"))
        found = read(tmp_path, structure)
        assert [s.target for s in found.session.strips[0].sends] == ["r"]
        assert told(found).count("the send was left out") == 4

    def test_an_unknown_destination_leads_to_the_main_output(self, tmp_path):
        found = read(tmp_path, x.track("t", "T", x.channel("c", destination="nowhere")))
        assert found.session.strips[0].output == "tm"
        assert "does not exist: 'nowhere'; it leads to “Main”" in told(found)

    def test_doubled_ids_are_told_apart(self, tmp_path):
        structure = x.track("t", "T", x.channel("c")) + x.track("t", "U", x.channel("c", destination="c"))
        found = read(tmp_path, structure, x.lanes("t", x.clip(0, 4)))
        assert [s.name for s in found.session.strips] == ["T", "U", "Main"]
        assert len({s.id for s in found.session.strips}) == 3
        assert clips(found, "T") and not clips(found, "U")
        assert "the id 't' is used twice" in told(found)

    def test_damaged_words_about_the_file_are_no_obstacle(self, tmp_path):
        found = read(tmp_path, files={"metadata.xml": b"<MetaData><Title>Half"})
        assert found.session.name == "a"
        assert "metadata.xml is not well-formed" in told(found)

    def test_what_is_no_part_of_the_format_is_said(self, tmp_path):
        structure = x.track("t", "T", x.channel("c", extra="<Shimmer/><Shimmer/><Glow/>"))
        assert "is not understood: Shimmer (2), Glow (1)." in told(read(tmp_path, structure))
        assert "no part of the format" not in told(read(tmp_path))

    def test_more_tracks_or_devices_than_any_session_has_are_refused(self, tmp_path, monkeypatch):
        monkeypatch.setattr(dawproject, "MOST_STRIPS", 20)
        many = "".join(x.track(f"t{k}", f"T{k}", x.channel(f"c{k}")) for k in range(30))
        with pytest.raises(ImportRefusedError, match="over 20 tracks"):
            read(tmp_path, many)
        monkeypatch.setattr(dawproject, "MOST_DEVICES", 20)
        devices = "".join(x.plugin("ClapPlugin", f"p{k}", "P") for k in range(30))
        with pytest.raises(ImportRefusedError, match="over 20 devices"):
            read(tmp_path, x.track("t", "T", x.channel("c", devices=devices)))


class TestArchive:
    @pytest.mark.parametrize("packed", [zipfile.ZIP_BZIP2, zipfile.ZIP_LZMA])
    def test_entries_that_unpack_without_a_limit_are_refused(self, tmp_path, packed):
        path = x.write(tmp_path / "a.dawproject", x.project(x.track("t", "T", x.channel("c")) + x.main_track()))
        with zipfile.ZipFile(path, "a", packed) as archive:
            archive.writestr("state", b"0" * 1000)
        with pytest.raises(ImportRefusedError, match="packed in a way"):
            dawproject.read(path)

    def test_archives_of_a_later_kind_are_refused_in_a_sentence(self, tmp_path):
        path = x.write(tmp_path / "a.dawproject", x.project(x.track("t", "T", x.channel("c")) + x.main_track()))
        content = bytearray(path.read_bytes())
        # The version that is needed to unpack the first entry, in the directory at the end.
        content[content.index(b"PK\x01\x02") + 6] = 99
        path.write_bytes(bytes(content))
        with pytest.raises(ImportRefusedError, match="cannot be opened"):
            dawproject.read(path)
