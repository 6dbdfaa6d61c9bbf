"""A session as an exchange file: what is suspended is read again as suspended; other programs' files stay."""

from __future__ import annotations

import zipfile

import pytest
from lxml import etree
from msgspec.structs import replace

from nimbleload.core.decisions.decision import Plan
from nimbleload.core.session.computer import Machine
from nimbleload.core.session.session import Section, Session
from nimbleload.core.session.strips import Clip, Strip
from nimbleload.core.survey import survey
from nimbleload.deliver.exporting import export
from nimbleload.store import dawproject
from tests.helpers.sessions import card, use


def made(*suspended: str) -> Session:
    strips = (
        Strip("a", "Bells", inserts=(use("a1"), use("a2")), output="m", clips=(Clip(10.0, 20.0), Clip(40.0, 50.0))),
        Strip("b", "Pads", inserts=(use("b1"),), output="m", clips=(Clip(0.0, 60.0),)),
        Strip("c", "Never", inserts=(use("c1"),), output="m"),
        Strip("m", "Main", "main"),
    )
    strips = tuple(replace(strip, suspended=strip.id in suspended) for strip in strips)
    return Session("Song", 48000, 60.0, strips, (Section("All", 0.0),))


def cards(of: Session) -> dict:
    return {u.card_key(): card(u, 1e-4) for strip in of.strips for u in strip.uses()}


def test_what_is_suspended_while_silent_is_so_when_it_is_read_again(tmp_path):
    of = made("a", "c")
    export(tmp_path / "x.dawproject", of, cards(of))
    back = dawproject.read(tmp_path / "x.dawproject")
    assert [strip.id for strip in back.session.strips if strip.suspended] == ["a", "c"]
    assert not back.report.left_out or "automation" not in " ".join(back.report.left_out)
    one, other = (
        survey(replace(s, rate=48000), Plan(), cards(s), Machine(2), 256).after.load for s in (of, back.session)
    )
    assert one.tolist() == other.tolist()


def test_the_switches_are_off_only_where_nothing_sounds(tmp_path):
    of = made("a")
    export(tmp_path / "x.dawproject", of, cards(of))
    root = etree.fromstring(zipfile.ZipFile(tmp_path / "x.dawproject").read("project.xml"))
    found = root.findall(".//Points[Target]")
    assert len(found) == 2
    for points in found:
        rows = [(float(p.get("time")), p.get("value")) for p in points.findall("BoolPoint")]
        assert rows[0] == (0.0, "false")
        for second, value in ((5.0, "false"), (10.0, "true"), (19.9, "true"), (35.0, "false"), (45.0, "true")):
            assert [v for t, v in rows if t <= second][-1] == value, second
    parameters = {each.get("id") for each in root.findall(".//Enabled")}
    assert {points.find("Target").get("parameter") for points in found} <= parameters


def test_a_session_with_nothing_suspended_has_no_automation(tmp_path):
    of = made()
    assert export(tmp_path / "x.dawproject", of, cards(of)) != []
    assert b"BoolPoint" not in zipfile.ZipFile(tmp_path / "x.dawproject").read("project.xml")


def test_what_another_program_wrote_is_never_written_over(tmp_path):
    path, of = tmp_path / "x.dawproject", made()
    export(path, of, {})
    export(path, replace(of, name="Other"), {})
    assert dawproject.read(path).session.name == "Other"
    with zipfile.ZipFile(path) as archive:
        content = {name: archive.read(name) for name in archive.namelist()}
    content["project.xml"] = content["project.xml"].replace(b'name="Nimble Load"', b'name="Some Host"')
    with zipfile.ZipFile(path, "w") as archive:
        for name, data in content.items():
            archive.writestr(name, data)
    before = path.read_bytes()
    with pytest.raises(OSError, match="another program"):
        export(path, of, {})
    path.write_bytes(b"no exchange file")
    with pytest.raises(OSError, match="another program"):
        export(path, of, {})
    assert before and path.read_bytes() == b"no exchange file"
