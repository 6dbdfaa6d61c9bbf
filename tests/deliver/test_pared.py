"""A pared-down copy of an exchange file: what stays is written as it was, what goes is gone with its media."""

from __future__ import annotations

import re
import zipfile

import pytest
from msgspec.structs import replace

from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.session.computer import Machine
from nimbleload.core.session.pared import pared
from nimbleload.core.session.session import SessionError
from nimbleload.core.survey import survey
from nimbleload.deliver import pared as copies
from nimbleload.deliver.exchange_out import WriteError
from nimbleload.store import dawproject, session_file
from nimbleload.store.session_file import Saved
from tests.helpers import exchange as x
from tests.helpers.sessions import card

FILES = {"audio/a.wav": b"a" * 900, "audio/b.wav": b"b" * 800, "plugins/a.state": b"A", "plugins/b.state": b"B",
         "audio/never used.flac": b"n" * 70, "notes.txt": b"somebody's", "audio/plain.wav": b"p"}  # fmt: skip


def audio(file: str) -> str:
    return f'<Audio duration="8" channels="2"><File path="audio/{file}"/></Audio>'


def written(tmp_path, arrangement="", before="<!-- by hand -->"):
    off = x.plugin("ClapPlugin", "org.off", "Off", "plugins/a.state").replace('value="true"', 'value="false"')
    devices = x.plugin("ClapPlugin", "org.one", "One", "plugins/a.state") + off
    one = x.track("a", "One", "\n  " + x.channel("ca", destination="cg", devices=devices, sends=x.send("cr")) + "\n")
    other = x.plugin("ClapPlugin", "org.two", "Two", "plugins/b.state")
    two = x.track("b", "Two", x.channel("cb", destination="cm", devices=other, sends=x.send("cr", on="false")))
    group = x.track("g", "Group", x.channel("cg", "submix", "cm") + one, content="tracks")
    room = x.track("r", "Room", x.channel("cr", "effect", "cm"))
    lanes = x.lanes("a", x.clip(0, 8, audio("a.wav")), x.clip(16, 8, audio("a.wav"))) + "\n" + x.lanes(
        "b", x.clip(4, 8, audio("b.wav")))  # fmt: skip
    structure = f"\n {group}\n {two}\n {room}\n {x.main_track()}"
    return x.write(tmp_path / "mix.dawproject", x.project(structure, lanes + arrangement, before=before), FILES)


def xml(path) -> str:
    return zipfile.ZipFile(path).read("project.xml").decode()


def test_a_copy_read_again_is_the_pared_session(tmp_path):
    source = written(tmp_path)
    before = source.read_bytes()
    session = dawproject.read(source).session
    made = copies.write(tmp_path / "copy.dawproject", source, session, ["b"])
    back = dawproject.read(tmp_path / "copy.dawproject").session
    assert back.strips == pared(session, ["b"]).strips
    assert [strip.name for strip in back.strips] == ["Two", "Main"]
    assert (made.tracks, made.clips, made.plugins) == (3, 0, 0)
    assert source.read_bytes() == before
    cards = {u.card_key(): card(u, 1e-4) for s in session.strips for u in s.uses()}
    loads = [survey(s, Plan(), cards, Machine(2), 256).after.load.max() for s in (back, pared(session, ["b"]))]
    assert loads[0] == loads[1] > 0


def test_media_that_nothing_uses_any_more_is_left_out_and_what_is_foreign_stays(tmp_path):
    source = written(tmp_path)
    session = dawproject.read(source).session
    made = copies.write(tmp_path / "copy.dawproject", source, session, ["b"])
    names = set(zipfile.ZipFile(tmp_path / "copy.dawproject").namelist())
    assert names == {"project.xml", "audio/b.wav", "plugins/b.state", "notes.txt"}
    assert made.media == 900 + 1 + 70 + 1
    assert "3 tracks" in made.words()


def test_what_stays_is_written_as_it_was(tmp_path):
    source = written(tmp_path)
    session = dawproject.read(source).session
    copies.write(tmp_path / "copy.dawproject", source, session, ["a"])
    old, new = xml(source), xml(tmp_path / "copy.dawproject")
    two = re.search(r'\n <Track id="b".*?</Track>', old, re.S).group()
    lanes = re.search(r'\n?<Lanes track="b">.*?</Lanes>', old, re.S).group()
    assert new == old.replace(two, "").replace(lanes.removeprefix("\n"), "")


def test_with_everything_kept_not_a_byte_of_the_project_changes(tmp_path):
    source = written(tmp_path)
    session = dawproject.read(source).session
    made = copies.write(tmp_path / "copy.dawproject", source, session, ["a", "b"])
    assert xml(tmp_path / "copy.dawproject") == xml(source)
    assert made.words() == "Nothing was left out."


