"""A pared-down session: what is chosen and what it needs, and nothing else; everything left as it was."""

from __future__ import annotations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from nimbleload.core.session.pared import kept_with, pared
from nimbleload.core.session.routing import build, edges, targets
from nimbleload.core.session.session import Section, Session, SessionError
from nimbleload.core.session.strips import Clip, Send, Strip
from tests.helpers.often import often
from tests.helpers.sessions import use

OFF = replace(use("off"), enabled=False)
LISTENS = replace(use("listens"), sidechain="kick")
STRIPS = (
    Strip("kick", "Kick", output="drums", parent="drums", clips=(Clip(0.0, 10.0), Clip(20.0, 30.0))),
    Strip("bass", "Bass", inserts=(OFF, LISTENS, use("b")), output="main", post_fader=2, clips=(Clip(5.0, 25.0),),
          sends=(Send("hall", after=1), Send("echo", enabled=False))),
    Strip("harp", "Harp", output="main", sends=(Send("echo"),)),
    Strip("drums", "Drums", "bus", output="music"),
    Strip("music", "Music", "bus", output="main"),
    Strip("hall", "Hall", "return", output="main"),
    Strip("echo", "Echo", "return", output="main"),
    Strip("main", "Main", "main"),
)  # fmt: skip
SESSION = Session("Song", 48000, 30.0, STRIPS, (Section("A", 0.0), Section("B", 15.0)))


def strip_of(of: Session, own: str) -> Strip:
    return next(strip for strip in of.strips if strip.id == own)


def names(of: Session) -> list[str]:
    return [strip.id for strip in of.strips]


@pytest.mark.parametrize(("chosen", "kept"), [
    (["kick"], ["kick", "drums", "music", "main"]),
    (["bass"], ["kick", "bass", "drums", "music", "hall", "main"]),  # it listens to the kick, which feeds buses
    (["harp"], ["harp", "echo", "main"]),
    (["music"], ["kick", "drums", "music", "main"]),  # a bus comes with its members
    (["hall"], ["hall", "main"]),
])  # fmt: skip
def test_what_is_kept(chosen, kept):
    assert names(pared(SESSION, chosen)) == kept


def test_a_send_that_is_off_goes_with_what_it_led_to():
    assert [send.target for send in strip_of(pared(SESSION, ["bass"]), "bass").sends] == ["hall"]


def test_of_a_stretch_only_clips_that_lie_in_it_stay_where_they_are():
    found = pared(SESSION, ["kick", "bass"], (15.0, 30.0))
    assert strip_of(found, "kick").clips == (Clip(20.0, 30.0),)
    assert strip_of(found, "bass").clips == (Clip(5.0, 25.0),)
    assert found.length == SESSION.length
    # A clip that ends where the stretch begins is not in it.
    assert strip_of(pared(SESSION, ["kick"], (10.0, 20.0)), "kick").clips == ()


def test_without_what_is_off_places_in_the_chain_move_along():
    bass = strip_of(pared(SESSION, ["bass"], None, without_off=True), "bass")
    assert [u.id for u in bass.inserts] == ["listens", "b"]
    assert bass.post_fader == 2
    assert bass.sends[0].after == 0
    frozen = replace(SESSION, strips=tuple(replace(s, frozen_through=1) if s.id == "bass" else s for s in STRIPS))
    assert strip_of(pared(frozen, ["bass"], None, True), "bass").frozen_through == 0
    last = (*STRIPS[1].inserts[1:], OFF)
    later = replace(SESSION, strips=(STRIPS[0], replace(STRIPS[1], inserts=last), *STRIPS[2:]))
    assert strip_of(pared(later, ["bass"], None, True), "bass").post_fader == 1


@pytest.mark.parametrize(("chosen", "stretch", "words"), [
    (["main"], None, "nothing left"),
    ([], None, "nothing left"),
    (["nobody"], None, "no track 'nobody'"),
    (["kick"], (5.0, 5.0), "no length"),
])  # fmt: skip
def test_what_cannot_be_is_said(chosen, stretch, words):
    with pytest.raises(SessionError, match=words):
        pared(SESSION, chosen, stretch)


@st.composite
def routed(draw):
    """Random sessions in which every strip feeds one that comes later, by output, send or side-chain."""
    count = draw(st.integers(2, 9))
    strips = []
    for k in range(count):
        later = st.integers(k + 1, count)
        fed = draw(st.lists(later, max_size=2, unique=True))
        sends = tuple(Send(f"s{t}", enabled=draw(st.booleans())) for t in fed)
        heard = draw(st.integers(0, k - 1)) if k and draw(st.booleans()) else None
        inserts = (replace(use(f"u{k}"), sidechain=f"s{heard}"),) if heard is not None else ()
        kind = draw(st.sampled_from(["track", "bus"]))
        strips.append(Strip(f"s{k}", f"S{k}", kind, inserts=inserts, sends=sends, output=f"s{draw(later)}"))
    strips.append(Strip(f"s{count}", "Main", "main"))
    return Session("R", 48000, 10.0, tuple(strips)), draw(st.sets(st.integers(0, count - 1), min_size=1))


@settings(max_examples=often(70), deadline=None)
@given(routed())
def test_what_is_kept_hears_and_feeds_what_it_did_before(made):
    session, chosen = made
    ids = {f"s{k}" for k in chosen}
    kept = kept_with(session, ids)
    found = pared(session, ids)
    assert ids <= kept == {strip.id for strip in found.strips}
    build(found)
    fed = {(session.strips[a].id, session.strips[b].id) for a, b in edges(session)}
    left = {(found.strips[a].id, found.strips[b].id) for a, b in edges(found)}
    assert left == {(a, b) for a, b in fed if a in kept and b in kept}
    # Nothing that is kept feeds what is gone; who only listened to it may be.
    assert all(set(targets(strip)) <= kept for strip in session.strips if strip.id in kept)
