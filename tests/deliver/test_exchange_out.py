"""The changed session: what the plan says and nothing else, readable as the planned one, the original untouched."""

from __future__ import annotations

import difflib
import os
import re
import tracemalloc
import zipfile

import msgspec
import pytest

from nimbleload.core.decisions.apply import apply
from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.session.computer import Machine
from nimbleload.core.session.plugins import PluginRef, PluginUse, Setting, Variant
from nimbleload.core.session.session import Session
from nimbleload.core.session.strips import Strip
from nimbleload.core.survey import survey
from nimbleload.deliver import carrying, exchange_out
from nimbleload.deliver.exchange_out import WriteError
from nimbleload.deliver.proof import Proof
from nimbleload.deliver.render import Rendered
from nimbleload.store import dawproject, dawproject_out
from tests.helpers import exchange as x
from tests.helpers import grammar, stems
from tests.helpers.sessions import cards_for
from tests.helpers.stems import audio

DEVICES = (
    x.plugin("ClapPlugin", "one", "One")
    + '<ClapPlugin deviceID="two" deviceName="Two" deviceRole="audioFX"><Parameters/></ClapPlugin>'
    + '<ClapPlugin deviceID="three" deviceName="Three" deviceRole="audioFX"/>'
    + x.plugin("ClapPlugin", "four", "Four")
)
REMARK = "<!-- a remark --><Foreign k='v'  j=\"w\"><Deep/></Foreign>"
MORE = REMARK + x.lanes("u", x.clip(0, 4, audio()), unit="seconds")
FILE = Rendered("t", "Voice 123456.wav", "", 3.5, -6.0, 0, True, 0, Proof("same"))


@pytest.fixture
def source(tmp_path):
    clips = x.clip(0, 2, audio()) + x.clip(2, 1.5, f"<Clips>{x.clip(0, 1, audio())}</Clips>")
    return stems.written(tmp_path / "a.dawproject", clips, DEVICES, {"audio/a.wav": b"sound", "state/x": b"\0\1"}, MORE)


@pytest.fixture
def folder(tmp_path):
    (tmp_path / "out").mkdir()
    (tmp_path / "out" / FILE.file).write_bytes(b"rendered")
    return tmp_path / "out"


def written(source, folder, plan, rendered=None):
    target = source.with_name("b.dawproject")
    session = dawproject.read(source).session
    rendered = {"t": FILE} if rendered is None else rendered
    made = exchange_out.write(target, source, session, plan, rendered, folder)
    # What was as the format says still is: nothing is wrong that was not before.
    assert set(faults_of(target)) <= set(faults_of(source))
    return session, made, target


def faults_of(path):
    with zipfile.ZipFile(path) as archive:
        return grammar.faults(archive.read("project.xml"))


def live(strip: Strip) -> list[str]:
    return [use.label for use in strip.live_uses()]


@pytest.mark.parametrize("through", [0, 1, 2, 3, None])
def test_what_was_written_reads_as_the_planned_session(source, folder, through):
    plan = Plan((Decision("freeze", "t", through=through), Decision("off", "u")))
    session, made, target = written(source, folder, plan)
    planned = apply(session, plan).session
    found = dawproject.read(target)
    for strip in planned.strips:
        other = found.session.strip(strip.id)
        assert live(other) == live(strip), strip.name
        assert (other.enabled, other.kind, other.output, other.volume, other.pan) == (
            strip.enabled, strip.kind, strip.output, strip.volume, strip.pan,
        )  # fmt: skip
    assert [(c.start, c.end) for c in found.session.strip("t").clips] == [(0.0, 3.5)]
    assert found.session.strip("u").clips == session.strip("u").clips
    assert "Foreign (1)" in " ".join(found.report.left_out)
    assert made.by_hand == ()
    with zipfile.ZipFile(target) as archive:
        assert archive.read("audio/carried-out/Voice 123456.wav") == b"rendered"
        assert archive.read("audio/a.wav") == b"sound" and archive.read("state/x") == b"\0\1"


def test_everything_that_did_not_change_is_the_same_byte_for_byte(source, folder):
    plan = Plan((Decision("freeze", "t", through=1),))
    before = source.read_bytes()
    _, _, target = written(source, folder, plan)
    assert source.read_bytes() == before
    old, new = (zipfile.ZipFile(path).read("project.xml").decode() for path in (source, target))
    kept = difflib.SequenceMatcher(None, old, new, autojunk=False).get_opcodes()
    # Only insertions, and one value that says "false" in place of "true".
    changed = [(old[a:b], new[c:d]) for kind, a, b, c, d in kept if kind in ("replace", "delete")]
    assert "".join(each for each, _ in changed).replace("tru", "") == ""
    assert REMARK in new


