"""A spreadsheet (CSV) as a session: a row a plugin or a stretch, with a template to begin with.

Separators, decimal commas and encodings are as spreadsheets write them; only the column `track` must be there.
"""

from __future__ import annotations

import csv
import io
import math
from collections.abc import Callable
from pathlib import Path

import msgspec

from ..core.cards.families import by_name
from ..core.session.edits import WORDS, checked, empty
from ..core.session.plugins import Family, PluginRef, PluginUse, Setting
from ..core.session.session import Section, SessionError
from ..core.session.strips import Clip, Send, Strip, StripKind
from ..core.units import agreeing, count
from .dawproject import ImportReport
from .found import Found, NothingFoundError, content_of, decoded, name_of, shortened

ENDINGS = (".csv", ".tsv", ".txt")
COLUMNS = ("track", "kind", "bus", "send to", "plugin", "standard", "setting", "voices", "from", "to", "section")
TEMPLATE = """track,kind,bus,send to,plugin,standard,setting,voices,from,to,section
Narrator,track,Voices,,Name or identifier of a plugin,clap,threshold=-12 ratio=3,,0:10,1:25,
Narrator,,,,Another plugin of the same chain,lv2,,,2:00,2:40.5,
Pad,track,,Hall,An instrument,vst3,,8,0:30,3:00,
Hall,return,,,A reverb,clap,,,,,
Voices,bus,,,,,,,,,
,,,,,,,,1:30,,Chorus
"""
LARGEST = 32 << 20
MOST_ROWS = 200_000
MOST_SECONDS = 1e6

# Finds a plugin by what a row calls it and its standard ("" for any): what is installed here, or None.
Lookup = Callable[[str, str], PluginUse | None]


class _Rows:
    """What has been read so far of a table."""

    def __init__(self, lookup: Lookup) -> None:
        self.lookup = lookup
        self.strips: dict[str, Strip] = {}
        self.sections: list[Section] = []
        self.feeds: dict[str, str] = {}
        self.sends: dict[str, list[str]] = {}
        self.left_out: list[str] = []
        self.plugins = 0
        self.missing: dict[str, int] = {}


def read(path: Path, lookup: Lookup, rate: int = 48000) -> Found:
    """Makes a session of a table. Rows that cannot be are left out, each with its reason in the report.

    NothingFoundError if the file is no table, or has no column `track`.
    """
    rows = _rows(path)
    header = [cell.strip().lower() for cell in rows[0]]
    if "track" not in header:
        raise NothingFoundError(
            f"{path.name}: the first row names no column “track”; it has {', '.join(filter(None, header[:12]))}."
        )
    found = _Rows(lookup)
    unknown = [name for name in header if name and name not in COLUMNS]
    if unknown:
        found.left_out.append(f"Columns that are not known: {', '.join(unknown[:8])}.")
    for number, cells in enumerate(rows[1 : MOST_ROWS + 1], 2):
        row = {name: name_of(cell) for name, cell in zip(header, cells, strict=False)}
        if not any(row.values()):
            continue
        try:
            _take(found, row)
        except ValueError as error:
            found.left_out.append(f"Row {number}: {error}; it is left out.")
    if len(rows) - 1 > MOST_ROWS:
        found.left_out.append(f"{len(rows) - 1 - MOST_ROWS} more rows: at most {MOST_ROWS} are taken.")
    if not found.strips:
        raise NothingFoundError(f"{path.name} names no track. {' '.join(found.left_out[:1])}".strip())
    return _found(path, rate, found)


def _rows(path: Path) -> list[list[str]]:
    """The cells of a file, row by row; empty rows are left out."""
    text = decoded(content_of(path, LARGEST, ". Nothing was added."))
    first = text.split("\n", 1)[0]
    separator = max(";\t,", key=first.count)
    try:
        rows = list(csv.reader(io.StringIO(text, newline=""), delimiter=separator))
    except csv.Error as error:
        raise NothingFoundError(f"{path.name} is no table: {error}. Nothing was added.") from error
    rows = [row for row in rows if row]
    if not rows:
        raise NothingFoundError(f"{path.name} is empty. Nothing was added.")
    return rows


def _take(found: _Rows, row: dict[str, str]) -> None:
    """Takes one row in. ValueError says what cannot be; then nothing of the row is taken."""
    start, end = (_seconds(row.get(name, ""), name) for name in ("from", "to"))
    name = row.get("track", "")
    if row.get("section"):
        found.sections.append(Section(row["section"], start or 0.0))
        if not name:
            return
    if not name:
        raise ValueError("it names no track")
    kind = row.get("kind", "").lower()
    if kind and kind not in WORDS and kind != "main output":
        raise ValueError(f"the kind {kind!r} is not known: {', '.join(WORDS)}")
    strip = found.strips.get(name) or Strip(f"strip{len(found.strips) + 1}", name)
    if kind:
        strip = msgspec.structs.replace(strip, kind=_kind(kind))
    voices = _whole(row.get("voices", ""), "voices")
    if row.get("plugin"):
        strip = _with_plugin(found, strip, row, voices)
    if end is not None or (start is not None and not row.get("section")):
        strip = _with_clip(strip, start or 0.0, end, voices)
    found.strips[name] = strip
    if row.get("bus"):
        found.feeds[name] = row["bus"]
    if row.get("send to"):
        found.sends.setdefault(name, []).append(row["send to"])


