"""What is rendered one after the other: the strips that feed a bus, those that side-chains hear, and what of each goes
where."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import NamedTuple

import msgspec

from ..core.decisions.bounce import group_of
from ..core.session.curves import Curve, SendMoving
from ..core.session.panning import PanLaw, changes
from ..core.session.plugins import PluginUse
from ..core.session.routing import build
from ..core.session.session import Session
from ..core.session.strips import Strip
from ..store.dawproject_curves import MUTED, PANNED, RIDDEN, SENT, SWITCHED, UNCLEAR
from ..store.sounding import Sounding

# What is automated of plugins, or on the way from a strip to another, and why that cannot be rendered then.
AUTOMATED = {
    SWITCHED: "a plugin on it is switched on and off by automation, which hosts do in their own ways",
    UNCLEAR: "parameters of its plugins are automated in clips, or in a unit that is not known",
    PANNED: "its pan is automated in a way that cannot be followed",
    MUTED: "it is muted and heard by automation that cannot be read",
    SENT: "the level or the pan of a send of it is automated in a way that cannot be followed",
    RIDDEN: "its fader is automated in clips, or in a unit that is not known",
}


class Panned(msgspec.Struct, frozen=True):
    """How a strip is panned on its way: by which law, and where it stands (−1 to 1) or how it moves."""

    law: PanLaw
    still: float = 0.0
    moving: Curve | None = None


class Feed(msgspec.Struct, frozen=True):
    """Where a strip leads to (the id of another one), with which gain (linear), and what moves on the way, one after
    the other: its fader, the level of a send, whether it is heard. `use` is the plugin whose side-chain hears it.
    `panned` says how loud each side is; None where both are as they were."""

    target: str
    gain: float
    curves: tuple[Curve, ...] = ()
    use: str = ""
    panned: Panned | None = None


class Stage(msgspec.Struct, frozen=True):
    """A strip in a rendering: the plugins that it goes through, what it plays itself, and what it `feeds`. The last one
    of a rendering feeds nothing. `law` is what the host pans by; empty where that is not known."""

    strip: Strip
    uses: tuple[PluginUse, ...]
    sounding: Sounding
    feeds: tuple[Feed, ...] = ()
    law: PanLaw = ""

    @property
    def plays_notes(self) -> bool:
        """Whether the first plugin is an instrument that plays the strip's notes."""
        return bool(self.uses) and self.uses[0] is self.strip.instrument


class Before(NamedTuple):
    """What is rendered before a strip, in order; `fed` are the ids of those that it is fed with, near or far. The
    others are only heard by side-chains."""

    stages: tuple[Stage, ...] = ()
    fed: frozenset[str] = frozenset()


def before(
    session: Session, strip: Strip, uses: Sequence[PluginUse], audio_of: Mapping[str, Sounding]
) -> Before:  # fmt: skip
    """The strips that feed a strip, unless it is a track, and those that the side-chains hear on the way to it and in
    `uses` of its own: each after those that feed it. What is off, or feeds it while it is muted, is left out."""
    fed = frozenset(group_of(session, strip.id)[0]) if strip.kind != "track" else frozenset()
    heard: dict[str, list[tuple[str, str]]] = {}
    inside, todo = set(fed), [(strip.id, tuple(uses))]
    todo += [(each, session.strip(each).heard_uses()) for each in fed]
    while todo:
        listener, own = todo.pop()
        for use in own:
            if use.sidechain is not None and use.enabled:
                heard.setdefault(use.sidechain, []).append((listener, use.id))
                new = {use.sidechain, *group_of(session, use.sidechain)[0]} - inside - {strip.id}
                inside |= new
                todo += [(each, session.strip(each).heard_uses()) for each in new]
    targets = inside | ({strip.id} if strip.kind != "track" else set())
    found, law = [], session.host.pan_law
    for place in build(session).order:
        each = session.strips[place]
        if each.id in inside and each.enabled and (not each.mute or each.id in heard):
            sounding = audio_of.get(each.id, Sounding())
            on = [feed for feed in feeds_of(each, sounding, law) if feed.target in targets]
            to = [after_fader(each, sounding, listener, use=use) for listener, use in heard.get(each.id, ())]
            found.append(Stage(each, each.heard_uses(), sounding, (*on, *(feed for feed in to if feed.gain)), law))
    return Before(tuple(found), fed)