def test_clips_outside_the_stretch_go_unless_others_refer_to_them(tmp_path):
    referred = x.lanes("b", x.clip(40, 8, reference="far"))
    source = written(tmp_path, referred)
    text = xml(source).replace('<Clip time="16"', '<Clip id="far" time="16"')
    x.write(source, text, FILES)
    session = dawproject.read(source).session
    # At 120 a minute beat 16 is second 8.
    made = copies.write(tmp_path / "copy.dawproject", source, session, ["a", "b"], (0.0, 4.0))
    back = dawproject.read(tmp_path / "copy.dawproject").session
    assert [(c.start, c.end) for c in back.strip("a").clips] == [(0.0, 4.0)]
    assert [(c.start, c.end) for c in back.strip("b").clips] == [(2.0, 6.0)]
    assert made.clips == 2
    assert 'id="far"' in xml(tmp_path / "copy.dawproject")
    copies.write(tmp_path / "later.dawproject", source, session, ["a", "b"], (18.0, 30.0))
    later = dawproject.read(tmp_path / "later.dawproject").session
    assert [(c.start, c.end) for c in later.strip("b").clips] == [(20.0, 24.0)]
    assert later.strip("a").clips == ()


def test_devices_that_are_off_go_unless_automation_switches_them(tmp_path):
    source = written(tmp_path)
    session = dawproject.read(source).session
    made = copies.write(tmp_path / "copy.dawproject", source, session, ["a"], None, without_off=True)
    back = dawproject.read(tmp_path / "copy.dawproject").session
    assert made.plugins == 1
    assert [u.label for u in back.strip("a").inserts] == ["One"]
    text = xml(source).replace('<Enabled value="false"/>', '<Enabled id="sw" value="false"/>').replace(
        "</Lanes></Arrangement>", '<Points><Target parameter="sw"/><BoolPoint time="0" value="true"/></Points>'
        "</Lanes></Arrangement>")  # fmt: skip
    x.write(source, text, FILES)
    made = copies.write(tmp_path / "copy.dawproject", source, session, ["a"], None, without_off=True)
    assert made.plugins == 0


def test_automation_of_what_is_gone_goes_with_it(tmp_path):
    source = written(tmp_path)
    text = xml(source).replace('<Enabled value="true"/>', '<Enabled id="one" value="true"/>', 1).replace(
        "</Lanes></Arrangement>", '<Points><Target parameter="one"/><BoolPoint time="0" value="true"/></Points>'
        "</Lanes></Arrangement>")  # fmt: skip
    x.write(source, text, FILES)
    session = dawproject.read(source).session
    copies.write(tmp_path / "with.dawproject", source, session, ["a"])
    copies.write(tmp_path / "without.dawproject", source, session, ["b"])
    assert "<Points>" in xml(tmp_path / "with.dawproject")
    assert "<Points>" not in xml(tmp_path / "without.dawproject")


def test_a_nested_group_goes_as_a_whole(tmp_path):
    lowest = x.track("t", "T", x.channel("ct", destination="ci"))
    inner = x.track("i", "Inner", x.channel("ci", "submix", "co") + lowest, content="tracks")
    outer = x.track("o", "Outer", x.channel("co", "submix", "cm") + inner, content="tracks")
    single = x.track("s", "S", x.channel("cs", destination="cm"))
    source = x.write(tmp_path / "mix.dawproject", x.project(outer + single + x.main_track()))
    session = dawproject.read(source).session
    copies.write(tmp_path / "copy.dawproject", source, session, ["s"])
    assert [s.id for s in dawproject.read(tmp_path / "copy.dawproject").session.strips] == ["s", "tm"]


def test_what_cannot_be_is_said_and_nothing_is_written(tmp_path):
    source = written(tmp_path)
    session = dawproject.read(source).session
    target = tmp_path / "copy.dawproject"
    with pytest.raises(WriteError, match="never changed"):
        copies.write(source, source, session, ["b"])
    with pytest.raises(SessionError, match="nothing left"):
        copies.write(target, source, session, ["tm"])
    added = replace(session, strips=(*session.strips, replace(session.strip("b"), id="new", name="New")))
    with pytest.raises(WriteError, match="no track 'New'"):
        copies.write(target, source, added, ["new"])
    with pytest.raises(WriteError, match="was not written"):
        copies.write(tmp_path / "none" / "copy.dawproject", source, session, ["b"])
    source.write_bytes(b"damaged")
    with pytest.raises(WriteError, match=r"mix\.dawproject"):
        copies.write(target, source, session, ["b"])
    assert not target.exists()


def test_a_session_file_keeps_the_decisions_about_what_is_left(tmp_path):
    session = dawproject.read(written(tmp_path)).session
    plan = Plan((Decision("freeze", "a"), Decision("freeze", "b")))
    made = copies.copy(tmp_path / "copy.nimbleload", Saved(session, plan), ["b"], (0.0, 5.0))
    back = session_file.read(tmp_path / "copy.nimbleload")
    assert back.plan.decisions == (Decision("freeze", "b"),)
    assert back.session.strips == pared(session, ["b"], (0.0, 5.0)).strips
    assert made.tracks == 3


def test_clips_of_tracks_that_go_are_not_counted_beside_them(tmp_path):
    source = written(tmp_path)
    session = dawproject.read(source).session
    made = copies.write(tmp_path / "copy.dawproject", source, session, ["a"], (8.0, 9.0))
    assert (made.tracks, made.clips) == (1, 1)
