"""What is rendered one after the other when a bus is printed: the strips that feed it, and what of each goes where."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import msgspec

from ..core.decisions.bounce import group_of
from ..core.session.curves import Curve, SendMoving
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
    PANNED: "its pan is automated, and hosts pan by different laws: print it by itself first",
    MUTED: "it is muted and heard by automation that cannot be read",
    SENT: "the level or the pan of a send of it is automated in a way that cannot be followed",
    RIDDEN: "its fader is automated in clips, or in a unit that is not known",
}


class Feed(msgspec.Struct, frozen=True):
    """Where a strip leads to (the id of another one), with which gain (linear), and what moves on the way, one after
    the other: its fader, the level of a send, whether it is heard."""

    target: str
    gain: float
    curves: tuple[Curve, ...] = ()


class Stage(msgspec.Struct, frozen=True):
    """A strip in a rendering: the plugins that it goes through, what it plays itself, and what it `feeds`. The last one
    of a rendering feeds nothing."""

    strip: Strip
    uses: tuple[PluginUse, ...]
    sounding: Sounding
    feeds: tuple[Feed, ...] = ()

    @property
    def plays_notes(self) -> bool:
        """Whether the first plugin is an instrument that plays the strip's notes."""
        return bool(self.uses) and self.uses[0] is self.strip.instrument


def stages(session: Session, bus: str, audio_of: Mapping[str, Sounding]) -> tuple[Stage, ...]:
    """The strips that feed a bus, each after those that feed it; what is off, muted or leads nowhere is left out."""
    inside = set(group_of(session, bus)[0])
    found = []
    for place in build(session).order:
        strip = session.strips[place]
        if strip.id in inside and strip.enabled and not strip.mute:
            sounding = audio_of.get(strip.id, Sounding())
            found.append(Stage(strip, strip.heard_uses(), sounding, feeds_of(strip, sounding)))
    return tuple(found)


def feeds_of(strip: Strip, sounding: Sounding) -> tuple[Feed, ...]:
    """Whom a strip feeds through its output and the sends that are on, and with which gain."""
    found = [after_fader(strip, sounding, strip.output)] if strip.output is not None else []
    for place, send in enumerate(strip.sends):
        if send.enabled:
            way = sounding.sends[place] if sounding.sends else SendMoving()
            level, moving = send.level if way.level is None else 1.0, _moving(way.level, way.on)
            if send.pre_fader:
                found.append(Feed(send.target, level, (*_moving(sounding.heard), *moving)))
            else:
                found.append(after_fader(strip, sounding, send.target, level, moving))
    return tuple(feed for feed in found if feed.gain)


def after_fader(
    strip: Strip, sounding: Sounding, target: str, level: float = 1.0, moving: tuple[Curve, ...] = ()
) -> Feed:
    """What a strip gives behind its fader, which stays where it is or moves."""
    still = strip.volume if sounding.fader is None else 1.0
    return Feed(target, level * still, (*_moving(sounding.fader, sounding.heard), *moving))


def _moving(*curves: Curve | None) -> tuple[Curve, ...]:
    return tuple(curve for curve in curves if curve is not None)


def unclear(sounding: Sounding, owners: Sequence[str]) -> list[str]:
    """Why what is automated of plugins, or on a strip (their ids), cannot be rendered; each reason once."""
    why = {reason for owner, reason in sounding.unclear if owner in owners}
    return [sentence for reason, sentence in AUTOMATED.items() if reason in why]


def obstacles_on_the_way(strip: Strip, sounding: Sounding) -> list[str]:
    """Why what a strip gives to a bus cannot be rendered truthfully, though what it plays can."""
    found = unclear(sounding, [strip.id])
    if strip.pan:
        found.append("it is panned, and hosts pan by different laws: print it by itself first")
    if strip.post_fader:
        found.append("plugins come after its fader")
    if any(send.enabled and send.after is not None for send in strip.sends):
        found.append("a send leaves it in the middle of its chain")
    if any(use.enabled and use.sidechain is not None for use in strip.inserts):
        found.append("a plugin on it listens to another track")
    return found
