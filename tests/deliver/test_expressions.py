"""What single notes do of their own, in what is rendered: to the sample, in all standards that can be told of it."""

from __future__ import annotations

import mido
import msgspec
import numpy as np
import pytest

from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.session.plugins import PluginRef, PluginUse
from nimbleload.deliver import carrying, exchange_out, render
from nimbleload.store import dawproject, midi_file
from nimbleload.store.dawproject_out import write
from tests.helpers import exchange as x
from tests.helpers import played
from tests.helpers.stems import RATE


def does(kind, unit, *rows):
    """A curve inside of a note, in seconds from its beginning: rows of second, value and whether it ramps."""
    inside = "".join(
        f'<RealPoint time="{second}" value="{value}" interpolation="{"linear" if ramp else "hold"}"/>'
        for second, value, ramp in rows
    )
    return f'<Points unit="{unit}"><Target expression="{kind}"/>{inside}</Points>'


def note(time, duration, key, *curves, channel=0):
    inside = f"<Lanes>{''.join(curves)}</Lanes>" if len(curves) > 1 else "".join(curves)
    return f'<Note time="{time}" duration="{duration}" key="{key}" channel="{channel}">{inside}</Note>'


def notes(*rows, unit="seconds"):
    return f'<Notes timeUnit="{unit}">{"".join(rows)}</Notes>'


def heard(tmp_path, monkeypatch, clip, standard="clap", *ways):
    """What comes out where this clip is played (N, 2)."""
    device = played.installed(tmp_path / "plugin", standard, monkeypatch, *ways)
    return played.carried(played.written(tmp_path / "a.dawproject", device, clip), tmp_path / "out")


def trouble(tmp_path, monkeypatch, clip, standard, *ways):
    """Why it cannot be rendered."""
    device = played.installed(tmp_path / "plugin", standard, monkeypatch, *ways)
    path = played.written(tmp_path / "a.dawproject", device, clip)
    (job,) = carrying.prepare(dawproject.read(path).session, played.FREEZE, 256).jobs
    *_, last = render.carry_out(job, path, tmp_path / "out")
    return last.trouble


# Kind, unit, two values, and what either makes on the left and the right (see played.c).
KINDS = [
    ("gain", "linear", (0.5, 2), (0.5 / 16, 2 / 16), (0, 0)),
    ("gain", "decibel", (-20, 6), (0.1 / 16, 10 ** (6 / 20) / 16), (0, 0)),
    ("pan", "normalized", (0, 0.75), (1 / 16, 1 / 16), (-0.125, 0.0625)),
    ("transpose", "semitones", (12, -24), (1 / 16, 1 / 16), (0.125, -0.25)),
    ("timbre", "percent", (25, 100), (1 / 16, 1 / 16), (0.125, 0.5)),
    ("pressure", "normalized", (1, 0), (1 / 16, 1 / 16), (1 / 16, 0)),
]


@pytest.mark.parametrize(("kind", "unit", "values", "left", "right"), KINDS)
@pytest.mark.parametrize("standard", ["clap", "vst3"])
def test_each_kind_arrives_to_the_sample(tmp_path, monkeypatch, standard, kind, unit, values, left, right):
    first, second = values
    clip = x.clip(0, 2, notes(note(0.25, 1, 60, does(kind, unit, (0, first, False), (0.3, second, False)))))
    made = heard(tmp_path, monkeypatch, clip, standard)
    for side, (one, other) in enumerate((left, right)):
        assert played.same(made[:, side], played.steps((0.25, one), (0.55, other), (1.25, 0)))


@pytest.mark.parametrize("standard", ["clap", "vst3"])
def test_notes_that_sound_together_do_each_its_own(tmp_path, monkeypatch, standard):
    """On one channel and on two, and the same key on another."""
    inside = notes(
        note(0.25, 1, 60, does("gain", "linear", (0, 0.5, False)), does("transpose", "semitones", (0.5, 12, False))),
        note(0.5, 1, 64, does("gain", "linear", (0.25, 2, False))),
        note(0.5, 1, 60, does("transpose", "semitones", (0, 24, False)), channel=1),
    )
    made = heard(tmp_path, monkeypatch, x.clip(0, 2, inside), standard)
    left = played.steps((0.25, 0.5), (0.5, 0.5 + 1 + 2), (0.75, 0.5 + 2 + 2), (1.25, 2 + 2), (1.5, 0)) / 16
    right = played.steps((0.5, 0.5), (0.75, 0.5 + 0.125), (1.25, 0.5), (1.5, 0))
    assert played.same(made[:, 0], left)
    assert played.same(made[:, 1], right)


