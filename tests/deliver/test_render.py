"""Rendering: to the sample against closed forms, through real and known plugins, and whatever goes wrong."""

from __future__ import annotations

import subprocess
import sys
from types import SimpleNamespace

import msgspec
import numpy as np
import pytest
import soundfile

from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.told import carrying as told
from nimbleload.deliver import carrying, render, rendering
from nimbleload.deliver.asked import Asked
from nimbleload.deliver.loudness import integrated
from nimbleload.deliver.there import there
from nimbleload.store import dawproject, session_file
from tests.helpers import echoes, known, stems
from tests.helpers import exchange as x
from tests.helpers.rogue import zam_library
from tests.helpers.stems import RATE, audio, noise, wave

FREEZE = Plan((Decision("freeze", "t"),))


def job_of(path, plan=FREEZE, buffer=512):
    imported = dawproject.read(path)
    (job,) = render.jobs(imported.session, plan, imported.audio, buffer)
    return job


def carried(path, folder, plan=FREEZE, buffer=512, **more):
    """The last step of carrying out the only job."""
    *_, last = render.carry_out(job_of(path, plan, buffer), path, folder, **more)
    return last


def sound(folder, step):
    found, rate = soundfile.read(folder / step.rendered.file, dtype="float32", always_2d=True)
    assert rate == RATE
    return found


def x_clips(*clips):
    """Clips in a lane of a clip."""
    return f"<Clips>{''.join(clips)}</Clips>"


