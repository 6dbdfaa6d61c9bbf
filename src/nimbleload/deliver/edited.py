"""What of a session was changed here since it was read from its exchange file.

Names, what is on and off, values of settings, where strips lead and what they send to is written with the plan; what
else was changed the changed session does not know of, and it is told.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from msgspec.structs import replace

from ..core.session.plugins import PluginUse, Setting
from ..core.session.session import Session
from ..core.session.strips import Clip, Strip


def as_in_file(session: Session, file: Session) -> Session:
    """A session with all that can be written of its changes as its exchange file has it: what leads from there to the
    session as it is planned is what has to be written. Times go by the file's tempo."""
    known = {strip.id: strip for strip in file.strips}
    strips = tuple(_strip(strip, known[strip.id], known) if strip.id in known else strip for strip in session.strips)
    return replace(session, strips=strips, tempo=file.tempo, meters=file.meters)


def removed(session: Session, file: Session) -> list[Strip]:
    """The strips of an exchange file that a session has no more."""
    there = {strip.id for strip in session.strips}
    return [strip for strip in file.strips if strip.id not in there]


def left(session: Session, file: Session) -> list[str]:
    """What was changed here and is not written, a line a strip."""
    known, found = {strip.id: strip for strip in file.strips}, []
    for strip in session.strips:
        was = known.get(strip.id)
        if was is None:
            found.append(f"new here, and not in the file: {strip.name}")
        elif what := _changed(strip, was, known):
            found.append(f"changed here, and not in the file: {strip.name} ({', '.join(what)})")
    if (session.tempo, session.meters) != (file.tempo, file.meters):
        found.append("changed here, and not in the file: tempo or time signatures")
    if session.sections != file.sections:
        found.append("changed here, and not in the file: sections")
    return found


def _strip(now: Strip, was: Strip, known: Mapping[str, Strip]) -> Strip:
    """A strip as far as it is written; what leads to what the file does not have stays as it is."""
    uses = {use.id: use for use in was.uses()}
    own = {use.id for use in now.uses()}
    # What was taken out here is there, and goes off.
    gone = tuple(use for use in was.uses() if use.id not in own)
    sends = tuple(send for send in now.sends if send.target not in known)
    output = was.output if now.output in known else now.output
    return replace(
        now, name=was.name, enabled=was.enabled, output=output, sends=(*was.sends, *sends),
        instrument=now.instrument and _use(now.instrument, uses),
        inserts=(*(_use(use, uses) for use in now.inserts), *gone),
    )  # fmt: skip


def _use(now: PluginUse, uses: Mapping[str, PluginUse]) -> PluginUse:
    was = uses.get(now.id)
    if was is None:
        return now
    # What was read before it was known that automation moves it was off if it is so at first: nobody has switched it.
    enabled = now.enabled if was.automated and not now.automated else was.enabled
    return replace(now, enabled=enabled, loaded=was.loaded, setting=_setting(now.setting, was.setting))


def _setting(now: Setting, was: Setting) -> Setting:
    """The values of a setting that are written, as the file has them; where there is a state, it is not written."""
    if now.state is not None or was.state is not None:
        return now
    before = dict(was.values)
    return Setting(tuple((name, before[name]) for name, _ in now.values if name in before))


def _is_left(now: Setting, was: Setting) -> bool:
    """Whether a setting is another one than the file has, and cannot be written: a state, or values taken back."""
    if now.state is not None or was.state is not None:
        return now != was
    return not {name for name, _ in was.values} <= {name for name, _ in now.values}


def _changed(now: Strip, was: Strip, known: Mapping[str, Strip]) -> list[str]:
    uses, own = {use.id: use for use in was.uses()}, {use.id for use in now.uses()}
    set_anew = [use.label for use in now.uses() if use.id in uses and _is_left(use.setting, uses[use.id].setting)]
    found = list[str]()
    if _chain(now.uses()) != _chain(use for use in was.uses() if use.id in own):
        found.append("its plugins")
    found += [f"how {label} is set" for label in dict.fromkeys(set_anew)]
    nowhere = now.output not in known if now.output is not None else was.output is not None
    if nowhere or any(each.target not in known for each in now.sends):
        found.append("where it leads")
    if _places(now.clips) != _places(was.clips):
        found.append("its clips")
    if now.channels != was.channels:
        found.append("its width")
    return found


def _chain(uses: Iterable[PluginUse]) -> list[tuple[str, str, str]]:
    """Which plugins stand there, in their order."""
    return [(use.id, use.plugin.standard, use.plugin.identifier) for use in uses]


def _places(clips: tuple[Clip, ...]) -> list[tuple[float, float]]:
    """Where clips lie, to the millisecond."""
    return sorted((round(clip.start, 3), round(clip.end, 3)) for clip in clips)
