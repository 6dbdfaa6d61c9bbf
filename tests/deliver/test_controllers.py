"""Controllers in what is rendered: pedals, wheels, bend and pressure, to the sample, in all standards with notes."""

from __future__ import annotations

import mido
import msgspec
import numpy as np
import pytest
import soundfile

from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.session.plugins import PluginRef, PluginUse
from nimbleload.deliver import carrying, exchange_out, render
from nimbleload.deliver.rendering import events
from nimbleload.store import dawproject, midi_file
from nimbleload.store.dawproject_out import write
from tests.helpers import exchange as x
from tests.helpers import played
from tests.helpers.often import each_of
from tests.helpers.stems import RATE

NOTES = (
    '<Notes timeUnit="seconds"><Note time="0.25" duration="0.25" key="60" channel="0"/>'
    '<Note time="0.25" duration="1" key="64" channel="0"/><Note time="1" duration="0.25" key="67" channel="0"/></Notes>'
)


def curve(expression, *rows, unit="normalized", tag="RealPoint", more=""):
    """A curve of a clip, in seconds: rows of second, value and whether it ramps."""
    inside = "".join(
        f'<{tag} time="{second}" value="{value}" interpolation="{"linear" if ramp else "hold"}"/>'
        for second, value, ramp in rows
    )
    target = f'<Target expression="{expression}" channel="0"{more}/>'
    return f'<Points unit="{unit}" timeUnit="seconds">{target}{inside}</Points>'


def turned(number, *rows, **more):
    return curve("channelController", *rows, more=f' controller="{number}"', **more)


def clip(*curves, at=0, length=2, **more):
    return x.clip(at, length, f'<Lanes timeUnit="seconds">{NOTES}{"".join(curves)}</Lanes>', **more)


@pytest.mark.parametrize(("standard", "buffer"), each_of(["lv2", "clap", "vst3"], [128, 1024]))
def test_a_pedal_holds_notes_and_wheels_bend_and_pressure_arrive_to_the_sample(tmp_path, monkeypatch, standard, buffer):
    device = played.installed(tmp_path / "plugin", standard, monkeypatch)
    curves = (
        turned(64, (0.375, 1, False), (1.125, 0, False)), turned(1, (0.1, 1, False), (1.5, 0, False)),
        curve("pitchBend", (0.2, 0.5, False), (0.7, 1, False)),
        curve("channelPressure", (1.3, 1, False)),
    )  # fmt: skip
    path = played.written(tmp_path / "a.dawproject", device, clip(*curves))
    made = played.carried(path, tmp_path / "out", buffer)
    # 60 ends at 0.5, but the pedal holds it up to 1.125; 64 and 67 end with their keys.
    sounding = played.steps((0.25, 2), (1, 3), (1.125, 2), (1.25, 0)) / 16
    half = round(0.5 * 16383) / 16383
    told = [(0.1, 0.25), (0.2, 0.25 + half / 2), (0.7, 0.75), (1.3, 0.875), (1.5, 0.625)]
    assert played.same(made[:, 0], sounding)
    assert played.same(made[:, 1], played.steps(*told))


def on_channels(words, *channels):
    """The same, but one after the other on these channels instead of the first; None for not saying one."""
    for channel in channels:
        words = words.replace(' channel="0"', "" if channel is None else f' channel="{channel}" ', 1)
    return words


@pytest.mark.parametrize("standard", ["lv2", "clap", "vst3"])
def test_notes_and_controllers_arrive_on_their_channels(tmp_path, monkeypatch, standard):
    """What is played on the tenth channel is another instrument of many a sampler."""
    device = played.installed(tmp_path / "plugin", standard, monkeypatch)
    pedal = turned(64, (0.375, 1, False), (1.125, 0, False))
    wheels = (turned(1, (0.2, 1, False)), on_channels(turned(1, (0.4, 1, False)), 2), on_channels(pedal, 2))
    content = on_channels(f'<Lanes timeUnit="seconds">{NOTES}{"".join(wheels)}</Lanes>', 2, 9, 0)
    path = played.written(tmp_path / "a.dawproject", device, x.clip(0, 2, content))
    made = played.carried(path, tmp_path / "out")
    # The note of the third channel is held by that channel's pedal, the one of the tenth ends with its key.
    wanted = played.steps((0.25, 13), (1, 14), (1.125, 11), (1.25, 0)) / 16
    assert played.same(made[:, 0], wanted)
    assert played.same(made[:, 1], played.steps((0.2, 0.25), (0.4, 1.0)))


