"""Edits in words, a line each: a verb, then tracks by name, plugins as TRACK/NUMBER or TRACK/NAME."""

from __future__ import annotations

import functools
import math
import shlex
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

import click
import msgspec

from ..core.cards.families import squeezed
from ..core.session import chain_edits, edits, time_edits
from ..core.session.panning import LAWS
from ..core.session.plugins import PluginRef, PluginUse, Setting
from ..core.session.session import Meter, Session, SessionError, TempoPoint
from ..core.session.strips import Strip
from ..core.told.own_window import closed
from ..core.told.trouble import trouble_of
from ..core.units import from_clock, listed, said_by
from ..probe.choosing import Lookup
from ..probe.describing import read_state, state_of, told
from ..probe.isolation import Failure
from ..probe.messages import ParametersMessage
from ..probe.plugin_window import Left, OwnWindow, Takes, taken
from ..store import shelf


class Verb(NamedTuple):
    """One verb: what it takes, what it does, and how many words must and may follow it."""

    takes: str
    does: str
    run: Callable[[Session, list[str], Lookup], Session]
    least: int
    most: int


def edited(session: Session, line: str, lookup: Lookup) -> Session:
    """The session with one line carried out. SessionError says what is wrong with it."""
    try:
        verb, *words = shlex.split(line)
    except ValueError as error:
        raise SessionError(f"“{line}” is not understood: {error}") from None
    if verb not in VERBS:
        raise SessionError(f"“{verb}” is no edit; there are {', '.join(VERBS)}")
    known = VERBS[verb]
    if not known.least <= len(words) <= known.most:
        raise SessionError(f"“{line}” is not complete, or too long: {verb} {known.takes}")
    return known.run(session, words, lookup)


def strip_of(session: Session, name: str) -> Strip:
    """The strip of a name or id. SessionError if there is none, or several have the name."""
    found = [strip for strip in session.strips if strip.id == name] or [
        strip for strip in session.strips if strip.name.lower() == name.lower()
    ]
    if len(found) == 1:
        return found[0]
    if found:
        raise SessionError(f"{len(found)} tracks are called “{name}”; their ids are {', '.join(s.id for s in found)}")
    near = [strip.name for strip in session.strips if name.lower() in strip.name.lower()]
    raise SessionError(f"no track is called “{name}”{'; there is ' + ', '.join(near[:5]) if near else ''}")


def use_of(session: Session, words: str) -> PluginUse:
    """The plugin that TRACK/NUMBER (from 1 on, the instrument first) or TRACK/NAME means."""
    name, slash, which = words.rpartition("/")
    if not slash:
        raise SessionError(f"“{words}” names no plugin: it takes TRACK/NUMBER or TRACK/NAME")
    strip = strip_of(session, name)
    uses = strip.uses()
    if which.isdecimal() and 1 <= int(which) <= len(uses):
        return uses[int(which) - 1]
    found = [use for use in uses if squeezed(use.label) == squeezed(which)]
    if len(found) == 1:
        return found[0]
    if found:
        raise SessionError(f"{strip.name} has {len(found)} plugins called {which}: name it by its number")
    held = ", ".join(f"{number} {use.label}" for number, use in enumerate(uses, 1)) or "none"
    raise SessionError(f"{strip.name} has no plugin “{which}”; it has {held}")


def number(text: str, what: str) -> float:
    """A number that was typed. SessionError says `what` is none."""
    try:
        found = float(text)
    except ValueError:
        found = math.nan
    if not math.isfinite(found):
        raise SessionError(f"{what} is “{text}”, which is no number")
    return found


def meter(text: str) -> Meter:
    """A time signature that was typed, as "6/8". SessionError if it is none."""
    beats, _, unit = text.partition("/")
    return Meter(0.0, whole(beats, "the beats of a bar"), whole(unit, "what a beat is"))


def whole(text: str, what: str) -> int:
    """A whole number that was typed. SessionError says `what` is none."""
    value = number(text, what)
    if value != int(value):
        raise SessionError(f"{what} is “{text}”; it must be a whole number")
    return int(value)


def seconds(text: str) -> float:
    """Seconds, or minutes:seconds."""
    try:
        return from_clock(text)
    except ValueError:
        raise SessionError(f"a time is “{text}”, which is no number") from None


