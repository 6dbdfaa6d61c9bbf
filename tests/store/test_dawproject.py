"""Exchange files from many hands: what is understood, what is left out, what is refused and in which words."""

from __future__ import annotations

import io
import os
import wave
import zipfile
from pathlib import Path

import pytest

from nimbleload.core.session.routing import build
from nimbleload.core.session.session import Meter
from nimbleload.store import dawproject, dawproject_timeline
from nimbleload.store.archive import ImportRefusedError
from tests.helpers import exchange as x


def read(tmp_path, xml, files=None, title=""):
    return dawproject.read(x.write(tmp_path / "song.dawproject", xml, files, title))


def strip(imported, name):
    return next(s for s in imported.session.strips if s.name == name)


def test_tracks_groups_returns_and_main_are_connected(tmp_path):
    structure = (
        x.track("g", "Band", x.channel("cg", "master", "cm")
                + x.track("t1", "Drums", x.channel("c1", sends=x.send("cr") + x.send("cr", "pre", 1.0, "false")))
                + x.track("t2", "Bass", x.channel("c2", destination="cg")), "tracks")
        + x.track("t3", "Voice", x.channel("c3", extra='<Mute value="true"/><Volume value="-6" unit="decibel"/>'))
        + x.track("r", "Echo", x.channel("cr", "effect", "cm"))
        + x.track("v", "Fader group", x.channel("cv", "vca"))
        + x.main_track()
    )  # fmt: skip
    found = read(tmp_path, x.project(structure), title="My song")
    assert found.session.name == "My song"
    assert {s.name: (s.kind, s.output) for s in found.session.strips} == {
        "Band": ("bus", "tm"), "Drums": ("track", "g"), "Bass": ("track", "g"), "Voice": ("track", "tm"),
        "Echo": ("return", "tm"), "Main": ("main", None),
    }  # fmt: skip
    assert strip(found, "Drums").parent == "g"
    assert [(s.target, s.pre_fader, s.enabled, s.level) for s in strip(found, "Drums").sends] == [
        ("r", False, True, 0.5), ("r", True, False, 1.0),
    ]  # fmt: skip
    assert strip(found, "Voice").mute
    assert strip(found, "Voice").volume == pytest.approx(0.501, abs=1e-3)
    assert any("Fader group" in line and "VCA" in line for line in found.report.left_out)
    assert found.report.program == "Testwriter 7"
    build(found.session)


def test_a_file_named_from_where_one_is_names_its_place(tmp_path, monkeypatch):
    x.write(tmp_path / "song.dawproject", x.project(x.track("t", "Voice", x.channel("c")) + x.main_track()))
    monkeypatch.chdir(tmp_path)
    assert dawproject.read(Path("song.dawproject")).session.source == str(tmp_path / "song.dawproject")


def test_devices_keep_their_state_order_and_role(tmp_path):
    devices = (
        x.plugin("ClapPlugin", "org.synth", "Organ", "plugins/organ.clap-preset", "instrument")
        + x.plugin("Vst3Plugin", "ABC", "Big Reverb")
        + '<Compressor deviceName="Squash" loaded="true"/>'
        + x.plugin(
            "ClapPlugin",
            "org.eq",
            "Plain EQ",
            extra='<Parameters><RealParameter parameterID="3" value="0.25"/></Parameters>',
        )
        + x.plugin("ClapPlugin", "org.off", "Off").replace('<Enabled value="true"/>', '<Enabled value="false"/>')
        + "<Mystery/>"
    )
    notes = '<Notes><Note time="0" duration="2" channel="0" key="60"/><Note time="1" duration="2" channel="0" key="64"/>' \
            '<Note time="2" duration="1" channel="0" key="67"/></Notes>'  # fmt: skip
    xml = x.project(
        x.track("t", "Keys", x.channel("c", devices=devices), "notes") + x.main_track(),
        x.lanes("t", x.clip(0, 4, notes)),
    )
    found = read(tmp_path, xml, {"plugins/organ.clap-preset": b"\x01\x02state"})
    keys = strip(found, "Keys")
    assert keys.instrument is not None
    assert keys.instrument.setting.state == b"\x01\x02state"
    assert keys.instrument.voices == 2
    assert keys.instrument.plugin.standard == "clap"
    assert [(u.plugin.standard, u.family, u.enabled) for u in keys.inserts] == [
        ("vst3", "reverb", True), ("builtin", "dynamics", True), ("clap", "equaliser", True), ("clap", "other", False),
    ]  # fmt: skip
    assert keys.inserts[2].setting.values == (("3", 0.25),)
    assert any("Squash" in line and "built into" in line for line in found.report.left_out)
    assert any("Mystery" in line for line in found.report.left_out)


