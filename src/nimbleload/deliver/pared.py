"""A pared-down copy of an exchange file: some tracks with what they need, a stretch of the piece, the media they use.

The original is never touched; what is kept stays as it is written, byte for byte.
"""

from __future__ import annotations

import zipfile
from collections.abc import Iterable, Iterator
from pathlib import Path, PurePosixPath

import msgspec

from ..core.decisions.after_edit import after_edit
from ..core.session.pared import Stretch, kept_with, pared
from ..core.session.session import Session
from ..core.session.tempo import TempoMap
from ..core.told.newer import written_anew
from ..core.units import count, said_by
from ..store import session_file
from ..store.archive import WHERE, Archive, ImportRefusedError, plain
from ..store.session_file import Saved, SessionFileError
from ..store.splice import Element, SpliceError, Text
from ..store.written_anew import is_written_anew
from .carrying import SUFFIX, NothingToDoError, written_out
from .cutting import placed
from .exchange_out import WriteError, repack
from .outside import text_for
from .project_changes import automation_of, devices_of, outermost, tracks_of

AUDIO = {".wav", ".flac", ".ogg", ".aif", ".aiff", ".mp3", ".w64", ".caf"}


class Pared(msgspec.Struct, frozen=True):
    """The file that was written, how many tracks, clips and plugins it has not, and how many bytes of media."""

    path: str
    tracks: int
    clips: int
    plugins: int
    media: int

    def words(self) -> str:
        """The same in a sentence."""
        parts = ((self.tracks, "track"), (self.clips, "clip"), (self.plugins, "plugin"))
        counts = [count(number, name) for number, name in parts if number]
        media = [f"{self.media / 1e6:.1f} MB of media"] if self.media >= 50_000 else []
        left = [*counts, *media]
        if not left:
            return "Nothing was left out."
        return f"Left out: {', '.join(left[:-1])} and {left[-1]}." if len(left) > 1 else f"Left out: {left[0]}."


def write(
    target: Path, source: Path, session: Session, ids: Iterable[str], stretch: Stretch | None = None,
    without_off: bool = False,
) -> Pared:  # fmt: skip
    """Writes a copy of an exchange file with these tracks of its session, and what they need, alone.

    Of the clips those remain that lie in the `stretch` (seconds), where they are. With `without_off` plugins that are
    switched off are left out. WriteError if it cannot be written, SessionError if nothing would be left.
    """
    if target.exists() and target.samefile(source):
        raise WriteError(f"{target} is the original, which is never changed: choose another name")
    ids = list(ids)
    pared(session, ids, stretch, without_off)
    kept = kept_with(session, ids)
    try:
        with Archive(source) as archive:
            text = text_for(archive, source, target)
        made = _Paring(text, session, kept)
        unknown = made.not_in_file()
        if unknown:
            raise WriteError(f"{source.name} has no track {unknown[0]!r}: what was added here has to be exported first")
        made.leave_tracks()
        if without_off:
            made.leave_what_is_off()
        if stretch is not None:
            made.leave_clips(stretch)
        left, media = made.unused(source)
        repack(source, target, text.changed(), left=left)
    except (SpliceError, ImportRefusedError) as error:
        raise WriteError(f"{source.name}: {error}") from error
    except OSError as error:
        raise WriteError(f"{target} was not written: {said_by(error)}") from error
    return Pared(str(target), len(session.strips) - len(kept), made.clips, made.plugins, media)


def copy(
    target: Path, saved: Saved, ids: Iterable[str], stretch: Stretch | None = None, without_off: bool = False
) -> Pared:
    """Writes a pared-down copy of a session: as a session file, or as an exchange file if `target` ends in .dawproject.

    That one is made of the exchange file that the session came from, with what was changed here left aside; a session
    that was made here is written out first. WriteError if it cannot be written, SessionError if nothing would be left.
    """
    session, ids = saved.session, list(ids)
    if target.suffix != SUFFIX:
        left = pared(session, ids, stretch, without_off)
        plan = after_edit(saved.plan, session, left)
        try:
            session_file.write(target, msgspec.structs.replace(saved, session=left, plan=plan))
        except SessionFileError as error:
            raise WriteError(str(error)) from error
        pairs = [(session.strip(strip.id), strip) for strip in left.strips]
        clips = sum(len(before.clips) - len(after.clips) for before, after in pairs)
        plugins = sum(len(before.uses()) - len(after.uses()) for before, after in pairs)
        return Pared(str(target), len(session.strips) - len(left.strips), clips, plugins, 0)
    if session.source.endswith(SUFFIX):
        if is_written_anew(session):
            raise WriteError(written_anew(Path(session.source).name))
        return write(target, Path(session.source), session, ids, stretch, without_off)
    try:
        return write(target, written_out(session, needs_audio=False), session, ids, stretch, without_off)
    except NothingToDoError as error:
        raise WriteError(str(error)) from error


