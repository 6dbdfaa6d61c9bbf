"""A stretch of a track that is printed by itself: to the sample what lay in it, with the rest what the track was."""

from __future__ import annotations

import random

import numpy as np
import pytest
import soundfile

from nimbleload.core.decisions.apply import apply
from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.deliver import carrying, exchange_out, render, stretch
from nimbleload.store import dawproject
from nimbleload.store.audio import Sources, mixed
from nimbleload.store.sounding import NotePart, Part, Sounding
from tests.helpers import exchange as x
from tests.helpers import stems
from tests.helpers.rogue import zam_library
from tests.helpers.stems import RATE, audio, noise
from tests.probe.test_plugin_window import library  # noqa: F401

GAIN = x.plugin("ClapPlugin", "good", "Good")
PIPES = (
    '<BuiltinDevice deviceID="house.pipework" deviceName="Pipework" deviceRole="instrument" pluginVersion="1">'
    '<Parameters><RealParameter parameterID="voices" value="16"/></Parameters></BuiltinDevice>'
)


def bounce(start, end):
    return Plan((Decision("bounce", "t", start=start, end=end),))


@pytest.fixture(autouse=True)
def _own_plugin(own_catalogue, monkeypatch, library):  # noqa: F811
    """A plugin that passes its sound through is installed (one that has a window, which is not opened here)."""
    monkeypatch.setenv("CLAP_PATH", str(library.parent))


def played(path, strip):
    """What a strip of an exchange file plays, before its plugins (n, 2)."""
    parts = dawproject.read(path).audio[strip].parts
    with Sources(path) as sources:
        made = list(mixed(sources, parts, RATE, round(8 * RATE)))
    return np.concatenate(made)


def carried(path, folder, plan):
    """Carries a plan out and writes the changed session; the files, by strip, and where it is."""
    session = dawproject.read(path).session
    prepared = carrying.prepare(session, plan, 512)
    assert prepared.refused == []
    ends = [step for step in carrying.run(prepared, folder) if step.rendered or step.trouble]
    assert not [step.trouble for step in ends if step.trouble]
    rendered = {step.rendered.strip: step.rendered for step in ends}
    target = path.with_name("b.dawproject")
    return rendered, exchange_out.write(target, path, session, plan, rendered, folder), target


CLIPS = {
    "one clip over both edges": x.clip(0, 2, audio()),
    "over the first only": x.clip(0.5, 1, audio(), playStart=0.25),
    "over the last only": x.clip(1.25, 1.5, audio(), playStart=0.1),
    "inside, and one outside": x.clip(1, 0.5, audio()) + x.clip(5, 1, audio()),
    "a loop": x.clip(0, 4, audio(), playStart=0.25, loopStart=0.1, loopEnd=0.7),
    "a clip of clips": x.clip(0.25, 3, f"<Clips>{x.clip(0, 1, audio())}{x.clip(1.5, 1, audio())}</Clips>"),
    "overlapping": x.clip(0, 2, audio()) + x.clip(0.75, 2, audio(), playStart=0.5),
    # As other programs write it, against the format: content beside a clip, and a lane in a lane.
    "sound without a clip": x.clip(0.5, 2, audio()) + audio() + f"</Clips><Lanes>{audio()}{audio()}</Lanes><Clips>",
    "with fades": x.clip(0, 2, audio(), fadeInTime=0.25, fadeOutTime=0.2),
}


@pytest.mark.parametrize("clips", CLIPS.values(), ids=CLIPS)
def test_what_is_written_plays_what_was_there_on_two_tracks(tmp_path, clips):
    path = stems.written(tmp_path / "a.dawproject", clips, GAIN, {"audio/a.wav": stems.wave(noise(channels=1))})
    before = played(path, "t")
    plan = bounce(0.8, 1.7)
    rendered, made, target = carried(path, tmp_path / "out", plan)
    stamp = stems.chunks(tmp_path / "out" / rendered["t"].file)["bext"][338:346]
    assert int.from_bytes(stamp, "little") == round(0.8 * RATE)
    assert rendered["t"].proof.verdict == "same" and made.by_hand == ()
    file, rate = soundfile.read(tmp_path / "out" / rendered["t"].file, dtype="float32", always_2d=True)
    first, last = round(0.8 * RATE), round(1.7 * RATE)
    assert rate == RATE and np.array_equal(file[: last - first], before[first:last])
    # The new session: the stretch is gone from the track, and lies on one of its own.
    left, new = played(target, "t"), played(target, "t/bounced")
    assert not left[first:last].any()
    assert np.array_equal(left[:first], before[:first]) and np.array_equal(left[last:], before[last:])
    assert np.allclose(left + new, before, atol=1e-7)