def test_the_rate_is_that_of_most_files_however_often_a_sample_is_played(tmp_path):
    def audio(file, rate):
        return f'<Audio duration="1" sampleRate="{rate}" channels="1"><File path="audio/{file}.wav"/></Audio>'

    clips = [x.clip(k, 1, audio(name, 48000)) for k, name in enumerate("abc")]
    clips += [x.clip(4 + k, 1, audio("sample", 96000)) for k in range(9)]
    clips += [x.clip(20, 1, audio("old", 44100)), x.clip(21, 1, audio("older", 44100))]
    found = read(tmp_path, x.project(one_track(), x.lanes("t", *clips)))
    assert found.session.rate == 48000
    said = "several sample rates (2 at 44100 Hz, 3 at 48000 Hz, 1 at 96000 Hz): the session is taken to run at 48000 Hz."
    assert any(said in line for line in found.report.left_out)
    # Of as many the dearer one.
    two = x.lanes("t", clips[0], clips[-1])
    assert read(tmp_path, x.project(one_track(), two)).session.rate == 48000


def test_what_is_soloed_for_a_moment_is_told_and_the_whole_mix_counts(tmp_path):
    tracks = [x.track(k, k.upper(), x.channel(f"c{k}").replace("<Channel", '<Channel solo="true"', k in "ab"))
              for k in "abz"]  # fmt: skip
    found = read(tmp_path, x.project("".join(tracks) + x.main_track()))
    assert "Solo on A and B: here all tracks sound, as in the mix." in found.report.left_out
    assert not any(each.mute for each in found.session.strips)


def test_plugins_of_which_something_moves_are_known_and_count_if_they_are_ever_on(tmp_path):
    parameter = '<Parameters><RealParameter id="p{0}" parameterID="3" value="0.25"/></Parameters>'
    names = ("still", "moving", "once", "switched on", "always off", "off at last", "unclear")
    devices = ""
    for k, name in enumerate(names):
        one = x.plugin("ClapPlugin", f"org.{k}", name, extra=parameter.format(k))
        is_on = "false" if name in ("switched on", "always off") else "true"
        devices += one.replace('<Enabled value="true"/>', f'<Enabled id="e{k}" value="{is_on}"/>')

    def points(target, tag, *rows):
        inside = "".join(f'<{tag} time="{at}" value="{value}"/>' for at, value in rows)
        return f'<Points><Target parameter="{target}"/>{inside}</Points>'

    moves = (
        points("p1", "RealPoint", (0, 0.1), (4, 0.5)) + points("p2", "RealPoint", (0, 0.1))
        + points("e3", "BoolPoint", (0, "false"), (4, "true")) + points("e4", "BoolPoint", (0, "false"))
        + points("e5", "BoolPoint", (0, "true"), (4, "false"))
        + points("p6", "RealPoint", (0, 0.1)) + points("p6", "RealPoint", (0, 0.2))
    )  # fmt: skip
    structure = x.track("t", "T", x.channel("c", devices=devices)) + x.main_track()
    found = read(tmp_path, x.project(structure, x.lanes("t", x.clip(0, 4)) + moves))
    told = {u.label: (u.automated, u.enabled) for u in strip(found, "T").inserts}
    assert told == {
        "still": (False, True), "moving": (True, True), "once": (False, True), "switched on": (True, True),
        "always off": (False, False), "off at last": (True, True), "unclear": (True, True),
    }  # fmt: skip


