"""Shared buses are proven with the session's own audio: exact where the plugin is linear, and told where it is not."""

from __future__ import annotations

import numpy as np
import pytest
import soundfile

from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.told.carrying import headline, sharing_words
from nimbleload.deliver import carrying
from nimbleload.deliver.against import merged
from nimbleload.deliver.proof import SAME_DB
from nimbleload.deliver.render import Step
from nimbleload.store import dawproject
from tests.helpers import exchange as x
from tests.helpers import known
from tests.helpers.stems import audio, noise, wave

EQ = '<BuiltinDevice deviceID="house.shoreline" deviceName="Eq" deviceRole="audioFX"><Parameters/></BuiltinDevice>'
SATURATOR = EQ.replace("shoreline", "tar")
REVERB = EQ.replace("shoreline", "vault")
HALF = '<Volume unit="linear" value="0.5"/>'


def mix(path, device, extras=("", HALF), parts=True):
    channels = [x.channel(f"c{k}", devices=device, extra=extra) for k, extra in enumerate(extras)]
    structure = "".join(x.track(f"t{k}", f"Voice {k}", each) for k, each in enumerate(channels)) + x.main_track()
    lanes = "".join(
        x.lanes(f"t{k}", x.clip(k, 2, audio(f"audio/{k}.wav")), unit="seconds") for k in range(len(extras)) if parts
    )
    files = {f"audio/{k}.wav": wave(noise(seed=k + 1)) for k in range(len(extras))}
    return x.write(path, x.project(structure, lanes), files)


def prepared(path):
    session = dawproject.read(path).session
    members = [strip for strip in session.strips if strip.inserts]
    plan = Plan(tuple(Decision("share", s.id, s.inserts[0].id, into="bus1") for s in members))
    return carrying.prepare(session, plan, 512)


def proof(path):
    of = prepared(path)
    (check,) = of.checks
    assert of.refused == [] and of.jobs == [] and of.is_written
    *_, last = carrying.run(of, path.parent / "out")
    assert last.trouble == "", last.trouble
    return check, last.compared


@pytest.mark.parametrize("device", [EQ, REVERB])
def test_a_linear_plugin_is_the_same_on_a_bus(tmp_path, device):
    check, found = proof(mix(tmp_path / "a.dawproject", device))
    assert [strip.id for strip in check.members] == ["t0", "t1"] and check.bus.id == "bus1"
    assert found.verdict in ("same", "rounded") and found.peak_db < -100 and found.residual == ""
    assert "sharing sounds the same" in sharing_words(found.verdict, found.peak_db, found.at)


def test_a_saturator_is_not_and_it_is_said_by_how_much(tmp_path):
    _, found = proof(mix(tmp_path / "a.dawproject", SATURATOR))
    assert found.verdict == "different" and found.peak_db > -60
    # What is left can be listened to, at its true level.
    left, _ = soundfile.read(tmp_path / "out" / found.residual, dtype="float32", always_2d=True)
    assert 20 * np.log10(np.abs(left).max()) == pytest.approx(found.peak_db, abs=0.01)
    # Where both sound: from the first second on.
    assert found.at >= 0.9
    assert "sharing changes the sound: −" in sharing_words(found.verdict, found.peak_db, found.at)


def test_a_fader_between_makes_a_saturator_sound_otherwise_even_alone_in_its_second(tmp_path):
    # One track only at half its level: behind the fader the saturator is driven less.
    _, found = proof(mix(tmp_path / "a.dawproject", SATURATOR, (HALF, HALF)))
    assert found.verdict == "different" and found.at < 2.9


def test_what_else_the_plan_does_to_its_tracks_is_not_taken_for_the_sharing(tmp_path):
    session = dawproject.read(mix(tmp_path / "a.dawproject", SATURATOR + EQ)).session
    members = [strip for strip in session.strips if strip.inserts]
    shared = [Decision("share", s.id, s.inserts[1].id, into="bus1") for s in members]
    plan = Plan((*shared, Decision("off", "t0", use=members[0].inserts[0].id)))
    *_, last = carrying.run(carrying.prepare(session, plan, 512), tmp_path / "out")
    assert last.compared.verdict in ("same", "rounded")


