"""A bus printed with all that feeds it: to the sample against sums made by hand; what cannot be is said."""

from __future__ import annotations

import numpy as np
import pytest
import soundfile

from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.deliver import render
from nimbleload.deliver.rendering import add
from nimbleload.deliver.stage import Feed, before
from nimbleload.store import dawproject
from tests.helpers import exchange as x
from tests.helpers import known
from tests.helpers.stems import RATE, audio, noise, wave

BOUNCE = Plan((Decision("bounce", "b"),))
TWO = {"audio/a.wav": wave(noise(seed=1)), "audio/b.wav": wave(noise(seed=2))}
HALF = '<Volume unit="linear" value="0.5"/>'


def mix(path, *tracks, bus="", clips=None):
    """Tracks as they are given, a bus “b” of channel “cb”, and the main output; track “one” plays a.wav from the
    start, “two” b.wav from second 1 on."""
    structure = "".join(tracks) + x.track("b", "Band", x.channel("cb", "submix", devices=bus)) + x.main_track()
    lanes = clips or x.lanes("one", x.clip(0, 2, audio("audio/a.wav")), unit="seconds") + x.lanes(
        "two", x.clip(1, 2, audio("audio/b.wav")), unit="seconds"
    )
    return x.write(path, x.project(structure, lanes), TWO)


def member(track, extra="", devices="", sends="", to="cb"):
    return x.track(track, track.title(), x.channel(f"c-{track}", destination=to, devices=devices, sends=sends,
                                                   extra=extra))  # fmt: skip


def carried(path, folder, plan=BOUNCE, **more):
    imported = dawproject.read(path)
    (job,) = render.jobs(imported.session, plan, imported.audio, 512)
    assert render.obstacles(job) == []
    *_, last = render.carry_out(job, path, folder, **more)
    assert last.trouble == "", last.trouble
    return last, soundfile.read(folder / last.rendered.file, dtype="float32", always_2d=True)[0]


def expected(*parts):
    """A sum of sounds, each with the sample it begins at and its gain."""
    made = np.zeros((max(at + len(sound) for sound, at, _ in parts), 2), np.float32)
    for sound, at, gain in parts:
        made[at : at + len(sound)] += np.float32(gain) * sound
    return made


def test_a_bus_is_the_sum_of_what_feeds_it(tmp_path):
    path = mix(tmp_path / "a.dawproject", member("one", HALF), member("two"))
    step, made = carried(path, tmp_path / "out")
    wanted = expected((noise(seed=1), 0, 0.5), (noise(seed=2), RATE, 1.0))
    assert np.allclose(made[: len(wanted)], wanted, atol=1e-7) and not made[len(wanted) :].any()
    assert step.rendered.proof.verdict == "same"


def test_sends_to_a_return_of_its_own_count_with_their_levels_before_and_after_the_fader(tmp_path):
    echo = x.track("r", "Echo", x.channel("cr", "effect", destination="cb", extra=HALF))
    path = mix(
        tmp_path / "a.dawproject", member("one", HALF, sends=x.send("cr", "post", 0.5)),
        member("two", HALF, sends=x.send("cr", "pre", 0.25) + x.send("cr", "pre", 9.0, on="false")), echo,
    )  # fmt: skip
    _, made = carried(path, tmp_path / "out", prove=False)
    one, two = noise(seed=1), noise(seed=2)
    wanted = expected((one, 0, 0.5 + 0.5 * 0.5 * 0.5), (two, RATE, 0.5 + 0.25 * 0.5))
    assert np.allclose(made[: len(wanted)], wanted, atol=1e-7)


def test_groups_in_groups_and_what_is_muted_or_off(tmp_path):
    inner = x.track("g", "Inner", x.channel("cg", "submix", destination="cb", extra=HALF))
    muted = member("three", '<Mute value="true"/>')
    path = mix(
        tmp_path / "a.dawproject", member("one", to="cg"), member("two"), muted, inner,
        clips=x.lanes("one", x.clip(0, 2, audio("audio/a.wav")), unit="seconds")
        + x.lanes("two", x.clip(0, 2, audio("audio/b.wav")), unit="seconds")
        + x.lanes("three", x.clip(0, 2, audio("audio/b.wav")), unit="seconds"),
    )  # fmt: skip
    imported = dawproject.read(path)
    bus = next(strip for strip in imported.session.strips if strip.id == "b")
    first = before(imported.session, bus, (), imported.audio)
    assert [stage.strip.id for stage in first.stages] == ["one", "two", "g"]
    assert first.fed == {"one", "two", "three", "g"}
    _, made = carried(path, tmp_path / "out", prove=False)
    wanted = expected((noise(seed=1), 0, 0.5), (noise(seed=2), 0, 1.0))
    assert np.allclose(made[: len(wanted)], wanted, atol=1e-7)