def _add(session: Session, words: list[str], _: Lookup) -> Session:
    kinds = {"track": "track", "bus": "bus", "return": "return"}
    if words[0] not in kinds:
        raise SessionError(f"“{words[0]}” cannot be added: a track, a bus or a return can")
    count = whole(words[2], "how many") if len(words) > 2 else 1
    return edits.add(session, kinds[words[0]], words[1], count)  # type: ignore[arg-type]


def _ids(session: Session, name: str) -> list[str]:
    return [strip_of(session, name).id]


def _begins(session: Session, name: str) -> float:
    """When a section begins (seconds). SessionError if there is none of that name."""
    found = session.section_named(name)
    if found is not None:
        return found[0].start
    names = ", ".join(section.name for section in session.sections) or "none"
    raise SessionError(f"there is no section {name!r}; there are: {names}")


def _route(session: Session, words: list[str], _: Lookup) -> Session:
    target = None if words[1] == "none" else strip_of(session, words[1]).id
    return edits.route(session, _ids(session, words[0]), target)


def _send(session: Session, words: list[str], _: Lookup) -> Session:
    level = number(words[2], "the level") if len(words) > 2 else 1.0
    if len(words) > 3 and words[3] not in ("pre", "post"):
        raise SessionError(f"a send is pre or post fader, not “{words[3]}”")
    target = strip_of(session, words[1]).id
    return edits.send(session, _ids(session, words[0]), target, level, words[3:] == ["pre"])


def _plugin(words: str, lookup: Lookup) -> PluginUse:
    """The installed plugin of a name or identifier, with "lv2:" or alike before it if wanted. SessionError if there is
    none."""
    standard, colon, name = words.partition(":")
    use = lookup(words) or (lookup(name, standard) if colon else None)
    if use is not None:
        return use
    near = lookup.near(words)
    if near:
        raise SessionError(f"no plugin is called “{words}”; there is {listed(near, 5)}")
    raise SessionError(f"no plugin “{words}” is installed here; nimble-load plugins lists those that are")


def _insert(session: Session, words: list[str], lookup: Lookup) -> Session:
    use = _plugin(words[1], lookup)
    place = whole(words[2], "the place") - 1 if len(words) > 2 else None
    return chain_edits.insert(session, strip_of(session, words[0]).id, [use], place)


def _put(session: Session, words: list[str], _: Lookup) -> Session:
    place = whole(words[2], "the place") - 1 if len(words) > 2 else None
    return chain_edits.put(session, [use_of(session, words[0]).id], strip_of(session, words[1]).id, place)


def _replace(session: Session, words: list[str], lookup: Lookup) -> Session:
    return chain_edits.replace(session, [use_of(session, words[0]).id], _plugin(words[1], lookup))


def _set(session: Session, words: list[str], _: Lookup) -> Session:
    values = {}
    for word in words[1:]:
        name, sign, value = word.rpartition("=")
        if not sign:
            raise SessionError(f"“{word}” is not of the form name=number")
        values[name] = number(value, name)
    use = use_of(session, words[0])
    has = _parameters(use.plugin, session.rate)
    keys = {name.lower(): key for key, name in has} | {key.lower(): key for key, _ in has}
    unknown = [name for name in values if has and name.lower() not in keys]
    if unknown:
        names = listed([name if key.isdecimal() else key for key, name in has], 12)
        raise SessionError(f"{use.label} has no parameter “{unknown[0]}”; it has {names}")
    return chain_edits.set_values(session, [use.id], {keys.get(name.lower(), name): values[name] for name in values})


@functools.cache
def _parameters(plugin: PluginRef, rate: int) -> tuple[tuple[str, str], ...]:
    """How a plugin's parameters are named in a setting, and what it calls them; empty where it cannot be asked."""
    asked = told(PluginUse("", plugin), rate)
    return tuple((each.key, each.name) for each in asked.parameters) if isinstance(asked, ParametersMessage) else ()


def _preset(session: Session, words: list[str], _: Lookup) -> Session:
    """A preset by its name, or a state file; tried on the plugin before it is taken."""
    use = use_of(session, words[0])
    if words[1] == "none":
        return chain_edits.set_state(session, [use.id], None)
    asked = told(use, session.rate)
    presets = asked.presets if isinstance(asked, ParametersMessage) else ()
    known = next((each for each in presets if each.name.lower() == words[1].lower()), None)
    if known is None and not Path(words[1]).is_file():
        named = ", ".join(each.name for each in presets[:8]) or "none"
        raise SessionError(f"{use.label} has no preset “{words[1]}” (it has {named}), and no such file is there")
    try:
        state = state_of(known) if known is not None else read_state(Path(words[1]))
    except OSError as error:
        raise SessionError(f"{words[1]} cannot be read: {said_by(error)}") from None
    tried = told(msgspec.structs.replace(use, setting=Setting((), state)), session.rate)
    if isinstance(tried, Failure):
        why = trouble_of(use.label, tried.reason, "it").rstrip(".")
        raise SessionError(f"{use.label} does not take {words[1]}: {why}")
    return chain_edits.set_state(session, [use.id], state)