def test_a_curve_that_names_no_channel_is_for_all_that_are_played(tmp_path, monkeypatch):
    device = played.installed(tmp_path / "plugin", "clap", monkeypatch)
    content = on_channels(NOTES, 1, 3, 15) + on_channels(turned(1, (0.5, 0.5, False)), None)
    inside = f'<Lanes timeUnit="seconds">{content}</Lanes>'
    path = played.written(tmp_path / "a.dawproject", device, x.clip(0, 2, inside))
    made = played.carried(path, tmp_path / "out")
    assert played.same(made[:, 1], played.steps((0.5, (2 + 4 + 16) * (64 / 127) / 4)))


def test_a_line_goes_in_the_steps_of_midi(tmp_path, monkeypatch):
    device = played.installed(tmp_path / "plugin", "clap", monkeypatch)
    wheel = turned(1, (0.5, 0, True), (1.0, 1, False), (1.4, 0.5, False))
    path = played.written(tmp_path / "a.dawproject", device, clip(wheel))
    made = played.carried(path, tmp_path / "out")[: 2 * RATE, 1] * 4
    second = np.arange(len(made)) / RATE
    straight = np.where(second < 0.5, 0, np.where(second < 1, (second - 0.5) * 2, np.where(second < 1.4, 1, 64 / 127)))
    # It is told every 64 samples at most, in steps of a 127th.
    assert np.abs(made - straight).max() < 0.5 / 127 + 64 / RATE * 2 + 1e-6
    assert len(np.unique(made)) == 128
    assert np.allclose(made * 127, np.round(made * 127), atol=1e-4)


@pytest.mark.parametrize(
    ("tag", "unit", "high", "low"),
    [("IntegerPoint", "linear", 127, 0), ("BoolPoint", "linear", "true", "false"), ("RealPoint", "percent", 100, 0)],
)
def test_values_as_other_programs_write_them(tmp_path, monkeypatch, tag, unit, high, low):
    device = played.installed(tmp_path / "plugin", "clap", monkeypatch)
    pedal = turned(64, (0.375, high, False), (1.125, low, False), tag=tag, unit=unit)
    made = played.carried(played.written(tmp_path / "a.dawproject", device, clip(pedal)), tmp_path / "out")
    assert played.same(made[:, 0], played.steps((0.25, 2), (1, 3), (1.125, 2), (1.25, 0)) / 16)


def test_a_clip_that_loops_or_begins_later_has_what_its_controllers_have_there(tmp_path, monkeypatch):
    device = played.installed(tmp_path / "plugin", "clap", monkeypatch)
    wheel = turned(1, (0.25, 1, True), (0.75, 0, False))
    path = played.written(
        tmp_path / "a.dawproject", device,
        clip(wheel, at=0, length=2, playStart="0.5", loopStart="0", loopEnd="1", contentTimeUnit="seconds"),
    )  # fmt: skip
    made = played.carried(path, tmp_path / "out")[:, 1] * 4
    # It begins in the middle of the line; the next pass begins without a point, so what was there stays up to 0.25.
    assert made[0] == pytest.approx(round(0.5 * 127) / 127, abs=1e-6)
    assert made[round(0.2 * RATE)] == pytest.approx(0.1, abs=0.01)
    assert made[round(0.26 * RATE)] == 0
    assert made[round(0.7 * RATE)] == 0
    assert made[round(0.76 * RATE)] == pytest.approx(0.98, abs=0.01)
    assert made[round(1.0 * RATE)] == pytest.approx(0.5, abs=0.01)
    assert made[round(1.3 * RATE)] == 0


def test_a_curve_in_the_lane_of_a_track_is_followed_too(tmp_path, monkeypatch):
    device = played.installed(tmp_path / "plugin", "clap", monkeypatch)
    lane = f'<Lanes track="t" timeUnit="seconds">{turned(64, (0.375, 1, False), (1.125, 0, False))}</Lanes>'
    path = played.written(tmp_path / "a.dawproject", device, x.clip(0, 2, NOTES), lane)
    made = played.carried(path, tmp_path / "out")
    assert played.same(made[:, 0], played.steps((0.25, 2), (1, 3), (1.125, 2), (1.25, 0)) / 16)


def test_on_one_sample_a_pedal_goes_first_then_what_is_let_go_then_what_is_struck(tmp_path, monkeypatch):
    device = played.installed(tmp_path / "plugin", "clap", monkeypatch)
    path = played.written(tmp_path / "a.dawproject", device, clip(turned(64, (0.5, 1, False), (1, 0, False))))
    stage = render.jobs(dawproject.read(path).session, played.FREEZE, dawproject.read(path).audio, 256)[0].stages[-1]
    rows = [tuple(row[:3]) for row in events(stage, RATE).tolist()]
    at = RATE // 2
    assert rows[2:4] == [(at, 64, -1), (at, 60, 0)] and rows[4:6] == [(2 * at, 64, -1), (2 * at, 67, 1)]


