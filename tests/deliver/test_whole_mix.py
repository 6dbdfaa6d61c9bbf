"""The mix before and after: against sums made by hand, and for plans of all kinds on mixes by chance."""

from __future__ import annotations

import random
import zipfile

import msgspec
import numpy as np
import pytest
import soundfile

from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.session.strips import Strip
from nimbleload.core.told.carrying import mix_headline, mix_words
from nimbleload.deliver import carrying, whole_mix
from nimbleload.deliver.against import Kept, merged
from nimbleload.deliver.asked import Asked
from nimbleload.deliver.carrying import MIX, NothingToDoError
from nimbleload.deliver.loudness import integrated
from nimbleload.store import dawproject
from tests.deliver.test_sharing import EQ
from tests.deliver.test_stems import FILES, a_mix, by_hand, plays, strip, volume
from tests.helpers import exchange as x
from tests.helpers import known, mixes, stems
from tests.helpers.often import often
from tests.helpers.stems import RATE, audio, noise

WARP = '<Warp time="0" contentTime="0"/><Warp time="2" contentTime="1"/>'
STRETCHED = f'<Warps contentTimeUnit="seconds">{audio()}{WARP}</Warps>'
TAR = EQ.replace("shoreline", "tar")
FADES = '<BuiltinDevice deviceID="house.mist" deviceName="Mist" deviceRole="audioFX"><Parameters/></BuiltinDevice>'


def side(path, buffer=512):
    return whole_mix.side(dawproject.read(path).session, buffer)


def heard(folder):
    return [folder / "heard" / name for name in ("was.wav", "is.wav")]


def proof(one, other, residual=None):
    *_, last = whole_mix.prove(side(one), side(other), Kept(residual))
    assert last.trouble == "", last.trouble
    return last.compared


def written_with(path, plan, cards=None):
    """The file that a plan is written to, and the session."""
    session = dawproject.read(path).session
    assert carrying.prepare(session, plan, 512).refused == []
    return mixes.carried_out(path, session, plan, cards or {})[0], session


def proven(path, plan, cards=None):
    """What the mix that a plan was written to is against the one before."""
    target, session = written_with(path, plan, cards)
    *_, last = whole_mix.prove_written(session, 512, None, target, path.parent / "left")
    assert last.trouble == "", last.trouble
    return last.compared


def test_what_is_left_is_what_another_fader_makes_of_it(tmp_path):
    one = a_mix(tmp_path / "a.dawproject")
    # The fader of “Solo” stands at 0.3 in one, at 0.2 in the other; that of the main output at 0.7.
    structure = dawproject_with(one, '<Volume unit="linear" value="0.3"/>', '<Volume unit="linear" value="0.2"/>')
    found = proof(one, structure, tmp_path / "left.wav")
    left, _ = soundfile.read(tmp_path / "left.wav", dtype="float32", always_2d=True)
    wanted = 0.7 * 0.1 / 0.3 * by_hand()["solo"]
    assert plays(left, wanted)
    assert found.verdict == "different" and found.residual == "left.wav"
    assert found.peak_db == pytest.approx(20 * np.log10(np.abs(wanted).max()), abs=0.01)
    assert found.at == pytest.approx(np.abs(wanted).max(axis=1).argmax() / RATE, abs=1 / RATE)
    # The other way round it is the same with the other sign.
    proof(structure, one, tmp_path / "back.wav")
    back, _ = soundfile.read(tmp_path / "back.wav", dtype="float32", always_2d=True)
    assert np.array_equal(back, -left)


def dawproject_with(path, old, new):
    """The same exchange file with one piece of it replaced."""
    xml = dawproject_text(path)
    assert xml.count(old) == 1
    return x.write(path.with_name("b.dawproject"), xml.replace(old, new), FILES)


def dawproject_text(path):
    with zipfile.ZipFile(path) as archive:
        return archive.read("project.xml").decode()