def _window(session: Session, words: list[str], _: Lookup) -> Session:
    """The plugin's own window, open until its user closes it."""
    use = use_of(session, words[0])
    seen: list[Takes] = []
    for event in OwnWindow(use, session.rate, f"{use.label} on {words[0].rpartition('/')[0]}").events():
        if isinstance(event, Failure):
            raise SessionError(trouble_of(use.label, event.reason).rstrip("."))
        if isinstance(event, Takes):
            seen.append(event)
        if isinstance(event, Left):
            click.echo(closed(use.label, event.changed, *taken(seen)), err=True)
            return chain_edits.with_setting(session, use.id, event.setting) if event.changed else session
    return session


def _keep(session: Session, words: list[str], _: Lookup) -> Session:
    """A track's inserts, kept on the shelf under a name; the session stays as it is."""
    try:
        shelf.keep(words[1], strip_of(session, words[0]).inserts)
    except shelf.ShelfError as error:
        raise SessionError(str(error).rstrip(".")) from None
    return session


def _take(session: Session, words: list[str], _: Lookup) -> Session:
    try:
        uses = shelf.take(words[1])
    except shelf.ShelfError as error:
        raise SessionError(str(error).rstrip(".")) from None
    place = whole(words[2], "the place") - 1 if len(words) > 2 else None
    return chain_edits.insert(session, strip_of(session, words[0]).id, uses, place)


def _listen(session: Session, words: list[str], _: Lookup) -> Session:
    target = None if words[1] == "none" else strip_of(session, words[1]).id
    return chain_edits.listen(session, [use_of(session, words[0]).id], target)


def _clip(session: Session, words: list[str], _: Lookup) -> Session:
    voices = whole(words[3], "how many notes") if len(words) > 3 else 0
    return time_edits.add_clip(session, strip_of(session, words[0]).id, seconds(words[1]), seconds(words[2]), voices)


def _clear(session: Session, words: list[str], _: Lookup) -> Session:
    end = seconds(words[2]) if len(words) > 2 else time_edits.LONGEST
    start = seconds(words[1]) if len(words) > 1 else 0.0
    return time_edits.clear(session, _ids(session, words[0]), start, end)


def _duplicate(session: Session, words: list[str], _: Lookup) -> Session:
    times = whole(words[1], "how often") if len(words) > 1 else 1
    return edits.duplicate(session, _ids(session, words[0]), times, members=True)


def _pan_law(session: Session, words: list[str], _: Lookup) -> Session:
    law = "" if words[0] == "unknown" else words[0]
    if law and law not in LAWS:
        raise SessionError(f"“{law}” is no pan law; there are {', '.join(LAWS)}, and unknown")
    return msgspec.structs.replace(session, host=msgspec.structs.replace(session.host, pan_law=law))


