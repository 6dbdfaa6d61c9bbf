"""What was changed here of a session from an exchange file: written with the plan, or told; never another thing."""

from __future__ import annotations

import zipfile

import msgspec
import pytest

from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.session import chain_edits, edits, time_edits
from nimbleload.core.session.plugins import PluginRef, PluginUse
from nimbleload.core.session.session import TempoPoint
from nimbleload.deliver import exchange_out
from nimbleload.store import dawproject
from tests.helpers import exchange as x
from tests.helpers import grammar
from tests.helpers.stems import audio

EQ = '<ClapPlugin deviceID="{0}" deviceName="{1}"><Parameters><RealParameter parameterID="gain" value="{2}"/>' \
     '</Parameters></ClapPlugin>'  # fmt: skip
OTHER = PluginUse("", PluginRef("clap", "other", "Other"))


@pytest.fixture
def source(tmp_path):
    devices = EQ.format("a", "A", 1) + EQ.format("b", "B", 2)
    off = devices.replace("<Parameters>", '<Enabled value="false"/><Parameters>', 1)
    tracks = (
        x.track("t", "Voice", x.channel("ct", destination="cg", devices=devices, sends=x.send("cr", "post", 0.5)))
        + x.track("u", "Oars", x.channel("cu", devices=off.replace("<Enabled", "<Enabled", 1)))
        + x.track("g", "Band", x.channel("cg", "submix")) + x.track("r", "Room", x.channel("cr", "effect"))
    )  # fmt: skip
    lanes = x.lanes("t", x.clip(0, 4, audio()), unit="seconds")
    xml = x.project(tracks + x.main_track(), lanes, unit="seconds")
    return x.write(tmp_path / "a.dawproject", xml, {"audio/a.wav": b"sound"})


def written(source, session, plan=Plan()):  # noqa: B008
    target = source.with_name("b.dawproject")
    made = exchange_out.write(target, source, session, plan, {}, source.parent)
    with zipfile.ZipFile(target) as now, zipfile.ZipFile(source) as was:
        faults = [grammar.faults(each.read("project.xml")) for each in (now, was)]
    assert set(faults[0]) <= set(faults[1])
    return dawproject.read(target).session, made


def test_what_can_be_written_reads_back_as_it_is_here(source):
    session = dawproject.read(source).session
    voice, oars = (session.strip(each).inserts for each in "tu")
    now = chain_edits.bypass(session, [voice[1].id], True)
    now = chain_edits.bypass(now, [oars[0].id], False)
    now = chain_edits.set_values(now, [voice[0].id], {"gain": 1 / 3, "more": 4.0})
    now = edits.route(now, ["t"], "tm")
    now = edits.send(now, ["t"], "r", 0.25)
    now = edits.send(now, ["u", "g"], "r", 0.125, pre_fader=True)
    now = edits.rename(now, "g", "Band & <all>")
    found, made = written(source, now)
    for strip in now.strips:
        read = found.strip(strip.id)
        assert [(use.enabled, use.setting) for use in read.uses()] == [(u.enabled, u.setting) for u in strip.uses()]
        assert [each for each in read.sends if each.enabled] == list(strip.sends), strip.name
        assert (read.output, read.name) == (strip.output, strip.name)
    assert made.by_hand == ()
    assert "Oars: A switched on" in made.done and "Voice: a send to Room" in made.done


def test_tracks_go_off_and_on_and_what_was_taken_out_is_off(source):
    session = dawproject.read(source).session
    now = chain_edits.take_out(edits.switch(session, ["u"], False), [session.strip("t").inserts[0].id])
    now = edits.remove(now, ["g"])
    found, made = written(source, now)
    assert [found.strip(each).enabled for each in ("t", "u", "g", "r")] == [True, False, False, True]
    assert [use.enabled for use in found.strip("t").inserts] == [False, True] and found.strip("t").output == "tm"
    assert made.by_hand == () and "Band: switched off, since it was removed" in made.done
    again = dawproject.read(source.with_name("b.dawproject")).session
    source = source.with_name("b.dawproject")
    found, _ = written(source.rename(source.with_name("c.dawproject")), edits.switch(
        msgspec.structs.replace(again, source=str(source.with_name("c.dawproject"))), ["u"], True))  # fmt: skip
    assert found.strip("u").enabled


def test_a_plan_means_what_is_here_and_never_what_stands_in_its_place_in_the_file(source):
    session = dawproject.read(source).session
    now = chain_edits.insert(session, "t", [OTHER], 0)
    new = now.strip("t").inserts[0]
    plan = Plan((Decision("off", "t", new.id), Decision("off", "t", now.strip("t").inserts[2].id)))
    found, made = written(source, now, plan)
    assert [(use.label, use.enabled) for use in found.strip("t").inserts] == [("A", True), ("B", False)]
    assert made.by_hand == ("changed here, and not in the file: Voice (its plugins)",)
    moved = chain_edits.put(session, [session.strip("t").inserts[0].id], "u", 0)
    found, made = written(source, moved, Plan((Decision("off", "u", moved.strip("u").inserts[0].id),)))
    assert [use.enabled for use in found.strip("u").inserts] == [False, True]
    assert [use.enabled for use in found.strip("t").inserts] == [False, True]
    assert made.by_hand == ("changed here, and not in the file: Oars (its plugins)",)


def test_what_cannot_be_written_is_told(source):
    session = dawproject.read(source).session
    now = edits.add(session, "bus", "Choir")
    choir = now.strips[-2].id
    now = edits.route(edits.widen(now, ["u"], 1), ["u"], choir)
    now = edits.route(time_edits.shift(now, ["t"], 1.0), ["r"], None)
    now = time_edits.add_section(time_edits.set_tempo(now, [TempoPoint(0.0, 90.0)]), "Verse", 1.0)
    found, made = written(source, now)
    assert made.done == () and made.by_hand == (
        "changed here, and not in the file: Voice (its clips)",
        "changed here, and not in the file: Oars (where it leads, its width)",
        "changed here, and not in the file: Room (where it leads)",
        "new here, and not in the file: Choir",
        "changed here, and not in the file: tempo or time signatures",
        "changed here, and not in the file: sections",
    )
    assert found.strips == session.strips


def test_what_comes_from_the_file_untouched_is_nothing_to_tell(source):
    session = dawproject.read(source).session
    armed = edits.arm(chain_edits.listen(session, [session.strip("t").inserts[0].id], "u"), ["u"], True)
    assert written(source, armed)[1].by_hand == ()
