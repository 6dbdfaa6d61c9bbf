"""Whatever a session can come from, read by its kind: a folder of audio, MIDI, a table, a session, an exchange file."""

from __future__ import annotations

from pathlib import Path

from ..core.session.session import Session
from ..core.units import said_by
from . import audio_folder, midi_file, track_table
from .archive import ImportRefusedError
from .dawproject import ImportReport
from .found import Found, NothingFoundError, Progress, unheard
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


def _session(path: Path) -> Found:
    try:
        opened = open_session(path)
    except (ImportRefusedError, SessionFileError) as error:
        raise NothingFoundError(f"{error} Nothing was added.") from error
    session: Session = opened.saved.session
    report = opened.report or ImportReport(str(path), "", (f"{len(session.strips)} tracks, buses and returns.",), ())
    return Found(session, report)
