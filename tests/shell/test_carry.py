"""Carrying out from a shell, from an exchange file to a changed one; null tests of two files."""

from __future__ import annotations

import json
import os
import sys
from types import SimpleNamespace

import msgspec
import numpy as np
import pytest
import soundfile
from click.testing import CliRunner

from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.deliver.render import Step
from nimbleload.shell import carry, cli
from nimbleload.store import dawproject, session_file
from nimbleload.store.session_file import Saved
from tests.deliver.test_stems import a_mix
from tests.helpers import exchange as x
from tests.helpers import stems
from tests.helpers.stems import SHORELINE, audio, noise, wave
from tests.store.test_midi_file import note
from tests.store.test_midi_file import written as midi_file


def run(*words):
    return CliRunner().invoke(cli, [str(word) for word in words])


@pytest.fixture
def saved(tmp_path):
    """A session from an exchange file, with a freeze that can be rendered and one that cannot."""
    source = stems.written(tmp_path / "mix.dawproject", x.clip(0, 2, audio()))
    plan = Plan((Decision("freeze", "t"), Decision("freeze", "u")))
    path = tmp_path / "mix.nimbleload"
    session_file.write(path, Saved(dawproject.read(source).session, plan))
    return path


def test_stems_are_rendered_and_proven_together(tmp_path):
    path = a_mix(tmp_path / "mix.dawproject")
    said = run("stems", path)
    assert said.exit_code == 0, said.output
    assert "Band stem: rendered, peak" in said.output
    assert "All stems together: together they are what the main output gets" in said.output
    assert f"3 of 3 stems are in {tmp_path / 'mix stems'}" in said.output
    figures = json.loads(run("stems", path, "--only", "Solo", "--mix", "--to", tmp_path / "two", "--json").output)
    assert {each["strip"] for each in figures["rendered"]} == {"solo/stem", "tm/stem"}
    assert figures["together"] is None and len(list((tmp_path / "two").glob("*.wav"))) == 2
    unknown = run("stems", path, "--only", "Choir")
    assert unknown.exit_code == 1
    assert "Nothing called “Choir” is heard here. There are: Solo, Band, Echo, Main, One, Two." in unknown.output
    deeper = json.loads(run("stems", path, "--only", "One", "--json").output)
    assert [each["strip"] for each in deeper["rendered"]] == ["one/stem"]


def test_a_plan_is_carried_out_and_the_changed_session_written(saved, tmp_path):
    said = run("carry-out", saved)
    assert said.exit_code == 0, said.output
    assert "Voice: rendered, peak" in said.output and "the same, to the sample" in said.output
    assert "Other: not rendered: no audio of it is known" in said.output
    assert "The track is rendered." in said.output
    assert "by hand: freeze: Other (not rendered)" in said.output
    (made,) = tmp_path.glob("mix 20*.dawproject")
    assert len(dawproject.read(made).session.strip("t").clips) == 1
    again = run("carry-out", saved, "--json")
    figures = json.loads(again.output)
    assert figures["rendered"][0]["proof"]["verdict"] == "same"
    assert figures["refused"].keys() == {"Other"}
    assert figures["session"]["path"].endswith(" 2.dawproject")


def test_on_a_terminal_it_is_shown_how_far_it_is_and_nothing_of_it_stays(capsys, monkeypatch):
    job = SimpleNamespace(name="Voice")
    steps = [Step(job, "renders", share) for share in (0.25, 0.2501, 0.8, 1.0)]
    for is_terminal, quiet, wanted in ((True, False, True), (False, False, False), (True, True, False)):
        monkeypatch.setattr(sys.stderr, "isatty", lambda on=is_terminal: on, raising=False)
        taken = []
        left = SimpleNamespace(take=taken.append, seconds=lambda of=taken: 200.0 * (1.0 - of[-1].share))
        assert list(carry.shown(iter(steps), left, quiet)) == steps == taken
        said = capsys.readouterr()
        assert said.out == ""
        lines = said.err.split("\r\033[K")
        told = ["25 %, about 2 min left", "80 %, about 40 s left", "100 %"]
        assert lines == (["", *(f"  Voice: renders {each}" for each in told), ""] if wanted else [""])