def test_only_what_differs_is_rendered_twice(tmp_path):
    one = a_mix(tmp_path / "a.dawproject")
    other = dawproject_with(one, 'value="0.8"', 'value="0.9"')
    job, differ = merged(side(one).job, side(other).job, MIX, lambda _: True)
    # The fader of “Two” is on the way to the band, and that on the way to the main output.
    assert differ == {"band": 0, "tm": 0}
    ids = [stage.strip.id for stage in job.before]
    assert sorted(ids) == sorted(["one", "two", "solo", "band", "echo", "tm", "after/band", "after/tm"])
    # Each feeds both main outputs, or both bands, as it does in its own mix.
    fed = {stage.strip.id: {feed.target for feed in stage.feeds} for stage in job.before}
    assert fed["solo"] == {"tm", "after/tm"} and fed["two"] == {"band", "after/band"}
    assert fed["one"] == {"band", "after/band", "echo"} and fed["echo"] == {"tm", "after/tm"}
    main = [feed for stage in job.before if stage.strip.id.endswith("tm") for feed in stage.feeds]
    # Each comes together by itself, too, to be listened to.
    assert [(feed.target, feed.gain) for feed in main] == [
        (MIX.id, 0.7), ("heard/before", 0.7), (MIX.id, -0.7), ("heard/after", 0.7),
    ]  # fmt: skip
    # What plays another audio is another strip, and so is all that it feeds.
    _, differ = merged(side(one).job, side(one).job, MIX, lambda of: [each.start for each in of.parts] != [2.0])
    assert differ == {"solo": 0, "tm": 0}


def test_a_chain_is_rendered_once_as_far_as_it_is_the_same(tmp_path):
    path = stems.written(tmp_path / "a.dawproject", x.clip(0, 2, audio()), EQ + TAR + TAR + EQ)
    session = dawproject.read(path).session
    third = session.strip("t").inserts[2]
    target, _ = written_with(path, Plan((Decision("off", "t", use=third.id),)))
    before, after = side(path).job, whole_mix.changed(target, session.host, 512).job
    job, differ = merged(before, after, MIX, lambda _: True)
    stages = {stage.strip.id: stage for stage in job.before}
    assert list(stages) == ["both/t", "t", "after/t", "u", "tm", "after/tm"] and differ == {"t": 2, "tm": 0}
    assert [[use.plugin.identifier for use in stages[each].uses] for each in ("both/t", "t", "after/t")] == [
        ["house.shoreline", "house.tar"], ["house.tar", "house.shoreline"], ["house.shoreline"],
    ]  # fmt: skip
    assert {feed.target for feed in stages["both/t"].feeds} == {"t", "after/t"}
    # What it plays is played once; to be told from itself it is not kept together any further.
    assert stages["both/t"].sounding.parts and not stages["t"].sounding.parts and not stages["after/t"].sounding.parts
    again, _ = merged(before, before, MIX, lambda _: True, differ)
    assert [len(stage.uses) for stage in again.before] == [2, 2, 2, 0, 0, 0]


@pytest.mark.parametrize("seed", [8, 3, 14][: often(1)])
def test_what_is_left_is_the_difference_of_both_mixes_rendered_by_themselves(tmp_path, seed):
    rng = random.Random(seed)
    path = mixes.written(rng, tmp_path / "a.dawproject", linear=False)
    session = dawproject.read(path).session
    strips = [strip for strip in session.strips if strip.inserts and rng.random() < 0.6]
    off = [Decision("off", strip.id, use=rng.choice(strip.inserts).id) for strip in strips]
    assert off
    target, _ = written_with(path, Plan(tuple(off)))
    sound = {}
    for name, of in (("before", session), ("after", dawproject.read(target).session)):
        prepared = carrying.prepare(of, Plan(), 512, ["tm"])
        *_, last = carrying.run(prepared, tmp_path / name, prove=False)
        sound[name], _ = soundfile.read(tmp_path / name / last.rendered.file, dtype="float64", always_2d=True)
    long = max(map(len, sound.values()))
    one, other = (np.pad(each, ((0, long - len(each)), (0, 0))) for each in sound.values())
    left = tmp_path / "left.wav"
    *_, last = whole_mix.prove(whole_mix.side(session, 512), whole_mix.changed(target, session.host, 512), Kept(left))
    found = last.compared
    if np.abs(one - other).max() < 1e-5:
        assert found.verdict in ("same", "rounded")
        return
    heard, _ = soundfile.read(left, dtype="float64", always_2d=True)
    heard = np.pad(heard, ((0, max(long - len(heard), 0)), (0, 0)))
    assert np.abs(heard[:long] - (one - other)).max() < 1e-5 and found.verdict == "different"


def test_equal_names_of_other_audio_are_not_the_same(tmp_path):
    one = a_mix(tmp_path / "a.dawproject")
    other = x.write(tmp_path / "b.dawproject", dawproject_text(one), FILES | {"audio/c.wav": FILES["audio/a.wav"]})
    assert proof(one, other).verdict == "different"
    assert proof(one, one).peak_db == -200.0
    missing = x.write(tmp_path / "c.dawproject", dawproject_text(one), {k: v for k, v in FILES.items() if "b" not in k})
    *_, last = whole_mix.prove(side(one), side(missing))
    assert "audio/b.wav is missing in c.dawproject" in last.trouble