def test_a_missing_state_is_told_and_the_plugin_kept(tmp_path):
    device = x.plugin("ClapPlugin", "a.b", "Thing", "plugins/gone.clap-preset")
    found = read(tmp_path, x.project(x.track("t", "T", x.channel("c", devices=device)) + x.main_track()))
    assert strip(found, "T").inserts[0].setting.state is None
    assert any("gone.clap-preset" in line and "missing" in line for line in found.report.left_out)


class TestTimes:
    def clips(self, tmp_path, arrangement, **more):
        found = read(tmp_path, x.project(x.track("t", "T", x.channel("c")) + x.main_track(), arrangement, **more))
        return found, [(pytest.approx(c.start), pytest.approx(c.end)) for c in strip(found, "T").clips]

    def test_beats_become_seconds_under_the_tempo(self, tmp_path):
        found, clips = self.clips(tmp_path, x.lanes("t", x.clip(4, 8)))
        assert clips == [(2.0, 6.0)]
        assert found.session.length == pytest.approx(6.0)

    def test_seconds_stay_seconds(self, tmp_path):
        assert self.clips(tmp_path, x.lanes("t", x.clip(4, 8), unit="seconds"))[1] == [(4.0, 12.0)]

    def test_a_tempo_glide_bends_the_times(self, tmp_path):
        tempo = (
            '<TempoAutomation unit="bpm"><Points><RealPoint time="0" value="60" interpolation="linear"/>'
            '<RealPoint time="8" value="120" interpolation="hold"/></Points></TempoAutomation>'
        )
        _, clips = self.clips(tmp_path, x.lanes("t", x.clip(8, 2)) + tempo)
        start = 60 / (60 / 8) * 0.693147  # 60/k · ln(120/60)
        assert clips == [(start, start + 1.0)]

    def test_time_signatures_are_read_from_the_transport_and_along_the_piece(self, tmp_path):
        transport = '<Transport><Tempo value="60" unit="bpm"/><TimeSignature numerator="6" denominator="8"/></Transport>'
        found, _ = self.clips(tmp_path, x.lanes("t", x.clip(0, 40)), transport=transport)
        assert found.session.meters == (Meter(0, 6, 8),)
        moving = (
            '<TimeSignatureAutomation timeUnit="{}"><Target/><TimeSignaturePoint time="0" numerator="3" denominator="4"/>'
            '<TimeSignaturePoint time="9" numerator="7" denominator="8"/>'
            '<TimeSignaturePoint time="12" numerator="4" denominator="5"/></TimeSignatureAutomation>'
        )
        for unit, at in (("beats", 9.0), ("seconds", 18.0)):
            arrangement = x.lanes("t", x.clip(0, 40)) + moving.format(unit)
            found, _ = self.clips(tmp_path, arrangement, transport=transport.replace("60", "120"))
            # What is automated takes the place of what stands beside it; no bar is counted in fifths.
            assert found.session.meters == (Meter(0, 3, 4), Meter(pytest.approx(at), 7, 8))
            assert "1 time signature that cannot be." in found.report.left_out
        assert self.clips(tmp_path, x.lanes("t", x.clip(4, 8)))[0].session.meters == (Meter(),)

    def test_a_loop_repeats_what_it_holds_and_ends_with_its_clip(self, tmp_path):
        inner = "<Clips>" + x.clip(0, 1) + x.clip(2, 1) + "</Clips>"
        looped = x.clip(4, 10, inner, playStart=0, loopStart=0, loopEnd=4)
        _, clips = self.clips(tmp_path, x.lanes("t", looped, unit="seconds"))
        assert clips == [(4, 5), (6, 7), (8, 9), (10, 11), (12, 13)]

    def test_a_clip_that_begins_inside_its_content_is_cut(self, tmp_path):
        inner = "<Clips>" + x.clip(0, 4) + "</Clips>"
        _, clips = self.clips(tmp_path, x.lanes("t", x.clip(10, 2, inner, playStart=3), unit="seconds"))
        assert clips == [(10, 11)]

    def test_switched_off_clips_do_not_sound(self, tmp_path):
        assert self.clips(tmp_path, x.lanes("t", x.clip(0, 4, enable="false"), x.clip(8, 2)))[1] == [(4.0, 5.0)]

    def test_a_clip_without_length_lasts_as_long_as_its_audio(self, tmp_path):
        audio = '<Audio duration="3.5" sampleRate="44100" channels="2"><File path="audio/a.wav"/></Audio>'
        found, clips = self.clips(tmp_path, x.lanes("t", f'<Clip time="2">{audio}</Clip>'))
        assert clips == [(1.0, 4.5)]
        assert found.session.rate == 44100

    def test_a_reference_stands_for_what_it_refers_to(self, tmp_path):
        first = x.clip(0, 4, '<Notes id="n1"><Note time="0" duration="1" key="60"/></Notes>')
        _, clips = self.clips(tmp_path, x.lanes("t", first, x.clip(8, 4, reference="n1")))
        assert clips == [(0.0, 2.0), (4.0, 6.0)]

    def test_notes_are_counted_by_the_bar_through_loops_and_references(self, tmp_path):
        """120 beats a minute: a bar lasts two seconds."""
        two = '<Note time="0" duration="4" key="60"/><Note time="1" duration="1" key="64"/>'
        loop = x.clip(0, 16, f'<Notes id="n">{two}</Notes>', playStart=0, loopStart=0, loopEnd=8)
        held = x.clip(16, 8, '<Notes><Note time="2" duration="4" key="60"/></Notes>')
        late = x.clip(24, 3, reference="n", playStart=1)
        found, clips = self.clips(tmp_path, x.lanes("t", loop, held, late))
        assert clips == [(0.0, 8.0), (8.0, 12.0), (12.0, 13.5)]
        voices = [c.voices for c in strip(found, "T").clips]
        assert voices[0] == ((0.0, 2), (2.0, 0), (4.0, 2), (6.0, 0))
        assert voices[1] == ((8.0, 1),)
        # It begins at beat 1 of its content: the long note has begun before and is not played.
        assert voices[2] == ((12.0, 1),)

    def test_notes_inside_nested_clips_are_heard_where_these_are(self, tmp_path):
        notes = '<Notes><Note time="0" duration="1" key="60"/><Note time="3" duration="1" key="62"/></Notes>'
        inner = "<Clips>" + x.clip(0, 2, notes) + x.clip(4, 4, notes) + "</Clips>"
        found, clips = self.clips(tmp_path, x.lanes("t", x.clip(8, 16, inner, playStart=0, loopStart=0, loopEnd=8)))
        assert clips == [(4.0, 5.0), (6.0, 8.0), (8.0, 9.0), (10.0, 12.0)]
        assert [c.voices for c in strip(found, "T").clips] == [((s, 1),) for s in (4.0, 6.0, 8.0, 10.0)]

    def test_where_content_counts_time_otherwise_its_notes_are_counted_all_the_same(self, tmp_path):
        """A clip of eight beats lasts four seconds; its notes are written in seconds."""
        notes = '<Notes><Note time="0" duration="1" key="60"/><Note time="0" duration="1" key="62"/></Notes>'
        clip = x.clip(0, 8, notes, contentTimeUnit="seconds")
        devices = x.plugin("ClapPlugin", "org.synth", "Organ", role="instrument")
        xml = x.project(
            x.track("t", "T", x.channel("c", devices=devices), "notes") + x.main_track(), x.lanes("t", clip)
        )
        keys = strip(read(tmp_path, xml), "T")
        assert [(c.start, c.end, c.voices) for c in keys.clips] == [(0.0, 4.0, ((0.0, 2), (2.0, 0)))]
        assert keys.instrument.voices == 2

    def test_notes_without_end_are_refused(self, tmp_path, monkeypatch):
        monkeypatch.setattr("nimbleload.store.dawproject_timeline.MOST_NOTES", 100)
        notes = '<Notes><Note time="0" duration="1" key="60"/></Notes>'
        clip = x.clip(0, 400, notes, playStart=0, loopStart=0, loopEnd=1)
        with pytest.raises(ImportRefusedError, match="over 100 notes; loops run wild"):
            self.clips(tmp_path, x.lanes("t", clip))

    @pytest.mark.parametrize(
        ("inside", "stretched"),
        [("", False), ('<Warp time="0" contentTime="0"/><Warp time="4" contentTime="2"/>', False),
         ('<Warp time="0" contentTime="0"/><Warp time="4" contentTime="2.5"/>', True),
         ('<Warp time="0" contentTime="0"/><Warp time="2" contentTime="1"/><Warp time="4" contentTime="1.5"/>', True)],
    )  # fmt: skip
    def test_audio_files_say_their_rate_and_depth_and_whether_they_are_stretched(self, tmp_path, inside, stretched):
        """At 120 beats a minute four beats last two seconds."""
        audio = '<Audio duration="2" sampleRate="44100" channels="1"><File path="audio/a.wav"/></Audio>'
        warps = f'<Warps timeUnit="beats" contentTimeUnit="seconds">{audio}{inside}</Warps>'
        sound = io.BytesIO()
        with wave.open(sound, "wb") as file:
            file.setparams((1, 3, 44100, 10, "NONE", ""))
            file.writeframes(bytes(30))
        head = sound.getvalue()
        # What stands before the format does not matter.
        head = head[:12] + b"JUNK\x03\0\0\0abc\0" + head[12:]
        arrangement = x.lanes("t", x.clip(4, 4, warps), x.clip(8, 4, warps))
        xml = x.project(x.track("t", "T", x.channel("c")) + x.main_track(), arrangement)
        for files, bits in (({"audio/a.wav": head}, 24), ({}, 0), ({"audio/a.wav": b"RIFF"}, 0)):
            clips = strip(read(tmp_path, xml, files), "T").clips
            assert [(c.file, c.rate, c.bits, c.stretched) for c in clips] == [
                ("audio/a.wav", 44100, bits, stretched)
            ] * 2

    def test_markers_are_sections(self, tmp_path):
        marks = '<Markers><Marker time="16" name="Chorus"/><Marker time="0" name="Verse"/></Markers>'
        found, _ = self.clips(tmp_path, marks + x.lanes("t", x.clip(0, 1)))
        assert [(s.name, s.start) for s in found.session.sections] == [("Verse", 0.0), ("Chorus", 8.0)]