class _Paring:
    """What is taken out of the text of one project."""

    def __init__(self, text: Text, session: Session, kept: set[str]) -> None:
        self._text, self._session, self._kept = text, session, kept
        self._tracks = tracks_of(text)
        self._gone: set[Element] = set()
        self.clips = self.plugins = 0

    def not_in_file(self) -> list[str]:
        """The names of the strips to be kept that the file does not have. A main output it need not name."""
        strips = self._session.strips
        return [s.name for s in strips if s.id in self._kept and s.id not in self._tracks and s.kind != "main"]

    def leave_tracks(self) -> None:
        """Takes out tracks, their lanes, and what leads to them."""
        gone = [each for each in self._tracks if each not in self._kept]  # in the order of the file: outer ones first
        channels = set()
        for each in gone:
            self._remove(self._tracks[each])
            channel = self._tracks[each].find("Channel")
            if channel is not None:
                channels.add(channel.attributes.get("id"))
        for tag, name, where in (("Lanes", "track", gone), ("ClipSlot", "track", gone),
                                 ("Send", "destination", channels)):  # fmt: skip
            for element in self._text.root.iter(tag):
                if element.attributes.get(name) in where:
                    self._remove(element)
        self._leave_automation()

    def leave_what_is_off(self) -> None:
        """Takes out devices that are switched off, as long as nothing ever switches them on."""
        moved = {each.attributes.get("parameter") for each in self._text.root.iter("Target")}
        for strip in self._session.strips:
            devices = devices_of(self._tracks.get(strip.id))
            for device in devices if strip.id in self._kept else []:
                switch = device.find("Enabled")
                if switch is None or switch.attributes.get("value") != "false":
                    continue
                if switch.attributes.get("id") is None or switch.attributes["id"] not in moved:
                    self._remove(device)
                    self.plugins += 1
        self._leave_automation()

    def leave_clips(self, stretch: Stretch) -> None:
        """Takes out clips outside a stretch, unless others refer to them: then they stay, switched off."""
        wanted = {each for each in (e.attributes.get("reference") for e in self._text.root.iter("Clip")) if each}
        tempo = TempoMap(self._session.tempo)
        arrangement = self._text.root.find("Arrangement")
        for clip in outermost(arrangement) if arrangement is not None else ():
            begun, ended = placed(clip, tempo)
            if self._is_gone(clip) or (begun < stretch[1] and ended > stretch[0]):
                continue
            self.clips += 1
            if wanted & set(_ids(clip)):
                self._text.set(clip, "enable", "false")
            else:
                self._remove(clip)

    def unused(self, source: Path) -> tuple[set[str], int]:
        """The names of the entries that nothing refers to any more, audio that nothing ever did, and their bytes."""
        used, before = set(), set()
        for element in _all(self._text.root):
            path = element.attributes.get("path")
            if path and element.attributes.get("external") != "true":
                before.add(plain(path))
                if not self._is_gone(element):
                    used.add(plain(path))
        with zipfile.ZipFile(source) as archive:
            entries = archive.infolist()
        left = [e for e in entries if plain(e.filename) not in used and e.filename != WHERE and not e.is_dir()
                and (plain(e.filename) in before or PurePosixPath(e.filename).suffix.lower() in AUDIO)]  # fmt: skip
        return {each.filename for each in left}, sum(each.file_size for each in left)

    def _leave_automation(self) -> None:
        """Takes out automation of what has gone."""
        parameters = {own for each in self._gone for own in _ids(each)}
        moving = automation_of(self._text)
        for points in (each for parameter in moving.keys() & parameters for each in moving[parameter]):
            self._remove(points)

    def _remove(self, element: Element) -> None:
        """Takes an element out, unless it goes with one above it."""
        if not self._is_gone(element):
            self._text.remove(element)
            self._gone.add(element)

    def _is_gone(self, element: Element) -> bool:
        above: Element | None = element
        while above is not None:
            if above in self._gone:
                return True
            above = above.parent
        return False


def _all(element: Element) -> Iterator[Element]:
    yield element
    for child in element.children:
        yield from _all(child)


def _ids(element: Element) -> Iterator[str]:
    """The ids of an element and of all in it."""
    return (each.attributes["id"] for each in _all(element) if "id" in each.attributes)