class TestBefore:
    """What cannot be followed, or does not reach the plugin in every host, is said."""

    @pytest.mark.parametrize(
        "inside",
        [
            curve("transpose", (0, 0.5, False)), curve("pitchBend", (0, 2, False), unit="semitones"),
            turned(1, (0, 90, False), unit="linear"), turned(300, (0, 1, False)), turned(1, (0, "much", False)),
            turned(1, (0, 1, False)) + turned(1, (0, 1, False)).replace(' channel="0"', ""),
            curve("channelController", (0, 1, False)),
            NOTES.replace('channel="0"/>', f'channel="0">{curve("formant", (0, 1, False))}</Note>', 1),
        ],
    )  # fmt: skip
    def test_what_is_not_followed(self, tmp_path, monkeypatch, inside):
        device = played.installed(tmp_path / "plugin", "clap", monkeypatch)
        imported = dawproject.read(played.written(tmp_path / "a.dawproject", device, clip(inside)))
        prepared = carrying.prepare(imported.session, played.FREEZE, 256)
        ((name, why),) = prepared.refused
        assert name == "Keys" and "hold curves of their own that are not followed" in why

    def test_a_plugin_that_takes_no_midi(self, tmp_path, monkeypatch):
        device = played.installed(tmp_path / "plugin", "clap", monkeypatch, "NO_MIDI")
        path = played.written(tmp_path / "a.dawproject", device, clip(turned(64, (0.375, 1, False))))
        (job,) = carrying.prepare(dawproject.read(path).session, played.FREEZE, 256).jobs
        *_, last = render.carry_out(job, path, tmp_path / "out")
        why = "it takes no MIDI, and controllers go with its notes: hosts differ in what it gets."
        assert last.trouble == f"Played: {why}"

    def test_a_vst3_plugin_without_parameters_for_them_hears_nothing_in_any_host(self, tmp_path, monkeypatch):
        device = played.installed(tmp_path / "plugin", "vst3", monkeypatch, "NO_MIDI")
        path = played.written(tmp_path / "a.dawproject", device, clip(turned(64, (0.375, 1, False), (1.125, 0, False))))
        made = played.carried(path, tmp_path / "out")
        assert played.same(made[:, 0], played.steps((0.25, 2), (0.5, 1), (1, 2), (1.25, 0)) / 16)

    def test_what_nothing_plays_does_not_count(self, tmp_path, monkeypatch):
        device = played.installed(tmp_path / "plugin", "clap", monkeypatch)
        off = clip(curve("pan", (0, 1, False)), at=3, enable="false")
        path = played.written(tmp_path / "a.dawproject", device, x.clip(0, 2, NOTES) + off)
        assert carrying.prepare(dawproject.read(path).session, played.FREEZE, 256).refused == []


class TestStretches:
    def bounced(self, path, start, end):
        plan = Plan((Decision("bounce", "t", start=start, end=end),))
        return carrying.prepare(dawproject.read(path).session, plan, 256)

    def test_a_stretch_may_not_end_in_what_a_pedal_holds(self, tmp_path, monkeypatch):
        device = played.installed(tmp_path / "plugin", "clap", monkeypatch)
        notes = NOTES.replace('duration="1"', 'duration="0.25"')
        pedal = turned(64, (0.375, 1, False), (0.875, 0, False))
        inside = f'<Lanes timeUnit="seconds">{notes}{pedal}</Lanes>'
        path = played.written(tmp_path / "a.dawproject", device, x.clip(0, 2, inside))
        ((_, why),) = self.bounced(path, 0.75, 2).refused
        assert "notes sound over 0:00: cut where none does" in why
        assert self.bounced(path, 0.9, 2).refused == []

    def test_what_is_left_beside_a_stretch_keeps_its_controllers(self, tmp_path, monkeypatch):
        device = played.installed(tmp_path / "plugin", "clap", monkeypatch)
        pedal, wheel = turned(64, (0.375, 1, False), (0.875, 0, False)), turned(1, (0.1, 0, True), (1.9, 1, False))
        notes = NOTES.replace('duration="1"', 'duration="0.25"')
        inside = on_channels(f'<Lanes timeUnit="seconds">{notes}{pedal}{wheel}</Lanes>', 2, 9, 9, 2, 9)
        path = played.written(tmp_path / "a.dawproject", device, x.clip(0, 2, inside))
        (job,) = self.bounced(path, 0.9, 1.3).jobs
        *_, last = render.carry_out(job, path, tmp_path / "out")
        imported = dawproject.read(path)
        plan = Plan((Decision("bounce", "t", start=0.9, end=1.3),))
        target = tmp_path / "b.dawproject"
        exchange_out.write(target, path, imported.session, plan, {"t": last.rendered}, tmp_path / "out")
        before, after = (dawproject.read(each).audio["t"] for each in (path, target))
        assert not after.curves and [note.channel for note in after.notes] == [2, 9]
        assert [note.channel for note in before.notes] == [2, 9, 9]
        # A pedal, and a line in the midst of which the stretch begins and ends.
        places = np.array([round(second * RATE) for second in (0, 0.2, 0.4, 0.88, 1.31, 1.7, 1.95)])
        for one, other in zip(before.controllers, after.controllers, strict=True):
            assert (one.number, one.channel) == (other.number, other.channel)
            assert np.allclose(one.curve.at(RATE).values(places), other.curve.at(RATE).values(places), atol=1e-4)