def test_lv2_has_only_how_a_key_is_pressed(tmp_path, monkeypatch):
    pressed = does("pressure", "normalized", (0.25, 1, False))
    made = heard(tmp_path, monkeypatch, x.clip(0, 2, notes(note(0.25, 1, 60, pressed))), "lv2")
    assert played.same(made[:, 1], played.steps((0.5, 1 / 16), (1.25, 0)))


@pytest.mark.parametrize(("standard", "ways"), [("lv2", ()), ("vst3", ("NO_MIDI",))])
def test_what_a_plugin_is_not_told_in_every_host_is_not_rendered(tmp_path, monkeypatch, standard, ways):
    curves = does("gain", "linear", (0, 1, False)), does("transpose", "semitones", (0, 1, False))
    why = trouble(tmp_path, monkeypatch, x.clip(0, 2, notes(note(0.25, 1, 60, *curves))), standard, *ways)
    told = "single notes change their gain and transpose, which it does not take: hosts differ in what it gets then."
    assert why == f"Played: {told}"


def test_a_vst3_plugin_is_told_of_what_it_names_alone(tmp_path, monkeypatch):
    curves = does("gain", "linear", (0, 1, False)), does("timbre", "normalized", (0, 1, False))
    why = trouble(tmp_path, monkeypatch, x.clip(0, 2, notes(note(0.25, 1, 60, *curves))), "vst3", "FEW")
    assert why.startswith("Played: single notes change their timbre, which it does not take")


def test_a_clap_plugin_without_midi_is_told_all_the_same(tmp_path, monkeypatch):
    clip = x.clip(0, 2, notes(note(0.25, 1, 60, does("timbre", "linear", (0.5, 1, False)))))
    made = heard(tmp_path, monkeypatch, clip, "clap", "NO_MIDI")
    assert played.same(made[:, 1], played.steps((0.75, 0.5), (1.25, 0)))


def test_a_line_is_told_as_it_goes_while_the_note_lasts(tmp_path, monkeypatch):
    line = does("transpose", "semitones", (-0.25, -12, True), (0.75, 36, False))
    made = heard(tmp_path, monkeypatch, x.clip(0, 2, notes(note(0.25, 0.5, 60, line))))[: 2 * RATE, 1] * 96
    second = np.arange(len(made)) / RATE
    straight = np.where((second >= 0.25) & (second < 0.75), second * 48 - 12, 0)
    # It has begun before its note does, and is told every 64 samples.
    assert np.abs(made - straight).max() < 64 / RATE * 48 + 1e-4
    assert made[round(0.25 * RATE)] == pytest.approx(0, abs=1e-4)


def test_times_in_a_note_may_be_in_a_unit_of_their_own(tmp_path, monkeypatch):
    """At 120: the curve itself says so, or what it lies in does."""
    gain, timbre = does("gain", "linear", (0.5, 2, False)), does("timbre", "linear", (1, 1, False))
    inside = f'<Lanes timeUnit="beats">{timbre}</Lanes>' + gain.replace("<Points", '<Points timeUnit="beats"')
    both = f'<Lanes timeUnit="seconds">{inside}</Lanes>'
    made = heard(tmp_path, monkeypatch, x.clip(0, 2, notes(note(0.25, 1, 60, both))))
    assert played.same(made[:, 0], played.steps((0.25, 1), (0.5, 2), (1.25, 0)) / 16)
    assert played.same(made[:, 1], played.steps((0.75, 0.5), (1.25, 0)))


