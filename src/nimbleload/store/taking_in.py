"""Whatever a session can come from, read by its kind: a folder of audio, MIDI, a table, a session, an exchange file."""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path

from ..core.session.joined import Joined, joined
from ..core.session.session import Session, SessionError
from ..core.units import count, said_by
from . import audio_folder, midi_file, track_table
from .archive import ImportRefusedError
from .dawproject import ImportReport
from .found import Found, NothingFoundError, Progress, shortened, unheard
from .opening import EXCHANGE_SUFFIX, open_session
from .session_file import SUFFIX, SessionFileError

# What can be added to a session, but for folders.
ADDABLE = (*midi_file.ENDINGS, *track_table.ENDINGS, *audio_folder.ENDINGS, SUFFIX, EXCHANGE_SUFFIX)


def take_in(path: Path, lookup: track_table.Lookup, rate: int = 48000, progress: Progress = unheard) -> Found:
    """What a file or folder holds as a session; it is not changed. `rate` (hertz) where it has none of its own.

    `lookup` finds the plugins that a table names. NothingFoundError says why nothing could be made of it; StoppedError
    if `progress` says so.
    """
    ending = path.suffix.lower()
    if path.is_dir():
        try:
            return audio_folder.read(path, progress)
        except OSError as error:
            raise NothingFoundError(f"{path} cannot be read: {said_by(error)}. Nothing was added.") from error
    if not path.exists():
        raise NothingFoundError(f"{path} is not there. Nothing was added.")
    if ending in midi_file.ENDINGS:
        return midi_file.read(path, rate, progress)
    if ending in track_table.ENDINGS:
        return track_table.read(path, lookup, rate)
    if ending in (SUFFIX, EXCHANGE_SUFFIX):
        return _session(path)
    if ending in audio_folder.ENDINGS:
        return audio_folder.read_files(path.parent, [path], progress)
    raise NothingFoundError(
        f"{path.name}: only folders of audio, audio files, MIDI files ({', '.join(midi_file.ENDINGS)}), tables "
        f"({', '.join(track_table.ENDINGS)}), {SUFFIX} and {EXCHANGE_SUFFIX} files can be added."
    )


def take_in_all(
    paths: Sequence[Path], lookup: track_table.Lookup, rate: int = 48000, progress: Progress = unheard
) -> Found:
    """The same of several files and folders together, as one session: audio files as if they lay in the folder that
    holds them all. What cannot be taken is told in the report; NothingFoundError if that is all of it."""
    if len(paths) == 1:
        return take_in(paths[0], lookup, rate, progress)
    audio = [path for path in paths if path.suffix.lower() in audio_folder.ENDINGS and path.is_file()]
    others = [path for path in paths if path not in audio]
    parts = ([audio] if audio else []) + [[path] for path in others]
    understood, left_out, whole = list[str](), list[str](), None
    for number, part in enumerate(parts):

        def heard(share: float, doing: str, number: int = number) -> bool:
            return progress((number + share) / len(parts), doing)

        try:
            if part is audio:
                found = audio_folder.read_files(Path(os.path.commonpath([path.parent for path in audio])), audio, heard)
            else:
                found = take_in(part[0], lookup, rate if whole is None else whole.rate, heard)
            made = Joined(found.session, ()) if whole is None else joined(whole, found.session)
        except (NothingFoundError, SessionError) as error:
            left_out.append(f"{error}")
            continue
        whole, name = made.session, "" if part is audio else f"{part[0].name}: "
        understood += [f"{name}{line}" for line in found.report.understood]
        left_out += [f"{name}{line}" for line in (*found.report.left_out, *made.notes)]
    if whole is None:
        raise NothingFoundError(f"Nothing was added of {count(len(paths), 'file')}. {left_out[0]}")
    named = f"{paths[0].name} and {len(paths) - 1} more"
    return Found(whole, ImportReport(named, "", tuple(understood), shortened(left_out, "remarks")))


def _session(path: Path) -> Found:
    try:
        opened = open_session(path)
    except (ImportRefusedError, SessionFileError) as error:
        raise NothingFoundError(f"{error} Nothing was added.") from error
    session: Session = opened.saved.session
    report = opened.report or ImportReport(str(path), "", (f"{len(session.strips)} tracks, buses and returns.",), ())
    return Found(session, report)
