"""Panned tracks on a bus that is printed: by the law that the host has, to the sample against sums made by hand."""

from __future__ import annotations

import msgspec
import numpy as np
import pytest
import soundfile

from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.session.panning import LAWS
from nimbleload.deliver import carrying, render
from nimbleload.store import dawproject
from tests.helpers import exchange as x
from tests.helpers.stems import RATE, audio, noise, wave

BOUNCE = Plan((Decision("bounce", "b"),))
HALF = '<Volume unit="linear" value="0.5"/>'
EQ = '<BuiltinDevice deviceID="house.shoreline" deviceName="Eq" deviceRole="audioFX"><Parameters/></BuiltinDevice>'


def pan(value, least=0, most=1):
    return f'<Pan id="pan" unit="normalized" min="{least}" max="{most}" value="{value}"/>'


def moving(*rows, unit="", target="pan"):
    inside = "".join(f'<RealPoint time="{at}" value="{value}" interpolation="linear"/>' for at, value in rows)
    counted = f' unit="{unit}"' if unit else ""
    return (f'<Lanes track="one" timeUnit="seconds"><Points{counted}><Target parameter="{target}"/>{inside}</Points>'
            "</Lanes>")  # fmt: skip


def opened(folder, one="", two="", more="", law="", sends="", bus="", device=""):
    """Tracks “one” and “two” on a bus, two seconds of noise each, in a host that pans by a law."""
    structure = (
        x.track("one", "One", x.channel("c1", destination="cb", extra=one, sends=sends, devices=device))
        + x.track("two", "Two", x.channel("c2", destination="cb", extra=two, devices=device))
        + x.track("r", "Echo", x.channel("cr", "effect", destination="cb"))
        + x.track("b", "Band", x.channel("cb", "submix", extra=bus)) + x.main_track()
    )  # fmt: skip
    lanes = "".join(
        x.lanes(name, x.clip(0, 2, audio(f"audio/{name}.wav")), unit="seconds") for name in ("one", "two")
    )
    files = {"audio/one.wav": wave(noise(seed=1)), "audio/two.wav": wave(noise(seed=2))}
    path = x.write(folder / "a.dawproject", x.project(structure, lanes + more), files)
    imported = dawproject.read(path)
    host = msgspec.structs.replace(imported.session.host, pan_law=law)
    return path, msgspec.structs.replace(imported, session=msgspec.structs.replace(imported.session, host=host))


def job_of(imported):
    (job,) = render.jobs(imported.session, BOUNCE, imported.audio, 512)
    return job


def made(path, imported, folder):
    job = job_of(imported)
    assert render.obstacles(job) == []
    *_, last = render.carry_out(job, path, folder)
    assert last.trouble == "" and last.rendered.proof.verdict == "same", last
    return last.rendered, soundfile.read(folder / last.rendered.file, dtype="float32", always_2d=True)[0]


def by_hand(law, place):
    """A law in words, for one place of the pan."""
    right = (1 + place) / 2
    power = np.cos((1 - right) * np.pi / 2), np.cos(right * np.pi / 2)
    left, right = {
        "balance": (min(1, 1 - place), min(1, 1 + place)), "3": power[::-1], "6": (1 - right, right),
        "4.5": ((power[1] * (1 - right)) ** 0.5, (power[0] * right) ** 0.5),
    }[law.lstrip("+-")]  # fmt: skip
    up = {"+3": 2**0.5, "+4.5": 2**0.75, "+6": 2.0}.get(law, 1.0)
    return np.float32([up * left, up * right])


@pytest.mark.parametrize("law", LAWS)
def test_every_law_to_the_sample_beside_the_fader(tmp_path, law):
    path, imported = opened(tmp_path, HALF + pan(0.2), pan(2.0, -3, 3), law=law)
    _, sound = made(path, imported, tmp_path / "out")
    one, two = noise(seed=1), noise(seed=2)
    wanted = one * by_hand(law, -0.6) / 2 + two * by_hand(law, 2 / 3)
    assert np.abs(sound[: len(wanted)] - wanted).max() < 1e-6


def test_a_law_that_lowers_the_centre_does_so_with_tracks_that_are_not_panned(tmp_path):
    path, imported = opened(tmp_path, law="-6")
    _, sound = made(path, imported, tmp_path / "out")
    wanted = (noise(seed=1) + noise(seed=2)) / 2
    assert np.abs(sound[: len(wanted)] - wanted).max() < 1e-6


