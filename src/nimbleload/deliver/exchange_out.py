"""Writes the changed session: a copy of the exchange file in which the plan has been carried out.

The original is never touched. Everything that did not change is the same, byte for byte.
"""

from __future__ import annotations

import io
import zipfile
from collections.abc import Iterable, Mapping
from pathlib import Path
from xml.sax.saxutils import quoteattr

import msgspec

from ..core.decisions.apply import apply
from ..core.decisions.decision import Plan
from ..core.session.session import Session
from ..core.session.strips import Strip
from ..store import atomic
from ..store.archive import LARGEST_XML, Archive, ImportRefusedError
from ..store.splice import Element, SpliceError, Text
from .render import Rendered

WHERE = "project.xml"
FOLDER = "audio/carried-out"


class Written(msgspec.Struct, frozen=True):
    """The file that was written, what was done in it, and what has to be done by hand, in sentences."""

    path: str
    done: tuple[str, ...]
    by_hand: tuple[str, ...]


class WriteError(Exception):
    """Why the changed session was not written: what, where, why."""


def write(
    target: Path, source: Path, session: Session, plan: Plan, rendered: Mapping[str, Rendered], folder: Path
) -> Written:
    """Writes a copy of an exchange file with these tracks frozen and these plugins switched off.

    `rendered` are the files by strip, in `folder`. WriteError if it cannot be written; FILE itself is never changed.
    """
    if target.exists() and target.samefile(source):
        raise WriteError(f"{target} is the original, which is never changed: choose another name")
    try:
        with Archive(source) as archive:
            text = Text(archive.read(WHERE, LARGEST_XML))
        made = _Changes(text, session, apply(session, plan).session)
        files: dict[str, bytes] = {}
        for strip in session.strips:
            made.switch(strip)
            if strip.id in rendered:
                file = rendered[strip.id]
                files[f"{FOLDER}/{file.file}"] = (folder / file.file).read_bytes()
                made.freeze(strip, file)
        atomic.write(target, _packed(source, text.changed(), files))
    except (SpliceError, ImportRefusedError) as error:
        raise WriteError(f"{source.name}: {error}") from error
    except OSError as error:
        raise WriteError(f"{target} was not written: {error.strerror or error}") from error
    by_hand = [f"{decision.kind}: {session.strip(decision.strip).name}" for decision in plan.decisions
               if decision.kind not in ("freeze", "bounce", "off")]  # fmt: skip
    missing = [f"{d.kind}: {session.strip(d.strip).name} (not rendered)" for d in plan.decisions
               if d.kind in ("freeze", "bounce") and d.strip not in rendered]  # fmt: skip
    return Written(str(target), tuple(made.done), tuple(dict.fromkeys(by_hand + missing)))


def _packed(source: Path, xml: bytes, files: Mapping[str, bytes]) -> bytes:
    """The archive with another project in it and more files; all else as it was."""
    out = io.BytesIO()
    with zipfile.ZipFile(source) as old, zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as new:
        for entry in old.infolist():
            if entry.filename not in files:
                new.writestr(entry, xml if entry.filename == WHERE else old.read(entry))
        for name, content in files.items():
            new.writestr(name, content, zipfile.ZIP_STORED)
    return out.getvalue()


class _Changes:
    """What changes in the text of one project."""

    def __init__(self, text: Text, before: Session, after: Session) -> None:
        self._text, self._before = text, before
        self._after = {strip.id: strip for strip in after.strips}
        self.done: list[str] = []
        self._tracks: dict[str, Element] = {}
        self._ids = 0
        for track in text.root.iter("Track"):
            channel = track.find("Channel")
            known = track.attributes.get("id") or (channel.attributes.get("id") if channel is not None else None)
            if known is not None:
                self._tracks.setdefault(known, track)

    def switch(self, strip: Strip) -> None:
        """Switches off what the plan switches off: the whole track, or single plugins, frozen ones among them."""
        after = self._after.get(strip.id)
        track = self._tracks.get(strip.id)
        if after is None or track is None:
            return
        if strip.enabled and not after.enabled:
            self._text.set(track, "loaded", "false")
            self.done.append(f"{strip.name}: switched off")
        live = {use.id for use in after.live_uses()}
        for use in strip.live_uses():
            device = self._device(track, use.id)
            if use.id not in live and after.enabled and device is not None:
                self._switch_off(device)
                self.done.append(f"{strip.name}: {use.label} switched off")

    def _device(self, track: Element, use_id: str) -> Element | None:
        """The device that a use was read from: the number behind the slash counts them."""
        channel = track.find("Channel")
        devices = channel.find("Devices") if channel is not None else None
        number = use_id.rpartition("/")[2]
        if devices is None or not number.isdigit() or int(number) >= len(devices.children):
            return None
        return devices.children[int(number)]

    def _switch_off(self, device: Element) -> None:
        enabled = device.find("Enabled")
        if enabled is not None:
            self._text.set(enabled, "value", "false")
            return
        words = f'<Enabled id="{self._new_id()}" name="On/Off" value="false"/>'
        parameters = device.find("Parameters")
        if parameters is not None:
            self._text.insert(device, words, parameters)
        else:
            self._text.first(device, words)

    def _new_id(self) -> str:
        self._ids += 1
        return f"carried-out-{self._ids}"

    def freeze(self, strip: Strip, file: Rendered) -> None:
        """Switches off what the track plays, and lays the rendered file in its place."""
        for clip in self._clips(strip.id):
            self._text.set(clip, "enable", "false")
        rate = self._before.rate
        length = f"{file.seconds:.9f}".rstrip("0").rstrip(".")
        words = (
            f'<Clips id="{self._new_id()}" timeUnit="seconds"><Clip time="0" duration="{length}" playStart="0" '
            f'contentTimeUnit="seconds" name={quoteattr(f"{strip.name} (rendered)")}>'
            f'<Audio id="{self._new_id()}" duration="{length}" sampleRate="{rate}" channels="2">'
            f"<File path={quoteattr(f'{FOLDER}/{file.file}')}/></Audio></Clip></Clips>"
        )
        lanes = [each for each in self._lanes() if each.attributes.get("track") == strip.id]
        if lanes:
            self._text.insert(lanes[0], words)
        else:
            inside = f'<Lanes id="{self._new_id()}" track={quoteattr(strip.id)}>{words}</Lanes>'
            self._text.insert(self._arrangement(), inside)
        self.done.append(f"{strip.name}: {file.file} in its place")

    def _arrangement(self) -> Element:
        arrangement = self._text.root.find("Arrangement")
        lanes = arrangement.find("Lanes") if arrangement is not None else None
        if lanes is None:
            raise SpliceError("it has no arrangement to put audio into")
        return lanes

    def _lanes(self) -> Iterable[Element]:
        arrangement = self._text.root.find("Arrangement")
        return arrangement.iter("Lanes") if arrangement is not None else ()

    def _clips(self, strip_id: str) -> Iterable[Element]:
        """The clips of a track that lie in no other clip."""
        for lane in self._lanes():
            if lane.attributes.get("track") == strip_id:
                for clip in lane.iter("Clip"):
                    above = clip.parent
                    while above is not None and above is not lane and above.tag != "Clip":
                        above = above.parent
                    if above is lane:
                        yield clip