def test_without_a_plan_the_project_is_the_same(source, folder):
    _, made, target = written(source, folder, Plan(), {})
    assert zipfile.ZipFile(source).read("project.xml") == zipfile.ZipFile(target).read("project.xml")
    assert made.done == ()


def test_single_plugins_are_switched_off(source, folder):
    session = dawproject.read(source).session
    two, three = session.strip("t").inserts[1:3]
    plan = Plan((Decision("off", "t", two.id), Decision("off", "t", three.id)))
    _, made, target = written(source, folder, plan, {})
    assert live(dawproject.read(target).session.strip("t")) == ["One", "Four"]
    assert made.done == ("Voice: Two switched off", "Voice: Three switched off")


def test_what_is_unloaded_is_written_as_not_loaded(source, folder):
    plan = Plan((Decision("freeze", "t", through=2, unloaded=True),))
    session, made, target = written(source, folder, plan)
    planned, found = apply(session, plan).session.strip("t"), dawproject.read(target).session.strip("t")
    assert [use.loaded for use in found.uses()] == [use.loaded for use in planned.uses()] == [False] * 3 + [True]
    assert live(found) == live(planned) == ["Four"]
    assert made.done[:3] == ("Voice: One unloaded", "Voice: Two unloaded", "Voice: Three unloaded")
    # Frozen alone, they stay loaded.
    _, made, target = written(source, folder, Plan((Decision("freeze", "t", through=2),)))
    assert all(use.loaded for use in dawproject.read(target).session.strip("t").uses())


def test_what_the_file_cannot_say_is_left_to_the_hand(source, folder):
    plan = Plan((Decision("suspend", "u"), Decision("freeze", "t"), Decision("freeze", "u")))
    _, made, _ = written(source, folder, plan)
    assert made.by_hand == ("freeze: Other (not rendered)",)  # it has no plugins to suspend


@pytest.mark.parametrize("kind", ["freeze", "bounce"])
def test_what_was_not_rendered_stays_as_it_is_and_is_told(source, folder, kind):
    session, made, target = written(source, folder, Plan((Decision(kind, "t"),)), {})
    found = dawproject.read(target).session
    assert found.strips == session.strips and found.strip("t").live_uses()
    assert made.done == () and made.by_hand == (f"{kind}: Voice (not rendered)",)


def test_a_bus_that_was_not_printed_is_still_fed(tmp_path, folder):
    source = choir(tmp_path / "a.dawproject")
    session, made, target = written(source, folder, Plan((Decision("bounce", "g"), Decision("off", "v0"))), {})
    found = dawproject.read(target).session
    assert [found.strip(each).enabled for each in ("v0", "v1", "v2")] == [False, True, True]
    assert found.strip("v1").inserts == session.strip("v1").inserts
    assert made.by_hand == ("bounce: Choir (not rendered)",)


def test_stems_that_were_rendered_beside_it_are_no_concern_of_the_session(source, folder):
    stem = msgspec.structs.replace(FILE, strip="t/stem", file="Voice stem.wav")
    plan = Plan((Decision("suspend", "t"),))
    _, made, target = written(source, folder, plan, {"t/stem": stem})
    assert len(made.done) + len(made.by_hand) == 1 and "Voice" in (*made.done, *made.by_hand)[0]
    with zipfile.ZipFile(target) as archive, zipfile.ZipFile(source) as before:
        assert archive.namelist() == before.namelist()


def test_a_track_without_lanes_gets_some(tmp_path, folder):
    structure = x.track("t", "Voice", x.channel("c", devices=DEVICES)) + x.main_track()
    source = x.write(tmp_path / "a.dawproject", x.project(structure))
    _, _, target = written(source, folder, Plan((Decision("freeze", "t"),)))
    assert [(c.start, c.end) for c in dawproject.read(target).session.strip("t").clips] == [(0.0, 3.5)]


def test_the_original_is_never_written_over(source, folder):
    session = dawproject.read(source).session
    with pytest.raises(WriteError, match="never changed"):
        exchange_out.write(source, source, session, Plan(), {}, folder)
    with pytest.raises(WriteError, match="was not written"):
        exchange_out.write(source.parent / "no" / "b.dawproject", source, session, Plan(), {}, folder)


def test_new_files_never_take_a_name_that_is_taken(source):
    from datetime import date

    day = date(2026, 1, 2)
    first = carrying.file_of(source, day)
    assert first.name == "a 2026-01-02.dawproject"
    first.write_text("")
    assert carrying.file_of(source, day).name == "a 2026-01-02 2.dawproject"


