"""Writes a session that was made here as an exchange file, DAWproject 1.0; what it cannot say is left out.

Plugins of standards that the format does not know are written as built-in devices whose identifier begins with their
standard, which reading understands.
"""

from __future__ import annotations

import zipfile
from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import NamedTuple

from lxml import etree

from ..core.piece.moments import Span
from ..core.session.computer import Device, Host
from ..core.session.controllers import Controller, between
from ..core.session.plugins import PluginUse
from ..core.session.session import Meter, Session
from ..core.session.strips import Clip, Strip
from . import atomic, midi_file
from .archive import WHERE
from .dawproject_controllers import as_points
from .dawproject_expressions import as_note
from .sounding import NotePart
from .switching import points as switched
from .xml_values import writable

TAGS = {"clap": "ClapPlugin", "vst3": "Vst3Plugin", "vst2": "Vst2Plugin", "au": "AuPlugin"}
ROLES = {"track": "regular", "bus": "submix", "return": "effect", "main": "master"}
# The ids of what is automated along the piece.
TEMPO, METER = "tempo", "time-signature"
FIRST_KEY = 36
PROGRAM = "Nimble Load"


class Loop(NamedTuple):
    """The audio of a track: a file of so many seconds that is looped through all its clips."""

    name: str
    content: bytes
    seconds: float
    rate: int
    channels: int


def write(
    path: Path,
    session: Session,
    audio_of: Callable[[Strip], Loop | None] = lambda strip: None,
    resting: Mapping[str, Sequence[Span]] | None = None,
) -> None:
    """Writes a session. `audio_of` gives the audio of a track, if there is any; the plugins of the strips of `resting`
    (by id) are switched off in these stretches (seconds). OSError if it cannot be written; then nothing is."""
    resting = resting or {}
    with atomic.replacing(path) as fresh, zipfile.ZipFile(fresh, "w", zipfile.ZIP_DEFLATED) as archive:
        loops, names = {}, _names(session)
        for strip in session.strips:
            loop = audio_of(strip)
            if loop is not None:
                loops[strip.id] = loop
                archive.writestr(f"audio/{loop.name}", loop.content, zipfile.ZIP_STORED)
            for use in strip.uses():
                if use.setting.state is not None:
                    archive.writestr(_state_path(names[use.id]), use.setting.state)
        archive.writestr(WHERE, _project(session, loops, resting, names))
        title = etree.Element("MetaData")
        etree.SubElement(title, "Title").text = writable(session.name)
        archive.writestr("metadata.xml", etree.tostring(title, xml_declaration=True, encoding="UTF-8"))


def _add(parent: etree._Element, tag: str, **attributes: object) -> etree._Element:
    return etree.SubElement(parent, tag, {name: _value(value) for name, value in attributes.items()})


def _value(value: object) -> str:
    if isinstance(value, bool):
        return str(value).lower()
    return repr(value) if isinstance(value, float) else writable(str(value))


def _names(session: Session) -> dict[str, str]:
    """Names that XML and archives take for one, whatever a plugin's use is called."""
    uses = (use for strip in session.strips for use in strip.uses())
    return {use.id: f"use-{number}" for number, use in enumerate(uses)}


def left_out(session: Session) -> list[str]:
    """What of a session the format cannot say, in sentences."""
    uses = [use for strip in session.strips for use in strip.uses()]
    unheard = sum(use.sidechain is not None for use in uses)
    armed = [strip.name for strip in session.strips if strip.armed]
    later = [strip.name for strip in session.strips if strip.post_fader]
    early = [strip.name for strip in session.strips if any(send.after is not None for send in strip.sends)]
    mute = sum(_has_no_file(strip, clip) for strip in session.strips for clip in strip.clips)
    found = []
    if unheard:
        found.append(f"{_plugins(unheard)} listening to another track through a side-chain, not to which.")
    if armed:
        found.append(f"That {' and '.join(armed)} {'is' if len(armed) == 1 else 'are'} record-armed.")
    if later:
        found.append(f"That the last plugins of {' and '.join(later)} come after the fader.")
    if early:
        found.append(f"That sends of {' and '.join(early)} leave before the end of the chain.")
    if mute:
        found.append(f"The audio of {mute} {'clip' if mute == 1 else 'clips'}: only when they sound.")
    if session.host != Host() or session.device != Device():
        found.append("What is known of the host and the audio device.")
    if session.variants:
        found.append("Other settings to compare.")
    return found


