"""What listens to another strip is rendered with what that gives: to the sample against products made by hand."""

from __future__ import annotations

import time

import msgspec
import numpy as np
import pytest
import soundfile

from nimbleload.core.decisions.bounce import group_of
from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.session.chain_edits import listen
from nimbleload.core.session.plugins import PluginRef, PluginUse
from nimbleload.deliver import render
from nimbleload.store import audio as audio_files
from nimbleload.store import dawproject
from tests.helpers import exchange as x
from tests.helpers import known
from tests.helpers.stems import RATE, audio, noise, wave

KNOWN = x.plugin("ClapPlugin", known.IDENTIFIERS["clap"], "Known")
HALF = '<Volume unit="linear" value="0.5"/>'
FILES = {
    "audio/kick.wav": wave(noise(3.0, seed=1)), "audio/bass.wav": wave(noise(2.0, seed=2)),
    "audio/snare.wav": wave(noise(1.0, seed=3)),
}  # fmt: skip
FREEZE, BOUNCE = Plan((Decision("freeze", "bass"),)), Plan((Decision("bounce", "b"),))


@pytest.fixture(autouse=True)
def plugin(own_catalogue, tmp_path, monkeypatch):
    """It gives its input times what its side-chain hears, 77 samples late; it is mono."""
    return known.installed(tmp_path / "plugin", "clap", monkeypatch, "KEYED")


def track(name, devices="", to="master", extra=""):
    return x.track(name, name.title(), x.channel(f"c-{name}", destination=f"c-{to}" if to != "master" else to,
                                                 devices=devices, extra=extra))  # fmt: skip


def mix(
    path, kick="", kick_devices="", kick_to="master", bass_devices=KNOWN, bass_to="master", more="", at=0.0, length=3.0
):  # fmt: skip
    """The kick for three seconds from the start, the bass for two from `at` on, and the snare for one from 1 on."""
    bus = x.track("b", "Band", x.channel("c-b", "submix"))
    structure = track("kick", kick_devices, kick_to, kick) + track("bass", bass_devices, bass_to) + bus + more
    lanes = "".join(
        x.lanes(name, x.clip(begin, length, audio(f"audio/{name}.wav", length)), unit="seconds")
        for name, begin, length in (("kick", 0, length), ("bass", at, 2.0), ("snare", 1, 1.0))
        if name != "snare" or "snare" in more
    )
    return x.write(path, x.project(structure + x.main_track(), lanes), FILES)


def opened(path, *heard, listener="bass"):
    """What is read, with the plugins of a track listening to others in turn."""
    found = dawproject.read(path)
    session = found.session
    for use, strip in zip(session.strip(listener).inserts, heard, strict=True):
        session = listen(session, [use.id], strip) if strip else session
    return msgspec.structs.replace(session), found.audio


def job_of(of, plan=FREEZE, buffer=512):
    (job,) = render.jobs(of[0], plan, of[1], buffer)
    return job


def made(path, of, folder, plan=FREEZE):
    job = job_of(of, plan)
    assert render.obstacles(job) == []
    *_, last = render.carry_out(job, path, folder)
    assert last.trouble == "", last.trouble
    return last.rendered, soundfile.read(folder / last.rendered.file, dtype="float32", always_2d=True)[0]


def left(sound):
    """What a mono plugin hears of a sound, as long as the piece."""
    found = np.zeros(4 * RATE, np.float32)
    found[: len(sound)] = sound[:, 0]
    return found


def later(sound, seconds):
    return np.concatenate((np.zeros((round(seconds * RATE), 2), np.float32), sound))


def same(sound, wanted):
    count = min(len(sound), len(wanted))
    assert np.allclose(sound[:count, 0], wanted[:count], atol=1e-7)
    assert not wanted[count:].any() and not sound[count:].any()
    assert np.abs(wanted).max() > 1e-3


BASS, KICK, SNARE = noise(2.0, seed=2), noise(3.0, seed=1), noise(1.0, seed=3)