def _kind(word: str) -> StripKind:
    kinds: dict[str, StripKind] = {"track": "track", "bus": "bus", "return": "return"}
    return kinds.get(word, "main")


def _with_plugin(found: _Rows, strip: Strip, row: dict[str, str], voices: int) -> Strip:
    values = _values(row.get("setting", ""))
    wanted, standard = row["plugin"], row.get("standard", "").lower()
    use = found.lookup(wanted, standard)
    if use is None:
        family: Family = "instrument" if voices else by_name(wanted)
        use = PluginUse("", PluginRef(standard or "unknown", wanted, wanted), family=family)
        found.missing[wanted] = found.missing.get(wanted, 0) + 1
    found.plugins += 1
    setting = Setting(values) if values else use.setting
    use = msgspec.structs.replace(use, id=f"plugin{found.plugins}", setting=setting, voices=voices or use.voices)
    if use.family != "instrument":
        return msgspec.structs.replace(strip, inserts=(*strip.inserts, use))
    if strip.instrument is not None:
        raise ValueError(f"{strip.name} has an instrument already: {strip.instrument.label}")
    return msgspec.structs.replace(strip, instrument=use)


def _values(text: str) -> tuple[tuple[str, float], ...]:
    """Parameter values as "name=3 other=1.5"."""
    found = []
    for part in text.replace(";", " ").split():
        name, sign, value = part.rpartition("=")
        if not sign or not name:
            raise ValueError(f"the setting {part!r} is not of the form name=number")
        found.append((name, _number(value, f"the value of {name}")))
    return tuple(found)


def _with_clip(strip: Strip, start: float, end: float | None, voices: int) -> Strip:
    if end is None or end <= start:
        until = "nowhere" if end is None else f"{end:g}"
        raise ValueError(f"a stretch from {start:g} to {until} seconds has no length")
    # What plays notes is known when the whole chain is: see _found.
    clip = Clip(start, end, "audio", voices=((start, voices),) if voices else ())
    return msgspec.structs.replace(strip, clips=(*strip.clips, clip))


def _number(text: str, what: str) -> float:
    try:
        value = float(text.strip().replace(",", "."))
    except ValueError:
        raise ValueError(f"{what} is {text!r}, which is no number") from None
    if not math.isfinite(value):
        raise ValueError(f"{what} is {text!r}, which is not possible")
    return value


def _whole(text: str, what: str) -> int:
    if not text:
        return 0
    value = _number(text, what)
    if value != int(value) or not 0 <= value <= 4096:
        raise ValueError(f"{what} is {text!r}; it can be a whole number up to 4096")
    return int(value)


def _seconds(text: str, what: str) -> float | None:
    """Seconds, or minutes and seconds, or hours too, parted by colons; None if nothing is said."""
    if not text:
        return None
    parts = text.split(":")
    if len(parts) > 3:
        raise ValueError(f"the {what} {text!r} is no time")
    total = 0.0
    for part in parts:
        total = total * 60 + _number(part, f"the {what}")
    if not 0 <= total <= MOST_SECONDS:
        raise ValueError(f"the {what} {text!r} is not possible")
    return total


def _found(path: Path, rate: int, of: _Rows) -> Found:
    """The session of all rows. What is fed and never named becomes a bus; what is sent to, a return."""
    named = [(name, "bus") for name in of.feeds.values()]
    named += [(name, "return") for targets in of.sends.values() for name in targets]
    for name, kind in named:
        if name not in of.strips:
            of.strips[name] = Strip(f"strip{len(of.strips) + 1}", name, _kind(kind))
    ids = {name: strip.id for name, strip in of.strips.items()}
    mains = [strip for strip in of.strips.values() if strip.kind == "main"]
    main = mains[0] if mains else empty("").strips[0]
    strips = [_connected(strip, of, ids, main) for strip in of.strips.values() if strip is not main]
    strips.append(main if main.id in ids.values() else msgspec.structs.replace(main, id="main"))
    ends = [clip.end for strip in strips for clip in strip.clips] + [section.start for section in of.sections]
    sections = tuple(sorted(of.sections, key=lambda section: section.start))
    session = msgspec.structs.replace(
        empty(path.stem, rate, max(ends, default=0.0)), strips=tuple(strips), sections=sections,
        source=str(path.absolute()),
    )  # fmt: skip
    try:
        checked(session)
    except SessionError as error:
        raise NothingFoundError(f"{path.name}: {error}. Nothing was added.") from error
    understood = [f"{len(strips)} tracks, buses and returns, {count(of.plugins, 'plugin')}."]
    if of.missing:
        names = ", ".join(list(of.missing)[:6])
        are = agreeing(len(of.missing), "plugin is", "plugins are")
        of.left_out.append(f"{are} not installed here, and cannot be measured: {names}.")
    return Found(session, ImportReport(str(path), "", tuple(understood), shortened(of.left_out, "remarks")))


def _connected(strip: Strip, of: _Rows, ids: dict[str, str], main: Strip) -> Strip:
    feeds = of.feeds.get(strip.name)
    sends = tuple(Send(ids[target]) for target in dict.fromkeys(of.sends.get(strip.name, ())))
    notes = strip.instrument is not None
    clips = tuple(
        msgspec.structs.replace(clip, kind="notes" if notes else "audio", voices=clip.voices if notes else ())
        for clip in sorted(strip.clips, key=lambda clip: (clip.start, clip.end))
    )
    return msgspec.structs.replace(
        strip, output=ids[feeds] if feeds is not None else main.id, sends=sends, clips=clips
    )