def test_what_a_note_does_ends_with_it(tmp_path, monkeypatch):
    """The next one with its key begins where it ends."""
    first = note(0.25, 0.5, 60, does("gain", "linear", (0.25, 2, False), (0.5, 3, False)))
    made = heard(tmp_path, monkeypatch, x.clip(0, 2, notes(first, note(0.75, 0.5, 60))))
    assert played.same(made[:, 0], played.steps((0.25, 1), (0.5, 2), (0.75, 1), (1.25, 0)) / 16)


def test_times_are_in_beats_too_and_go_with_clips_that_loop_and_are_cut(tmp_path, monkeypatch):
    """At 120: two passes of a beat and a half, of which the second is cut within its note."""
    inside = notes(note(0.5, 1, 60, does("gain", "linear", (0, 2, False), (0.5, 3, False))), unit="beats")
    loop = x.clip(0.25, 2.25, inside, loopStart=0, loopEnd=1.5, contentTimeUnit="beats")
    device = played.installed(tmp_path / "plugin", "clap", monkeypatch)
    structure = x.track("t", "Keys", x.channel("c", devices=device), "notes") + x.main_track()
    path = x.write(tmp_path / "a.dawproject", x.project(structure, x.lanes("t", loop, unit="beats")))
    made = played.carried(path, tmp_path / "out")
    wanted = played.steps((0.375, 2), (0.625, 3), (0.875, 0), (1.125, 2), (1.25, 0)) / 16
    assert played.same(made[:, 0], wanted)


def of_key(key, *rows, channel=None):
    on = "" if channel is None else f' channel="{channel}"'
    target = '<Target expression="pressure"/>', f'<Target expression="polyPressure" key="{key}"{on}/>'
    return does("pressure", "normalized", *rows).replace(*target)


def test_a_key_that_is_pressed_is_so_for_its_notes_alone(tmp_path, monkeypatch):
    """In a clip that plays twice: on one channel, and on all; a note begins as hard as its key is pressed by then."""
    lane = notes(
        note(0.25, 0.25, 60), note(0.25, 0.25, 60, channel=1), note(0.5, 0.25, 62, channel=2), note(0.5, 0.25, 64),
    )  # fmt: skip
    keys = of_key(60, (0.3, 1, False), channel=1), of_key(62, (0.1, 0.5, False), (0.6, 1, False))
    inside = f'<Lanes timeUnit="seconds">{lane}{"".join(keys)}</Lanes>'
    made = heard(tmp_path, monkeypatch, x.clip(0, 2, inside, loopStart=0, loopEnd=1))
    once = [(0.3, 2), (0.5, 1.5), (0.6, 3), (0.75, 0)]
    assert played.same(made[:, 1], played.steps(*once, *((second + 1, value) for second, value in once)) / 16)


def lane(*inside):
    return f'<Lanes track="t" timeUnit="seconds">{"".join(inside)}</Lanes>'


KEYS = notes(note(0.25, 0.25, 60), note(0.25, 0.25, 60, channel=1), note(0.5, 0.25, 62, channel=2))


def test_keys_in_the_lane_of_a_track_are_pressed_in_all_its_clips(tmp_path, monkeypatch):
    device = played.installed(tmp_path / "plugin", "clap", monkeypatch)
    curves = of_key(60, (0.3, 1, False), (1.4, 0.5, False), channel=1), of_key(62, (0.1, 0.5, False), (0.6, 1, False))
    clips = x.clip(0, 1, KEYS) + x.clip(1, 1, KEYS)
    path = played.written(tmp_path / "a.dawproject", device, clips, lane(*curves))
    made = played.carried(path, tmp_path / "out")
    wanted = (0.3, 2), (0.5, 1.5), (0.6, 3), (0.75, 0), (1.25, 2), (1.4, 1), (1.5, 3), (1.75, 0)
    assert played.same(made[:, 1], played.steps(*wanted) / 16)