def test_chance_before_the_shared_plugin_is_no_difference_and_that_of_its_own_is_named(tmp_path, monkeypatch):
    assert known.installed(tmp_path / "plugin", "clap", monkeypatch, "HISSES") is not None
    hisses = x.plugin("ClapPlugin", known.IDENTIFIERS["clap"], "Known")
    session = dawproject.read(mix(tmp_path / "a.dawproject", hisses + EQ)).session
    plan = Plan(tuple(Decision("share", s.id, s.inserts[1].id, into="bus1") for s in session.strips if s.inserts))
    of = carrying.prepare(session, plan, 512)
    *_, last = carrying.run(of, tmp_path / "out")
    assert last.compared.verdict in ("same", "rounded")
    # What the tracks have in common is rendered once: five plugins for the seven of both ways.
    both, _ = merged(*of.checks[0].ways, of.checks[0].bus, lambda _: True)
    assert len(both.all_uses) == 5
    _, found = proof(mix(tmp_path / "b.dawproject", hisses))
    assert found.verdict == "random"
    words = sharing_words(found.verdict, found.peak_db, found.at)
    assert words.startswith("what is shared never sounds the same twice, and sharing changes no more than that: −")


def test_what_sharing_changes_can_be_heard_as_it_was_and_as_it_is(tmp_path):
    _, found = proof(mix(tmp_path / "a.dawproject", SATURATOR))
    before, after, left = (
        soundfile.read(tmp_path / "out" / file, dtype="float64", always_2d=True)[0]
        for file in (*(side.file for side in found.sides), found.residual)
    )
    assert np.abs(before - after - left[: len(before)]).max() < 1e-6
    assert [side.peak_db for side in found.sides] == [
        pytest.approx(20 * np.log10(np.abs(sound).max())) for sound in (before, after)
    ]


def test_muted_tracks_are_left_out(tmp_path):
    check, _ = proof(mix(tmp_path / "a.dawproject", EQ, ("", HALF, '<Mute value="true"/>')))
    assert [strip.id for strip in check.members] == ["t0", "t1"]


@pytest.mark.parametrize(
    ("extra", "parts", "words"),
    [('<Pan unit="normalized" min="0" max="1" value="0.2"/>', True, "panned"), ("", False, "no audio of it is known")],
)
def test_what_cannot_be_proven_says_why_and_is_written_all_the_same(tmp_path, extra, parts, words):
    of = prepared(mix(tmp_path / "a.dawproject", EQ, (extra, ""), parts))
    assert of.checks == [] and of.is_written
    ((name, reason),) = of.refused
    assert name.startswith("Shared") and words in reason and "is not proven" in reason


def test_a_plugin_that_is_not_installed_ends_the_proof_in_a_sentence(tmp_path):
    of = prepared(mix(tmp_path / "a.dawproject", x.plugin("ClapPlugin", "nobody.here", "Nobody")))
    *_, last = carrying.run(of, tmp_path / "out")
    assert "Nobody is" in last.trouble and last.compared is None


def test_what_hears_the_tracks_by_sends_that_leave_before_the_bus_is_named(tmp_path):
    sends = [x.send("cr", "post", level) for level in (0.25, 0.5)]
    channels = [x.channel(f"c{k}", devices=EQ, sends=each) for k, each in enumerate(sends)]
    structure = "".join(x.track(f"t{k}", f"Voice {k}", each) for k, each in enumerate(channels))
    structure += x.track("r", "Echo", x.channel("cr", "effect")) + x.main_track()
    lanes = "".join(x.lanes(f"t{k}", x.clip(k, 2, audio()), unit="seconds") for k in range(2))
    path = x.write(tmp_path / "a.dawproject", x.project(structure, lanes), {"audio/a.wav": wave(noise())})
    check, found = proof(path)
    assert found.verdict in ("same", "rounded") and check.without == ("Echo",)
    of = prepared(path)
    words = carrying.compared_words(of, Step(check.job, "compared", 1.0, compared=found))
    assert words.endswith("; but Echo will hear its tracks without it, by their sends")
    # Sends that the bus carries itself leave behind it as before.
    alike = mix(tmp_path / "b.dawproject", EQ, ("", HALF))
    assert prepared(alike).checks[0].without == ()


def test_without_a_proof_nothing_is_compared(tmp_path):
    of = prepared(mix(tmp_path / "a.dawproject", EQ))
    assert list(carrying.run(of, tmp_path / "out", prove=False)) == []


def test_a_plan_without_renders_can_be_written_at_once():
    assert headline(0, 0, 0, 0, True).endswith("the changed session can be written at once.")
    assert headline(0, 0, 0, 0) == "Nothing in the plan has to be rendered."
    assert sharing_words("same", -210.0, 0.0).endswith("to the sample") and SAME_DB == -120.0