def test_a_dry_run_says_what_there_is_to_do_and_does_nothing(saved, tmp_path):
    said = run("carry-out", saved, "--dry-run")
    assert said.exit_code == 0 and "  Voice: to render, which takes about 1 s\n" in said.output
    assert "  Other: not rendered: no audio of it is known" in said.output
    assert "1 track is to be rendered." in said.output and not list(tmp_path.glob("mix *"))
    run("carry-out", saved)
    before = sorted(tmp_path.rglob("*"))
    assert "  Voice: there already, peak −" in run("carry-out", saved, "--dry-run").output
    assert "  Voice: there already" in run("carry-out", saved, "--dry-run", "--buffer", "64").output
    stems.written(saved.with_suffix(".dawproject"), x.clip(0.5, 2, audio()))
    assert run("renew", saved).exit_code == 0
    before.append(saved.with_suffix(".nimbleload.bak"))
    other = json.loads(run("carry-out", saved, "--dry-run", "--json").output)
    assert other["jobs"]["Voice"].startswith("to render again: what lies there is of 20")
    assert other["refused"].keys() == {"Other"} and other["to_prove"] == []
    assert sorted(tmp_path.rglob("*")) == sorted(before)


def test_only_some_elsewhere_as_flac_without_a_session(saved, tmp_path):
    said = run(
        "carry-out",
        saved,
        "--to",
        tmp_path / "flac",
        "--format",
        "flac",
        "--no-session",
        "--no-proof",
        "--only",
        "Voice",
    )
    assert said.exit_code == 0, said.output
    assert [path.suffix for path in sorted((tmp_path / "flac").iterdir())] == [".flac", ".json"]
    assert not list(tmp_path.glob("mix 20*.dawproject"))
    nobody = run("carry-out", saved, "--only", "Voice", "--only", "Nobody", "--no-session")
    assert nobody.exit_code == 1 and "renders nothing called “Nobody”, but: Voice" in nobody.output


def test_what_ends_early_ends_in_a_code_and_a_sentence(tmp_path):
    source = stems.written(tmp_path / "mix.dawproject", x.clip(0, 2, audio("gone.wav")))
    path = tmp_path / "mix.nimbleload"
    session_file.write(path, Saved(dawproject.read(source).session, Plan((Decision("freeze", "t"),))))
    said = run("carry-out", path)
    assert said.exit_code == 1
    assert "Voice: gone.wav is missing" in said.output


def test_a_plan_that_only_shares_and_lightens_is_proven_and_written(tmp_path):
    device = '<BuiltinDevice deviceID="house.tar" deviceName="Tar" deviceRole="audioFX"><Parameters/></BuiltinDevice>'
    structure = "".join(x.track(f"t{k}", f"Voice {k}", x.channel(f"c{k}", devices=device)) for k in range(2))
    lanes = "".join(x.lanes(f"t{k}", x.clip(0, 2, audio()), unit="seconds") for k in range(2))
    xml = x.project(structure + x.main_track(), lanes)
    session = dawproject.read(x.write(tmp_path / "mix.dawproject", xml, {"audio/a.wav": wave(noise())})).session
    plan = Plan(tuple(Decision("share", s.id, s.inserts[0].id, into="bus1") for s in session.strips[:2]))
    path = tmp_path / "mix.nimbleload"
    session_file.write(path, Saved(session, plan))
    said = run("carry-out", path)
    assert said.exit_code == 0, said.output
    assert "Nothing in the plan has to be rendered: the changed session can be written at once." in said.output
    assert "Shared Tar: sharing changes the sound: −" in said.output and "difference.wav" in said.output
    (made,) = tmp_path.glob("mix 20*.dawproject")
    assert dawproject.read(made).session.strip("bus1").inserts[0].label == "Tar"
    figures = json.loads(run("carry-out", path, "--json", "--no-session").output)
    assert figures["shared"]["Shared Tar"]["verdict"] == "different" and figures["session"] is None
    assert json.loads(run("carry-out", path, "--json", "--no-session", "--no-proof").output)["shared"] == {}


