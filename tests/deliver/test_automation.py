"""Automation in what is rendered: to the sample against sums made by hand, in all four standards."""

from __future__ import annotations

import numpy as np
import pytest
import soundfile

from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.deliver import carrying, render
from nimbleload.probe.moved import STEP, step_of
from nimbleload.store import dawproject
from tests.helpers import exchange as x
from tests.helpers import known, stems
from tests.helpers.often import each_of
from tests.helpers.stems import RATE, audio, noise, wave

FREEZE = Plan((Decision("freeze", "t"),))
LATE = 77  # so many samples the test plugin says it is late, and is not
TAGS = {"clap": "ClapPlugin", "vst3": "Vst3Plugin", "lv2": "BuiltinDevice", "ladspa": "BuiltinDevice"}
NAMES = {"clap": "10", "vst3": "10", "lv2": "extra", "ladspa": "Extra"}


def device(standard, tag="RealParameter", **attributes):
    """The test plugin, whose output is so many percent of its input, with that parameter as “p”."""
    written = {"id": "p", "parameterID": NAMES[standard], "value": "0"} | attributes
    words = " ".join(f'{name}="{value}"' for name, value in written.items())
    own = known.IDENTIFIERS[standard]
    identifier = own if standard in ("clap", "vst3") else f"{standard}:{own}"
    return x.plugin(TAGS[standard], identifier, "Known", extra=f"<Parameters><{tag} {words}/></Parameters>")


def points(*rows, target="p", unit="", tag="RealPoint", lane="t"):
    """Automation of a parameter in a lane of its own: rows of second, value and whether it ramps."""
    inside = "".join(
        f'<{tag} time="{second}" value="{value}" interpolation="{"linear" if ramp else "hold"}"/>'
        for second, value, ramp in rows
    )
    counted = f' unit="{unit}"' if unit else ""
    moving = f'<Points{counted}><Target parameter="{target}"/>{inside}</Points>'
    return f'<Lanes track="{lane}" timeUnit="seconds">{moving}</Lanes>'


def carried(path, folder, buffer=512, plan=FREEZE):
    imported = dawproject.read(path)
    (job,) = render.jobs(imported.session, plan, imported.audio, buffer)
    assert render.obstacles(job) == []
    *_, last = render.carry_out(job, path, folder)
    assert last.trouble == "", last.trouble
    return last.rendered, soundfile.read(folder / last.rendered.file, dtype="float32", always_2d=True)[0]


def wanted(percent):
    """The noise through a curve (percent, at each of its samples), moved back by what the plugin says it is late."""
    return (noise()[:, 0] * percent / 100)[LATE:]


ROWS = ((0.25, 20, True), (0.5, 80, False), (1.0, 50, True), (1.5, 50, True), (1.75, 10, False))
TIMES = np.arange(2 * RATE) / RATE


def curve(standard):
    """ROWS counted by hand: at every sample, or held from one place to the next where a standard knows no lines."""
    at = np.arange(2 * RATE)
    if standard != "vst3":
        places = np.arange(0, 2 * RATE, STEP)
        if standard == "clap":
            own = np.array([round(second * RATE) for second, *_ in ROWS])
            places = np.unique(np.concatenate((places, own, own - 1)))
        at = places[np.searchsorted(places, at, "right") - 1]
    second = at / RATE
    found = np.full(len(at), 20.0)
    found[second >= 0.25] = (20 + (second - 0.25) / 0.25 * 60)[second >= 0.25]
    found[second >= 0.5] = 80
    found[second >= 1.0] = 50
    found[second >= 1.5] = (50 - (second - 1.5) / 0.25 * 40)[second >= 1.5]
    found[second >= 1.75] = 10
    return found


@pytest.mark.parametrize(("standard", "buffer"), each_of(["ladspa", "lv2", "clap", "vst3"], [128, 1024]))
def test_a_parameter_that_moves_is_rendered_as_it_moves_at_any_block_size(tmp_path, monkeypatch, standard, buffer):
    known.installed(tmp_path / "plugin", standard, monkeypatch, "MOVES")
    share = 100 if standard == "vst3" else 1
    rows = [(second, value / share, ramp) for second, value, ramp in ROWS]
    path = stems.written(tmp_path / "a.dawproject", x.clip(0, 2, audio()), device(standard), more=points(*rows))
    rendered, made = carried(path, tmp_path / "out", buffer)
    # Only VST3 says that a value goes in a straight line from one point to the next.
    by_hand = wanted(curve(standard))
    assert np.allclose(made[: len(by_hand), 0], by_hand, atol=2e-6)
    assert rendered.proof.verdict in ("same", "rounded")


