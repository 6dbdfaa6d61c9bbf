"""Reading the open project exchange format, DAWproject 1.0; a report says what was understood and what was not.

The format is a ZIP with `project.xml` in it. Programs write it differently, so nothing is taken for granted: groups
may nest or only be routed, attributes may be missing, times may be beats or seconds.
"""

from __future__ import annotations

from collections import Counter
from pathlib import Path

import msgspec
from lxml import etree

from ..core.cards.families import by_name
from ..core.piece.moments import sounding_spans
from ..core.session.curves import Curve
from ..core.session.plugins import Family, PluginRef, PluginUse, Setting
from ..core.session.routing import Graph, build
from ..core.session.session import Section, Session, SessionError, Timing
from ..core.session.strips import Send, Strip, StripKind
from ..core.session.tempo import TempoMap
from ..core.units import all_of, count
from .archive import LARGEST_STATE, LARGEST_XML, WHERE, Archive, ImportRefusedError, leaves_folder
from .dawproject_curves import (
    PARAMETERS,
    SWITCHED,
    Curves,
    ever,
    moves_in,
    of_channel,
    of_devices,
    only_in_silence,
    rests,
    switches,
)  # fmt: skip
from .dawproject_tempo import meters_of, tempo_of
from .dawproject_timeline import Timeline
from .sounding import Part, Sounding
from .xml_values import UNNAMED, balance, flag, gain, is_writable, number, parse, place, setting_of, shown

AUDIO_HEAD = 1 << 16
STANDARDS = {"ClapPlugin": "clap", "Vst3Plugin": "vst3", "Vst2Plugin": "vst2", "AuPlugin": "au"}
OURS = ("lv2", "ladspa")
MOST_STRIPS, MOST_DEVICES = 10_000, 100_000
# Every element of version 1.0 of the format.
TAGS = """
    Project Application Transport Tempo TimeSignature Structure Track Channel Devices Mute Pan Volume Sends Send Enable
    Device VstPlugin Vst2Plugin Vst3Plugin ClapPlugin AuPlugin BuiltinDevice Equalizer Compressor NoiseGate Limiter
    Enabled Parameters State RealParameter BoolParameter IntegerParameter EnumParameter TimeSignatureParameter
    Arrangement Lanes Clips Clip Notes Note Audio Video File Warps Warp Points Target RealPoint EnumPoint BoolPoint
    IntegerPoint TimeSignaturePoint Markers Marker TempoAutomation TimeSignatureAutomation Scenes Scene ClipSlot Band
    Freq Gain Q Attack AutoMakeup InputGain OutputGain Ratio Release Threshold Range Solo
"""
KNOWN_TAGS = frozenset(TAGS.split())
BUILT_IN: dict[str, Family] = {
    "BuiltinDevice": "other", "Equalizer": "equaliser", "Compressor": "dynamics", "NoiseGate": "dynamics",
    "Limiter": "dynamics",
}  # fmt: skip


class ImportReport(msgspec.Struct, frozen=True):
    """What was understood, what was left out and why, in sentences."""

    file: str
    program: str
    understood: tuple[str, ...]
    left_out: tuple[str, ...]


class Imported(msgspec.Struct, frozen=True):
    """A session from an exchange file. `audio` says by strip what it plays."""

    session: Session
    report: ImportReport
    audio: dict[str, Sounding] = {}


def read(path: Path) -> Imported:
    """Reads a `.dawproject` file. ImportRefusedError says in a sentence what is wrong with it and where."""
    if not is_writable(str(path.absolute())):
        raise ImportRefusedError(f"{shown(path)}: {UNNAMED}.")
    with Archive(path) as archive:
        root = parse(archive.read(WHERE, LARGEST_XML), WHERE)
        if root.tag != "Project":
            raise ImportRefusedError(f"{path.name}: {WHERE} begins with {root.tag!r}, not with Project.")
        return _Reader(archive, root, path).imported()


def sounding_of(archive: Archive, xml: bytes, path: Path, strip_id: str) -> Sounding:
    """What a strip would play if an exchange file held another project. ImportRefusedError as `read`."""
    found = _Reader(archive, parse(xml, WHERE), path).imported()
    return found.audio.get(strip_id, Sounding())


