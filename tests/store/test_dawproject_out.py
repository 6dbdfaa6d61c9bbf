"""What is written here reads back as the same session; the example is written with its audio."""

from __future__ import annotations

import zipfile

import msgspec
import numpy as np
import pytest
import soundfile

from nimbleload.core.session.computer import Host
from nimbleload.core.session.plugins import PluginRef, PluginUse, Setting
from nimbleload.core.session.session import Meter, Section, Session, TempoPoint
from nimbleload.core.session.strips import Clip, Send, Strip
from nimbleload.demo import audio as example_audio
from nimbleload.demo.session import session as example_session
from nimbleload.store import dawproject, dawproject_out
from nimbleload.store.dawproject_out import Loop
from tests.helpers import grammar
from tests.helpers.stems import noise, wave


def use(number, standard="clap", state=None, enabled=True, loaded=True, **values):
    plugin = PluginRef(standard, f"org.{number}", f"Plugin {number}", "Somebody", "2")
    return PluginUse(f"u{number}", plugin, Setting(tuple(values.items()), state), enabled=enabled, loaded=loaded)


TAR = PluginUse("u4", PluginRef("house", "house.tar", "Tar", "Nimble Load", "1"), Setting((("drive", 3.0),)))


def mono(of):
    return msgspec.structs.replace(of, channels=1)


def made():
    organ = PluginUse("o", PluginRef("clap", "org.organ", "Organ"), Setting(), "instrument", 2, 3)
    clips = (Clip(1.0, 5.0, "notes", "phrase", voices=((1.0, 3), (3.0, 1))),)
    strips = (
        Strip("t1", "One <&> two", inserts=(use(1, drive=0.5), use(2, "lv2", enabled=False),
              use(6, enabled=False, loaded=False)), output="b",
              sends=(Send("r", 0.25, True), Send("r", 0.5, enabled=False)), volume=0.7, pan=-0.5,
              clips=(Clip(0.5, 2.5, name="a"), Clip(3.0, 4.25))),
        Strip("t2", "Keys", instrument=organ, output="b", clips=clips),
        Strip("t3", "Off", inserts=(mono(use(3, "ladspa")), mono(TAR)), output="m", enabled=False, mute=True,
              channels=1),
        Strip("b", "Bus", "bus", inserts=(use(5, state=b"\0state"),), output="m"),
        Strip("r", "Room", "return", output="m"),
        Strip("m", "Main", "main"),
    )  # fmt: skip
    tempo = (TempoPoint(0.0, 90.0, True), TempoPoint(8.0, 120.0))
    meters = (Meter(0.0, 6, 8), Meter(9.0, 3, 4))
    return Session("A song", 44100, 5.0, strips, (Section("Verse", 0.0), Section("End", 4.0)), tempo,
                   meters=meters)


def test_a_session_reads_back_the_same(tmp_path):
    of = made()
    loop = Loop("t1.wav", wave(noise(1.0), 44100), 1.0, 44100, 2)
    dawproject_out.write(tmp_path / "a.dawproject", of, lambda strip: loop if strip.id == "t1" else None)
    found = dawproject.read(tmp_path / "a.dawproject")
    back = found.session
    assert (back.name, back.rate, back.sections, back.timing) == (of.name, 44100, of.sections, of.timing)
    for strip in of.strips:
        other = back.strip(strip.id)
        for part in ("name", "kind", "output", "sends", "volume", "mute", "enabled", "channels"):
            assert getattr(other, part) == getattr(strip, part), (strip.name, part)
        assert other.pan == pytest.approx(strip.pan)
        assert [u.card_key() for u in other.uses()] == [u.card_key() for u in strip.uses()]
        assert [u.enabled for u in other.uses()] == [u.enabled for u in strip.uses()]
        assert [(c.start, c.end, c.kind, c.name) for c in other.clips] == [
            (pytest.approx(c.start), pytest.approx(c.end), c.kind, c.name) for c in strip.clips
        ]
    assert back.strip("t2").instrument.voices == 3
    assert found.audio["t1"].parts[0].file == "audio/t1.wav"
    assert not found.report.left_out or "no part of the format" not in " ".join(found.report.left_out)


def test_the_example_is_written_with_its_audio(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path))
    path = example_audio.made()
    written = path.stat().st_mtime_ns
    assert example_audio.made() == path and path.stat().st_mtime_ns == written
    of, found = example_session(), dawproject.read(path)
    for strip in of.strips:
        other = found.session.strip(strip.id)
        assert (other.kind, other.output, other.sends) == (strip.kind, strip.output, strip.sends)
        # How many notes an instrument could play the format does not say, only how many it does.
        keys = [[u.card_key() for u in each.inserts] for each in (strip, other)]
        assert keys[0] == keys[1]
        assert np.allclose([c.start for c in strip.clips], [c.start for c in other.clips])
    sounding = [s.id for s in of.strips if s.clips and s.instrument is None]
    assert all(found.audio[each].parts for each in sounding)
    assert path.stat().st_size < 40 << 20