# Every kind of plan is among them: freezes, bounces of tracks, stretches and buses, suspensions, a shared plugin.
@pytest.mark.parametrize("seed", [12, 26, 28, 49][: often(2)])
def test_what_keeps_the_sound_keeps_that_of_the_mix(tmp_path, seed):
    rng = random.Random(seed)
    path = mixes.written(rng, tmp_path / "a.dawproject", linear=seed % 2 == 0)
    session = dawproject.read(path).session
    plan = mixes.shared(rng, session) if seed == 26 else mixes.planned(rng, session)
    found = proven(path, plan, mixes.cards(session))
    assert found.verdict in ("same", "rounded") and found.residual == ""


def test_a_track_that_is_switched_off_while_it_rings_is_heard(tmp_path):
    other = x.lanes("u", x.clip(0, 9, audio()), unit="seconds")
    path = stems.written(tmp_path / "a.dawproject", x.clip(0, 1, audio()), FADES, more=other)
    session = dawproject.read(path).session
    plan = Plan((Decision("suspend", "t"),))
    # Without a word of how long it rings it is switched off where its clip ends; with it, where it is silent.
    found = proven(path, plan)
    assert found.verdict == "different" and 0.9 < found.at < 4.0
    assert proven(path, plan, {use.card_key(): rings(use) for use in session.strip("t").inserts}).verdict == "same"


@pytest.mark.parametrize("kind", ["freeze", "bounce"])
def test_what_a_rendered_track_feeds_rests_while_nothing_is_heard_in_its_file(tmp_path, kind):
    structure = (
        strip("one", "cm", 0.5, sends=x.send("c-echo"), devices=FADES) + strip("two", "cm", 0.8)
        + strip("echo", "cm", 0.9, "effect", devices=FADES) + x.main_track()
    )  # fmt: skip
    lanes = x.lanes("one", x.clip(3, 1, audio()), x.clip(24, 2, audio()), unit="seconds")
    lanes += x.lanes("two", x.clip(0, 24, audio()), x.clip(24, 24, audio()), unit="seconds")
    path = x.write(tmp_path / "a.dawproject", x.project(structure, lanes), {"audio/a.wav": stems.wave(noise(30.0))})
    session = dawproject.read(path).session
    cards = {use.card_key(): rings(use) for use in session.strip("echo").inserts}
    plan = Plan((Decision(kind, "one"), Decision("suspend", "echo")))
    assert proven(path, plan, cards).verdict == "same"
    found = dawproject.read(path.with_name("after.dawproject"))
    one, two = found.session.strip("one").clips
    assert (one.start, two.start) == pytest.approx((3, 24), abs=0.01)
    # Its plugin rings for longer than its card says.
    assert 5 < one.end < 12 and 27 < two.end < 33
    assert found.session.strip("echo").suspended and "switched on and off" not in " ".join(found.report.left_out)
    awake = found.audio["echo"].awake
    awakes = [awake.value_at(second) for second in (1, 2.96, one.end + 5.9, one.end + 6.1, 23.9, 24, two.end + 5.9)]
    assert awakes == [0, 1, 1, 0, 0, 1, 1]


def rings(use):
    return mixes.card(use, 0.001, tail=6.0)


def test_what_never_sounds_the_same_is_heard_only_where_it_was_changed(tmp_path, monkeypatch):
    built = known.installed(tmp_path / "plugin", "clap", monkeypatch, "HISSES")
    assert built is not None
    hisses = x.plugin("ClapPlugin", known.IDENTIFIERS["clap"], "Known")
    path = stems.written(tmp_path / "a.dawproject", x.clip(0, 1, audio()), hisses,
                         more=x.lanes("u", x.clip(0, 1, audio()), unit="seconds"))  # fmt: skip
    # It is rendered once for both.
    assert proven(path, Plan((Decision("bounce", "u"),))).verdict == "same"
    found = proven(path, Plan((Decision("freeze", "t"),)))
    assert found.verdict == "random" and -40 < found.peak_db < -33
    # Far louder than its own randomness: its fader.
    louder = stems.written(tmp_path / "b.dawproject", x.clip(0, 1, audio()), hisses)
    assert proof(path, louder).verdict == "different"