def test_the_mix_of_the_changed_session_is_proven_and_that_of_two_sessions_compared(saved, tmp_path):
    said = run("carry-out", saved, "--mix")
    assert said.exit_code == 0, said.output
    assert "  Mix before and after: the mix sounds the same, to the sample" in said.output
    figures = json.loads(run("carry-out", saved, "--mix", "--json").output)
    assert figures["mix"]["verdict"] == "same"
    assert json.loads(run("carry-out", saved, "--json").output)["mix"] is None
    # Of a saved session and of an exchange file.
    (first, *_) = sorted(tmp_path.glob("mix 20*.dawproject"))
    assert run("null", saved, first).exit_code == 0
    other = stems.written(tmp_path / "other.dawproject", x.clip(1, 1, audio()))
    said = run("null", first, other, "--residual", tmp_path / "left.wav")
    assert said.exit_code == 3 and "the mix sounds different: −" in said.output and "left.wav" in said.output
    assert json.loads(run("null", first, other, "--json").output)["verdict"] == "different"
    gone = stems.written(tmp_path / "gone.dawproject", x.clip(0, 1, audio("audio/gone.wav")))
    said = run("null", first, gone)
    assert said.exit_code == 1 and "audio/gone.wav is missing" in said.output
    # What is neither two sessions nor two audio files.
    assert "cannot be read" in run("null", first, tmp_path / "left.wav").output


def test_a_mix_that_sounds_otherwise_or_cannot_be_proven_has_a_code_of_its_own(tmp_path, saved):
    devices = '<BuiltinDevice deviceID="house.tar" deviceName="Tar" deviceRole="audioFX"><Parameters/></BuiltinDevice>'
    for code, file, words in ((3, "a", "sounds different"), (1, "gone", "audio/gone.wav is missing")):
        structure = x.track("t", "Voice", x.channel("c", devices=devices)) + x.main_track()
        xml = x.project(structure, x.lanes("t", x.clip(0, 2, audio(f"audio/{file}.wav")), unit="seconds"))
        source = x.write(tmp_path / "one.dawproject", xml, {"audio/a.wav": wave(noise())})
        session = dawproject.read(source).session
        plan = Plan((Decision("off", "t", use=session.strip("t").inserts[0].id),))
        path = tmp_path / "one.nimbleload"
        session_file.write(path, Saved(session, plan))
        said = run("carry-out", path, "--mix")
        assert said.exit_code == code and words in said.output


def test_the_example_without_a_plan_has_nothing_to_render():
    said = run("carry-out", "demo")
    assert said.exit_code == 0 and "Nothing in the plan has to be rendered." in said.output


def test_two_files_are_nulled(tmp_path):
    (tmp_path / "a.wav").write_bytes(wave(noise()))
    (tmp_path / "b.wav").write_bytes(wave(noise()))
    other = noise()
    other[1000, 1] += 0.5
    (tmp_path / "c.wav").write_bytes(wave(other))
    (tmp_path / "mono.wav").write_bytes(wave(noise(channels=1)))
    (tmp_path / "no.wav").write_bytes(b"no")
    assert run("null", tmp_path / "a.wav", tmp_path / "b.wav").exit_code == 0
    said = run("null", tmp_path / "a.wav", tmp_path / "c.wav")
    assert said.exit_code == 3 and "−6 dBFS at most, at sample 1000" in said.output
    figures = json.loads(run("null", tmp_path / "a.wav", tmp_path / "c.wav", "--json").output)
    assert figures["peak_db"] == pytest.approx(-6.02, abs=0.01)
    assert "cannot be compared" in run("null", tmp_path / "a.wav", tmp_path / "mono.wav").output
    assert "cannot be read" in run("null", tmp_path / "a.wav", tmp_path / "no.wav").output


def test_what_is_left_is_a_sound_to_listen_to(tmp_path):
    one, other = tmp_path / "a.wav", tmp_path / "b.wav"
    short = noise()[:-2000] * np.float32(0.5)
    one.write_bytes(wave(noise()))
    other.write_bytes(wave(short))
    left, stale = tmp_path / "left.wav", tmp_path / ".left.wav.abcdefgh"
    stale.touch()
    os.utime(stale, (0, 0))
    said = run("null", one, other, "--residual", left)
    assert said.exit_code == 3 and str(left) in said.output
    assert not stale.exists(), "what a killed program left of this file stays for ever"
    assert np.allclose(soundfile.read(left)[0][:-2000], noise()[:-2000] * 0.5, atol=1e-7)
    assert np.allclose(soundfile.read(left)[0][-2000:], noise()[-2000:], atol=1e-7)
    figures = json.loads(run("null", one, other, "--json").output)
    expected = noise().astype(float)
    expected[:-2000] *= 0.5
    off = abs(expected).max(axis=1)
    assert figures["rms_db"] == pytest.approx(20 * np.log10(np.sqrt(np.mean(off**2))), abs=0.01)
    assert figures["sample"] == off.argmax() and figures["samples"] == len(off)
    before = one.read_bytes()
    assert "left as it is" in run("null", one, other, "--residual", one).output and one.read_bytes() == before
    assert "was not written" in run("null", one, other, "--residual", tmp_path / "none" / "left.wav").output


