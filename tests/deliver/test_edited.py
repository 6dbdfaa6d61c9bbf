"""What was changed here of a session from an exchange file: written with the plan, or told; never another thing."""

from __future__ import annotations

import random
import zipfile

import msgspec
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nimbleload.core.decisions.apply import apply
from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.session import chain_edits, edits, time_edits
from nimbleload.core.session.plugins import PluginRef, PluginUse
from nimbleload.core.session.routing import edges
from nimbleload.core.session.session import SessionError, TempoPoint
from nimbleload.deliver import exchange_out
from nimbleload.deliver.proof import Proof
from nimbleload.deliver.render import Rendered
from nimbleload.store import dawproject
from tests.helpers import exchange as x
from tests.helpers import grammar
from tests.helpers.generated import Writer
from tests.helpers.often import often
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


def test_what_automation_switches_on_is_off_only_if_somebody_has_switched_it_off(tmp_path):
    device = EQ.format("a", "A", 1).replace("<Parameters>", '<Enabled id="e" value="false"/><Parameters>')
    points = '<BoolPoint time="0" value="false"/><BoolPoint time="2" value="true"/>'
    moves = f'<Points><Target parameter="e"/>{points}</Points>'
    tracks = x.track("t", "Voice", x.channel("ct", devices=device)) + x.main_track()
    source = x.write(tmp_path / "a.dawproject", x.project(tracks, x.lanes("t", x.clip(0, 4)) + moves))
    session = dawproject.read(source).session
    (use,) = session.strip("t").inserts
    assert use.enabled and use.automated
    found, made = written(source, session)
    assert (found.strip("t").inserts[0].enabled, made.done, made.by_hand) == (True, (), ())
    # A session that was read before automation was counted it as off.
    then = msgspec.structs.replace(use, enabled=False, automated=False)
    strips = tuple(msgspec.structs.replace(s, inserts=(then,)) if s.id == "t" else s for s in session.strips)
    earlier = msgspec.structs.replace(session, strips=strips)
    found, made = written(source, earlier)
    assert (found.strip("t").inserts[0].enabled, made.done, made.by_hand) == (True, (), ())
    for off, plan in (
        (chain_edits.bypass(session, [use.id], True), Plan()), (session, Plan((Decision("off", "t", use.id),))),
    ):  # fmt: skip
        found, made = written(source, off, plan)
        assert not found.strip("t").inserts[0].enabled and made.done
        # Nothing switches it on again while it plays.
        assert 'parameter="e"' not in xml_of(source.with_name("b.dawproject"))
    assert 'parameter="e"' in xml_of(source)


def xml_of(path):
    with zipfile.ZipFile(path) as archive:
        return archive.read("project.xml").decode()