def test_what_was_written_reads_as_the_planned_session(tmp_path):
    sends = x.send("cu", level=0.25) + x.send("cu", kind="pre", level=0.5)
    extra = '<Mute value="false" id="m"/><Pan value="0.5" unit="normalized" id="p"/><Volume value="0.5" unit="linear"/>'
    structure = (
        x.track("t", "Voice", x.channel("c", devices=GAIN, destination="g", sends=sends, extra=extra))
        + x.track("tg", "Group", x.channel("g", "submix"))
        + x.track("u", "Other", x.channel("cu", "effect"))
        + x.main_track()
    )
    lanes = x.lanes("t", x.clip(0, 4, audio()), x.clip(6, 2, audio()), unit="beats")
    path = x.write(tmp_path / "a.dawproject", x.project(structure, lanes), {"audio/a.wav": stems.wave(noise())})
    session = dawproject.read(path).session
    plan = bounce(0.5, 1.5)
    _, _, target = carried(path, tmp_path / "out", plan)
    planned, found = apply(session, plan).session, dawproject.read(target).session
    assert {strip.id for strip in found.strips} == {strip.id for strip in planned.strips}
    for strip in planned.strips:
        other = found.strip(strip.id)
        assert [use.label for use in other.live_uses()] == [use.label for use in strip.live_uses()]
        assert (other.output, other.sends, other.volume, other.pan, other.kind) == (
            strip.output, strip.sends, strip.volume, strip.pan, strip.kind,
        )  # fmt: skip
    # Beats at 120 bpm: the first clip is cut in two, the second one left as it is.
    assert [(c.start, c.end) for c in found.strip("t").clips] == [(0.0, 0.5), (1.5, 2.0), (3.0, 4.0)]
    assert [(c.start, c.end) for c in planned.strip("t").clips] == [(0.0, 0.5), (1.5, 2.0), (3.0, 4.0)]
    assert found.strip("t/bounced").clips[0].start == 0.5


@pytest.mark.parametrize("clips", [CLIPS["overlapping"], CLIPS["sound without a clip"]])
def test_a_frozen_track_plays_its_file_alone(tmp_path, clips):
    path = stems.written(tmp_path / "a.dawproject", clips, GAIN, {"audio/a.wav": stems.wave(noise(channels=1))})
    *_, target = carried(path, tmp_path / "out", Plan((Decision("freeze", "t"),)))
    assert [part.file.split("/")[1] for part in dawproject.read(target).audio["t"].parts] == ["carried-out"]


def test_lanes_in_lanes_and_clips_that_name_their_track_are_each_switched_off_once(tmp_path):
    inside = f'<Lanes track="t"><Clips>{x.clip(0, 1, audio())}</Clips></Lanes>{x.lanes("u", x.clip(0, 2, audio()))}'
    more = (
        f'<Lanes track="t" timeUnit="seconds">{inside}</Lanes>'
        f'<Clips track="t" timeUnit="seconds">{x.clip(2, 1, audio())}</Clips>'
    )
    path = stems.written(tmp_path / "a.dawproject", x.clip(1, 1, audio()), GAIN, more=more)
    assert len(dawproject.read(path).audio["t"].parts) == 3
    *_, target = carried(path, tmp_path / "out", Plan((Decision("freeze", "t"),)))
    found = dawproject.read(target).audio
    assert [part.file.split("/")[1] for part in found["t"].parts] == ["carried-out"]
    assert len(found["u"].parts) == 1


@pytest.mark.parametrize("apart", [False, True])
def test_notes_of_clips_that_lie_over_each_other_are_each_written_once(tmp_path, apart):
    inside = [
        "".join(f'<Note time="{k / 4 + by}" duration="0.1" key="{60 + k}" vel="0.5"/>' for k in range(8))
        for by in (0, 0.1)
    ]
    first = x.clip(0, 2, f"<Notes>{inside[0]}</Notes>", contentTimeUnit="seconds")
    second = f"<Notes>{inside[1]}</Notes>"
    if not apart:
        second = x.clip(0, 1.5, second, contentTimeUnit="seconds")
    more = f'<Lanes track="t" timeUnit="seconds">{second}</Lanes>'
    path = stems.written(tmp_path / "a.dawproject", first, PIPES, more=more)
    before = dawproject.read(path).audio["t"].notes
    assert len(before) == (16 if apart else 14)
    *_, target = carried(path, tmp_path / "out", bounce(0.475, 0.97))
    left = dawproject.read(target).audio["t"].notes
    assert [(round(n.start, 6), n.key) for n in left] == [
        (round(n.start, 6), n.key) for n in before if not 0.475 <= n.start < 0.97
    ]


def test_notes_are_cut_between_notes(tmp_path):
    notes = "".join(f'<Note time="{k / 2}" duration="0.4" key="{60 + k}" vel="0.5"/>' for k in range(8))
    clip = x.clip(0, 4, f"<Notes>{notes}</Notes>", contentTimeUnit="seconds")
    path = stems.written(tmp_path / "a.dawproject", clip, PIPES)
    session, before = dawproject.read(path).session, dawproject.read(path).audio["t"].notes
    # Over a note it is refused, and the reason says where.
    refused = carrying.prepare(session, bounce(1.2, 2.5), 512).refused
    assert refused == [("Voice 0:01 to 0:02", "notes sound over 0:01: cut where none does.")]
    rendered, _, target = carried(path, tmp_path / "out", bounce(1.45, 2.45))
    assert rendered["t"].start == pytest.approx(1.45)
    assert rendered["t"].proof.verdict in ("same", "rounded")
    left = dawproject.read(target).audio["t"].notes
    assert [(round(n.start, 6), n.key) for n in left] == [
        (n.start, n.key) for n in before if not 1.45 <= n.start < 2.45
    ]
    assert {round(n.velocity, 6) for n in left} == {0.5}