def feeds_of(strip: Strip, sounding: Sounding, law: PanLaw = "") -> tuple[Feed, ...]:
    """Whom a strip feeds through its output and the sends that are on, and with which gain."""
    found = [behind_pan(strip, sounding, strip.output, law)] if strip.output is not None else []
    before_fader = _moving(sounding.awake, sounding.heard)
    for place, send in enumerate(strip.sends):
        if send.enabled:
            way = sounding.sends[place] if sounding.sends else SendMoving()
            level, moving = send.level if way.level is None else 1.0, _moving(way.level, way.on)
            if send.pre_fader:
                found.append(Feed(send.target, level, (*before_fader, *moving)))
            else:
                found.append(after_fader(strip, sounding, send.target, level, moving))
    return tuple(feed for feed in found if feed.gain)


def after_fader(
    strip: Strip, sounding: Sounding, target: str, level: float = 1.0, moving: tuple[Curve, ...] = (), use: str = ""
) -> Feed:
    """What a strip gives behind its fader, which stays where it is or moves."""
    still = strip.volume if sounding.fader is None else 1.0
    return Feed(target, level * still, (*_moving(sounding.awake, sounding.fader, sounding.heard), *moving), use)


def behind_pan(strip: Strip, sounding: Sounding, target: str, law: PanLaw) -> Feed:
    """What a strip gives at its output: behind its fader, and panned by a law."""
    return msgspec.structs.replace(after_fader(strip, sounding, target), panned=_panned(strip, sounding, law))


def _panned(strip: Strip, sounding: Sounding, law: PanLaw) -> Panned | None:
    still, moving = _pan(strip, sounding)
    return Panned(law, still, moving) if law and (moving is not None or changes(law, still)) else None


def _pan(strip: Strip, sounding: Sounding) -> tuple[float, Curve | None]:
    """Where the pan of a strip stands, and how it moves, if it does."""
    curve = sounding.pan
    if curve is None or len({point.value for point in curve.points}) == 1:
        return (strip.pan if curve is None else curve.points[0].value), None
    return strip.pan, curve


def _moving(*curves: Curve | None) -> tuple[Curve, ...]:
    return tuple(curve for curve in curves if curve is not None)


def unclear(sounding: Sounding, owners: Sequence[str]) -> list[str]:
    """Why what is automated of plugins, or on a strip (their ids), cannot be rendered; each reason once."""
    why = {reason for owner, reason in sounding.unclear if owner in owners}
    return [sentence for reason, sentence in AUTOMATED.items() if reason in why]


def obstacles_on_the_way(stage: Stage) -> list[str]:
    """Why what a strip gives to a bus cannot be rendered, though what it plays can."""
    strip = stage.strip
    found = unclear(stage.sounding, [strip.id])
    if strip.post_fader:
        found.append("plugins come after its fader")
    if any(send.enabled and send.after is not None for send in strip.sends):
        found.append("a send leaves it in the middle of its chain")
    return found


def ways_of_hosts(stage: Stage) -> list[str]:
    """What hosts do in their own ways with what a strip gives to a bus, so that it cannot be rendered truthfully; for
    two renderings of it, both may take it alike."""
    strip, sounding, found = stage.strip, stage.sounding, list[str]()
    if not stage.law and _pan(strip, sounding) != (0.0, None):
        found.append(
            "it is panned, and hosts pan by different laws: say by which yours does (Computer › The host and the audio "
            "device), or print it by itself first"
        )
    if _panned(strip, sounding, stage.law) is not None:
        before_pan = {feed.target for feed in stage.feeds if feed.panned is None and not feed.use}
        if any(send.enabled and not send.pre_fader and send.target in before_pan for send in strip.sends):
            found.append("hosts differ in whether a send behind its fader is panned as well")
        if any(feed.use for feed in stage.feeds):
            found.append("hosts differ in whether a side-chain hears it panned")
    if strip.mute:
        found.append("a side-chain hears it though it is muted: hosts differ in whether that is so")
    return found