@pytest.mark.parametrize(
    "more",
    [
        lane(of_key(60, (0.3, 0.75, False), channel=1)),
        # A wheel in a lane that does not say its channel.
        lane(does("channelController", "normalized", (0.4, 1, False), (1.6, 0, False)).replace(
            "/>", ' controller="1"/>', 1)),
    ],
)  # fmt: skip
def test_what_lanes_tell_stays_there_when_a_clip_is_cut(tmp_path, monkeypatch, more):
    device = played.installed(tmp_path / "plugin", "clap", monkeypatch)
    inside = x.clip(0, 2, notes(note(0.25, 0.5, 60), note(1, 0.25, 62, channel=1), note(1.4, 0.25, 60, channel=1)))
    path = played.written(tmp_path / "a.dawproject", device, inside, more)
    session, plan = dawproject.read(path).session, Plan((Decision("bounce", "t", start=0.9, end=1.3),))
    (job,) = carrying.prepare(session, plan, 256).jobs
    *_, last = render.carry_out(job, path, tmp_path / "out")
    target = tmp_path / "b.dawproject"
    exchange_out.write(target, path, session, plan, {"t": last.rendered}, tmp_path / "out")
    before, after = (dawproject.read(each).audio["t"] for each in (path, target))
    assert not after.curves and after.controllers == before.controllers
    assert after.notes == tuple(each for each in before.notes if each.key != 62)


class TestNotFollowed:
    @pytest.mark.parametrize(
        "inside",
        [
            (does("formant", "semitones", (0, 1, False)),),
            (does("transpose", "linear", (0, 1, False)),),
            (does("pan", "linear", (0, 1, False)),),
            (does("gain", "linear", (0, 4.5, False)),),
            (does("gain", "decibel", (0, 12.1, False)),),
            (does("gain", "decibel", (0, 1e11, False)),),
            (does("pressure", "normalized", (0, 1.1, False)),),
            (does("transpose", "semitones", (0, "x", False)),),
            (does("gain", "linear"),),
            (does("gain", "linear", (0, 1, False)), does("gain", "linear", (0, 2, False))),
            (does("pressure", "normalized", (0, 1, False), (0.5, 0, False)).replace("RealPoint", "IntegerPoint", 1),),
        ],
    )
    def test_it_is_not_rendered_and_said(self, tmp_path, monkeypatch, inside):
        device = played.installed(tmp_path / "plugin", "clap", monkeypatch)
        path = played.written(tmp_path / "a.dawproject", device, x.clip(0, 2, notes(note(0.25, 1, 60, *inside))))
        ((name, why),) = carrying.prepare(dawproject.read(path).session, played.FREEZE, 256).refused
        assert name == "Keys" and "hold curves of their own that are not followed" in why

    @pytest.mark.parametrize(
        "keys",
        [
            (of_key(60, (0, 1, False)), of_key(60, (0.5, 0, False), channel=0)),
            (of_key(60, (0, 1, False)).replace(' key="60"', ""),),
            (of_key(128, (0, 1, False)),),
            (of_key(60, (0, 2, False)),),
            (does("pressure", "normalized", (0, 1, False)),),
        ],
    )
    def test_keys_that_are_pressed_in_two_ways_or_none(self, tmp_path, monkeypatch, keys):
        device = played.installed(tmp_path / "plugin", "clap", monkeypatch)
        inside = f'<Lanes timeUnit="seconds">{notes(note(0.25, 1, 60))}{"".join(keys)}</Lanes>'
        for more in ((x.clip(0, 2, inside),), (x.clip(0, 2, notes(note(0.25, 1, 60))), lane(*keys))):
            path = played.written(tmp_path / "a.dawproject", device, *more)
            ((_, why),) = carrying.prepare(dawproject.read(path).session, played.FREEZE, 256).refused
            assert "hold curves of their own that are not followed" in why

    def test_a_note_that_is_pressed_by_itself_and_by_its_key(self, tmp_path, monkeypatch):
        device = played.installed(tmp_path / "plugin", "clap", monkeypatch)
        lane = notes(note(0.25, 1, 60, does("pressure", "normalized", (0, 1, False))))
        inside = f'<Lanes timeUnit="seconds">{lane}{of_key(60, (0, 1, False))}</Lanes>'
        path = played.written(tmp_path / "a.dawproject", device, x.clip(0, 2, inside))
        assert len(carrying.prepare(dawproject.read(path).session, played.FREEZE, 256).refused) == 1

    def test_what_a_note_beside_the_clip_does_is_not_missed(self, tmp_path, monkeypatch):
        device = played.installed(tmp_path / "plugin", "clap", monkeypatch)
        late = note(3, 1, 60, does("formant", "semitones", (0, 1, False)))
        path = played.written(tmp_path / "a.dawproject", device, x.clip(0, 2, notes(note(0.25, 1, 60), late)))
        assert carrying.prepare(dawproject.read(path).session, played.FREEZE, 256).refused == []