def test_a_pan_that_moves_is_followed(tmp_path):
    # From the left to the right in a second, then it stays; shares of the range, and plain values in it.
    for more, how in ((moving((0.5, 0), (1.5, 1)), (0, 1)), (moving((0.5, -3), (1.5, 3), unit="linear"), (-3, 3))):
        value = pan(0.5 * sum(how), *how)
        path, imported = opened(tmp_path, value.replace("normalized", "linear") if how[0] else value, more=more,
                                law="balance")  # fmt: skip
        _, sound = made(path, imported, tmp_path / "out")
        one, two = noise(seed=1), noise(seed=2)
        places = np.clip(2 * (np.arange(len(one)) / RATE - 0.5) - 1, -1, 1)
        gains = np.array([by_hand("balance", place) for place in places[::100]])
        wanted = one[::100] * gains + two[::100]
        assert np.abs(sound[: len(one) : 100] - wanted).max() < 1e-6


def test_one_value_for_the_whole_piece_is_where_the_pan_stands(tmp_path):
    path, imported = opened(tmp_path, pan(0.9), more=moving((0, 0.2)), law="-3")
    _, sound = made(path, imported, tmp_path / "out")
    one, two = noise(seed=1), noise(seed=2)
    wanted = one * by_hand("-3", -0.6) + two * by_hand("-3", 0)
    assert np.abs(sound[: len(wanted)] - wanted).max() < 1e-6
    # In the centre nothing has to be known of the host.
    _, centred = opened(tmp_path, pan(0.9), more=moving((0, 0.5)))
    assert render.obstacles(job_of(centred)) == []


@pytest.mark.parametrize("more", ["", moving((0, 0), (2, 1))])
def test_while_the_law_is_not_known_panned_tracks_are_not_printed_and_it_is_said_where_to_tell_it(tmp_path, more):
    _, imported = opened(tmp_path, pan(0.5 if more else 0.2), more=more)
    (said,) = render.obstacles(job_of(imported))
    assert said.startswith("One: it is panned") and "Computer › The host and the audio device" in said


def test_a_pan_that_moves_in_a_way_that_cannot_be_read_is_refused_whatever_the_law(tmp_path):
    _, imported = opened(tmp_path, pan(0.5), more=2 * moving((0, 0), (2, 1)), law="-3")
    (said,) = render.obstacles(job_of(imported))
    assert said == "One: its pan is automated in a way that cannot be followed"


@pytest.mark.parametrize(("law", "sends", "words"), [
    ("-3", x.send("cr", "post"), "hosts differ in whether a send behind its fader is panned as well"),
    ("-3", x.send("cr", "pre"), ""), ("balance", x.send("cr", "post"), ""),
])  # fmt: skip
def test_sends_behind_the_fader_of_what_is_panned_are_refused(tmp_path, law, sends, words):
    # By balance a track in the centre is as it was, and so is its send.
    _, imported = opened(tmp_path, law=law, sends=sends)
    assert " ".join(render.obstacles(job_of(imported))) == (f"One: {words}" if words else "")


def test_another_law_is_another_file(tmp_path):
    digests = set()
    for law in ("-3", "+3", "balance"):
        path, imported = opened(tmp_path, pan(0.2), law=law)
        rendered, _ = made(path, imported, tmp_path / "out")
        digests.add(rendered.made_of)
    assert len(digests) == 3


def test_sharing_is_proven_with_panned_tracks(tmp_path):
    session = opened(tmp_path, pan(0.1), pan(0.8), law="-4.5", device=EQ)[1].session
    both = [session.strip(name) for name in ("one", "two")]
    plan = Plan(tuple(Decision("share", strip.id, strip.inserts[0].id, into="bus1") for strip in both))
    of = carrying.prepare(session, plan, 512)
    (check,) = of.checks
    assert of.refused == [] and check.law == "-4.5"
    feeds = [stage.feeds[0] for shared in (False, True) for stage in check.stages(shared)]
    assert [feed.panned.still for feed in feeds] == pytest.approx([-0.8, 0.6] * 2)
    *_, last = carrying.run(of, tmp_path / "out")
    assert last.compared.verdict in ("same", "rounded")