def note(key, on):
    return mido.Message("note_on" if on else "note_off", note=key, velocity=100 if on else 0)


MIDI = (
    (0.25, note(60, True)), (0.25, note(64, True)), (0.5, note(60, False)), (1.25, note(64, False)),
    (0.375, mido.Message("control_change", control=64, value=127)),
    (1.5, mido.Message("control_change", control=64, value=0)),
    (0.1, mido.Message("pitchwheel", pitch=8191)), (0.2, mido.Message("aftertouch", value=127)),
)  # fmt: skip


def test_a_midi_file_is_played_with_its_pedal(tmp_path, monkeypatch):
    """Read, written as an exchange file, rendered: what the plugin hears is what the file says."""
    played.installed(tmp_path / "plugin", "clap", monkeypatch)
    found = midi_file.read(played.a_midi_file(tmp_path / "a.mid", *MIDI), RATE)
    (strip,) = (each for each in found.session.strips if each.kind == "track")
    # Both notes sound until the pedal is let go, long after the last key.
    assert [(clip.start, clip.end) for clip in strip.clips] == [(0.25, 1.5)]
    path = tmp_path / "b.dawproject"
    write(path, found.session)
    read = dawproject.read(path)
    (again,) = (each for each in read.session.strips if each.kind == "track")
    assert again.clips[0].voices == strip.clips[0].voices
    sounding = read.audio[strip.id]
    assert [each.number for each in sounding.controllers] == [64, 128, 129]
    pedal = sounding.controllers[0].curve.points
    assert [(round(p.second, 6), p.value) for p in pedal] == [(0.375, 1.0), (1.5, 0.0)]
    # Bend and pressure were told before the clip begins: it begins with what they had become.
    assert [c.curve.points[0].second for c in sounding.controllers[1:]] == [0.25, 0.25]
    instrument = PluginUse("synth", PluginRef("clap", "test.played", "Played"), voices=8)
    playing = msgspec.structs.replace(strip, instrument=instrument)
    strips = tuple(playing if each.id == strip.id else each for each in found.session.strips)
    session = msgspec.structs.replace(found.session, strips=strips)
    (job,) = carrying.prepare(session, Plan((Decision("freeze", strip.id),)), 256).jobs
    *_, last = render.carry_out(job, tmp_path / "b.dawproject", tmp_path / "out")
    made = soundfile.read(tmp_path / "out" / last.rendered.file, dtype="float32", always_2d=True)[0]
    assert played.same(made[:, 0], played.steps((0.25, 2), (1.5, 0)) / 16)
    assert played.same(made[:, 1], played.steps((0.25, 0.5 + 0.125)))


def test_percussion_of_a_midi_file_stays_on_its_channel(tmp_path):
    rows = tuple((second, message.copy(channel=9)) for second, message in MIDI)
    found = midi_file.read(played.a_midi_file(tmp_path / "a.mid", *rows, *MIDI), RATE)
    write(tmp_path / "b.dawproject", found.session)
    read = dawproject.read(tmp_path / "b.dawproject")
    told = {strip.name: read.audio[strip.id] for strip in read.session.strips if strip.id in read.audio}
    channels = {name: {each.channel for each in (*of.notes, *of.controllers)} for name, of in told.items()}
    assert {name: on for name, on in channels.items() if on} == {
        "Track 1 (channel 1)": {0}, "Track 1 (percussion)": {9},
    }  # fmt: skip


def test_controllers_beside_no_notes_and_what_changes_sounds_are_told(tmp_path):
    more = (
        (0.0, mido.Message("program_change", program=5)), (0.3, mido.Message("polytouch", note=61, value=9)),
        (0.3, mido.Message("control_change", channel=7, control=7, value=9)),
    )  # fmt: skip
    found = midi_file.read(played.a_midi_file(tmp_path / "a.mid", *MIDI, *more), RATE)
    assert found.report.left_out == (
        "1 message that chooses a sound (program changes): the instruments put in here keep theirs, or a preset.",
        "Track 1: 2 messages press keys that are not down, or turn controllers where nothing is played.",
    )