def test_a_frozen_track_heard_what_it_listens_to(tmp_path):
    path = mix(tmp_path / "a.dawproject", at=0.5)
    rendered, sound = made(path, opened(path, "kick"), tmp_path / "out")
    same(sound, left(later(BASS, 0.5)) * left(KICK))
    assert rendered.proof.verdict == "same" and rendered.latency == 77


def test_it_is_heard_however_late_its_file_is_there(tmp_path, monkeypatch):
    """The plugin is loaded while the sound is still written: of a long piece that takes longer."""
    path, mixed = mix(tmp_path / "a.dawproject"), audio_files.mixed

    def late(*arguments):
        time.sleep(1.5)
        return mixed(*arguments)

    monkeypatch.setattr(audio_files, "mixed", late)
    _, sound = made(path, opened(path, "kick"), tmp_path / "out")
    same(sound, left(BASS) * left(KICK))


def test_where_nothing_was_led_to_it_it_hears_nothing(tmp_path):
    path = mix(tmp_path / "a.dawproject")
    _, sound = made(path, opened(path, None), tmp_path / "out")
    assert not sound.any()


def test_the_fader_of_what_it_listens_to_counts(tmp_path):
    path = mix(tmp_path / "a.dawproject", kick=HALF)
    _, sound = made(path, opened(path, "kick"), tmp_path / "out")
    same(sound, left(BASS) * left(KICK) / 2)


def test_a_side_chain_comes_as_late_as_the_sound_that_it_is_for(tmp_path):
    """The second plugin gets its sound 77 samples late, and so what it listens to; the kick has come late, too."""
    path = mix(tmp_path / "a.dawproject", bass_devices=KNOWN * 2, more=track("snare"))
    _, sound = made(path, opened(path, "kick", "snare"), tmp_path / "out")
    same(sound, left(BASS) * left(KICK) * left(later(SNARE, 1.0)))


def test_who_listens_may_be_listened_to(tmp_path):
    path = mix(tmp_path / "a.dawproject", kick_devices=KNOWN, more=track("snare"))
    session, audio_of = opened(path, "kick")
    kick = "kick"
    (use,) = session.strip(kick).inserts
    of = listen(session, [use.id], "snare"), audio_of
    assert [stage.strip.id for stage in job_of(of).before] == ["snare", "kick"]
    _, sound = made(path, of, tmp_path / "out")
    same(sound, left(BASS) * left(KICK) * left(later(SNARE, 1.0)))


def test_a_bus_that_is_listened_to_gives_the_sum_of_what_feeds_it(tmp_path):
    path = mix(tmp_path / "a.dawproject", kick_to="b", more=track("snare", to="b"))
    of = opened(path, "b")
    assert [stage.strip.id for stage in job_of(of).before] == ["kick", "snare", "b"]
    _, sound = made(path, of, tmp_path / "out")
    same(sound, left(BASS) * (left(KICK) + left(later(SNARE, 1.0))))


def test_while_a_tail_rings_it_goes_on_hearing(tmp_path, monkeypatch):
    """The hall rings on when the bass has ended, and the kick is still to be heard."""
    kick = noise(12.0)
    monkeypatch.setitem(globals(), "FILES", FILES | {"audio/kick.wav": wave(kick)})
    path = mix(tmp_path / "a.dawproject", length=12.0)
    (session, audio_of), hall = opened(path, "kick"), PluginUse("hall", PluginRef("house", "house.vault"))
    name = "bass"
    bass = session.strip(name)
    sounds = []
    for inserts in ((hall,), (hall, *bass.inserts)):
        strip = msgspec.structs.replace(bass, inserts=inserts)
        strips = tuple(strip if each.id == "bass" else each for each in session.strips)
        of = msgspec.structs.replace(session, strips=strips), audio_of
        sounds.append(made(path, of, tmp_path / "out")[1][: 11 * RATE])
    ringing, gated = sounds
    count = min(len(ringing), len(gated))
    assert count > 3 * RATE and np.abs(gated[int(2.5 * RATE) : 3 * RATE]).max() > 1e-4
    assert np.allclose(gated[:count, 0], ringing[:count, 0] * kick[:count, 0], atol=1e-6)