def one_track(devices="", extra="", destination="") -> str:
    return x.track("t", "T", x.channel("c", devices=devices, extra=extra, destination=destination)) + x.main_track()


BOMB = "<!DOCTYPE p [<!ENTITY a 'aaaaaaaaaa'><!ENTITY b '&a;&a;&a;&a;&a;&a;&a;&a;'>]>"


@pytest.mark.parametrize(
    ("xml", "words"),
    [
        (x.project(one_track(), before=BOMB), "declares a document type"),
        (x.project(one_track(), before='<!DOCTYPE p [<!ENTITY a SYSTEM "file:///etc/passwd">]>'), "declares a document type"),
        ("<Project><Structure>", "not well-formed"),
        ("<Song/>", "begins with 'Song'"),
        ("<Project/>", "no Structure"),
        (x.project(x.main_track()), "holds no tracks"),
        (
            x.project(x.track("a", "A", x.channel("ca", destination="cb")) + x.track("b", "B", x.channel("cb", destination="ca")) + x.main_track()),
            "the routing runs in a circle",
        ),
        (x.project(one_track(), x.lanes("t", x.clip("nan", 4))), "time is 'nan'"),
        (
            x.project(one_track(), x.lanes("t", x.clip(0, 4, "<Clips id='loop'>" + x.clip(0, 4, reference="loop") + "</Clips>"))),
            "refer to each other without end",
        ),
        (x.project(one_track(x.plugin("ClapPlugin", "a", "A", "../../etc/passwd"))), "leaves the file"),
        (x.project(one_track(), transport='<Transport><Tempo value="-3"/></Transport>'), "value is '-3'"),
        (x.project(one_track(extra='<Volume value="inf"/>')), "value is 'inf'"),
    ],
)  # fmt: skip
def test_what_cannot_be_is_refused_in_a_sentence(tmp_path, xml, words):
    with pytest.raises(ImportRefusedError) as caught:
        read(tmp_path, xml)
    assert words in str(caught.value)
    assert "root:" not in str(caught.value)