REVERB = (
    '<ClapPlugin id="{0}" deviceID="reverb" deviceName="Vault" deviceRole="audioFX"><Parameters>'
    '<RealParameter id="{0}p" parameterID="size" value="0.8"/></Parameters>'
    '<Enabled id="{0}e" value="true"/></ClapPlugin>'
)
OWN = '<ClapPlugin deviceID="eq" deviceName="Eq" deviceRole="audioFX"/>'


def choir(path, sends=""):
    """Three voices that end in the same reverb, below a group, and a return."""
    voices = "".join(
        x.track(f"v{k}", f"Voice {k}", x.channel(f"cv{k}", destination="cg", devices=OWN + REVERB.format(f"d{k}"),
                                                 sends=sends))
        for k in range(3)
    )  # fmt: skip
    group = x.track("g", "Choir", x.channel("cg", "submix") + voices, content="tracks")
    echo = x.track("r", "Echo", x.channel("cr", "effect"))
    lanes = "".join(x.lanes(f"v{k}", x.clip(2 * k, 4, audio()), unit="seconds") for k in range(3))
    return x.write(path, x.project(group + echo + x.main_track(), lanes, unit="seconds"), {"audio/a.wav": b"sound"})


def share(session, *members):
    """The reverbs of these tracks on one bus."""
    return Plan(tuple(Decision("share", m, session.strip(m).inserts[1].id, into="bus1") for m in members))


def loads(session):
    cards = cards_for(session, {"reverb": 400e-6, "eq": 50e-6})
    of = survey(session, Plan(), cards, Machine(2), 256)
    return of.after.times.tolist(), of.after.load.tolist()


@pytest.mark.parametrize("sends", ["", x.send("cr", "post", 0.5)])
def test_a_shared_bus_is_written_as_one_and_reads_as_the_planned_load(tmp_path, folder, sends):
    source = choir(tmp_path / "a.dawproject", sends)
    session = dawproject.read(source).session
    plan = share(session, "v0", "v2")
    _, made, target = written(source, folder, plan, {})
    planned, found = apply(session, plan).session, dawproject.read(target).session
    bus, wanted = found.strip("bus1"), planned.strip("bus1")
    assert (bus.name, bus.kind, bus.output, live(bus)) == (wanted.name, "bus", "g", ["Vault"])
    assert bus.inserts[0].setting == wanted.inserts[0].setting
    assert [(s.target, s.level) for s in bus.sends] == [(s.target, s.level) for s in wanted.sends]
    for strip in planned.strips:
        other = found.strip(strip.id)
        assert (other.output, live(other)) == (strip.output, live(strip)), strip.name
        assert [s.target for s in other.sends if s.enabled] == [s.target for s in strip.sends if s.enabled]
    assert loads(found) == loads(planned)  # to the bit
    assert loads(found)[1] != loads(session)[1]
    assert made.by_hand == ()
    assert "Shared Vault: a new bus, with Vault" in made.done and "Voice 0: leads to Shared Vault" in made.done
    # No id stands twice.
    text = zipfile.ZipFile(target).read("project.xml").decode()
    ids = re.findall(r'\sid="([^"]*)"', text)
    assert len(ids) == len(set(ids))


def test_lighter_settings_are_written_as_values(tmp_path, folder):
    source = choir(tmp_path / "a.dawproject")
    session = dawproject.read(source).session
    use = session.strip("v0").inserts[1]
    lighter = Variant(use.card_key(), "small", Setting((("size", 0.25), ("quality", 1.0))))
    session = msgspec.structs.replace(session, variants=(lighter,))
    plan = Plan((Decision("lighten", "v0", use.id, variant="small"),))
    target = tmp_path / "b.dawproject"
    made = exchange_out.write(target, source, session, plan, {}, folder)
    found = dawproject.read(target).session.strip("v0").inserts[1]
    assert dict(found.setting.values) == {"size": 0.25, "quality": 1.0}
    assert dawproject.read(target).session.strip("v1").inserts[1].setting == use.setting
    assert made.done == ("Voice 0: Vault set to size 0.25, quality 1",) and made.by_hand == ()


def test_lighter_values_are_written_to_the_last_digit_and_as_their_kind_has_them(tmp_path, folder):
    kinds = (("RealParameter", "0.5"), ("IntegerParameter", "3"), ("BoolParameter", "true"), ("EnumParameter", "2"))
    more = {"EnumParameter": ' count="4"'}
    inside = "".join(f'<{tag} parameterID="{k}" value="{v}"{more.get(tag, "")}/>' for k, (tag, v) in enumerate(kinds))
    device = f'<ClapPlugin deviceID="a" deviceName="A"><Parameters>{inside}</Parameters></ClapPlugin>'
    source = stems.written(tmp_path / "a.dawproject", x.clip(0, 2, audio()), device, {"audio/a.wav": b"sound"})
    session = dawproject.read(source).session
    use = session.strip("t").inserts[0]
    values = (("0", 0.1 + 0.2), ("1", 1_234_567.0), ("2", 0.0), ("3", 1.0), ("4", 1 / 3))
    session = msgspec.structs.replace(session, variants=(Variant(use.card_key(), "light", Setting(values)),))
    target = tmp_path / "b.dawproject"
    exchange_out.write(target, source, session, Plan((Decision("lighten", "t", use.id, variant="light"),)), {}, folder)
    assert dawproject.read(target).session.strip("t").inserts[0].setting.values == values
    assert set(faults_of(target)) <= set(faults_of(source))