VERBS = {
    "add": Verb("KIND NAME [HOW-MANY]", "a track, bus or return", _add, 2, 3),
    "rename": Verb("TRACK NAME", "another name", lambda s, w, _: edits.rename(s, strip_of(s, w[0]).id, w[1]), 2, 2),
    "duplicate": Verb("TRACK [TIMES]", "copies of a track, or of a bus with all that feeds it", _duplicate, 1, 2),
    "remove": Verb("TRACK", "what fed it feeds what it fed", lambda s, w, _: edits.remove(s, _ids(s, w[0])), 1, 1),
    "move": Verb("TRACK BY", "so many places later in the list (earlier if negative)",
                 lambda s, w, _: edits.move(s, _ids(s, w[0]), whole(w[1], "how far")), 2, 2),
    "route": Verb("TRACK TARGET|none", "what it feeds", _route, 2, 2),
    "send": Verb("TRACK TARGET [LEVEL [pre|post]]", "a send; its level is linear, 1 is 0 dB", _send, 2, 4),
    "unsend": Verb("TRACK TARGET", "no send any more",
                   lambda s, w, _: edits.unsend(s, _ids(s, w[0]), strip_of(s, w[1]).id), 2, 2),
    "arm": Verb("TRACK", "record-armed", lambda s, w, _: edits.arm(s, _ids(s, w[0]), True), 1, 1),
    "disarm": Verb("TRACK", "not record-armed", lambda s, w, _: edits.arm(s, _ids(s, w[0]), False), 1, 1),
    "width": Verb("TRACK CHANNELS", "how many channels wide it is: 1 is mono, 2 stereo",
                  lambda s, w, _: edits.widen(s, _ids(s, w[0]), whole(w[1], "how wide")), 2, 2),
    "off": Verb("TRACK", "switched off with all its plugins", lambda s, w, _: edits.switch(s, _ids(s, w[0]), False),
                1, 1),
    "on": Verb("TRACK", "switched on", lambda s, w, _: edits.switch(s, _ids(s, w[0]), True), 1, 1),
    "insert": Verb("TRACK PLUGIN [PLACE]", "a plugin, by name or identifier, as the first insert (1), … or last",
                   _insert, 2, 3),
    "take-out": Verb("TRACK/PLUGIN", "a plugin goes",
                     lambda s, w, _: chain_edits.take_out(s, [use_of(s, w[0]).id]), 1, 1),
    "put": Verb("TRACK/PLUGIN TRACK [PLACE]", "a plugin goes to another place or chain", _put, 2, 3),
    "replace": Verb("TRACK/PLUGIN PLUGIN", "another plugin in its place", _replace, 2, 2),
    "bypass": Verb("TRACK/PLUGIN", "switched off", lambda s, w, _: chain_edits.bypass(s, [use_of(s, w[0]).id], True),
                   1, 1),
    "unbypass": Verb("TRACK/PLUGIN", "switched on",
                     lambda s, w, _: chain_edits.bypass(s, [use_of(s, w[0]).id], False), 1, 1),
    "set": Verb("TRACK/PLUGIN NAME=NUMBER …", "parameters of a plugin", _set, 2, 256),
    "preset": Verb("TRACK/PLUGIN PRESET|FILE|none", "a preset by name, or a preset or state file; none: as it starts",
                   _preset, 2, 2),
    "window": Verb("TRACK/PLUGIN", "its own window opens; closing it takes over what was set", _window, 1, 1),
    "keep": Verb("TRACK NAME", "its inserts are kept on the shelf, for other sessions, under a name", _keep, 2, 2),
    "take": Verb("TRACK NAME [PLACE]", "what is kept on the shelf goes into its chain", _take, 2, 3),
    "listen": Verb("TRACK/PLUGIN TRACK|none", "what its side-chain listens to", _listen, 2, 2),
    "clip": Verb("TRACK FROM TO [NOTES]", "a stretch in which it sounds; times as M:SS", _clip, 3, 4),
    "clear": Verb("TRACK [FROM [TO]]", "nothing sounds there any more", _clear, 1, 3),
    "shift": Verb("TRACK SECONDS", "all its clips so much later",
                  lambda s, w, _: time_edits.shift(s, _ids(s, w[0]), number(w[1], "how far")), 2, 2),
    "section": Verb("NAME AT", "a section that begins there",
                    lambda s, w, _: time_edits.add_section(s, w[0], seconds(w[1])), 2, 2),
    "move-section": Verb("NAME AT", "that section begins there",
                         lambda s, w, _: time_edits.move_section(s, _begins(s, w[0]), seconds(w[1])), 2, 2),
    "take-section": Verb("NAME", "that section goes; what it holds stays",
                         lambda s, w, _: time_edits.remove_section(s, _begins(s, w[0])), 1, 1),
    "pan-law": Verb("LAW|unknown", f"by which law the host pans: {', '.join(LAWS)} (dB in the centre, or at the sides)",
                    _pan_law, 1, 1),
    "bars": Verb("BEATS/UNIT", "one time signature for the whole piece, as 6/8",
                 lambda s, w, _: time_edits.set_meters(s, [meter(w[0])]), 1, 1),
    "tempo": Verb("BPM", "one tempo for the whole piece",
                  lambda s, w, _: time_edits.set_tempo(s, [TempoPoint(0.0, number(w[0], "the tempo"))]), 1, 1),
    "rate": Verb("HERTZ", "another sample rate",
                 lambda s, w, _: time_edits.set_rate(s, whole(w[0], "the rate")), 1, 1),
    "length": Verb("M:SS", "where the piece ends", lambda s, w, _: time_edits.set_length(s, seconds(w[0])), 1, 1),
}  # fmt: skip