def test_files_that_cannot_be_compared_are_told(tmp_path):
    one, faster, broken = tmp_path / "a.wav", tmp_path / "b.wav", tmp_path / "c.wav"
    one.write_bytes(wave(noise()))
    soundfile.write(faster, noise(), 96000, "FLOAT")
    wrong = noise()
    wrong[1234, 0] = np.nan
    soundfile.write(broken, wrong, 48000, "FLOAT")
    left = tmp_path / "left.wav"
    assert "96000" in run("null", one, faster).output
    said = run("null", one, broken, "--residual", left)
    assert said.exit_code == 1 and "no number at sample 1234" in said.output and not left.exists()


def test_a_session_made_of_audio_files_is_carried_out_beside_them(tmp_path, monkeypatch):
    monkeypatch.setattr("nimbleload.probe.catalogue.catalogue", lambda *_, **__: [])
    monkeypatch.chdir(tmp_path)
    rng = np.random.default_rng(1)
    sounds = {name: rng.uniform(-0.5, 0.5, (48000, 2)).astype(np.float32) for name in ("Kick", "Bass")}
    (tmp_path / "stems").mkdir()
    for name, sound in sounds.items():
        soundfile.write(f"stems/{name}.wav", sound, 48000, subtype="FLOAT")
    before = {path: path.read_bytes() for path in (tmp_path / "stems").iterdir()}
    assert run("add", "a.nimbleload", "stems").exit_code == 0
    edits = "shift Bass 2", "add track Pad", "insert Pad Pipework", "clip Pad 0 2 3"
    assert run("edit", "a.nimbleload", *edits).exit_code == 0
    made = session_file.read(tmp_path / "a.nimbleload")
    ids = {strip.name: strip.id for strip in made.session.strips}
    plan = Plan(tuple(Decision("freeze", ids[name]) for name in ("Kick", "Bass", "Pad")))
    session_file.write(tmp_path / "a.nimbleload", Saved(made.session, plan))
    said = run("carry-out", "a.nimbleload")
    assert said.exit_code == 0, said.output
    assert "Pad: not rendered: this session knows how much it plays, not what" in said.output
    assert "Both tracks are rendered." in said.output
    # To the sample: what the files hold, the second one where it was moved to.
    (bass,), (kick,) = ((tmp_path / "a carried out").glob(f"{name} *.wav") for name in ("Bass", "Kick"))
    assert np.array_equal(soundfile.read(kick, dtype="float32")[0][:48000], sounds["Kick"])
    moved = soundfile.read(bass, dtype="float32")[0]
    assert not moved[:96000].any() and np.array_equal(moved[96000:144000], sounds["Bass"])
    (changed,) = tmp_path.glob("a 20*.dawproject")
    back = dawproject.read(changed)
    assert {strip.name for strip in back.session.strips} == {"Kick", "Bass", "Pad", "Main"}
    assert {path: path.read_bytes() for path in (tmp_path / "stems").iterdir()} == before