def test_a_setting_that_is_a_saved_state_is_left_to_the_hand(source, folder):
    session = dawproject.read(source).session
    use = msgspec.structs.replace(session.strip("t").inserts[0], setting=Setting((), b"state"))
    strip = msgspec.structs.replace(session.strip("t"), inserts=(use, *session.strip("t").inserts[1:]))
    lighter = Variant(use.card_key(), "light", Setting((("quality", 0.0),)))
    session = msgspec.structs.replace(
        session, strips=(strip, *session.strips[1:]), variants=(lighter,)
    )  # fmt: skip
    plan = Plan((Decision("lighten", "t", use.id, variant="light"),))
    made = exchange_out.write(source.with_name("b.dawproject"), source, session, plan, {}, folder)
    changed = "changed here, and not in the file: Voice (how One is set)"
    assert made.by_hand == ("lighten: One on Voice (quality 0)", changed) and made.done == ()


def test_a_printed_bus_takes_the_place_of_all_that_fed_it(tmp_path, folder):
    source = choir(tmp_path / "a.dawproject")
    session = dawproject.read(source).session
    plan = Plan((Decision("bounce", "g"),))
    file = msgspec.structs.replace(FILE, strip="g", seconds=8.0)
    _, made, target = written(source, folder, plan, {"g": file})
    planned, found = apply(session, plan).session, dawproject.read(target).session
    assert [found.strip(f"v{k}").enabled for k in range(3)] == [False] * 3
    assert [(c.start, c.end) for c in found.strip("g").clips] == [(0.0, 8.0)]
    assert loads(found)[1] == pytest.approx([0.0] * len(loads(found)[1])) and max(loads(planned)[1]) == 0.0
    assert made.by_hand == ()


def test_devices_of_a_session_made_here_are_found_by_their_place(tmp_path, folder):
    eq, comp = (PluginUse(f"plugin{k}", PluginRef("clap", name, name)) for k, name in enumerate(("eq", "comp"), 1))
    strips = (Strip("track1", "Keys", inserts=(eq, comp), output="main"), Strip("main", "Main", "main"))
    session = Session("mine", 48000, 10.0, strips)
    source = tmp_path / "made.dawproject"
    dawproject_out.write(source, session)
    target = tmp_path / "b.dawproject"
    made = exchange_out.write(target, source, session, Plan((Decision("off", "track1", "plugin2"),)), {}, folder)
    assert made.done == ("Keys: comp switched off",)
    assert live(dawproject.read(target).session.strip("track1")) == ["eq"]


def test_a_damaged_file_in_the_archive_is_a_sentence_and_nothing_is_written(source, folder):
    with zipfile.ZipFile(source) as archive:
        entries = {name: archive.read(name) for name in archive.namelist()}
    with zipfile.ZipFile(source, "w", zipfile.ZIP_STORED) as archive:
        for name, content in entries.items():
            archive.writestr(name, content)
    content = source.read_bytes()
    at = content.index(b"sound", content.index(b"audio/a.wav") + 11)
    source.write_bytes(content[:at] + b"zound" + content[at + 5 :])
    with pytest.raises(WriteError, match=r"b.dawproject was not written: “audio/a.wav” in a.dawproject is damaged"):
        written(source, folder, Plan((Decision("freeze", "t"),)))
    assert not source.with_name("b.dawproject").exists()


def test_files_are_written_into_it_a_piece_at_a_time_whenever_they_are_from(source, folder):
    """All that was rendered may be more than there is memory; and a clock may have been wrong."""
    with (folder / FILE.file).open("wb") as file:
        file.truncate(64 << 20)
    os.utime(folder / FILE.file, (0, 0))
    tracemalloc.start()
    try:
        _, _, target = written(source, folder, Plan((Decision("freeze", "t"),)))
        assert tracemalloc.get_traced_memory()[1] < 16 << 20
    finally:
        tracemalloc.stop()
    with zipfile.ZipFile(target) as archive:
        entry = archive.getinfo("audio/carried-out/Voice 123456.wav")
        assert entry.file_size == 64 << 20 and entry.compress_type == zipfile.ZIP_STORED