class TestPlaces:
    """Without plugins what is rendered is what the clips play, to the sample."""

    def rendered(self, tmp_path, clips, files=None, **more):
        path = stems.written(tmp_path / "a.dawproject", clips, files=files, **more)
        step = carried(path, tmp_path / "out")
        assert step.trouble == "", step.trouble
        return sound(tmp_path / "out", step)

    def test_clips_lie_where_they_are(self, tmp_path):
        made = self.rendered(tmp_path, x.clip(1, 2, audio()) + x.clip(4, 1, audio(), playStart=0.5))
        expected = np.zeros((5 * RATE, 2), np.float32)
        expected[RATE : 3 * RATE] = noise()
        expected[4 * RATE :] += noise()[RATE // 2 : RATE * 3 // 2]
        assert np.array_equal(made[: len(expected)], expected)
        assert not made[len(expected) :].any()

    def test_loops_offsets_and_overlaps_add_up(self, tmp_path):
        loop = x.clip(0, 2.5, audio(), playStart=0.25, loopStart=0, loopEnd=1)
        made = self.rendered(tmp_path, loop + x.clip(1, 1, audio(), playStart=1))
        once = noise()[:RATE]
        looped = np.concatenate((once[RATE // 4 :], once, once))[: RATE * 5 // 2]
        looped[RATE : 2 * RATE] += noise()[RATE:]
        assert np.allclose(made[: len(looped)], looped, atol=1e-7)

    def test_fades_are_straight_lines(self, tmp_path):
        made = self.rendered(tmp_path, x.clip(0, 2, audio(), fadeInTime=0.5, fadeOutTime=0.25))
        gain = np.minimum(np.arange(2 * RATE) / (RATE / 2), 1) * np.minimum(np.arange(2 * RATE)[::-1] / (RATE / 4), 1)
        assert np.allclose(made[: 2 * RATE], noise() * gain[:, None], atol=1e-6)

    @pytest.mark.parametrize("unit", ["linear", "decibel"])
    def test_gain_curves_of_clips_go_with_what_they_play_through_every_loop(self, tmp_path, unit):
        """From full to a quarter within the first second of what is looped, and there it stays."""
        first, last = (1.0, 0.25) if unit == "linear" else (0.0, -12.0412)
        curve = (
            f'<Points unit="{unit}"><Target expression="gain"/><RealPoint time="0" value="{first}" '
            f'interpolation="linear"/><RealPoint time="1" value="{last}"/></Points>'
        )
        inside = f"<Lanes>{x_clips(x.clip(0, 2, audio()))}{curve}</Lanes>"
        clip = x.clip(1, 5, inside, playStart=0.5, loopStart=0, loopEnd=2, contentTimeUnit="seconds")
        made = self.rendered(tmp_path, clip)[RATE:]
        share = np.minimum(np.arange(2 * RATE) / RATE, 1.0)
        gain = 1 - 0.75 * share if unit == "linear" else 10 ** (-12.0412 * share / 20)
        once = noise() * gain[:, None]
        expected = np.concatenate((once[RATE // 2 :], once, once))[: 5 * RATE]
        assert np.abs(made[: 5 * RATE] - expected).max() < 1e-6

    def test_warp_points_that_only_move_the_start_are_followed(self, tmp_path):
        warps = (
            f'<Warps timeUnit="seconds" contentTimeUnit="seconds">{audio()}'
            '<Warp time="0" contentTime="0.5"/><Warp time="1" contentTime="1.5"/></Warps>'
        )
        made = self.rendered(tmp_path, x.clip(1, 1, warps))
        assert np.array_equal(made[RATE : 2 * RATE], noise()[RATE // 2 : RATE * 3 // 2])

    def test_mono_goes_to_both_sides(self, tmp_path):
        made = self.rendered(tmp_path, x.clip(0, 2, audio()), {"audio/a.wav": wave(noise(channels=1))})
        assert np.array_equal(made[: 2 * RATE, 0], noise(channels=1)[:, 0])
        assert np.array_equal(made[:, 0], made[:, 1])

    def test_audio_may_lie_beside_the_file(self, tmp_path):
        (tmp_path / "stems").mkdir()
        (tmp_path / "stems" / "b.wav").write_bytes(wave(noise(seed=2)))
        made = self.rendered(tmp_path, x.clip(0, 2, audio("stems/b.wav", external="true")))
        assert np.array_equal(made[: 2 * RATE], noise(seed=2))


@pytest.fixture
def plugin(tmp_path, monkeypatch):
    """A mono plugin that says it is 77 samples late and is not, is half as loud in small blocks, and has a tail."""
    return known.installed(tmp_path / "plugin", "clap", monkeypatch)


def device(of):
    return x.plugin("ClapPlugin", known.IDENTIFIERS["clap"], "Known")


class TestThroughPlugins:
    @pytest.mark.parametrize("standard", ["ladspa", "lv2", "clap", "vst3"])
    def test_what_has_one_channel_renders_each_side_by_itself(self, tmp_path, monkeypatch, standard):
        known.installed(tmp_path / "plugin", standard, monkeypatch)
        tag = {"clap": "ClapPlugin", "vst3": "Vst3Plugin"}.get(standard, "BuiltinDevice")
        named = known.IDENTIFIERS[standard] if tag != "BuiltinDevice" else f"{standard}:{known.IDENTIFIERS[standard]}"
        one = x.plugin(tag, named, "Known")
        sides = noise()
        sides[:, 1] = noise(seed=2)[:, 1] / 2
        files = {"audio/a.wav": wave(sides)}
        path = stems.written(tmp_path / "a.dawproject", x.clip(0, 2, audio()), one, files)
        made = sound(tmp_path / "out", carried(path, tmp_path / "out", prove=False))
        assert np.array_equal(made[: 2 * RATE - 77], sides[77:])

    @pytest.mark.parametrize(
        ("channels", "sides_differ", "told"), [(1, True, True), (1, False, False), (2, True, False)]
    )
    def test_who_heard_one_of_two_sides_is_told(self, tmp_path, plugin, channels, sides_differ, told):
        structure = x.track("t", "Voice", x.channel("c", devices=device(plugin), channels=channels)) + x.main_track()
        files = {"audio/a.wav": wave(noise(channels=2 if sides_differ else 1))}
        lanes = x.lanes("t", x.clip(0, 2, audio()), unit="seconds")
        path = x.write(tmp_path / "a.dawproject", x.project(structure, lanes), files)
        rendered = carried(path, tmp_path / "out", prove=False).rendered
        assert rendered.one_sided == (("Known",) if told else ())
        # What has one channel is kept in one.
        assert soundfile.info(tmp_path / "out" / rendered.file).channels == rendered.channels == channels
        said = "Known heard the left side alone: hosts give it that, or both together"
        assert (said in carrying.told_of(rendered)) is told

    def test_what_comes_late_is_moved_back_and_the_tail_is_kept(self, tmp_path, plugin):
        path = stems.written(tmp_path / "a.dawproject", x.clip(0, 2, audio()), device(plugin))
        step = carried(path, tmp_path / "out", prove=False)
        made = sound(tmp_path / "out", step)
        assert step.rendered.latency == 77 and step.rendered.dies
        # Its tail is 0.01 for a second of silence, less the block that the sound ends in.
        late = noise()[77:, 0]
        assert np.array_equal(made[: len(late), 0], late)
        tail = made[len(late) :, 0]
        assert (np.abs(tail[600:40_000] - 0.01) < 1e-6).all()
        assert not tail[49_000:].any()

    @pytest.mark.parametrize(("late", "apart"), [(0, 1.0), (0, 3.5), (30_000, 2.0), (450_000, 0.0)])
    def test_echoes_far_apart_are_not_cut_off(self, tmp_path, monkeypatch, late, apart):
        echoes.installed(tmp_path / "plugin", monkeypatch)
        rows = "".join(
            f'<RealParameter parameterID="{name}" value="{value}"/>'
            for name, value in (("Late", late), ("Apart", apart), ("Feedback", 0.01))
        )
        of = x.plugin("BuiltinDevice", "ladspa:78:echoes", "Echoes", extra=f"<Parameters>{rows}</Parameters>")
        # All that sounds are its first two seconds, half a second before the end.
        clip = x.clip(0, 2.5, audio("audio/a.wav", 2.5))
        files = {"audio/a.wav": wave(np.concatenate((noise(), np.zeros((RATE // 2, 2), np.float32))))}
        path = stems.written(tmp_path / "a.dawproject", clip, of, files=files)
        step = carried(path, tmp_path / "out", prove=False)
        made = sound(tmp_path / "out", step)
        assert step.rendered.dies
        expected = np.zeros((len(made), 2), np.float32)
        expected[: 2 * RATE] = noise()
        for number in (1, 2) if apart else ():
            at = round(number * apart * RATE)
            expected[at : at + 2 * RATE] += noise()[: len(expected) - at] * np.float32(0.01) ** number
        assert np.allclose(made, expected, atol=1e-6)
        # What it waited for in vain is not kept.
        assert len(made) < (2.5 + 2 * apart + 5) * RATE

    def test_a_tail_without_an_end_is_cut_as_late_as_that_of_what_comes_on_time(self, tmp_path, monkeypatch):
        echoes.installed(tmp_path / "plugin", monkeypatch)
        lengths = []
        for late in (0, 250_000):
            rows = "".join(
                f'<RealParameter parameterID="{name}" value="{value}"/>'
                for name, value in (("Late", late), ("Apart", 1), ("Feedback", 1))
            )
            of = x.plugin("BuiltinDevice", "ladspa:78:echoes", "Echoes", extra=f"<Parameters>{rows}</Parameters>")
            step = carried(stems.written(tmp_path / "a.dawproject", x.clip(0, 2, audio()), of), tmp_path / "out",
                           prove=False)  # fmt: skip
            assert not step.rendered.dies
            lengths.append(len(sound(tmp_path / "out", step)) / RATE)
        # 15 s behind what was played, to a stretch of samples.
        assert all(17 <= length < 18.5 for length in lengths), lengths

    def test_what_is_no_number_is_silent_counted_and_told(self, tmp_path, plugin):
        spoilt = noise()
        spoilt[[1000, 50_000]] = np.nan, np.inf
        files = {"audio/a.wav": wave(spoilt)}
        step = carried(stems.written(tmp_path / "a.dawproject", x.clip(0, 2, audio()), device(plugin), files=files),
                       tmp_path / "out", prove=False)  # fmt: skip
        made, late = sound(tmp_path / "out", step), noise()[77:, 0]
        late[[1000 - 77, 50_000 - 77]] = 0.0
        assert np.array_equal(made[: len(late), 0], late)
        assert step.rendered.wrong == 4
        assert "4 samples were no number and are silent" in " ".join(carrying.told_of(step.rendered))
        assert 0 < step.rendered.computed < 10

    def test_a_plugin_that_minds_its_block_size_is_called_different(self, tmp_path, plugin):
        path = stems.written(tmp_path / "a.dawproject", x.clip(0, 2, audio()), device(plugin))
        proof = carried(path, tmp_path / "out", buffer=64).rendered.proof
        # In blocks of 64 it is half as loud as in those of 128.
        assert (proof.verdict, proof.other_buffer) == ("different", 128)
        loudest = np.abs(noise()[77:, 0]).max()
        assert proof.peak_db == pytest.approx(20 * np.log10(loudest / 2), abs=0.1)
        assert proof.at == pytest.approx(np.abs(noise()[77:, 0]).argmax() / RATE, abs=1 / RATE)
        # What is different at another size stands for the one that it was made at.
        assert carried(path, tmp_path / "out", buffer=64).doing == "there already"
        assert there([job_of(path, buffer=128)], path, tmp_path / "out", "wav").older
        assert carried(path, tmp_path / "out", buffer=128).doing == "rendered"

    def test_real_plugins_come_out_the_same(self, tmp_path, monkeypatch):
        monkeypatch.setenv("CLAP_PATH", str(zam_library("ZamEQ2").parent))
        devices = x.plugin("ClapPlugin", "com.zamaudio.ZamEQ2", "ZamEQ2") + x.plugin(
            "ClapPlugin", "com.zamaudio.ZamVerb", "ZamVerb"
        )
        path = stems.written(tmp_path / "a.dawproject", x.clip(0, 2, audio()), devices)
        step = carried(path, tmp_path / "out")
        assert step.rendered.proof.verdict == "same"
        # Frozen through the first plugin only, the second has no part in it.
        first = Plan((Decision("freeze", "t", through=0),))
        assert [use.label for use in job_of(path, first).uses] == ["ZamEQ2"]
        other = carried(path, tmp_path / "other", first)
        assert not np.array_equal(sound(tmp_path / "out", step)[:RATE], sound(tmp_path / "other", other)[:RATE])

    def test_two_renders_at_one_size_that_differ_are_random(self, tmp_path, plugin, monkeypatch):
        path = stems.written(tmp_path / "a.dawproject", x.clip(0, 1, audio()), device(plugin))
        monkeypatch.setattr(render, "compared", lambda *_: render.Proof("", -20.0, -40.0, 0.5))
        assert carried(path, tmp_path / "out").rendered.proof.verdict == "random"

    def test_what_is_random_is_told_with_its_loudness(self):
        of = render.Rendered("t", "t.wav", "", 1.0, -3.0, 0, True, 0, render.Proof("random", -20.0, lufs=-21.0))
        for lufs, said in ((-21.03, "as loud each time"), (-20.6, "in loudness by 0.4 LU")):
            assert any(said in line for line in carrying.told_of(msgspec.structs.replace(of, lufs=lufs)))
        # Softer than what has a loudness at all: nothing is said.
        silent = msgspec.structs.replace(of, proof=render.Proof("random", -80.0))
        assert len(carrying.told_of(silent)) == 1


class TestFiles:
    """What lies in the file afterwards is what is proven, not what was in memory before."""

    def loud(self, tmp_path, gain):
        files = {"audio/a.wav": wave(noise() * np.float32(gain))}
        return stems.written(tmp_path / "a.dawproject", x.clip(0, 2, audio()), files=files)

    def test_flac_rounds_and_nothing_else(self, tmp_path):
        step = carried(self.loud(tmp_path, 0.5), tmp_path / "out", kind="flac")
        assert step.rendered.file.endswith(".flac") and step.rendered.proof.verdict == "same"
        assert -150 < step.rendered.proof.peak_db < -130
        assert np.abs(sound(tmp_path / "out", step)[: 2 * RATE] - noise() * 0.5).max() <= 2.0**-23
        assert (again := carried(self.loud(tmp_path, 0.5), tmp_path / "out", kind="flac")).doing == "there already"
        # The same sound, in a file that says when it was written: from outside it is another.
        assert msgspec.structs.replace(again.rendered, seen=step.rendered.seen) == step.rendered

    def test_wav_of_24_bits_says_where_it_begins_too(self, tmp_path):
        step = carried(self.loud(tmp_path, 0.5), tmp_path / "out", kind="wav24")
        path = tmp_path / "out" / step.rendered.file
        assert path.suffix == ".wav" and soundfile.info(path).subtype == "PCM_24"
        assert "bext" in stems.chunks(path) and step.rendered.proof.verdict == "same"
        assert np.abs(sound(tmp_path / "out", step)[: 2 * RATE] - noise() * 0.5).max() <= 2.0**-23
        # The same in floating point is another file under the same name.
        other = carried(self.loud(tmp_path, 0.5), tmp_path / "out")
        assert other.doing == "rendered" and soundfile.info(path).subtype == "FLOAT"

    def test_what_is_louder_than_full_scale_is_not_clipped_by_flac(self, tmp_path):
        path = self.loud(tmp_path, 2 / np.abs(noise()).max())
        step = carried(path, tmp_path / "out", kind="flac")
        assert step.rendered.file.endswith(".wav") and step.rendered.peak_db == pytest.approx(6.02, abs=0.01)
        assert np.abs(sound(tmp_path / "out", step)).max() == pytest.approx(2.0)
        assert any("24 bits would clip it" in line for line in carrying.told_of(step.rendered))
        # It is not rendered again for that.
        assert carried(path, tmp_path / "out", kind="flac").doing == "there already"

    def test_a_file_that_is_not_what_was_rendered_is_found_out(self, tmp_path, monkeypatch):
        write = render.audio.write

        def softer(path, stretches, rate, kind="wav", **more):
            write(path, (each * np.float32(0.9) for each in stretches), rate, kind, **more)

        monkeypatch.setattr(render.audio, "write", softer)
        step = carried(self.loud(tmp_path, 0.5), tmp_path / "out")
        assert step.rendered.proof.verdict not in ("same", "rounded")
        assert step.rendered.lufs == pytest.approx(step.rendered.proof.lufs - 0.915, abs=0.01)

    def test_loudness_and_peak_are_those_of_the_file(self, tmp_path):
        step = carried(self.loud(tmp_path, 0.25), tmp_path / "out")
        expected = integrated([sound(tmp_path / "out", step)], RATE)
        assert step.rendered.lufs == step.rendered.proof.lufs == pytest.approx(expected)
        assert f"{expected:.1f} LUFS".replace("-", "−") in told.levels(step.rendered.peak_db, step.rendered.lufs)


PIPES = (
    '<BuiltinDevice deviceID="house.pipework" deviceName="Pipework" deviceRole="instrument" pluginVersion="1">'
    '<Parameters><RealParameter parameterID="voices" value="4"/></Parameters></BuiltinDevice>'
)


def played(*notes: tuple[float, float, int]) -> str:
    """A clip of four seconds with notes: from when, how long, which key."""
    inside = "".join(f'<Note time="{at}" duration="{length}" key="{key}"/>' for at, length, key in notes)
    return x.clip(0, 4, f"<Notes>{inside}</Notes>", contentTimeUnit="seconds")


@pytest.fixture(scope="module")
def compiled():
    """The house's processors as they are kept: code that was just compiled may round otherwise than what is kept."""
    subprocess.run([sys.executable, "-c", "from nimbleload.house import instance; instance.load_all()"], check=True)


@pytest.mark.usefixtures("compiled")
class TestNotes:
    def rendered(self, tmp_path, clips, folder, buffer=256, devices=PIPES, **more):
        path = stems.written(tmp_path / "a.dawproject", clips, devices)
        step = carried(path, tmp_path / folder, buffer=buffer, **more)
        assert step.trouble == "", step.trouble
        return step, sound(tmp_path / folder, step)

    def test_an_instrument_plays_its_notes_to_the_sample(self, tmp_path):
        step, first = self.rendered(tmp_path, played((0.25, 0.5, 60)), "first")
        # Its partials are brought back to their size once a block: that rounds.
        assert step.rendered.proof.verdict == "rounded"
        begin = int(0.25 * RATE)
        assert not first[:begin].any() and first[begin : begin + 200].any()
        # The same note later by 1037 samples, which is no whole block: the same sound, so much later. It rounds by
        # 1.3e-6, as the partials do.
        _, later = self.rendered(tmp_path, played((0.25 + 1037 / RATE, 0.5, 60)), "later", prove=False)
        least = 10 ** (render.ROUNDED_DB / 20)
        assert np.abs(later[1037 : RATE * 2] - first[: RATE * 2 - 1037]).max() < least
        assert np.abs(later[1036 : RATE * 2 - 1] - first[: RATE * 2 - 1037]).max() > 1000 * least

    def test_notes_together_are_the_sum_of_each(self, tmp_path):
        one, other = (0.1, 0.4, 60), (0.3003, 0.5, 67)
        alone = [self.rendered(tmp_path, played(note), f"n{k}", prove=False)[1] for k, note in enumerate((one, other))]
        _, both = self.rendered(tmp_path, played(one, other), "both", prove=False)
        length = min(len(each) for each in (*alone, both))
        assert np.allclose(both[:length], alone[0][:length] + alone[1][:length], atol=1e-5)

    def test_a_note_ends_where_it_ends_and_may_begin_again_at_once(self, tmp_path):
        job = job_of(stems.written(tmp_path / "a.dawproject", played((0.0, 0.5, 60), (0.5, 0.5, 60)), PIPES))
        rows = rendering.events(job.stages[-1], job.rate)
        half = 0.5 * RATE
        assert rows[:, :3].tolist() == [[0, 60, 1], [half, 60, 0], [half, 60, 1], [2 * half, 60, 0]]

    def test_many_different_chords_are_played_with_what_is_kept_of_a_few(self, tmp_path, monkeypatch):
        from nimbleload.probe.formats import clap_block

        many = [(0.01 * k, 0.02, 40 + k % 40) for k in range(300)]
        _, first = self.rendered(tmp_path, played(*many), "first", prove=False)
        monkeypatch.setattr(clap_block, "ARGUMENTS_KEPT", 2)
        _, again = self.rendered(tmp_path, played(*many), "again", prove=False)
        assert np.array_equal(first, again)

    def test_a_freeze_of_the_instrument_alone_leaves_the_rest_of_the_chain(self, tmp_path):
        path = stems.written(
            tmp_path / "a.dawproject", played((0.0, 1.0, 60)), PIPES + x.plugin("ClapPlugin", "a", "A")
        )
        plan = Plan((Decision("freeze", "t", through=-1),))
        assert [use.label for use in job_of(path, plan).uses] == ["Pipework"]


class TestAgain:
    def test_what_is_there_and_made_of_the_same_is_left(self, tmp_path):
        path = stems.written(tmp_path / "a.dawproject", x.clip(0, 2, audio()))
        out = tmp_path / "out"
        first = carried(path, out)
        written = (out / first.rendered.file).stat().st_mtime_ns
        again = carried(path, out)
        assert again.doing == "there already" and again.rendered == first.rendered
        assert (out / first.rendered.file).stat().st_mtime_ns == written

    def test_what_is_the_same_in_blocks_of_every_size_is_left_whatever_size_they_have(self, tmp_path):
        path = stems.written(tmp_path / "a.dawproject", x.clip(0, 2, audio()))
        out = tmp_path / "out"
        first = carried(path, out).rendered
        again = carried(path, out, buffer=64)
        assert again.doing == "there already" and again.rendered == first
        assert carrying.told_of(first)[0] == "the same, to the sample, in blocks of 512 and 1024"
        stems.written(path, x.clip(0.5, 2, audio()))
        assert carried(path, out, buffer=64).doing == "rendered"

    @pytest.mark.parametrize("change", ["audio", "place", "unproven", "gone", "note"])
    def test_anything_else_is_rendered_anew(self, tmp_path, change):
        path = stems.written(tmp_path / "a.dawproject", x.clip(0, 2, audio()))
        out = tmp_path / "out"
        first = carried(path, out, prove=change != "unproven")
        if change == "audio":
            stems.written(path, x.clip(0, 2, audio()), files={"audio/a.wav": wave(noise(seed=9))})
        elif change == "place":
            stems.written(path, x.clip(0.5, 2, audio()))
        elif change == "gone":
            (out / first.rendered.file).unlink()
        elif change == "note":
            (out / f"{first.rendered.file}.json").write_text("no")
        assert carried(path, out, buffer=256 if change == "unproven" else 512, prove=False).doing == "rendered"


class TestTrouble:
    def trouble(self, tmp_path, clips, devices="", files=None, **more):
        path = stems.written(tmp_path / "a.dawproject", clips, devices, files)
        step = carried(path, tmp_path / "out", **more)
        assert step.rendered is None
        assert not list((tmp_path / "out").glob("*.wav")) and not list((tmp_path / "out").glob(".*"))
        return step.trouble

    def test_a_missing_audio_file_is_named(self, tmp_path):
        assert "audio/gone.wav is missing in a.dawproject" in self.trouble(
            tmp_path, x.clip(0, 2, audio("audio/gone.wav"))
        )

    def test_a_file_that_is_no_audio_is_named(self, tmp_path):
        said = self.trouble(tmp_path, x.clip(0, 2, audio()), files={"audio/a.wav": b"RIFF no"})
        assert "audio/a.wav cannot be read" in said

    def test_audio_of_another_rate_than_it_says_is_not_converted(self, tmp_path):
        said = self.trouble(tmp_path, x.clip(0, 2, audio()), files={"audio/a.wav": wave(noise(), 44100)})
        assert "44100 Hz, the session 48000" in said

    def test_a_plugin_that_is_not_installed_is_named(self, tmp_path):
        said = self.trouble(tmp_path, x.clip(0, 2, audio()), x.plugin("ClapPlugin", "no.such", "Ghost"))
        assert "Ghost is not installed here" in said

    def test_a_plugin_that_crashes_ends_its_job_only(self, tmp_path, rogue):
        structure = (
            x.track("t", "Bad", x.channel("c", devices=x.plugin("ClapPlugin", "test.crash", "Crash")))
            + x.track("u", "Good", x.channel("d"))
            + x.main_track()
        )
        lanes = "".join(x.lanes(track, x.clip(0, 2, audio()), unit="seconds") for track in "tu")
        path = x.write(tmp_path / "a.dawproject", x.project(structure, lanes), {"audio/a.wav": wave(noise())})
        session = dawproject.read(path).session
        prepared = carrying.prepare(session, Plan((Decision("freeze", "t"), Decision("freeze", "u"))), 512)
        ends = {
            step.job.name: step for step in carrying.run(prepared, tmp_path / "out") if step.trouble or step.rendered
        }
        assert "SIG" in ends["Bad"].trouble or "crash" in ends["Bad"].trouble
        assert ends["Good"].rendered is not None
        assert [path.suffix for path in sorted((tmp_path / "out").iterdir())] == [".wav", ".json"]

    def test_what_is_stopped_leaves_nothing(self, tmp_path, plugin):
        stopped = Asked()
        stopped.stop()
        said = self.trouble(tmp_path, x.clip(0, 2, audio()), device(plugin), asked=stopped)
        assert "stopped" in said

    def test_a_full_disk_ends_a_job_before_it_begins(self, tmp_path, monkeypatch):
        monkeypatch.setattr(render.shutil, "disk_usage", lambda _: SimpleNamespace(free=1 << 20))
        assert "has room for 1 MB" in self.trouble(tmp_path, x.clip(0, 2, audio()))

    def test_what_is_needed_meanwhile_must_fit_as_well(self, tmp_path, monkeypatch):
        (elsewhere := tmp_path / "elsewhere").mkdir()
        monkeypatch.setattr(render.scratch, "folder", lambda: elsewhere)
        # Another disk, with room for one of the four files of a rendering that is proven.
        one = (2 + render.TAIL_SECONDS) * RATE * 8
        free = {elsewhere: render.SPARE + one, tmp_path / "out": 1 << 40}
        monkeypatch.setattr(render.shutil, "disk_usage", lambda path: SimpleNamespace(free=int(free[path])))
        monkeypatch.setattr(render, "_disk", [*free].index)
        assert f"{elsewhere} has room for" in self.trouble(tmp_path, x.clip(0, 2, audio()))


class TestBefore:
    """What cannot be rendered truthfully is said before, not after."""

    def refused(self, tmp_path, clips, devices="", more="", content="audio", decision=None):
        structure = x.track("t", "T", x.channel("c", devices=devices), content) + x.main_track()
        path = x.write(
            tmp_path / "a.dawproject", x.project(structure, x.lanes("t", clips, unit="seconds") + more),
            {"audio/a.wav": wave(noise())},
        )  # fmt: skip
        prepared = carrying.prepare(dawproject.read(path).session, Plan((decision or Decision("freeze", "t"),)), 512)
        return dict(prepared.refused).get("T", "")

    def test_stretches_automation_other_rates_and_nothing(self, tmp_path):
        notes = '<Notes><Note time="0" duration="1" key="60"/></Notes>'
        synth = x.plugin("ClapPlugin", "org.synth", "Organ", role="instrument")
        assert self.refused(tmp_path, x.clip(0, 2, notes), synth, content="notes") == ""
        both = x.clip(0, 2, notes) + x.clip(2, 2, audio())
        assert "notes and audio lie on it together" in self.refused(tmp_path, both, synth, content="notes")
        assert "no notes of its instrument are known" in self.refused(tmp_path, "", synth, content="notes")
        # A gain that cannot be read, or of notes, is not followed.
        for points, content in (('<RealPoint time="0" value="loud"/>', x_clips(x.clip(0, 2, audio()))),
                                ('<RealPoint time="0" value="0.5"/>', notes)):  # fmt: skip
            inside = f"<Lanes>{content}<Points><Target expression='gain'/>{points}</Points></Lanes>"
            chain, kind = (synth, "notes") if content is notes else ("", "audio")
            assert "hold curves of their own" in self.refused(tmp_path, x.clip(0, 2, inside), chain, content=kind)
        curve = (
            f"<Lanes>{notes}<Points><Target expression='timbre'/><RealPoint time='0' value='1'/></Points></Lanes>"
        )
        assert "hold curves of their own" in self.refused(tmp_path, x.clip(0, 2, curve), synth, content="notes")
        warps = (
            f'<Warps timeUnit="seconds" contentTimeUnit="seconds">{audio()}'
            '<Warp time="0" contentTime="0"/><Warp time="2" contentTime="1"/></Warps>'
        )
        assert "1 of its clips are stretched" in self.refused(tmp_path, x.clip(0, 2, warps))
        moving = x.plugin("ClapPlugin", "p", "P", extra='<Parameters><RealParameter id="p1" value="0"/></Parameters>')
        points = (
            '<Points><Target parameter="p1"/><RealPoint time="0" value="0"/><RealPoint time="1" value="1"/></Points>'
        )
        assert "are automated" in self.refused(tmp_path, x.clip(0, 2, audio()), moving, points)
        both = x.clip(0, 2, audio()) + x.clip(2, 2, audio(rate=44100))
        assert "of 44100 Hz in a session of 48000" in self.refused(tmp_path, both)
        assert "no audio of it is known" in self.refused(tmp_path, "")
        assert self.refused(tmp_path, x.clip(0, 2, audio())) == ""

    def test_a_session_without_an_exchange_file_has_nothing_to_render(self, tmp_path):
        path = stems.written(tmp_path / "a.dawproject", x.clip(0, 2, audio()))
        session = dawproject.read(path).session
        path.unlink()
        with pytest.raises(carrying.NothingToDoError, match=r"cannot be (opened|read)"):
            carrying.prepare(session, FREEZE, 512)
        from tests.helpers.sessions import session as plain
        from tests.helpers.sessions import track

        with pytest.raises(carrying.NothingToDoError, match="comes from no exchange file"):
            carrying.prepare(plain(track("t")), FREEZE, 512)


@pytest.mark.parametrize("letter", ["a", "я", "𠮷"])
def test_a_track_with_a_name_as_long_as_no_file_may_have_is_printed(tmp_path, letter):
    path = stems.written(tmp_path / "a.dawproject", x.clip(0, 1, audio()), files={"audio/a.wav": wave(noise(1.0))})
    job = job_of(path)
    job = msgspec.structs.replace(job, strip=msgspec.structs.replace(job.strip, name=letter * 300))
    *_, last = render.carry_out(job, path, tmp_path / "out")
    assert last.trouble == "" and last.rendered.file.startswith(letter * 40)


def test_what_nobody_expected_ends_its_job_alone_in_the_log_and_in_a_sentence(tmp_path, monkeypatch, caplog):
    stems.three_freezes(tmp_path, 1)
    saved = session_file.read(tmp_path / "mix.nimbleload")
    prepared = carrying.prepare(saved.session, saved.plan, 512)
    broken, whole = prepared.jobs[1], render.carry_out

    def carry_out(job, *more):
        if job is broken:
            raise KeyError("nobody expected this")
        return whole(job, *more)

    def late(job, *more):
        yield from carry_out(job, *more)

    monkeypatch.setattr(render, "carry_out", late)
    last = {step.job.strip.id: step for step in carrying.run(prepared, tmp_path / "out", prove=False)}
    assert [bool(last[job.strip.id].rendered) for job in prepared.jobs] == [True, False, True]
    assert "nobody expected this" in last[broken.strip.id].trouble
    (entry,) = caplog.records
    assert entry.exc_info[0] is KeyError and broken.name in entry.getMessage()