def test_what_comes_late_on_one_track_is_in_time_on_the_bus_and_tails_go_on(tmp_path, monkeypatch):
    # It says it is 77 samples late and is not, and has a tail of 0.01: what it gives is 77 samples early then.
    known.installed(tmp_path / "plugin", "clap", monkeypatch)
    device = x.plugin("ClapPlugin", known.IDENTIFIERS["clap"], "Known")
    path = mix(tmp_path / "a.dawproject", member("one", devices=device), member("two"))
    step, made = carried(path, tmp_path / "out", prove=False)
    assert step.rendered.latency == 0  # the bus's own: what comes late before it has been moved back there
    late = noise(seed=1)[77:, 0]
    assert np.allclose(made[: RATE - 100, 0], late[: RATE - 100], atol=1e-7)
    two = noise(seed=2)[:, 0]
    assert np.allclose(made[RATE : RATE + len(late) - RATE, 0], late[RATE:] + two[: len(late) - RATE], atol=1e-7)
    # Its tail beside the second track, which goes on for a second more.
    assert np.allclose(made[2 * RATE + 600 : 2 * RATE + 40_000, 0], two[RATE + 600 : RATE + 40_000] + 0.01, atol=1e-6)


def test_the_bus_has_its_own_plugins_up_to_its_fader(tmp_path, monkeypatch):
    known.installed(tmp_path / "plugin", "clap", monkeypatch)
    device = x.plugin("ClapPlugin", known.IDENTIFIERS["clap"], "Known")
    path = mix(tmp_path / "a.dawproject", member("one", HALF), member("two", HALF), bus=device)
    step, made = carried(path, tmp_path / "out", prove=False)
    wanted = expected((noise(seed=1), 0, 0.5), (noise(seed=2), RATE, 0.5))[77:, 0]
    assert step.rendered.latency == 77 and np.allclose(made[: len(wanted), 0], wanted, atol=1e-7)


@pytest.mark.parametrize(
    ("extra", "sends", "words"),
    [
        ('<Pan unit="normalized" min="0" max="1" value="0.2"/>', "", "it is panned"),
        ('<Volume id="moves" unit="linear" value="0.5"/>', "", "its fader is automated in clips, or in a unit"),
    ],
)
def test_what_hosts_do_in_their_own_way_is_said_before(tmp_path, extra, sends, words):
    moves = (
        '<Points unit="semitones"><Target parameter="moves"/><RealPoint time="0" value="0.1"/>'
        '<RealPoint time="4" value="0.9"/></Points>'
    )
    path = mix(
        tmp_path / "a.dawproject", member("one", extra, sends=sends), member("two"),
        clips=x.lanes("one", x.clip(0, 2, audio("audio/a.wav")), unit="seconds")
        + f'<Lanes track="two">{moves if "moves" in extra else ""}</Lanes>',
    )  # fmt: skip
    imported = dawproject.read(path)
    (job,) = render.jobs(imported.session, BOUNCE, imported.audio, 512)
    said = render.obstacles(job)
    assert any(each.startswith(f"One: {words}") for each in said)
    # A track without anything on it is silence on the bus.
    assert not any(each.startswith("Two:") for each in said)


def test_a_plugin_of_a_track_of_the_bus_that_is_not_installed_is_named(tmp_path):
    device = x.plugin("ClapPlugin", "nobody.here", "Nobody")
    path = mix(tmp_path / "a.dawproject", member("one", devices=device), member("two"))
    imported = dawproject.read(path)
    (job,) = render.jobs(imported.session, BOUNCE, imported.audio, 512)
    *_, last = render.carry_out(job, path, tmp_path / "out")
    assert "Nobody is" in last.trouble and not list(tmp_path.glob("out/*.wav"))


def test_another_fader_of_a_member_is_another_file_and_an_equal_one_is_left(tmp_path):
    path = mix(tmp_path / "a.dawproject", member("one", HALF), member("two"))
    first, _ = carried(path, tmp_path / "out", prove=False)
    again, _ = carried(path, tmp_path / "out", prove=False)
    assert again.doing == "there already"
    other = mix(tmp_path / "b.dawproject", member("one", HALF.replace("0.5", "0.6")), member("two"))
    changed, _ = carried(other, tmp_path / "out", prove=False)
    assert changed.doing == "rendered" and changed.rendered.made_of != first.rendered.made_of


def test_sums_in_a_file_grow_as_they_need_to(tmp_path):
    path = tmp_path / "sum"
    one, other = np.ones((5, 2), np.float32), np.full((3, 2), 2.0, np.float32)
    add(path, iter([one, other]), Feed("b", 0.5), RATE)
    add(path, iter([np.ones((10, 2), np.float32)]), Feed("b", 1.0), RATE)
    found = np.fromfile(path, np.float32).reshape(-1, 2)[:, 0]
    assert found.tolist() == [1.5] * 5 + [2.0] * 3 + [1.0] * 2