@pytest.mark.parametrize(("standard", "unit"), [("clap", "normalized"), ("lv2", "normalized"), ("vst3", "normalized")])
def test_a_share_of_a_range_is_one_in_every_standard(tmp_path, monkeypatch, standard, unit):
    known.installed(tmp_path / "plugin", standard, monkeypatch, "MOVES")
    more = points((0, 0.25, False), (1, 0.75, False), unit=unit)
    path = stems.written(tmp_path / "a.dawproject", x.clip(0, 2, audio()), device(standard, unit=unit), more=more)
    _, made = carried(path, tmp_path / "out")
    by_hand = wanted(np.where(TIMES < 1, 25.0, 75.0))
    # VST3's straight line to the new value is a sample long.
    assert np.allclose(made[: len(by_hand), 0], by_hand, atol=1e-6)


def test_shares_of_a_range_that_the_file_gives_are_values_in_it(tmp_path, monkeypatch):
    known.installed(tmp_path / "plugin", "clap", monkeypatch, "MOVES")
    more = points((0, 0.5, False), unit="normalized")
    of = device("clap", unit="percent", min="20", max="60")
    path = stems.written(tmp_path / "a.dawproject", x.clip(0, 2, audio()), of, more=more)
    _, made = carried(path, tmp_path / "out")
    by_hand = wanted(np.full(2 * RATE, 40.0))
    assert np.allclose(made[: len(by_hand), 0], by_hand, atol=1e-6)


def test_what_a_parameter_is_before_the_piece_is_not_heard(tmp_path, monkeypatch):
    """The static value stands in the session, and the automation's from the first sample on."""
    known.installed(tmp_path / "plugin", "clap", monkeypatch, "MOVES")
    path = stems.written(
        tmp_path / "a.dawproject", x.clip(0, 2, audio()), device("clap", value="100"), more=points((1, 30, False))
    )
    _, made = carried(path, tmp_path / "out")
    by_hand = wanted(np.full(2 * RATE, 30.0))
    assert np.allclose(made[: len(by_hand), 0], by_hand, atol=1e-6)


@pytest.mark.parametrize("unit", ["linear", "decibel"])
def test_a_fader_that_rides_is_printed_on_a_bus(tmp_path, unit):
    volume = '<Volume id="v" unit="linear" value="0.125"/>'
    structure = (
        x.track("t", "One", x.channel("c", destination="cb", extra=volume, sends=x.send("cr", "pre", 0.5)))
        + x.track("r", "Echo", x.channel("cr", "effect", destination="cb"))
        + x.track("b", "Band", x.channel("cb", "submix")) + x.main_track()
    )  # fmt: skip
    rows = ((0.5, 0.5, True), (1.5, 1.0, False)) if unit == "linear" else ((0.5, -20, True), (1.5, 0, False))
    lanes = x.lanes("t", x.clip(0, 2, audio()), unit="seconds") + points(*rows, target="v", unit=unit)
    path = x.write(tmp_path / "a.dawproject", x.project(structure, lanes), {"audio/a.wav": wave(noise())})
    rendered, made = carried(path, tmp_path / "out", plan=Plan((Decision("bounce", "b"),)))
    gain = np.interp(TIMES, [0.5, 1.5], [rows[0][1], rows[1][1]])
    if unit == "decibel":
        gain = 10 ** (gain / 20)
    by_hand = noise() * (gain + 0.5)[:, None]
    assert np.allclose(made[: len(by_hand)], by_hand, atol=1e-6)
    assert rendered.proof.verdict == "same"


def switched(*rows, target):
    """Automation of a switch: rows of second and “true” or “false”."""
    return points(*((second, value, False) for second, value in rows), target=target, tag="BoolPoint")


def on_a_bus(tmp_path, extra, sends, *more):
    """What a bus prints of a track, its send and what is automated of them; the session and the sound."""
    structure = (
        x.track("t", "One", x.channel("c", destination="cb", extra=extra, sends=sends))
        + x.track("r", "Echo", x.channel("cr", "effect", destination="cb"))
        + x.track("b", "Band", x.channel("cb", "submix")) + x.main_track()
    )  # fmt: skip
    lanes = x.lanes("t", x.clip(0, 2, audio()), unit="seconds") + "".join(more)
    path = x.write(tmp_path / "a.dawproject", x.project(structure, lanes), {"audio/a.wav": wave(noise())})
    rendered, made = carried(path, tmp_path / "out", plan=Plan((Decision("bounce", "b"),)))
    assert rendered.proof.verdict == "same"
    return dawproject.read(path).session, made


