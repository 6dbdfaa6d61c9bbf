"""What is rendered one after the other when a bus is printed: the strips that feed it, and what of each goes where."""

from __future__ import annotations

from collections.abc import Mapping

import msgspec

from ..core.decisions.bounce import group_of
from ..core.session.plugins import PluginUse
from ..core.session.routing import build
from ..core.session.session import Session
from ..core.session.strips import Strip
from ..store.dawproject import Sounding


class Stage(msgspec.Struct, frozen=True):
    """A strip in a rendering: the plugins that it goes through, what it plays itself, and what it `feeds`, by the ids
    of strips and linear gains. The last one of a rendering feeds nothing."""

    strip: Strip
    uses: tuple[PluginUse, ...]
    sounding: Sounding
    feeds: tuple[tuple[str, float], ...] = ()

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
            found.append(Stage(strip, strip.heard_uses(), audio_of.get(strip.id, Sounding()), feeds_of(strip)))
    return tuple(found)


def feeds_of(strip: Strip) -> tuple[tuple[str, float], ...]:
    """Whom a strip feeds through its output and the sends that are on, and with which gain."""
    found = [(strip.output, strip.volume)] if strip.output is not None else []
    found += [
        (send.target, send.level if send.pre_fader else send.level * strip.volume)
        for send in strip.sends if send.enabled
    ]  # fmt: skip
    return tuple((target, gain) for target, gain in found if gain)


def obstacles_on_the_way(strip: Strip) -> list[str]:
    """Why what a strip gives to a bus cannot be rendered truthfully, though what it plays can."""
    found = []
    if strip.pan:
        found.append("it is panned, and hosts pan by different laws: print it by itself first")
    if strip.rides:
        found.append("its fader is automated, which is not rendered yet")
    if strip.post_fader:
        found.append("plugins come after its fader")
    if any(send.enabled and send.after is not None for send in strip.sends):
        found.append("a send leaves it in the middle of its chain")
    if any(use.enabled and use.sidechain is not None for use in strip.inserts):
        found.append("a plugin on it listens to another track")
    return found