def test_what_is_left_beside_a_stretch_goes_on_doing_it(tmp_path, monkeypatch):
    device = played.installed(tmp_path / "plugin", "clap", monkeypatch)
    curves = (
        does("gain", "decibel", (0.1, -6, True), (0.4, 3, False)), does("transpose", "semitones", (0, 7, False)),
        does("pan", "percent", (0.2, 30, False)),
    )  # fmt: skip
    inside = notes(note(0.25, 0.5, 60, *curves), note(1, 0.25, 62), note(1.4, 0.5, 64, curves[0]))
    path = played.written(tmp_path / "a.dawproject", device, x.clip(0, 2, inside))
    session, plan = dawproject.read(path).session, Plan((Decision("bounce", "t", start=0.9, end=1.3),))
    (job,) = carrying.prepare(session, plan, 256).jobs
    *_, last = render.carry_out(job, path, tmp_path / "out")
    target = tmp_path / "b.dawproject"
    exchange_out.write(target, path, session, plan, {"t": last.rendered}, tmp_path / "out")
    before, after = (dawproject.read(each).audio["t"] for each in (path, target))
    kept = [each for each in before.notes if each.key != 62]
    assert not after.curves and [each.key for each in after.notes] == [60, 64]
    for one, other in zip(kept, after.notes, strict=True):
        assert [each.kind for each in one.expressions] == [each.kind for each in other.expressions]
        for mine, theirs in zip(one.expressions, other.expressions, strict=True):
            assert mine.curve.unit == theirs.curve.unit
            rows = [
                [(point.second, point.value, point.ramp) for point in each.curve.points] for each in (mine, theirs)
            ]
            assert np.allclose(*rows)


def test_keys_that_are_pressed_in_a_midi_file_are_kept_and_heard(tmp_path, monkeypatch):
    """Read, moved by a quarter of a second, written as an exchange file, rendered."""
    played.installed(tmp_path / "plugin", "clap", monkeypatch)
    on, press = mido.Message("note_on", note=60, velocity=100), mido.Message("polytouch", note=60, value=127)
    rows = (
        (0.25, on), (1.25, on.copy(velocity=0)), (0.5, on.copy(note=64)), (1.25, on.copy(note=64, velocity=0)),
        (0.1, press), (0.75, press), (0.75, press.copy(note=64, value=0)), (1.0, press.copy(value=0)),
    )  # fmt: skip
    found = midi_file.read(played.a_midi_file(tmp_path / "a.mid", *rows), RATE)
    # A key that is not down is pressed for nothing.
    assert "Track 1: 1 message presses keys that are not down" in " ".join(found.report.left_out)
    (strip,) = (each for each in found.session.strips if each.kind == "track")
    path = tmp_path / "b.dawproject"
    instrument = PluginUse("synth", PluginRef("clap", "test.played", "Played"), voices=8)
    (clip,) = strip.clips
    clips = (msgspec.structs.replace(clip, start=clip.start + 0.25, end=clip.end + 0.25, voices=None),)
    playing = msgspec.structs.replace(strip, instrument=instrument, clips=clips)
    strips = tuple(playing if each.id == strip.id else each for each in found.session.strips)
    session = msgspec.structs.replace(found.session, strips=strips)
    write(path, session)
    (job,) = carrying.prepare(session, Plan((Decision("freeze", strip.id),)), 256).jobs
    *_, last = render.carry_out(job, path, tmp_path / "out")
    assert last.trouble == ""
    made = played.soundfile.read(tmp_path / "out" / last.rendered.file, dtype="float32", always_2d=True)[0]
    assert played.same(made[:, 0], played.steps((0.5, 1), (0.75, 2), (1.5, 0)) / 16)
    assert played.same(made[:, 1], played.steps((1.0, 1 / 16), (1.25, 0)))