@pytest.mark.parametrize("still", ["true", "false"])
def test_a_track_that_is_muted_and_heard_is_printed_so_with_its_sends(tmp_path, still):
    """Whatever it stands at: a track that is heard at some time is a part of the session."""
    mute = f'<Mute id="m" value="{still}"/><Volume unit="linear" value="0.5"/>'
    moves = switched((0, "true"), (0.5, "false"), (1.25, "true"), target="m")
    session, made = on_a_bus(tmp_path, mute, x.send("cr", "pre", 0.25), moves)
    assert not session.strip("t").mute
    gain = 0.75 * ((TIMES >= 0.5) & (TIMES < 1.25))
    assert np.allclose(made[: len(gain)], noise() * gain[:, None], atol=1e-6)


def test_a_track_that_is_muted_all_the_time_is_muted(tmp_path):
    mute = '<Mute id="m" value="false"/>'
    structure = x.track("t", "One", x.channel("c", extra=mute)) + x.main_track()
    lanes = x.lanes("t", x.clip(0, 2, audio()), unit="seconds") + switched((0, "true"), (1, "true"), target="m")
    path = x.write(tmp_path / "a.dawproject", x.project(structure, lanes), {"audio/a.wav": wave(noise())})
    assert dawproject.read(path).session.strip("t").mute


@pytest.mark.parametrize("kind", ["pre", "post"])
@pytest.mark.parametrize("unit", ["linear", "decibel"])
def test_a_send_whose_level_rides_is_printed_on_a_bus(tmp_path, kind, unit):
    rows = ((0.5, 0.25, True), (1.5, 1.0, False)) if unit == "linear" else ((0.5, -12, True), (1.5, 0, False))
    send = x.send("cr", kind, 0.9).replace("<Volume ", '<Volume id="s" ')
    _, made = on_a_bus(tmp_path, '<Volume unit="linear" value="0.5"/>', send, points(*rows, target="s", unit=unit))
    level = np.interp(TIMES, [0.5, 1.5], [rows[0][1], rows[1][1]])
    if unit == "decibel":
        level = 10 ** (level / 20)
    gain = 0.5 + level * (1.0 if kind == "pre" else 0.5)
    assert np.allclose(made[: len(gain)], noise() * gain[:, None], atol=1e-6)


def test_a_send_that_is_switched_on_later_counts_and_is_printed_from_then_on(tmp_path):
    send = x.send("cr", "post", 0.5, on="false").replace("<Enable ", '<Enable id="on" ')
    moves = switched((0, "false"), (1.0, "true"), target="on")
    session, made = on_a_bus(tmp_path, '<Volume id="v" unit="linear" value="1"/>', send, moves,
                             points((0, 0.5, False), (1.5, 1.0, False), target="v"))  # fmt: skip
    assert session.strip("t").sends[0].enabled
    fader = np.where(TIMES < 1.5, 0.5, 1.0)
    gain = fader * (1 + 0.5 * (TIMES >= 1.0))
    assert np.allclose(made[: len(gain)], noise() * gain[:, None], atol=1e-6)


def test_of_two_sends_each_moves_by_itself(tmp_path):
    one = x.send("cr", "pre", 0.5).replace("<Volume ", '<Volume id="s" ')
    other = x.send("cr", "post", 0.25)
    _, made = on_a_bus(tmp_path, "", other + x.send("nobody") + one, points((0, 0, False), (1, 1, False), target="s"))
    gain = 1.25 + (TIMES >= 1.0)
    assert np.allclose(made[: len(gain)], noise() * gain[:, None], atol=1e-6)


def refused(tmp_path, devices="", more="", extra="", sends="", clips=None, decision=None):
    """Why a track on a bus is not rendered, frozen by itself or on the bus."""
    structure = (
        x.track("t", "One", x.channel("c", destination="cb", devices=devices, extra=extra, sends=sends))
        + x.track("r", "Echo", x.channel("cr", "effect", destination="cb"))
        + x.track("b", "Band", x.channel("cb", "submix")) + x.main_track()
    )  # fmt: skip
    lanes = x.lanes("t", clips or x.clip(0, 2, audio()), unit="seconds") + more
    path = x.write(tmp_path / "a.dawproject", x.project(structure, lanes), {"audio/a.wav": wave(noise())})
    prepared = carrying.prepare(dawproject.read(path).session, Plan((decision or Decision("freeze", "t"),)), 512)
    return " ".join(reason for _, reason in prepared.refused)


BUS = Decision("bounce", "b")
TWO = ((0, 0.25, False), (1, 0.75, False))