def test_a_cut_that_is_heard_is_told_with_where_and_how_much(tmp_path, monkeypatch):
    monkeypatch.setenv("CLAP_PATH", str(zam_library("ZamComp").parent))
    # A compressor that is still let go when the stretch begins: what is left does not know of it.
    hard = "".join(f'<RealParameter parameterID="{k}" value="{value}"/>' for k, value in ((4, -60), (1, 400)))
    device = x.plugin("ClapPlugin", "com.zamaudio.ZamCompX2", "ZamCompX2", extra=f"<Parameters>{hard}</Parameters>")
    path = stems.written(tmp_path / "a.dawproject", x.clip(0, 2, audio()), device)
    session = dawproject.read(path).session
    (job,) = render.jobs(session, bounce(0.5, 1.0), dawproject.read(path).audio, 512)
    *_, last = render.carry_out(job, path, tmp_path / "out")
    proof = last.rendered.proof
    assert proof.verdict == "cut" and proof.peak_db > -60 and 0.5 <= proof.at < 1.6
    residual, _ = soundfile.read(tmp_path / "out" / proof.residual, always_2d=True)
    assert 20 * np.log10(np.abs(residual).max()) == pytest.approx(proof.peak_db, abs=0.1)


def test_fades_over_an_edge_and_riding_faders_are_refused(tmp_path):
    path = stems.written(tmp_path / "a.dawproject", x.clip(0, 2, audio(), fadeInTime=1.0), GAIN)
    session = dawproject.read(path).session
    ((_, why),) = carrying.prepare(session, bounce(0.5, 1.5), 512).refused
    assert why == "a clip fades at 0:00: cut where none does."


def test_inside_and_outside_are_the_whole_whatever_the_numbers():
    rng = random.Random(5)
    for _ in range(400):
        parts, notes = [], []
        for _ in range(rng.randint(0, 4)):
            start = rng.uniform(0, 3)
            parts.append(Part(start, start + rng.uniform(0.01, 2), rng.uniform(0, 1), "f"))
        for _ in range(rng.randint(0, 4)):
            start = rng.uniform(0, 3)
            notes.append(NotePart(start, start + 0.1, 60, 0.5))
        a = rng.uniform(0, 2)
        b = a + rng.uniform(0.001, 2)
        whole = Sounding(tuple(parts), notes=tuple(notes))
        pieces = [f(whole, a, b, RATE) for f in (stretch.inside, stretch.outside)]
        assert {id(n) for piece in pieces for n in piece.notes} == {id(n) for n in notes}
        assert sum(len(piece.notes) for piece in pieces) == len(notes)
        assert heard(whole) == heard(*pieces)


def heard(*soundings):
    """Which stretches of the piece play a file shifted by so many samples: each sample of it, without listing them."""
    lengths = {}
    for sounding in soundings:
        for part in sounding.parts:
            begin, end = round(part.start * RATE), round(part.end * RATE)
            shift = round(part.offset * RATE) - begin
            lengths.setdefault(shift, []).append((begin, end))
    return {shift: merged(spans) for shift, spans in lengths.items()}


def merged(spans):
    made = []
    for begin, end in sorted(spans):
        if made and made[-1][1] == begin:
            made[-1] = (made[-1][0], end)
        else:
            made.append((begin, end))
    return made


def test_added_sounds_are_as_long_as_the_longer():
    one, other = noise(0.01), noise(0.02, seed=2)
    both = stretch.Added(one, other)
    assert len(both) == len(other)
    expected = other.copy()
    expected[: len(one)] += one
    for first in range(0, len(other), 100):
        assert np.array_equal(both[first : first + 100], expected[first : first + 100])


def test_a_gain_curve_over_an_edge_is_refused_and_one_beside_it_is_not(tmp_path):
    curve = '<Points><Target expression="gain"/><RealPoint time="0" value="0.5"/></Points>'
    inside = f"<Lanes><Clips>{x.clip(0, 1, audio())}</Clips>{curve}</Lanes>"
    clips = x.clip(0, 1, inside, contentTimeUnit="seconds") + x.clip(1, 1, audio())
    path = stems.written(tmp_path / "a.dawproject", clips, GAIN)
    session = dawproject.read(path).session
    ((_, why),) = carrying.prepare(session, bounce(0.5, 1.5), 512).refused
    assert why == "a clip has a gain curve at 0:00: cut where none has."
    assert not carrying.prepare(session, bounce(1.0, 1.5), 512).refused