def test_what_hosts_do_in_their_own_ways_is_taken_alike_in_both(tmp_path):
    pan = '<Pan unit="normalized" min="0" max="1" value="0.1"/>'
    one = dawproject_with(a_mix(tmp_path / "a.dawproject"), volume(0.5), volume(0.5) + pan)
    other = x.write(tmp_path / "c.dawproject", dawproject_text(one).replace('value="0.3"', 'value="0.2"'), FILES)
    # The stem of the main output would be refused.
    assert "hosts pan" in carrying.prepare(dawproject.read(one).session, Plan(), 512, ["tm"]).refused[0][1]
    found = proof(one, other)
    assert found.alike and found.verdict == "different"
    assert found.peak_db == pytest.approx(20 * np.log10(np.abs(0.07 * by_hand()["solo"] / 0.3).max()), abs=0.01)
    assert "were taken alike in both" in mix_words("same", -200.0, 0.0, True)
    assert not proof(a_mix(tmp_path / "d.dawproject"), a_mix(tmp_path / "e.dawproject")).alike


def test_why_a_mix_cannot_be_compared_is_said(tmp_path):
    path = stems.written(tmp_path / "a.dawproject", x.clip(0, 2, STRETCHED))
    with pytest.raises(NothingToDoError, match="The mix of a cannot be rendered: Voice: 1 of its clips are stretched"):
        side(path)


def test_of_what_was_written_it_is_said_in_its_last_step(tmp_path):
    one, other = a_mix(tmp_path / "a.dawproject"), tmp_path / "b.dawproject"
    x.write(other, dawproject_text(one).replace('path="audio/c.wav"', 'path="audio/gone.wav"'), FILES)
    session = dawproject.read(one).session
    *_, last = whole_mix.prove_written(session, 512, None, other, tmp_path)
    assert "audio/gone.wav is missing" in last.trouble and last.job.strip == whole_mix.MIX
    several = msgspec.structs.replace(session, strips=(*session.strips, Strip("second", "Second", "main")))
    *_, last = whole_mix.prove_written(several, 512, None, other, tmp_path)
    assert "has 2 main outputs" in last.trouble
    *_, last = whole_mix.prove_written(session, 512, None, tmp_path / "nowhere.dawproject", tmp_path)
    assert "nowhere.dawproject cannot be read" in last.trouble


def test_rates_that_differ_are_not_compared_and_stopping_leaves_nothing(tmp_path):
    one = a_mix(tmp_path / "a.dawproject")
    half = side(one)
    other = half._replace(job=whole_mix.replace(half.job, rate=44100))
    *_, last = whole_mix.prove(half, other)
    assert "48000 Hz, the other at 44100" in last.trouble
    louder = side(dawproject_with(one, 'value="0.8"', 'value="0.9"'))
    asked = Asked()
    asked.stop()
    *_, last = whole_mix.prove(half, louder, Kept(tmp_path / "left.wav", heard(tmp_path)), asked)
    assert "stopped" in last.trouble
    assert not (tmp_path / "left.wav").exists() and not list(tmp_path.glob("heard/*"))


def test_what_differs_can_be_heard_as_it_was_and_as_it_is(tmp_path):
    one = a_mix(tmp_path / "a.dawproject")
    other = dawproject_with(one, 'value="0.8"', 'value="0.9"')
    *_, last = whole_mix.prove(side(one), side(other), Kept(sides=heard(tmp_path)))
    before, after = (soundfile.read(tmp_path / "heard" / side.file, dtype="float32")[0] for side in last.compared.sides)
    was = 0.7 * by_hand()["all"]
    now = was.copy()
    now[RATE : 3 * RATE] += 0.7 * 0.6 * 0.1 * noise(seed=2)
    assert plays(before, was) and plays(after, now)
    for side_, sound in zip(last.compared.sides, (before, after), strict=True):
        assert side_.peak_db == pytest.approx(20 * np.log10(np.abs(sound).max()))
        assert side_.lufs == pytest.approx(integrated([sound], RATE))
    # Of what is the same there is nothing to choose between.
    *_, last = whole_mix.prove(side(one), side(one), Kept(sides=heard(tmp_path / "same")))
    assert last.compared.sides == () and not (tmp_path / "same").exists()


def test_in_words():
    assert mix_words("same", -200.0, 0.0) == "the mix sounds the same, to the sample"
    assert mix_words("rounded", -118.0, 0.0) == "the mix sounds the same but for rounding: −118 dBFS at most differ"
    assert mix_words("different", -42.2, 64.4) == "the mix sounds different: −42 dBFS at most differ, at 1:04.4"
    assert "no more than by that: −40 dBFS" in mix_words("random", -40.0, 1.0)
    assert len({mix_headline(each) for each in ("same", "random", "different")}) == 3