def test_a_file_is_no_longer_than_what_the_track_plays_and_its_tail(tmp_path, monkeypatch):
    files = FILES | {"audio/kick.wav": wave(noise(12.0))}
    monkeypatch.setitem(globals(), "FILES", files)
    path = mix(tmp_path / "a.dawproject", length=12.0)
    alone, _ = made(path, opened(path, None), tmp_path / "out")
    rendered, _ = made(path, opened(path, "kick"), tmp_path / "out")
    assert rendered.seconds == alone.seconds < 6


class TestBus:
    def test_who_is_only_listened_to_is_not_printed_with_it(self, tmp_path):
        path = mix(tmp_path / "a.dawproject", bass_to="b")
        of = opened(path, "kick")
        assert group_of(of[0], "b") == (["bass"], None)
        _, sound = made(path, of, tmp_path / "out", BOUNCE)
        same(sound, left(BASS) * left(KICK))

    def test_a_member_that_is_listened_to_is_in_both(self, tmp_path):
        path = mix(tmp_path / "a.dawproject", bass_to="b", kick_to="b")
        _, sound = made(path, opened(path, "kick"), tmp_path / "out", BOUNCE)
        same(sound, left(BASS) * left(KICK) + left(KICK))

    def test_who_listens_to_a_member_from_outside_would_lose_it(self, tmp_path):
        path = mix(tmp_path / "a.dawproject", kick_to="b")
        _, reason = group_of(opened(path, "kick")[0], "b")
        assert reason == "Bass listens to Kick and would lose it."


@pytest.mark.parametrize(("kick", "reason"), [
    ('<Mute value="true"/>', "Kick: a side-chain hears it though it is muted: hosts differ in whether that is so"),
    ('<Pan unit="normalized" value="0.3"/>', "Kick: it is panned, and hosts pan by different laws"),
])  # fmt: skip
def test_what_hosts_hear_in_different_ways_is_refused(kick, reason, tmp_path):
    path = mix(tmp_path / "a.dawproject", kick=kick)
    (said,) = render.obstacles(job_of(opened(path, "kick")))
    assert said.startswith(reason)


def test_a_side_chain_that_would_hear_a_panned_strip_is_refused_though_the_law_is_known(tmp_path):
    path = mix(tmp_path / "a.dawproject", kick='<Pan unit="normalized" value="0.3"/>')
    session, audio_of = opened(path, "kick")
    host = msgspec.structs.replace(session.host, pan_law="-3")
    (said,) = render.obstacles(job_of((msgspec.structs.replace(session, host=host), audio_of)))
    assert said == "Kick: hosts differ in whether a side-chain hears it panned"


def test_a_strip_that_is_off_is_not_heard(tmp_path):
    path = mix(tmp_path / "a.dawproject")
    session, audio_of = opened(path, "kick")
    kick = "kick"
    off = msgspec.structs.replace(session.strip(kick), enabled=False)
    strips = tuple(off if strip.id == kick else strip for strip in session.strips)
    _, sound = made(path, (msgspec.structs.replace(session, strips=strips), audio_of), tmp_path / "out")
    assert not sound.any()


def test_a_file_is_made_anew_when_what_it_listens_to_has_changed(tmp_path):
    path = mix(tmp_path / "a.dawproject")
    first, _ = made(path, opened(path, "kick"), tmp_path / "out")
    path = mix(tmp_path / "a.dawproject", kick=HALF)
    second, sound = made(path, opened(path, "kick"), tmp_path / "out")
    assert first.made_of != second.made_of
    same(sound, left(BASS) * left(KICK) / 2)