class _Reader:
    """One reading of one project; collects what is left out on the way."""

    def __init__(self, archive: Archive, root: etree._Element, path: Path) -> None:
        self._archive, self._root, self._path = archive, root, path
        self._left_out: list[str] = []
        self._strips: list[Strip] = []
        self._strip_of_channel: dict[str, str] = {}
        self._channel_of_strip: dict[str, etree._Element] = {}
        self._sends_of: dict[str, list[etree._Element]] = {}
        self._ids: set[str] = set()
        self._devices_read = 0
        self._solo: list[str] = []
        self._awake: dict[str, Curve] = {}

    def imported(self) -> Imported:
        tempo = tempo_of(self._root)
        meters = meters_of(self._root, TempoMap(tempo), self._left_out)
        self._curves = Curves(self._root, TempoMap(tempo))
        self._read_structure()
        self._tell_foreign()
        self._ensure_main()
        self._connect()
        tracks = {s.id for s in self._strips}
        timeline = Timeline(self._root, Timing(tempo, meters), tracks, self._left_out, self._audio_head)
        strips = tuple(self._with_clips(strip, timeline) for strip in self._strips)
        sections = tuple(Section(name, at) for name, at in timeline.markers())
        ends = [clip.end for strip in strips for clip in strip.clips] + [s.start for s in sections]
        name = self._title()
        session = Session(
            name, self._rate(), max(ends, default=0.0), strips, sections, tempo, source=str(self._path.absolute()),
            meters=meters, source_stamp=self._archive.stamp(WHERE),
        )  # fmt: skip
        try:
            session = self._with_rests(session, build(session))
        except SessionError as error:
            raise ImportRefusedError(f"{self._path.name}: {error}.") from error
        audio = {strip.id: self._sounding(strip.id, timeline) for strip in self._strips}
        return Imported(session, self._report(session), audio)

    def _with_rests(self, session: Session, graph: Graph) -> Session:
        """The same, but that tracks whose plugins automation switches off while they are silent are suspended then."""
        if not self._curves.has_any:
            return session
        suspended = set()
        for strip, sounding in zip(session.strips, sounding_spans(session, graph, {}), strict=True):
            channel = self._channel_of_strip.get(strip.id)
            switched = switches(strip, channel, self._curves) if channel is not None else []
            awake = only_in_silence(switched, sounding, session.length)
            if awake is not None:
                self._awake[strip.id] = awake
            if awake is not None and rests(switched, sounding, session.length):
                suspended.add(strip.id)
            elif any(switched):
                self._left_out.append(
                    f"Plugins on “{strip.name}” are switched on and off by automation while it sounds, not all of "
                    "them, or for short rests alone: they count as on all the time."
                )
        strips = tuple(msgspec.structs.replace(s, suspended=s.id in suspended) for s in session.strips)
        return msgspec.structs.replace(session, strips=strips)

    def _sounding(self, strip_id: str, timeline: Timeline) -> Sounding:
        """What a strip plays, and what of it is automated."""
        parts = []
        for each in timeline.placed(strip_id):
            file = each.audio.find("File")
            path = file.get("path") if file is not None else None
            if path:
                rate = round(number(each.audio, "sampleRate", 0, WHERE, 0, 1_000_000))
                outside = flag(file, "external", False)
                parts.append(Part(
                    each.start, each.end, each.offset, path, outside, rate, each.stretched, each.fade_in, each.fade_out,
                    each.gains,
                ))  # fmt: skip
        found = Sounding(
            tuple(parts), tuple(timeline.played(strip_id)), strip_id in timeline.curved,
            controllers=timeline.controllers(strip_id),
        )  # fmt: skip
        channel = self._channel_of_strip.get(strip_id)
        if channel is None:
            return found
        moving, of_plugins = of_devices(strip_id, channel, self._curves)
        awake = self._awake.get(strip_id)
        if awake is not None:
            of_plugins = [each for each in of_plugins if each[1] != SWITCHED]
        ways = of_channel(channel, self._sends_of.get(strip_id, []), self._curves)
        unclear = (*of_plugins, *((strip_id, why) for why in ways.unclear))
        return msgspec.structs.replace(
            found, moving=tuple(moving), fader=ways.fader, heard=ways.heard, sends=ways.sends, unclear=unclear,
            pan=ways.pan, awake=awake,
        )  # fmt: skip

    def _report(self, session: Session) -> ImportReport:
        application = self._root.find("Application")
        parts = () if application is None else (application.get("name"), application.get("version"))
        program = " ".join(part for part in parts if part)
        if self._solo:
            self._left_out.append(f"Solo on {all_of(self._solo)}: here all tracks sound, as in the mix.")
        uses = [use for strip in session.strips for use in strip.uses()]
        kinds = {kind: sum(s.kind == kind for s in session.strips) for kind in ("track", "bus", "return", "main")}
        with_state = sum(use.setting.state is not None for use in uses)
        understood = (
            ", ".join([count(kinds[k], k) for k in ("track", "bus", "return")] + [f"{kinds['main']} main output"]),
            f"{count(len(uses), 'plugin')}, {with_state} with their saved state",
            count(sum(len(s.sends) for s in session.strips), "send"),
            f"{count(sum(len(s.clips) for s in session.strips), 'clip')}, {count(len(session.sections), 'marker')}, "
            f"{count(len(session.tempo), 'tempo point')}",
        )
        return ImportReport(self._path.name, program, understood, tuple(self._left_out))

    def _title(self) -> str:
        if "metadata.xml" in self._archive:
            try:
                title = parse(self._archive.read("metadata.xml", 1 << 20), "metadata.xml").findtext("Title")
            except ImportRefusedError as error:
                self._left_out.append(f"What the file says of itself: {error}")
                title = None
            if title and title.strip():
                return title.strip()
        return self._path.stem

    def _rate(self) -> int:
        """The rate that most of the audio files say, each counted once; the format has no rate of its own."""
        files: dict[str, int] = {}
        for count_so_far, audio in enumerate(self._root.iter("Audio")):
            file, rate = audio.find("File"), int(number(audio, "sampleRate", 0, WHERE, 0, 1_000_000))
            if rate >= 1000:
                name = (file.get("path") if file is not None else None) or f"#{count_so_far}"
                files[name] = max(rate, files.get(name, 0))
        known = Counter(files.values())
        if not known:
            self._left_out.append("No audio file says its sample rate: the session is taken to run at 48000 Hz.")
            return 48000
        # Samples of other rates lie in many sessions; of as many the higher one counts, which is the dearer.
        most = max(known, key=lambda rate: (known[rate], rate))
        if len(known) > 1:
            each = ", ".join(f"{number_of} at {rate} Hz" for rate, number_of in sorted(known.items()))
            taken = f"the session is taken to run at {most} Hz."
            self._left_out.append(f"Audio files of several sample rates ({each}): {taken}")
        return most

    def _tell_foreign(self) -> None:
        """What a program has added of its own is not understood, and that is said."""
        tags = Counter(str(e.tag) for e in self._root.iter() if isinstance(e.tag, str) and e.tag not in KNOWN_TAGS)
        if tags:
            named = ", ".join(f"{etree.QName(tag).localname} ({count})" for tag, count in tags.most_common(5))
            self._left_out.append(f"What is no part of the format, and so is not understood: {named}.")

    # Tracks and channels

    def _read_structure(self) -> None:
        structure = self._root.find("Structure")
        if structure is None:
            raise ImportRefusedError(f"{self._path.name}: {WHERE} has no Structure, so there are no tracks in it.")
        for element in structure:
            if element.tag == "Track":
                self._read_track(element, None, 0)
            elif element.tag == "Channel":
                self._read_channel(element, element, None, False)

    def _read_track(self, track: etree._Element, parent: str | None, depth: int) -> None:
        if depth > 64:
            raise ImportRefusedError(f"{place(track, WHERE)}: groups nest deeper than 64 levels.")
        channel = track.find("Channel")
        children = track.findall("Track")
        strip_id = parent
        if channel is not None:
            strip_id = self._read_channel(track, channel, parent, bool(children)) or parent
        elif not children:
            self._left_out.append(f"{place(track, WHERE)}: it has no channel, so nothing of it can sound.")
        for child in children:
            self._read_track(child, strip_id, depth + 1)

    def _read_channel(
        self, track: etree._Element, channel: etree._Element, parent: str | None, has_children: bool
    ) -> str | None:
        """Adds a strip; its id is the track's, since clips refer to that. None for what carries no sound."""
        if len(self._strips) >= MOST_STRIPS:
            raise ImportRefusedError(f"{place(track, WHERE)}: over {MOST_STRIPS} tracks, more than any session has.")
        strip_id = self._own_id(track.get("id") or channel.get("id") or f"strip-{len(self._strips) + 1}", track)
        given = channel.get("id")
        channel_id = self._own_id(given, track) if given and given != track.get("id") else strip_id
        name = track.get("name") or channel.get("name") or f"Strip {len(self._strips) + 1}"
        role = channel.get("role", "regular")
        if role == "vca":
            self._left_out.append(f"{place(track, WHERE)}: a VCA carries no sound of its own.")
            return None
        is_group = (
            has_children
            or "tracks" in (track.get("contentType") or "").split()
            or (role == "master" and channel.get("destination") is not None)
        )
        channels = int(number(channel, "audioChannels", 2, WHERE, 0, 256)) or 2
        instrument, inserts = self._devices(channel, strip_id, channels, name)
        volume, mute, pan = channel.find("Volume"), channel.find("Mute"), channel.find("Pan")
        rides = volume is not None and self._curves.moves(volume)
        if flag(channel, "solo", False):
            self._solo.append(name)
        muted = not ever(mute, self._curves, False, flag(mute, "value", False))
        self._strips.append(Strip(
            strip_id, name, strip_kind(role, is_group), instrument, inserts,
            parent=parent, volume=gain(volume, WHERE), mute=muted,
            pan=balance(pan, WHERE), rides=rides, enabled=flag(track, "loaded", True), channels=channels,
        ))  # fmt: skip
        self._strip_of_channel[channel_id] = strip_id
        self._strip_of_channel.setdefault(strip_id, strip_id)
        self._channel_of_strip[strip_id] = channel
        return strip_id

    def _own_id(self, wanted: str, track: etree._Element) -> str:
        """An id that no other strip has; a doubled one goes to the first that has it."""
        found, count = wanted, 1
        while found in self._ids:
            count += 1
            found = f"{wanted}~{count}"
        if found != wanted:
            self._left_out.append(
                f"{place(track, WHERE)}: the id {wanted!r} is used twice; what refers to it is taken for the first."
            )
        self._ids.add(found)
        return found

    def _ensure_main(self) -> None:
        mains = [strip for strip in self._strips if strip.kind == "main"]
        for strip in mains[1:]:
            # There is one main output; others that say so are groups, which lead to it.
            self._strips[self._strips.index(strip)] = msgspec.structs.replace(strip, kind="bus")
            self._left_out.append(f"“{strip.name}” says that it is the main output, too: it is taken for a bus.")
        if not any(strip.kind == "main" for strip in self._strips):
            self._left_out.append("The project names no main output: one was added, and what leads nowhere feeds it.")
            self._strips.append(Strip("nimble-main", "Main output", "main"))
        if len(self._strips) == 1:
            raise ImportRefusedError(f"{self._path.name}: {WHERE} holds no tracks with channels.")

    def _connect(self) -> None:
        """Fills outputs and sends, now that every channel is known."""
        main = next(strip.id for strip in self._strips if strip.kind == "main")
        connected = []
        for strip in self._strips:
            channel = self._channel_of_strip.get(strip.id)
            if channel is None:
                connected.append(strip)
                continue
            output = strip.parent or (None if strip.kind == "main" else main)
            if channel.get("destination") is not None and strip.kind != "main":
                output = self._resolve(channel, strip.name, f"it leads to “{self._name_of(output)}”") or output
            sends = []
            for send in channel.findall("Sends/Send"):
                target = self._resolve(send, strip.name, "the send was left out")
                if target is not None:
                    sends.append(Send(
                        target, gain(send.find("Volume"), WHERE), send.get("type") == "pre",
                        ever(send.find("Enable"), self._curves, True, flag(send.find("Enable"), "value", True)),
                    ))  # fmt: skip
                    self._sends_of.setdefault(strip.id, []).append(send)
            connected.append(msgspec.structs.replace(strip, output=output, sends=tuple(sends)))
        self._strips = connected

    def _name_of(self, strip_id: str | None) -> str:
        return next((strip.name for strip in self._strips if strip.id == strip_id), "nothing")

    def _resolve(self, element: etree._Element, name: str, instead: str) -> str | None:
        """The strip that a destination names; None if there is none, which is told with what is done instead."""
        wanted = element.get("destination")
        if wanted is not None and wanted in self._strip_of_channel:
            return self._strip_of_channel[wanted]
        what = "no destination" if wanted is None else f"a destination that does not exist: {wanted!r}"
        self._left_out.append(f"{place(element, WHERE)} on “{name}”: it has {what}; {instead}.")
        return None

    # Devices

    def _devices(
        self, channel: etree._Element, strip_id: str, channels: int, name: str
    ) -> tuple[PluginUse | None, tuple[PluginUse, ...]]:
        instrument: PluginUse | None = None
        inserts = []
        for index, device in enumerate(channel.findall("Devices/*")):
            if device.tag not in STANDARDS and device.tag not in BUILT_IN:
                self._left_out.append(f"{place(device, WHERE)} on “{name}”: this kind of device is not known.")
                continue
            self._devices_read += 1
            if self._devices_read > MOST_DEVICES:
                raise ImportRefusedError(
                    f"{place(device, WHERE)}: over {MOST_DEVICES} devices, more than any session has."
                )
            use = self._use(device, f"{strip_id}/{index}", channels, name)
            if device.get("deviceRole") == "instrument" and instrument is None:
                instrument = msgspec.structs.replace(use, family="instrument", voices=1)
            else:
                inserts.append(use)
        return instrument, tuple(inserts)

    def _use(self, device: etree._Element, use_id: str, channels: int, strip_name: str) -> PluginUse:
        tag = str(device.tag)
        label = device.get("deviceName") or device.get("name") or tag
        standard = STANDARDS.get(tag, "builtin")
        identifier = device.get("deviceID") or f"{tag}:{label}"
        if standard == "builtin":
            # What this program writes: the standard stands before the identifier, where the format knows no other way.
            ours, _, rest = identifier.partition(":")
            if identifier.startswith("house."):
                standard = "house"
            elif ours in OURS and rest:
                standard, identifier = ours, rest
        if standard == "builtin":
            self._left_out.append(f"“{label}” on “{strip_name}” is built into the program and cannot be measured here.")
        loaded = flag(device, "loaded", True)
        switch = device.find("Enabled")
        # What is switched on in the piece, if only for a while, is one that costs.
        enabled = ever(switch, self._curves, True, flag(switch, "value", True)) and loaded
        plugin = PluginRef(standard, identifier, label, device.get("deviceVendor", ""), device.get("pluginVersion", ""))
        setting = self._setting(device, label, strip_name)
        moves = moves_in(device, self._curves)
        return PluginUse(
            use_id, plugin, setting, family(device, label), channels, 0, enabled, loaded=loaded, automated=moves
        )

    def _setting(self, device: etree._Element, label: str, strip_name: str) -> Setting:
        """The saved state, or where there is none the parameters that name themselves."""
        state = device.find("State")
        if state is not None and state.get("path"):
            path = str(state.get("path"))
            if flag(state, "external", False):
                self._left_out.append(f"The state of “{label}” on “{strip_name}” lies outside the file; not followed.")
            elif path in self._archive:
                return Setting((), self._archive.read(path, LARGEST_STATE))
            else:
                if leaves_folder(path):
                    raise ImportRefusedError(f"{place(state, WHERE)}: the state's path leaves the file: {path!r}.")
                self._left_out.append(
                    f"The state of “{label}” on “{strip_name}” is missing in the file ({path}): "
                    "it is measured as it starts."
                )
        values = []
        for parameter in device.findall("Parameters/*"):
            key = parameter.get("parameterID")
            if key is not None and parameter.tag in PARAMETERS and parameter.get("value") is not None:
                values.append((key, setting_of(parameter, WHERE)))
        return Setting(tuple(values))

    def _audio_head(self, path: str) -> bytes:
        return self._archive.head(path, AUDIO_HEAD) if path and not leaves_folder(path) else b""

    def _with_clips(self, strip: Strip, timeline: Timeline) -> Strip:
        clips = timeline.clips(strip.id)
        instrument = strip.instrument
        if instrument is not None:
            instrument = msgspec.structs.replace(instrument, voices=max(timeline.voices(strip.id), 1))
        return msgspec.structs.replace(strip, clips=clips, instrument=instrument)


def strip_kind(role: str, is_group: bool) -> StripKind:
    """A channel's role as the kind of strip; a group that holds tracks is a bus whatever its role says."""
    if is_group:
        return "bus"
    kinds: dict[str, StripKind] = {"master": "main", "effect": "return", "submix": "bus"}
    return kinds.get(role, "track")


def family(device: etree._Element, label: str) -> Family:
    """The family of a device: as declared, else guessed from its name."""
    if device.tag in BUILT_IN and BUILT_IN[str(device.tag)] != "other":
        return BUILT_IN[str(device.tag)]
    role = device.get("deviceRole")
    if role == "instrument":
        return "instrument"
    if role == "analyzer":
        return "analyser"
    return by_name(label)