def test_what_a_midi_file_plays_is_rendered_note_for_note(tmp_path, monkeypatch):
    """Against the same notes written into an exchange file by hand."""
    monkeypatch.setattr("nimbleload.probe.catalogue.catalogue", lambda *_, **__: [])
    monkeypatch.chdir(tmp_path)
    notes = [(60, 0, 480), (64, 240, 720), (67, 960, 1440)]  # at 120: half a second is 480 ticks
    events = [each for key, start, end in notes for each in note(key, start, end)]
    midi_file(tmp_path / "tune.mid", events)
    assert run("add", "a.nimbleload", "tune.mid").exit_code == 0
    edits = "insert 'Track 1' Pipework", "set 'Track 1/1' voices=4", "shift 'Track 1' 1"
    assert run("edit", "a.nimbleload", *edits).exit_code == 0
    made = session_file.read(tmp_path / "a.nimbleload")
    frozen = Plan((Decision("freeze", made.session.strips[0].id),))
    session_file.write(tmp_path / "a.nimbleload", Saved(made.session, frozen))
    said = run("carry-out", "a.nimbleload", "--no-proof")
    assert said.exit_code == 0 and "The track is rendered." in said.output, said.output
    (rendered,) = (tmp_path / "a carried out").glob("*.wav")
    inside = "".join(
        f'<Note time="{1 + start / 960}" duration="{(end - start) / 960}" key="{key}" vel="{80 / 127}"/>'
        for key, start, end in notes
    )
    pipes = (
        '<BuiltinDevice deviceID="house.pipework" deviceName="Pipework" deviceRole="instrument" pluginVersion="1">'
        '<Parameters><RealParameter parameterID="voices" value="4"/></Parameters></BuiltinDevice>'
    )
    by_hand = stems.written(
        tmp_path / "hand.dawproject", x.clip(0, 4, f"<Notes>{inside}</Notes>", contentTimeUnit="seconds"), pipes
    )
    session_file.write(
        tmp_path / "hand.nimbleload", Saved(dawproject.read(by_hand).session, Plan((Decision("freeze", "t"),)))
    )
    assert run("carry-out", "hand.nimbleload", "--no-proof").exit_code == 0
    (expected,) = (tmp_path / "hand carried out").glob("*.wav")
    one, other = (soundfile.read(path, dtype="float32")[0] for path in (rendered, expected))
    length = min(len(one), len(other))
    assert np.abs(other).max() > 0.01
    assert np.abs(one[:length] - other[:length]).max() < 1e-5
    # A file that has gone since is a sentence, not other notes.
    (tmp_path / "tune.mid").unlink()
    again = run("carry-out", "a.nimbleload", "--no-proof")
    assert again.exit_code == 1 and "no audio files" in again.output


def test_what_was_made_here_lies_beside_the_session_and_not_among_its_audio(tmp_path):
    """Else the folder of stems would hold them when it is added once more."""
    (tmp_path / "stems").mkdir()
    soundfile.write(tmp_path / "stems" / "Voice.wav", np.random.default_rng(0).uniform(-0.5, 0.5, 48000), 48000)
    path = tmp_path / "mix.nimbleload"
    run("new", path)
    assert run("add", path, tmp_path / "stems").exit_code == 0
    assert run("edit", path, "insert Voice tar").exit_code == 0
    of = session_file.read(path)
    voice = next(strip for strip in of.session.strips if strip.name == "Voice")
    session_file.write(path, msgspec.structs.replace(of, plan=Plan((Decision("freeze", voice.id),))))
    said = run("carry-out", path, "--no-proof")
    assert said.exit_code == 0, said.output
    assert run("stems", path, "--no-proof").exit_code == 0
    assert [each.name for each in (tmp_path / "stems").iterdir()] == ["Voice.wav"]
    made = {each.name for each in tmp_path.iterdir()} - {"stems", "mix.nimbleload", "mix.nimbleload.bak"}
    assert {"mix carried out", "mix stems"} < made and len(made) == 3


def test_a_plan_that_was_carried_out_is_rehearsed_from_its_files(tmp_path):
    source = stems.written(tmp_path / "mix.dawproject", x.clip(0, 2, audio()), SHORELINE)
    saved = tmp_path / "mix.nimbleload"
    session_file.write(saved, Saved(dawproject.read(source).session, Plan((Decision("freeze", "t"),))))

    def streamed(*words):
        said = run("rehearse", saved, "--seconds", 0.5, "--cores", 1, "--at", "0:01", "--json", *words)
        assert said.exit_code == 0, said.output
        return json.loads(said.stdout)["rehearsal"]["streamed"]

    assert streamed()["without"] == ["t"] and streamed()["tracks"] == []
    assert run("carry-out", saved, "--to", tmp_path / "there").exit_code == 0
    assert streamed()["tracks"] == []
    found = streamed("--rendered", tmp_path / "there")
    assert (found["tracks"], found["without"]) == (["t"], []) and found["rate"] > 0
    said = run("rehearse", saved, "--seconds", 0.5, "--cores", 1, "--at", "0:01", "--rendered", tmp_path / "there")
    assert "1 rendered track was played from its file, as a host does" in said.output
