"""What changes in the text of one project when a plan has been carried out; every other byte stays as it is."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence

import msgspec
from lxml import etree

from ..core.cards.card import Cards
from ..core.piece.moments import Span
from ..core.session.controllers import Controller
from ..core.session.plugins import PluginUse
from ..core.session.session import Session
from ..core.session.strips import Clip, Send, Strip
from ..store.dawproject_controllers import as_points
from ..store.dawproject_expressions import as_note
from ..store.dawproject_heard import UNWRAPPED
from ..store.sounding import NotePart, Part
from ..store.splice import Element, SpliceError, Text
from ..store.switching import points, seconds
from ..store.xml_values import quoted, value_as
from .cutting import Cutting
from .render import Rendered
from .resting import rests

FOLDER = "audio/carried-out"
# What switches off content that lies in a lane without a clip around it.
OFF = '<Clip time="0" enable="false">', "</Clip>"


def _with_files(planned: Session, rendered: Mapping[str, Rendered]) -> Session:
    """A planned session whose rendered strips play their files, in which what is frozen has rung out."""
    strips = {strip.id: strip for strip in planned.strips}
    for strip_id, file in rendered.items():
        played_by = strips.get(f"{strip_id}/bounced", strips[strip_id])
        strips[played_by.id] = msgspec.structs.replace(
            played_by, clips=tuple(Clip(*span) for span in played(file)), instrument=None, frozen_through=None,
            inserts=played_by.live_uses(),
        )  # fmt: skip
    return msgspec.structs.replace(planned, strips=tuple(strips.values()))


def _written(elements: Iterable[etree._Element]) -> str:
    """Elements as they stand in a file."""
    return "".join(etree.tostring(each, encoding="unicode") for each in elements)


def tracks_of(text: Text) -> dict[str, Element]:
    """The tracks of a project by the ids of their strips."""
    found: dict[str, Element] = {}
    for track in text.root.iter("Track"):
        channel = track.find("Channel")
        known = track.attributes.get("id") or (channel.attributes.get("id") if channel is not None else None)
        if known is not None:
            found.setdefault(known, track)
    return found


def devices_of(track: Element | None) -> list[Element]:
    """The devices of a track, in their order."""
    channel = track.find("Channel") if track is not None else None
    devices = channel.find("Devices") if channel is not None else None
    return devices.children if devices is not None else []


def clips_of(text: Text) -> dict[str, list[Element]]:
    """What each track plays, by its id: its clips that lie in no other clip, and content without one around it."""
    found: dict[str, list[Element]] = {}
    arrangement = text.root.find("Arrangement")
    for clip in outermost(arrangement) if arrangement is not None else ():
        lane = clip.parent
        while lane is not None and "track" not in lane.attributes:
            lane = lane.parent
        if lane is not None:
            found.setdefault(lane.attributes["track"], []).append(clip)
    return found


def automation_of(text: Text) -> dict[str, list[Element]]:
    """What moves parameters and switches, by the ids of these."""
    found: dict[str, list[Element]] = {}
    for each in text.root.iter("Points"):
        target = each.find("Target")
        if target is not None and "parameter" in target.attributes:
            found.setdefault(target.attributes["parameter"], []).append(each)
    return found


def outermost(element: Element) -> Iterator[Element]:
    """The clips below an element, and content without one around it, that lie in no other clip."""
    for child in element.children:
        if child.tag in ("Clip", *UNWRAPPED):
            yield child
        else:
            yield from outermost(child)


def played(file: Rendered) -> Sequence[Span]:
    """From when to when a rendered file is played (seconds of the piece): where something is heard in it; all of it
    where that is not known."""
    return file.heard or ((file.start, file.start + file.seconds),)


class Changes:
    """What changes in the text of one project."""

    def __init__(
        self, text: Text, before: Session, after: Session, referred: Callable[[str], str], is_of_file: bool
    ) -> None:
        """`is_of_file`: the session was read from that file, not made here and written out."""
        self._text, self._before, self._planned, self._referred = text, before, after, referred
        self._is_of_file = is_of_file
        self._after = {strip.id: strip for strip in after.strips}
        self.done: list[str] = []
        self.by_hand: list[str] = []
        self._tracks = tracks_of(text)
        self._clips = clips_of(text)
        self._moving = automation_of(text)
        self._ids = 0

    def leave(self, gone: Iterable[Strip]) -> None:
        """Switches off tracks that the session has no more."""
        for strip in gone:
            if strip.enabled and strip.id in self._tracks:
                self._text.set(self._tracks[strip.id], "loaded", "false")
                self.done.append(f"{strip.name}: switched off, since it was removed")

    def switch(self, strip: Strip) -> None:
        """Switches off what is off then: the whole track, or single plugins, frozen ones among them; and on what is on
        again."""
        after = self._after.get(strip.id)
        track = self._tracks.get(strip.id)
        if track is None and after != strip:
            self.by_hand.append(f"what is to become of {strip.name}: it is no track of the file")
        if after is None or track is None:
            return
        if after.name != strip.name:
            self._text.set(track, "name", after.name)
            self.done.append(f"{strip.name}: called {after.name}")
        if strip.enabled and not after.enabled:
            self._text.set(track, "loaded", "false")
            self.done.append(f"{strip.name}: switched off")
        elif after.enabled and not strip.enabled:
            self._text.set(track, "loaded", "true")
            self.done.append(f"{strip.name}: switched on")
        uses = {use.id: use for use in after.uses()}
        on = {use.id for place, use in after.places() if use.enabled and not after.is_frozen(place)}
        gone = {use.id for use in uses.values() if not use.loaded and after.enabled}
        for place, use in strip.places():
            device = self._device(strip, use.id)
            if device is not None and use.loaded and use.id in gone:
                self._text.set(device, "loaded", "false")
            is_on = use.enabled and not strip.is_frozen(place)
            if is_on and use.id not in on and device is not None:
                self._off(device, "Enabled", "On/Off", after=device.find("Parameters"))
                self.done.append(f"{strip.name}: {use.label} {'unloaded' if use.id in gone else 'switched off'}")
            elif not use.enabled and use.id in on:
                self._on(strip, use, device)
            if use.id in uses and uses[use.id].setting != use.setting:
                self._set(strip, use, uses[use.id], device)
        self._reroute(strip, after, track)

    def _on(self, strip: Strip, use: PluginUse, device: Element | None) -> None:
        """Switches a plugin on that the file has switched off."""
        if device is None:
            return
        if not use.loaded:
            self._text.set(device, "loaded", "true")
        switch = device.find("Enabled")
        if switch is not None:
            self._text.set(switch, "value", "true")
            self._let_rest(switch)
        self.done.append(f"{strip.name}: {use.label} switched on")

    def _device(self, strip: Strip, use_id: str) -> Element | None:
        """The device of a use. Where it was read from a file, the number behind the slash counts them, and None is what
        was put in here; in what was made here and written out, they lie in the order of the chain."""
        devices = devices_of(self._tracks.get(strip.id))
        own, _, number = use_id.rpartition("/")
        if not self._is_of_file:
            place = [use.id for use in strip.uses()].index(use_id)
        elif own == strip.id and number.isdecimal():
            place = int(number)
        else:
            return None
        return devices[place] if place < len(devices) else None

    def _set(self, strip: Strip, before: PluginUse, after: PluginUse, device: Element | None) -> None:
        """Gives a device the values of another setting. One with a saved state cannot be set by values alone."""
        old = dict(before.setting.values)
        changed = {name: value for name, value in after.setting.values if old.get(name) != value}
        gone = set(old) - {name for name, _ in after.setting.values}
        if device is None or before.setting.state is not None or after.setting.state is not None or gone:
            self.by_hand.append(f"lighten: {before.label} on {strip.name} ({after.setting.words()})")
            return
        parameters = device.find("Parameters")
        known = {each.attributes.get("parameterID"): each for each in parameters.children} if parameters else {}
        moved = [name for name in changed if name in known and known[name].attributes.get("id", "") in self._moving]
        if moved:
            self.by_hand.append(f"lighten: {before.label} on {strip.name} ({', '.join(moved)}: automated)")
        changed = {name: value for name, value in changed.items() if name not in moved}
        new = []
        for name, value in changed.items():
            if name in known:
                self._text.set(known[name], "value", value_as(known[name].tag, value))
            else:
                words = f"id={quoted(self._new_id())} parameterID={quoted(name)} value={quoted(value_as('', value))}"
                new.append(f"<RealParameter {words}/>")
        if new and parameters is not None:
            self._text.insert(parameters, "".join(new))
        elif new:
            self._text.first(device, f"<Parameters>{''.join(new)}</Parameters>")
        said = ", ".join(f"{name} {value:g}" for name, value in changed.items())
        self.done += [f"{strip.name}: {before.label} set to {said}"] if changed else []

    def _reroute(self, before: Strip, after: Strip, track: Element) -> None:
        """Leads a track to another strip, and switches off the sends that it has no more."""
        channel = track.find("Channel")
        if channel is None:
            return
        if after.output != before.output and after.output is not None:
            self._text.set(channel, "destination", self._channel_id(after.output))
            self.done.append(f"{before.name}: leads to {self._after[after.output].name}")
        left = [(send.target, send.pre_fader, send.level) for send in after.sends if send.enabled]
        sends = channel.find("Sends")
        written = [each for each in sends.children if each.tag == "Send"] if sends is not None else []
        for send in before.sends:
            key = (send.target, send.pre_fader, send.level)
            if not send.enabled or key in left:
                continue
            name = self._channel_id(send.target)
            element = next((each for each in written if each.attributes.get("destination") == name), None)
            if element is not None:
                written.remove(element)
                self._off(element, "Enable", "Enable")
                to = self._after.get(send.target)
                self.done.append(f"{before.name}: its send{f' to {to.name}' if to else ''} switched off")
        known = [(send.target, send.pre_fader, send.level) for send in before.sends if send.enabled]
        new = [send for send in after.sends if send.enabled and (send.target, send.pre_fader, send.level) not in known]
        words = "".join(map(self._sent, new))
        above = [each for each in channel.children if each.tag in ("Devices", "Mute", "Pan")]
        if new and sends is not None:
            self._text.insert(sends, words)
        elif new and above:
            self._text.insert(channel, f"<Sends>{words}</Sends>", above[-1])
        elif new:
            self._text.first(channel, f"<Sends>{words}</Sends>")
        self.done += [f"{before.name}: a send to {self._after[send.target].name}" for send in new]

    def _sent(self, send: Send) -> str:
        """A send as an element."""
        return (
            f"<Send destination={quoted(self._channel_id(send.target))} "
            f'type="{"pre" if send.pre_fader else "post"}"><Enable id="{self._new_id()}" name="Enable" value="true"/>'
            f'<Volume id="{self._new_id()}" unit="linear" value="{send.level:.9g}"/></Send>'
        )

    def _channel_id(self, strip_id: str) -> str:
        """What others call the channel of a strip by."""
        track = self._tracks.get(strip_id)
        if track is None:
            return f"{strip_id}-channel"
        channel = track.find("Channel")
        return (channel.attributes.get("id") if channel is not None else None) or strip_id

    def new_strips(self) -> list[Strip]:
        """The buses that the plan has added, each of which takes what several tracks had."""
        old = {strip.id for strip in self._before.strips}
        return [strip for strip in self._after.values() if strip.id not in old and strip.kind == "bus"]

    def add_bus(self, bus: Strip) -> None:
        """Writes a new bus with copies of the devices that its members had, where the first of them feeds it."""
        devices = "".join(self._copied(bus, use) for use in bus.inserts)
        sends = "".join(map(self._sent, bus.sends))
        leads = bus.output is not None and bus.output in self._tracks
        to = f" destination={quoted(self._channel_id(bus.output))}" if bus.output is not None and leads else ""
        words = (
            f'<Track id={quoted(bus.id)} name={quoted(bus.name)} contentType="audio" loaded="true">'
            f'<Channel id={quoted(self._channel_id(bus.id))} role="submix" audioChannels="{bus.channels}"{to}>'
            f'<Devices>{devices}</Devices><Mute id="{self._new_id()}" name="Mute" value="false"/>'
            f"{f'<Sends>{sends}</Sends>' if sends else ''}"
            f'<Volume id="{self._new_id()}" name="Volume" unit="linear" value="1"/></Channel></Track>'
        )
        above = self._tracks.get(bus.parent) if bus.parent is not None else self._text.root.find("Structure")
        if above is None:
            raise SpliceError("it has no structure to put a bus into")
        self._text.insert(above, words)
        self.done.append(f"{bus.name}: a new bus, with {', '.join(use.label for use in bus.inserts)}")

    def _copied(self, bus: Strip, of: PluginUse) -> str:
        """The device that a bus's plugin was on a track, as it is written, with ids of its own. SpliceError if it is
        not there."""
        use_id = of.id.removeprefix(f"{bus.id}/")
        for strip in self._before.strips:
            use = next((use for use in strip.uses() if use.id == use_id), None)
            device = self._device(strip, use_id) if use is not None else None
            if use is not None and device is not None:
                if use.setting != of.setting:
                    self.by_hand.append(f"lighten: {of.label} on {bus.name} ({of.setting.words()})")
                return self._with_own_ids(self._text.source(device))
        raise SpliceError(f"the plugin {of.label} of {bus.name} is not in the file")

    def _off(self, element: Element, tag: str, name: str, after: Element | None = None) -> None:
        """Switches a device or a send off by its switch, which is added if it has none."""
        switch = element.find(tag)
        if switch is not None:
            self._text.set(switch, "value", "false")
            self._let_rest(switch)
        else:
            self._add_switch(element, tag, name, "false", after)

    def _let_rest(self, switch: Element) -> None:
        """Takes out what moves a switch: it would be back where it was as soon as that plays."""
        for each in self._moving.pop(switch.attributes.get("id", ""), ()):
            self._text.remove(each)

    def _add_switch(self, element: Element, tag: str, name: str, value: str, after: Element | None) -> str:
        """Gives a device or a send a switch, behind `after` or first; its id."""
        own = self._new_id()
        words = f'<{tag} id="{own}" name="{name}" value="{value}"/>'
        if after is not None:
            self._text.insert(element, words, after)
        else:
            self._text.first(element, words)
        return own

    def _new_id(self) -> str:
        self._ids += 1
        return f"carried-out-{self._ids}"

    def freeze(self, strip: Strip, file: Rendered) -> None:
        """Switches off what the track plays, and lays the rendered file in its place."""
        for clip in self._clips.get(strip.id, ()):
            self._silence(clip)
        self._lay(strip.id, self._file_clips(f"{strip.name} (rendered)", file))
        self.done.append(f"{strip.name}: {file.file} in its place")

    def _silence(self, clip: Element) -> None:
        """Switches off a clip; content without one gets one around it."""
        if clip.tag == "Clip":
            self._text.set(clip, "enable", "false")
        elif clip.parent is not None and clip.parent.tag == "Clips":
            self._text.wrap(clip, *OFF)
        else:
            self._text.wrap(clip, f"<Clips>{OFF[0]}", f"{OFF[1]}</Clips>")

    def suspend(self, cards: Cards, rendered: Mapping[str, Rendered]) -> None:
        """Has automation switch the plugins of tracks off while they are silent, where the plan suspends them; what is
        rendered sounds as long as its file does."""
        before = {strip.id for strip in self._before.strips if strip.suspended}
        strip_ids = [each.id for each in self._after.values() if each.suspended and each.id not in before]
        resting = rests(_with_files(self._planned, rendered), cards) if strip_ids else {}
        for strip_id in strip_ids:
            strip, off = self._after[strip_id], resting[strip_id]
            devices = [self._device(strip, use.id) for use in strip.live_uses()]
            switches = [device.find("Enabled") if device is not None else None for device in devices]
            if not off:
                self.by_hand.append(f"suspend: {strip.name} (it is never silent for a second)")
            elif None in devices or any(
                each is not None and each.attributes.get("id", "") in self._moving for each in switches
            ):  # fmt: skip
                self.by_hand.append(f"suspend: {strip.name} (its switches are automated already)")
            else:
                targets = [self._switch(device) for device in devices if device is not None]
                self._in_lanes(strip_id, "".join(points(each, self._new_id(), off) for each in targets))
                self.done.append(f"{strip.name}: its plugins are switched off while it is silent")

    def _switch(self, device: Element) -> str:
        """The id of a device's switch, which is added if it has none."""
        switch = device.find("Enabled")
        if switch is None:
            return self._add_switch(device, "Enabled", "On/Off", "true", device.find("Parameters"))
        if "id" in switch.attributes:
            return switch.attributes["id"]
        own = self._new_id()
        self._text.set(switch, "id", own)
        return own

    def _file_clips(self, name: str, file: Rendered) -> list[str]:
        """Clips that play a rendered file where something is heard in it."""
        path, wide = f"{FOLDER}/{file.file}", file.channels
        return [self._part_clip(Part(start, end, start - file.start, path), name, wide) for start, end in played(file)]

    def _lay(self, strip_id: str, clips: Sequence[str]) -> None:
        """Lays clips, in seconds, into the lanes of a track."""
        self._in_lanes(strip_id, f'<Clips id="{self._new_id()}" timeUnit="seconds">{"".join(clips)}</Clips>')

    def _in_lanes(self, strip_id: str, words: str) -> None:
        """Puts something into the lanes of a track, which gets some if it has none."""
        lanes = [each for each in self._lanes() if each.attributes.get("track") == strip_id]
        if lanes:
            self._text.insert(lanes[0], words)
        else:
            inside = f'<Lanes id="{self._new_id()}" track={quoted(strip_id)}>{words}</Lanes>'
            self._text.insert(self._arrangement(), inside)

    def cut(self, strip: Strip, stretch: tuple[float, float], file: Rendered, cutting: Cutting) -> None:
        """Takes a stretch out of a track, and lays the rendered file on a new track beside it, led as that is."""
        part = self._after[f"{strip.id}/bounced"]
        crossing = cutting.crossing(self._text, self._clips.get(strip.id, ()), strip.id, self._before, stretch)
        for clip in crossing.gone:
            self._silence(clip)
        left = [self._part_clip(each) for each in crossing.parts]
        left += [self._notes_clip(*each) for each in crossing.notes]
        if left:
            self._lay(strip.id, left)
        track = self._tracks.get(strip.id)
        channel = track.find("Channel") if track is not None else None
        if track is None or channel is None or track.parent is None:
            raise SpliceError(f"{strip.name} has no channel that could be copied")
        copied = self._with_own_ids(self._text.source(channel, channel.find("Devices")))
        words = f'<Track id={quoted(part.id)} name={quoted(part.name)} contentType="audio" loaded="true">'
        self._text.insert(track.parent, f"{words}{copied}</Track>", track)
        self._lay(part.id, self._file_clips(part.name, file))
        self.done.append(f"{part.name}: {file.file} on a track of its own")

    def _part_clip(self, part: Part, name: str = "", channels: int = 2) -> str:
        """A clip that plays a part of an audio file of so many channels; without a name none is written."""
        fades = "".join(f' {name}="{seconds(length)}"' for name, length in
                        (("fadeInTime", part.fade_in), ("fadeOutTime", part.fade_out)) if length)  # fmt: skip
        faded = f' fadeTimeUnit="seconds"{fades}' if fades else ""
        named = f" name={quoted(name)}" if name else ""
        path = self._referred(part.file) if part.outside else part.file
        outside = ' external="true"' if part.outside else ""
        return (
            f'<Clip time="{seconds(part.start)}" duration="{seconds(part.end - part.start)}" contentTimeUnit="seconds" '
            f'playStart="{seconds(part.offset)}"{faded}{named}>'
            f'<Audio id="{self._new_id()}" duration="{seconds(part.offset + part.end - part.start)}" '
            f'sampleRate="{part.rate or self._before.rate}" channels="{channels}">'
            f"<File path={quoted(path)}{outside}/></Audio></Clip>"
        )

    def _notes_clip(
        self, start: float, end: float, notes: Sequence[NotePart], controllers: Sequence[Controller]
    ) -> str:
        """A clip with notes and controllers from one second to another."""
        inside = _written(as_note(note, start) for note in notes)
        moves = _written(as_points(each, start, self._new_id()) for each in controllers)
        return (
            f'<Clip time="{seconds(start)}" duration="{seconds(end - start)}" contentTimeUnit="seconds" playStart="0">'
            f'<Lanes id="{self._new_id()}" timeUnit="seconds"><Notes id="{self._new_id()}">{inside}</Notes>{moves}'
            "</Lanes></Clip>"
        )

    def _with_own_ids(self, words: str) -> str:
        """Something that is written, with other ids in it."""
        return re.sub(
            r"""(\sid\s*=\s*)("[^"]*"|'[^']*')""", lambda found: f'{found[1]}"{self._new_id()}"', words
        )  # fmt: skip

    def _arrangement(self) -> Element:
        arrangement = self._text.root.find("Arrangement")
        lanes = arrangement.find("Lanes") if arrangement is not None else None
        if lanes is None:
            raise SpliceError("it has no arrangement to put audio into")
        return lanes

    def _lanes(self) -> Iterable[Element]:
        arrangement = self._text.root.find("Arrangement")
        return arrangement.iter("Lanes") if arrangement is not None else ()