def test_groups_without_end_are_refused(tmp_path):
    nested = "".join(f'<Track id="g{k}" name="g">' for k in range(100)) + "</Track>" * 100
    with pytest.raises(ImportRefusedError, match="deeper than 64"):
        read(tmp_path, x.project(nested + x.main_track()))


def test_a_loop_of_almost_nothing_is_refused(tmp_path, monkeypatch):
    monkeypatch.setattr(dawproject_timeline, "MOST_PIECES", 100)
    inner = "<Clips>" + x.clip(0, 0.001) + "</Clips>"
    wild = x.clip(0, 100, inner, loopStart=0, loopEnd=0.01)
    with pytest.raises(ImportRefusedError, match="loops run wild"):
        read(tmp_path, x.project(one_track(), x.lanes("t", wild)))


def test_a_path_that_leaves_its_folder_is_refused(tmp_path):
    for name in ("../evil.txt", "/etc/evil", "a/../../b", "C:\\evil"):
        path = tmp_path / "slip.dawproject"
        with zipfile.ZipFile(path, "w") as archive:
            archive.writestr("project.xml", x.project(one_track()))
            archive.writestr(name, b"x")
        with pytest.raises(ImportRefusedError, match="leaves its folder"):
            dawproject.read(path)


def test_what_is_too_large_is_not_unpacked(tmp_path, monkeypatch):
    monkeypatch.setattr(dawproject, "LARGEST_STATE", 1000)
    device = x.plugin("ClapPlugin", "a", "A", "plugins/big")
    with pytest.raises(ImportRefusedError, match="plugins/big is larger than"):
        read(tmp_path, x.project(one_track(device)), {"plugins/big": bytes(2000)})


