"""The changed session: what the plan says and nothing else, readable as the planned one, the original untouched."""

from __future__ import annotations

import difflib
import zipfile

import pytest

from nimbleload.core.decisions.apply import apply
from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.session.strips import Strip
from nimbleload.deliver import carrying, exchange_out
from nimbleload.deliver.exchange_out import WriteError
from nimbleload.deliver.render import Proof, Rendered
from nimbleload.store import dawproject
from tests.helpers import exchange as x
from tests.helpers import stems
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
    return session, exchange_out.write(target, source, session, plan, rendered, folder), target


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


def test_what_the_file_cannot_say_is_left_to_the_hand(source, folder):
    plan = Plan((Decision("suspend", "u"), Decision("freeze", "t"), Decision("freeze", "u")))
    _, made, _ = written(source, folder, plan)
    assert made.by_hand == ("suspend: Other", "freeze: Other (not rendered)")


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