def _plugins(count: int) -> str:
    return "1 plugin is written without" if count == 1 else f"{count} plugins are written without"


def _has_no_file(strip: Strip, clip: Clip) -> bool:
    """Whether nothing can be written of what an audio clip plays."""
    return clip.kind == "audio" and strip.instrument is None and not (clip.file and Path(clip.file).is_absolute())


def _project(
    session: Session, loops: dict[str, Loop], resting: Mapping[str, Sequence[Span]], names: Mapping[str, str]
) -> bytes:
    root = etree.Element("Project", version="1.0")
    _add(root, "Application", name=PROGRAM, version="1")
    transport = _add(root, "Transport")
    _add(transport, "Tempo", id=TEMPO, unit="bpm", value=float(session.tempo[0].bpm if session.tempo else 120.0))
    meters = session.meters or (Meter(),)
    _add(transport, "TimeSignature", id=METER, numerator=meters[0].beats, denominator=meters[0].unit)
    structure = _add(root, "Structure")
    for strip in session.strips:
        _track(structure, strip, strip.id in resting, names)
    lanes = _add(_add(root, "Arrangement"), "Lanes", timeUnit="seconds")
    for strip in session.strips:
        if strip.clips or strip.id in resting:
            lane = _add(lanes, "Lanes", track=strip.id)
            if strip.clips:
                clips = _add(lane, "Clips")
                for clip in strip.clips:
                    _clip(clips, strip, clip, loops.get(strip.id))
            for use in strip.uses() if strip.id in resting else ():
                switch, spans = _switch_id(names[use.id]), list(resting[strip.id])
                lane.append(etree.fromstring(switched(switch, f"{switch}-moves", spans)))
    arrangement = root.find("Arrangement")
    markers = _add(arrangement, "Markers", timeUnit="seconds")
    for section in session.sections:
        _add(markers, "Marker", time=float(section.start), name=section.name)
    points = _add(arrangement, "TempoAutomation", unit="bpm", timeUnit="beats")
    _add(points, "Target", parameter=TEMPO)
    for point in session.tempo:
        how = "linear" if point.ramp else "hold"
        _add(points, "RealPoint", time=float(point.beat), value=float(point.bpm), interpolation=how)
    if len(meters) > 1:
        automation = _add(arrangement, "TimeSignatureAutomation", timeUnit="beats")
        _add(automation, "Target", parameter=METER)
        for meter in meters:
            of = {"numerator": meter.beats, "denominator": meter.unit}
            _add(automation, "TimeSignaturePoint", time=float(meter.beat), **of)
    return bytes(etree.tostring(root, xml_declaration=True, encoding="UTF-8", pretty_print=True))


def _track(structure: etree._Element, strip: Strip, rests: bool, names: Mapping[str, str]) -> None:
    content = "notes" if strip.instrument is not None else "tracks" if strip.kind == "bus" else "audio"
    track = _add(structure, "Track", id=strip.id, name=strip.name, contentType=content, loaded=strip.enabled)
    channel = _add(track, "Channel", id=f"{strip.id}-channel", role=ROLES[strip.kind], audioChannels=strip.channels)
    if strip.output is not None:
        channel.set("destination", f"{strip.output}-channel")
    devices = _add(channel, "Devices")
    for use in strip.uses():
        _device(devices, use, use is strip.instrument, rests, names[use.id])
    _add(channel, "Mute", value=strip.mute)
    _add(channel, "Pan", unit="normalized", min=0.0, max=1.0, value=(strip.pan + 1) / 2)
    sends = _add(channel, "Sends")
    for each in strip.sends:
        send = _add(sends, "Send", destination=f"{each.target}-channel", type="pre" if each.pre_fader else "post")
        _add(send, "Enable", value=each.enabled)
        _add(send, "Volume", unit="linear", value=float(each.level))
    _add(channel, "Volume", unit="linear", value=float(strip.volume))