def test_a_loop_of_the_example_joins_its_own_beginning():
    strip = next(s for s in example_session().strips if s.name == "Fiddle")
    sound = example_audio.sound_of(strip)
    assert np.abs(sound).max() < 1.0
    assert abs(sound[0] - sound[-1]) < 0.2 * np.abs(sound).max()
    assert np.array_equal(sound, example_audio.sound_of(strip))
    with zipfile.ZipFile(example_audio.path()) if example_audio.path().exists() else _written() as archive:
        assert soundfile.info(archive.open(f"audio/{strip.id}.flac")).frames == len(sound)


def _written():
    return zipfile.ZipFile(example_audio.made())


def test_what_the_format_cannot_say_is_told():
    of = made()
    assert dawproject_out.left_out(msgspec.structs.replace(of, strips=of.strips[1:])) == []
    t1, *others = of.strips
    listening = msgspec.structs.replace(t1.inserts[0], sidechain="t2")
    t1 = msgspec.structs.replace(t1, inserts=(listening, *t1.inserts[1:]), armed=True, post_fader=1)
    host = Host(cores_left_free=1)
    told = " ".join(dawproject_out.left_out(msgspec.structs.replace(of, strips=(t1, *others), host=host)))
    for words in ("1 plugin is written without listening", "One <&> two is record-armed", "come after the fader",
                  "The audio of 2 clips", "the host and the audio device"):  # fmt: skip
        assert words in told


def test_a_file_that_cannot_be_written_whole_leaves_the_old_one(tmp_path):
    path = tmp_path / "a.dawproject"
    dawproject_out.write(path, made())
    before = path.read_bytes()

    def fails(strip):
        raise OSError("the disk is full")

    with pytest.raises(OSError, match="full"):
        dawproject_out.write(path, made(), fails)
    assert path.read_bytes() == before
    assert [each.name for each in tmp_path.iterdir()] == ["a.dawproject"]


def project_of(path):
    with zipfile.ZipFile(path) as archive:
        return archive.read("project.xml")


def test_what_is_written_is_as_the_format_says(tmp_path):
    of = made()
    # A use may be called anything; suspended tracks are written with automation.
    t1, *others = of.strips
    named = [msgspec.structs.replace(each, id=f"t1/{k} ä") for k, each in enumerate(t1.inserts)]
    t1 = msgspec.structs.replace(t1, inserts=tuple(named), suspended=True)
    of = msgspec.structs.replace(of, strips=(t1, *others))
    dawproject_out.write(tmp_path / "a.dawproject", of)
    assert grammar.faults(project_of(tmp_path / "a.dawproject")) == []
    assert grammar.faults(project_of(example_audio.made())) == []


def test_the_grammar_finds_what_is_wrong():
    """Each of these was written, or nearly so, by somebody."""
    wrong = (
        '<Project><Transport><TimeSignature numerator="4" denominator="4"/><Tempo id="a/1" value="1"/></Transport>'
        '<Structure><Track id="x"/><Track id="x"/></Structure><Arrangement><TempoAutomation><Points>'
        '<Target parameter="gone"/></Points></TempoAutomation></Arrangement></Project>'
    )
    said = " ".join(grammar.faults(wrong.encode()))
    for words in ("are not in order", "no name", "'x' is there 2 times", "Points in TempoAutomation",
                  "TempoAutomation without a target", "'gone', which is not there", "Project without version",
                  "Tempo without unit"):  # fmt: skip
        assert words in said


def test_names_that_no_xml_can_hold_are_written_without_that(tmp_path):
    of = msgspec.structs.replace(made(), name="So\0ng")
    strips = (msgspec.structs.replace(of.strips[0], id="t\x011", name="Bass\x0b\ud800"), *of.strips[1:])
    dawproject_out.write(tmp_path / "a.dawproject", msgspec.structs.replace(of, strips=strips))
    found = dawproject.read(tmp_path / "a.dawproject").session
    assert (found.name, found.strips[0].name) == ("Song", "Bass")
    assert found.strips[0].clips and found.strips[0].output == "b"


def test_states_of_uses_that_are_called_alike_are_kept_apart(tmp_path):
    uses = [msgspec.structs.replace(use(k, state=name.encode()), id=name) for k, name in enumerate(("a/1-2", "a-1/2"))]
    strips = (Strip("a", "A", inserts=tuple(uses), output="m"), Strip("m", "Main", "main"))
    dawproject_out.write(tmp_path / "a.dawproject", Session("x", 48000, 1.0, strips))
    found = dawproject.read(tmp_path / "a.dawproject").session.strip("a")
    assert [each.setting.state for each in found.inserts] == [b"a/1-2", b"a-1/2"]