def test_what_cannot_be_followed_is_said_before(tmp_path):
    clap = device("clap")
    assert refused(tmp_path, clap, points(*TWO)) == ""
    enabled = x.plugin("ClapPlugin", "p", "P").replace("<Enabled ", '<Enabled id="on" ')
    moves = switched((0, "true"), (1, "false"), target="on")
    assert "switched on and off by automation" in refused(tmp_path, enabled, moves)
    inside = f"<Lanes>{audio()}{points(*TWO)}</Lanes>"
    assert "automated in clips" in refused(tmp_path, clap, clips=x.clip(0, 2, inside))
    assert "a unit that is not known" in refused(tmp_path, device("clap", unit="hertz"), points(*TWO, unit="decibel"))
    twice = points(*TWO) + points(*TWO)
    assert "automated in clips" in refused(tmp_path, clap, twice)
    broken = points((0, "loud", False), (1, 1, False))
    assert "a unit that is not known" in refused(tmp_path, clap, broken)
    no_range = device("clap", unit="hertz", min="low", max="20000")
    assert "a unit that is not known" in refused(tmp_path, no_range, points(*TWO, unit="normalized"))
    house = x.plugin("BuiltinDevice", "house.equaliser", "EQ", extra='<Parameters><RealParameter id="p" '
                     'parameterID="bands" value="4"/></Parameters>')  # fmt: skip
    assert "EQ is automated, and house processors" in refused(tmp_path, house, points(*TWO))


@pytest.mark.parametrize(
    ("extra", "target", "words"),
    [
        ('<Pan id="m" value="0.5"/>', "m", "it is panned, and hosts pan by different laws"),
        ('<Mute id="m" value="false"/>', "m", "muted and heard by automation that cannot be read"),
        ('<Volume id="m" unit="linear" value="1"/>', "m", "its fader is automated in clips"),
        ("", "s", "the level or the pan of a send of it is automated"),
    ],
)
def test_what_moves_between_a_track_and_its_bus_is_said_before_and_does_not_mind_a_freeze(
    tmp_path, extra, target, words
):
    tag, rows = ("BoolPoint", ((0, "true", False), (1, "false", False))) if "Mute" in extra else ("RealPoint", TWO)
    more = points(*rows, target=target, tag=tag, unit="semitones" if "Volume" in extra or target == "s" else "")
    more += more if "Mute" in extra else ""  # twice is unclear
    sends = x.send("cr").replace("<Volume ", '<Volume id="s" ')
    assert words in refused(tmp_path, extra=extra, sends=sends, more=more, decision=BUS)
    assert refused(tmp_path, extra=extra, sends=sends, more=more) == ""


def test_one_value_is_no_riding_and_what_comes_after_the_cut_does_not_count(tmp_path):
    constant = points((0, 0.5, False), target="m")
    assert refused(tmp_path, extra='<Pan id="m" value="0.5"/>', more=constant, decision=BUS) == ""
    plain = x.plugin("ClapPlugin", "other", "Other")
    moved = x.plugin("ClapPlugin", "p", "P").replace("<Enabled ", '<Enabled id="on" ')
    more = switched((0, "true"), (1, "false"), target="on")
    assert refused(tmp_path, plain + moved, more, decision=Decision("freeze", "t", through=0)) == ""
    assert "switched on" in refused(tmp_path, plain + moved, more, decision=Decision("freeze", "t", through=1))


def test_a_parameter_that_the_plugin_has_not_ends_its_job_with_its_name(tmp_path, monkeypatch):
    known.installed(tmp_path / "plugin", "clap", monkeypatch, "MOVES")
    of = device("clap", parameterID="4711").replace('value="0"', "")
    path = stems.written(tmp_path / "a.dawproject", x.clip(0, 2, audio()), of, more=points(*TWO))
    imported = dawproject.read(path)
    (job,) = render.jobs(imported.session, FREEZE, imported.audio, 512)
    *_, last = render.carry_out(job, path, tmp_path / "out")
    assert "Known: it has no parameter '4711', which is automated" in last.trouble
    assert not list(tmp_path.glob("out/*.wav"))


def test_other_automation_is_another_file(tmp_path, monkeypatch):
    known.installed(tmp_path / "plugin", "clap", monkeypatch, "MOVES")
    made = [
        carried(
            stems.written(tmp_path / "a.dawproject", x.clip(0, 2, audio()), device("clap"), more=points((0, v, False))),
            tmp_path / "out",
        )[0].made_of
        for v in (10, 20, 10)
    ]
    assert made[0] != made[1] and made[0] == made[2]


def test_blocks_between_which_values_change_are_parts_of_the_hosts():
    assert [step_of(buffer) for buffer in (16, 64, 96, 480, 1024, 441)] == [16, 64, 48, 60, 64, 63]
    assert all(buffer % step_of(buffer) == 0 and step_of(buffer) <= STEP for buffer in range(1, 3000))
