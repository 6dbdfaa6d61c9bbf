"""Stems: what each strip gives to the main output, against sums made by hand; together they are the mix."""

from __future__ import annotations

import msgspec
import numpy as np
import soundfile

from nimbleload.core.decisions.decision import Plan
from nimbleload.core.session.computer import Host
from nimbleload.deliver import carrying, stems
from nimbleload.store import dawproject
from tests.deliver.test_controllers import NOTES
from tests.helpers import exchange as x
from tests.helpers import known, played
from tests.helpers.stems import RATE, audio, noise, wave

FILES = {"audio/a.wav": wave(noise(seed=1)), "audio/b.wav": wave(noise(seed=2)), "audio/c.wav": wave(noise(seed=3))}


def volume(level):
    return f'<Volume unit="linear" value="{level}"/>'


def strip(track, to, level, role="regular", sends="", devices="", more=""):
    inside = x.channel(f"c-{track}", role, to, devices, sends, volume(level) + more)
    return x.track(track, track.title(), inside)


def lane(track, start, file):
    return x.lanes(track, x.clip(start, 2, audio(f"audio/{file}.wav")), unit="seconds")


def a_mix(path, main="", more="", empty=""):
    """Two tracks on a bus, one of which feeds an echo; a third track by itself; all behind faders."""
    structure = (
        strip("one", "c-band", 0.5, sends=x.send("c-echo", "post", 0.25)) + strip("two", "c-band", 0.8)
        + strip("solo", "cm", 0.3) + strip("band", "cm", 0.6, "submix") + strip("echo", "cm", 0.9, "effect")
        + empty + x.track("tm", "Main", x.channel("cm", "master", devices=main, extra=volume(0.7)))
    )  # fmt: skip
    return x.write(path, x.project(structure, lane("one", 0, "a") + lane("two", 1, "b") + lane("solo", 2, "c") + more),
                   FILES)  # fmt: skip


def by_hand():
    """What each of them gives to the main output (n, 2), and all together."""
    one, two, solo = np.zeros((3, 4 * RATE, 2))
    one[: 2 * RATE], two[RATE : 3 * RATE], solo[2 * RATE :] = noise(seed=1), noise(seed=2), noise(seed=3)
    found = {"solo": 0.3 * solo, "band": 0.6 * (0.5 * one + 0.8 * two), "echo": 0.9 * 0.25 * 0.5 * one}
    return found | {"all": sum(found.values())}


def plays(made, wanted):
    """Whether a file plays that, and nothing after."""
    return np.allclose(made[: len(wanted)], wanted, atol=1e-6) and not made[len(wanted) :].any()


def rendered(path, folder, ids=None, session=None, **more):
    of = session or dawproject.read(path).session
    ids = [*stems.leading(of), "tm"] if ids is None else ids
    prepared = carrying.prepare(of, Plan(), 512, ids)
    assert prepared.refused == []
    files, proofs = {}, []
    for step in carrying.run(prepared, folder, **more):
        assert step.trouble == "", step.trouble
        if step.rendered is not None:
            files[step.rendered.strip.removesuffix("/stem")] = step.rendered
        if step.compared is not None:
            proofs.append(step.compared)
    sound = {
        each: soundfile.read(folder / of.file, dtype="float32", always_2d=True)[0] for each, of in files.items()
    }  # fmt: skip
    return files, sound, proofs


def test_each_is_what_it_gives_to_the_main_output_and_together_they_are_the_mix(tmp_path):
    path = a_mix(tmp_path / "a.dawproject")
    files, sound, (together,) = rendered(path, tmp_path / "out")
    wanted = by_hand()
    assert set(sound) == {"solo", "band", "echo", "tm"}
    for each in ("solo", "band", "echo"):
        # All begin with the piece, and last as long as it at least.
        assert plays(sound[each], wanted[each])
        assert files[each].start == 0 and files[each].proof.verdict == "same"
    # The stem of the main output is the mix, behind its fader.
    assert plays(sound["tm"], 0.7 * wanted["all"])
    assert together.verdict in ("same", "rounded") and together.peak_db < -120
    assert files["band"].file.startswith("Band stem ")


