"""Whatever form an exchange file has: untouched it is the same, and with a plan what is written is what was planned."""

from __future__ import annotations

import random
import zipfile

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from lxml import etree

from nimbleload.core.decisions.apply import apply
from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.load.case import case
from nimbleload.core.load.load_map import load_map
from nimbleload.core.load.prepared import prepare
from nimbleload.core.session.computer import Machine
from nimbleload.core.session.routing import edges
from nimbleload.core.session.session import Session
from nimbleload.deliver import exchange_out
from nimbleload.deliver.proof import Proof
from nimbleload.deliver.render import Rendered
from nimbleload.store import dawproject
from tests.helpers import exchange as x
from tests.helpers.generated import Writer
from tests.helpers.often import often
from tests.helpers.sessions import cards_for
from tests.helpers.stems import noise, wave

WAVE = wave(noise(0.01))
# What a plan may change of what is there, in place.
CHANGED = {"enable", "value", "loaded", "destination"}


def elements(path):
    """All elements, remarks and instructions of a project, in order, without what a plan may change."""
    with zipfile.ZipFile(path) as archive:
        root = etree.fromstring(archive.read("project.xml"))
    return [
        (str(each.tag), (each.text or "").strip(), tuple((k, v) for k, v in each.items() if k not in CHANGED))
        for each in root.iter()
    ]


def a_plan(rng: random.Random, session: Session) -> Plan:
    """Freezes of tracks that play, and plugins or tracks that are off."""
    found = []
    for strip in session.strips:
        kind = rng.choice(("freeze", "off", "use", "", ""))
        if kind == "freeze" and strip.clips and strip.heard_uses():
            found.append(Decision("freeze", strip.id, through=rng.choice((None, 0))))
        elif kind == "off" and strip.kind == "track":
            found.append(Decision("off", strip.id))
        elif kind == "use" and strip.live_uses():
            found.append(Decision("off", strip.id, use=rng.choice(strip.live_uses()).id))
    return Plan(tuple(found))


def worst_loads(session, cards):
    of = prepare(session, cards)
    return load_map(case(of, Machine(2), 256)).load, of


@pytest.fixture(scope="module")
def folder(tmp_path_factory):
    made = tmp_path_factory.mktemp("rendered")
    (made / "a.wav").write_bytes(WAVE)
    return made


@settings(max_examples=often(100), deadline=None)
@given(st.integers(0, 1 << 32))
def test_untouched_it_is_the_same_and_with_a_plan_it_is_the_planned_one(folder, seed):
    rng = random.Random(seed)
    source, target = folder / "a.dawproject", folder / "b.dawproject"
    x.write(source, Writer(rng).project(), {"audio/a.wav": WAVE, "audio/plain.wav": WAVE, "plugins/x": b"\0"})
    imported = dawproject.read(source)
    session = imported.session
    exchange_out.write(target, source, session, Plan(), {}, folder)
    with zipfile.ZipFile(source) as old, zipfile.ZipFile(target) as new:
        assert {name: old.read(name) for name in old.namelist()} == {name: new.read(name) for name in new.namelist()}

    plan = a_plan(rng, session)
    frozen = {d.strip for d in plan.decisions if d.kind == "freeze"}
    rendered = {each: Rendered(each, "a.wav", "", session.length, -6.0, 0, True, 0, Proof("same")) for each in frozen}
    exchange_out.write(target, source, session, plan, rendered, folder)
    # Nothing that was there has gone: it is all there, in its order, with something between.
    new = iter(elements(target))
    for each in elements(source):
        assert each in new, each
    planned, found = apply(session, plan).session, dawproject.read(target)
    assert [strip.id for strip in found.session.strips] == [strip.id for strip in planned.strips]
    assert edges(found.session) == edges(planned)
    for mine, other in zip(planned.strips, found.session.strips, strict=True):
        assert [use.id for use in mine.live_uses()] == [use.id for use in other.live_uses()]
        for name in ("name", "kind", "enabled", "mute", "volume", "pan", "output", "sends", "parent"):
            assert getattr(mine, name) == getattr(other, name), (mine.name, name)
        sounding = found.audio[mine.id]
        if mine.id in frozen:
            assert [part.file for part in sounding.parts] == ["audio/carried-out/a.wav"] and not sounding.notes
        else:
            assert sounding == imported.audio[mine.id]
    cards = cards_for(planned, {f"p{k}": 0.0004 * (k + 1) for k in range(4)})
    (before, _), (after, _) = worst_loads(planned, cards), worst_loads(found.session, cards)
    if frozen:
        # A file lies in the place of all clips, and sounds between them.
        assert after.max() >= before.max() - 1e-12
    else:
        assert np.array_equal(before, after)