def test_what_moves_is_not_said_to_be_set_and_sends_that_move_go_off_for_good(tmp_path):
    device = EQ.format("a", "A", 1).replace("<RealParameter ", '<RealParameter id="g" ')
    send = x.send("cr", "post", 0.5).replace("<Enable ", '<Enable id="s" ')
    moves = (
        '<Points><Target parameter="g"/><RealPoint time="0" value="0"/><RealPoint time="2" value="1"/></Points>'
        '<Points><Target parameter="s"/><BoolPoint time="0" value="true"/><BoolPoint time="2" value="false"/></Points>'
    )
    tracks = x.track("t", "Voice", x.channel("ct", devices=device, sends=send)) + x.track(
        "r", "Room", x.channel("cr", "effect")) + x.main_track()  # fmt: skip
    source = x.write(tmp_path / "a.dawproject", x.project(tracks, x.lanes("t", x.clip(0, 4)) + moves))
    session = dawproject.read(source).session
    now = chain_edits.set_values(session, [session.strip("t").inserts[0].id], {"gain": 0.25, "more": 2.0})
    found, made = written(source, now)
    assert made.by_hand == ("lighten: A on Voice (gain: automated)",)
    assert "Voice: A set to more 2" in made.done
    assert dict(found.strip("t").inserts[0].setting.values) == {"gain": 1.0, "more": 2.0}
    strips = tuple(msgspec.structs.replace(s, sends=()) if s.id == "t" else s for s in session.strips)
    found, made = written(source, msgspec.structs.replace(session, strips=strips))
    assert not any(each.enabled for each in found.strip("t").sends)
    assert 'parameter="s"' not in xml_of(source.with_name("b.dawproject"))


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
    first, second = (use.id for use in now.strip("t").inserts)
    now = chain_edits.set_state(chain_edits.set_state(now, [first], None), [second], b"")
    now = time_edits.add_section(time_edits.set_tempo(now, [TempoPoint(0.0, 90.0)]), "Verse", 1.0)
    found, made = written(source, now)
    assert made.done == () and made.by_hand == (
        "changed here, and not in the file: Voice (how A is set, how B is set, its clips)",
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


def edited(rng, session):
    """A session after some edits of the kinds that are written; some cannot be, and change nothing."""
    for _ in range(rng.randint(1, 6)):
        strip = rng.choice([each for each in session.strips if each.kind != "main"])
        other, uses = rng.choice(session.strips), [use.id for use in strip.uses()]
        on = rng.random() < 0.5
        kinds = [
            lambda: edits.rename(session, strip.id, f"Name {rng.randint(0, 9)} & <more>"),  # noqa: B023
            lambda: edits.switch(session, [strip.id], on),  # noqa: B023
            lambda: edits.route(session, [strip.id], other.id),  # noqa: B023
            lambda: edits.send(session, [strip.id], other.id, rng.choice((0.25, 0.5, 1.0)), on),  # noqa: B023
            lambda: edits.unsend(session, [strip.id]),  # noqa: B023
        ]
        if uses:
            use = rng.choice(uses)
            kinds += 2 * [
                lambda: chain_edits.bypass(session, [use], on),  # noqa: B023
                lambda: chain_edits.set_values(session, [use], {"more": rng.random()}),  # noqa: B023
                lambda: chain_edits.take_out(session, [use]),  # noqa: B023
            ]
        try:
            session = rng.choice(kinds)()
        except SessionError:
            continue
    return session


@settings(max_examples=often(100), deadline=None)
@given(st.integers(0, 1 << 32))
def test_whatever_is_edited_reads_back_so_or_is_told(tmp_path_factory, seed):
    rng, folder = random.Random(seed), tmp_path_factory.mktemp("edited")
    files = {"audio/a.wav": b"a", "audio/plain.wav": b"a", "plugins/x": b"\0"}
    source = x.write(folder / "a.dawproject", Writer(rng).project(), files)
    session = edited(rng, dawproject.read(source).session)
    offs = [Decision("off", strip.id, use=use.id) for strip in session.strips for use in strip.live_uses()]
    offs += [Decision("off", strip.id) for strip in session.strips if strip.kind == "track"]
    plan = Plan(tuple(rng.sample(offs, rng.randint(0, min(len(offs), 2)))))
    made = exchange_out.write(folder / "b.dawproject", source, session, plan, {}, folder)
    session = apply(session, plan).session
    found = dawproject.read(folder / "b.dawproject").session
    told = " ".join(made.by_hand)
    for strip in session.strips:
        read, left = found.strip(strip.id), {use.id for use in strip.uses()}
        assert (read.name, read.enabled, read.output) == (strip.name, strip.enabled, strip.output)
        assert sorted(map(str, (s for s in read.sends if s.enabled))) == sorted(
            map(str, (s for s in strip.sends if s.enabled))
        )
        for use, other in zip(strip.uses(), [use for use in read.uses() if use.id in left], strict=True):
            assert (use.id, use.enabled) == (other.id, other.enabled)
            assert use.setting == other.setting or f"how {use.label} is set" in told
        assert not any(use.enabled for use in read.uses() if use.id not in left)
    assert edges(found) == edges(session)
    # What is written of it once has nothing more to be written.
    again = exchange_out.write(folder / "c.dawproject", folder / "b.dawproject", found, Plan(), {}, folder)
    assert again.done == () and again.by_hand == ()


def test_a_bus_that_is_new_here_is_not_printed_into_nothing(source):
    session = edits.add(dawproject.read(source).session, "bus", "Choir")
    choir = session.strips[-2].id
    session = edits.route(session, ["u"], choir)
    (source.parent / "a.wav").write_bytes(b"rendered")
    file = Rendered(choir, "a.wav", "", 4.0, -6.0, 0, True, 0, Proof("same"))
    plan, target = Plan((Decision("bounce", choir),)), source.with_name("b.dawproject")
    made = exchange_out.write(target, source, session, plan, {choir: file}, source.parent)
    assert made.done == () and made.by_hand[0] == "bounce: Choir (new here)"
    assert dawproject.read(target).session.strips == dawproject.read(source).session.strips