def test_that_they_do_not_add_up_is_said_and_can_be_heard(tmp_path):
    path = a_mix(tmp_path / "a.dawproject")
    of = dawproject.read(path)
    ids = ["solo", "band", "echo"]
    prepared = carrying.prepare(of.session, Plan(), 512, ids)
    files, _, _ = rendered(path, tmp_path / "out", ids)
    solo = tmp_path / "out" / files["solo"].file
    sound, rate = soundfile.read(solo, dtype="float32")
    soundfile.write(solo, 0.5 * sound, rate, subtype="FLOAT", format="WAV")
    names = {f"{each}/stem": of.file for each, of in files.items()}
    *_, last = stems.prove(prepared.together, names, path, tmp_path / "out")
    assert last.compared.verdict == "different" and 2.0 <= last.compared.at < 4.0
    assert (tmp_path / "out" / last.compared.residual).exists()
    *_, without = stems.prove(prepared.together, {}, path, tmp_path / "out")
    assert without.trouble == "Solo stem was not rendered, so they cannot be taken together."


def test_some_of_them_prove_nothing_together(tmp_path):
    path = a_mix(tmp_path / "a.dawproject")
    of = dawproject.read(path)
    assert carrying.prepare(of.session, Plan(), 512, ["solo", "band"]).together is None
    _, sound, proofs = rendered(path, tmp_path / "out", ["one", "band"], kind="flac")
    assert set(sound) == {"one", "band"} and proofs == []
    # Deeper in, what a track gives to its bus.
    assert plays(sound["one"], 0.5 * noise(seed=1))
    assert plays(sound["band"], by_hand()["band"])


def test_plugins_of_strips_are_in_them_and_those_of_the_main_output_only_in_the_mix(tmp_path, monkeypatch):
    built = known.installed(tmp_path / "plugin", "clap", monkeypatch, "MOVES")
    half = x.plugin("ClapPlugin", known.IDENTIFIERS["clap"], "Known",
                    extra='<Parameters><RealParameter parameterID="10" value="50"/></Parameters>')  # fmt: skip
    assert built.path.exists()
    _, sound, (together,) = rendered(a_mix(tmp_path / "a.dawproject", main=half), tmp_path / "out")
    wanted = by_hand()
    assert plays(sound["band"], wanted["band"])
    # It says it is 77 samples late, and is not: what it gives is moved back by as much. It has one channel.
    mix = 0.5 * 0.7 * wanted["all"][77:, 0]
    assert np.allclose(sound["tm"][: len(mix), 0], mix, atol=1e-6)
    assert together.verdict in ("same", "rounded")


def test_instruments_pans_and_empty_tracks(tmp_path, monkeypatch):
    device = played.installed(tmp_path / "plugin", "clap", monkeypatch)
    pan = '<Pan unit="normalized" value="0" min="0" max="1"/>'
    keys = x.track("keys", "Keys", x.channel("ck", destination="cm", devices=device, extra=pan), "notes")
    nothing = strip("nothing", "c-band", 1.0) + strip("more", "cm", 1.0)
    path = a_mix(tmp_path / "a.dawproject", more=x.lanes("keys", x.clip(0, 2, NOTES), unit="seconds"),
                 empty=keys + nothing)  # fmt: skip
    of = dawproject.read(path).session
    assert [each.id for each in stems.choices(of)] == ["solo", "band", "echo", "keys", "tm", "one", "two"]
    assert stems.leading(of) == ["solo", "band", "echo", "keys"]
    # What holds for several of them is said once.

    panned = tuple(msgspec.structs.replace(s, pan=-1.0) if s.id in ("one", "two") else s for s in of.strips)
    ((_, why),) = carrying.prepare(msgspec.structs.replace(of, strips=panned), Plan(), 512, ["band"]).refused
    assert why.count("hosts pan by different laws") == 1 and why.startswith("One, Two: it is panned")
    ((name, why),) = carrying.prepare(of, Plan(), 512, ["keys"]).refused
    assert name == "Keys stem" and "hosts pan by different laws" in why
    lawful = msgspec.structs.replace(of, host=Host(pan_law="balance"))
    _, sound, (together,) = rendered(path, tmp_path / "out", session=lawful)
    assert not sound["keys"][:, 1].any() and sound["keys"][round(0.3 * RATE), 0] == 2 / 16
    assert together.verdict in ("same", "rounded")