def _device(devices: etree._Element, use: PluginUse, is_instrument: bool, rests: bool, own: str) -> None:
    plugin = use.plugin
    role = "instrument" if is_instrument else "analyzer" if use.family == "analyser" else "audioFX"
    known = plugin.standard in TAGS or plugin.identifier.startswith(f"{plugin.standard}.")
    device = _add(
        devices, TAGS.get(plugin.standard, "BuiltinDevice"),
        deviceID=plugin.identifier if known else f"{plugin.standard}:{plugin.identifier}", deviceName=plugin.name,
        deviceRole=role, deviceVendor=plugin.vendor, pluginVersion=plugin.version, loaded=use.loaded,
    )  # fmt: skip
    parameters = _add(device, "Parameters")
    for number, (name, value) in enumerate(use.setting.values):
        _add(parameters, "RealParameter", id=f"{own}-p{number}", parameterID=name, value=float(value))
    enabled = _add(device, "Enabled", value=use.enabled)
    if rests:
        enabled.set("id", _switch_id(own))
    if use.setting.state is not None:
        _add(device, "State", path=_state_path(own))


def _switch_id(own: str) -> str:
    return f"{own}-switch"


def _state_path(own: str) -> str:
    return f"plugins/{own}.state"


def _clip(clips: etree._Element, strip: Strip, clip: Clip, loop: Loop | None) -> None:
    length = clip.end - clip.start
    made = _add(
        clips, "Clip", time=float(clip.start), duration=float(length), contentTimeUnit="seconds", playStart=0.0,
        name=clip.name,
    )  # fmt: skip
    if clip.kind == "notes":
        of_file = is_of_file(clip)
        controllers = _controllers_of_file(clip) if of_file else ()
        lanes = _add(made, "Lanes") if controllers else made
        notes = _add(lanes, "Notes")
        for note in _notes_of_file(clip) if of_file else _notes(clip, strip):
            notes.append(as_note(note, clip.start))
        for each in controllers:
            lanes.append(as_points(each, clip.start))
    elif loop is not None:
        for name, value in (("loopStart", 0.0), ("loopEnd", loop.seconds)):
            made.set(name, _value(value))
        audio = _add(made, "Audio", duration=loop.seconds, sampleRate=loop.rate, channels=loop.channels)
        _add(audio, "File", path=f"audio/{loop.name}")
    elif clip.file is not None and Path(clip.file).is_absolute():
        made.set("playStart", _value(float(clip.offset)))
        audio = _add(made, "Audio", duration=clip.offset + length, sampleRate=clip.rate, channels=strip.channels)
        _add(audio, "File", path=clip.file, external=True)
    else:
        # Without a file it is known when it sounds, and nothing else.
        audio = _add(made, "Audio", duration=float(length), sampleRate=0, channels=strip.channels)
        _add(audio, "File", path="")


def is_of_file(clip: Clip) -> bool:
    """Whether a clip's notes lie in a MIDI file that is still there."""
    return clip.kind == "notes" and Path(clip.played[0]).is_file()


def _notes_of_file(clip: Clip) -> Iterator[NotePart]:
    """The notes that a clip plays of its MIDI file, by the seconds of the piece.

    One that begins in the clip is cut where the clip ends.
    """
    assert clip.file is not None
    later = clip.start - clip.offset
    for note in midi_file.played_in(clip.file).notes:
        if clip.start <= note.start + later < clip.end:
            end = min(note.end + later, clip.end)
            does = tuple(each.later(later) for each in note.expressions)
            yield NotePart(note.start + later, end, note.key, note.velocity, note.channel, does)


def _controllers_of_file(clip: Clip) -> tuple[Controller, ...]:
    """How the controllers go that a clip plays of its MIDI file."""
    assert clip.file is not None
    return between(
        midi_file.played_in(clip.file).controllers, clip.offset, clip.offset + clip.end - clip.start,
        clip.start - clip.offset,
    )  # fmt: skip


def _notes(clip: Clip, strip: Strip) -> Iterator[NotePart]:
    """Notes that sound together as often as is known of a clip, by the seconds of the piece."""
    most = strip.instrument.voices if strip.instrument is not None else 1
    profile = clip.voices or ((clip.start, most),)
    ends = [second for second, _ in profile[1:]] + [clip.end]
    for (begin, count), end in zip(profile, ends, strict=True):
        for number in range(count):
            yield NotePart(max(begin, clip.start), end, FIRST_KEY + number % 90, 0.7)