def test_a_file_that_is_no_archive_or_has_no_project_is_refused(tmp_path):
    path = tmp_path / "no.dawproject"
    path.write_bytes(b"hello")
    with pytest.raises(ImportRefusedError, match="cannot be opened"):
        dawproject.read(path)
    with zipfile.ZipFile(path, "w") as archive:
        archive.writestr("other.xml", "<x/>")
    with pytest.raises(ImportRefusedError, match=r"does not hold 'project\.xml'"):
        dawproject.read(path)


def test_a_damaged_archive_is_refused(tmp_path):
    path = x.write(tmp_path / "song.dawproject", x.project(one_track()))
    whole = bytearray(path.read_bytes())
    whole[60:90] = bytes(30)
    path.write_bytes(whole)
    with pytest.raises(ImportRefusedError):
        dawproject.read(path)


def test_switches_and_choices_belong_to_a_setting_as_numbers_do(tmp_path):
    kinds = (("RealParameter", "0.25"), ("IntegerParameter", "3"), ("BoolParameter", "true"), ("BoolParameter", "false"),
             ("EnumParameter", "2"))  # fmt: skip
    inside = "".join(f'<{tag} parameterID="{k}" value="{value}"/>' for k, (tag, value) in enumerate(kinds))
    device = f'<ClapPlugin deviceID="a" deviceName="A" deviceRole="audioFX"><Parameters>{inside}</Parameters></ClapPlugin>'
    found = read(tmp_path, x.project(one_track(device))).session
    assert found.strips[0].inserts[0].setting.values == (("0", 0.25), ("1", 3.0), ("2", 1.0), ("3", 0.0), ("4", 2.0))


def test_a_file_that_no_session_could_name_is_refused(tmp_path):
    folder = Path(os.fsdecode(os.fsencode(tmp_path) + b"/l\xe9"))
    folder.mkdir()
    with pytest.raises(ImportRefusedError, match=r"l\?/a.dawproject: its name, .* rename it first"):
        dawproject.read(folder / "a.dawproject")
