"""How figures are written everywhere: per cents, levels, times and positions in the piece."""

from __future__ import annotations

import math
from collections.abc import Sequence
from datetime import datetime


def decibels(value: float) -> str:
    """A level: "−138 dB"."""
    return f"{value:.0f} dB".replace("-", "−")


def count(number: int, word: str) -> str:
    """A number of things: "1 thread", "2 threads", "3 buses"."""
    return f"{number} {word}{'' if number == 1 else 'es' if word.endswith('s') else 's'}"


def agreeing(number: int, one: str, many: str) -> str:
    """A number with words that agree with it: "1 track has", "2 tracks have"."""
    return f"{number} {one if number == 1 else many}"


def listed(names: Sequence[str], most: int = 3) -> str:
    """Some names in a row, no more than so many of them: "Oars, Rope, Rain and 4 more"."""
    more = f" and {len(names) - most} more" if len(names) > most else ""
    return ", ".join(names[:most]) + more


def all_of(names: Sequence[str], most: int = 3) -> str:
    """Some names that belong together: "A", "A and B", "A, B and C"; of more the first and how many follow."""
    if len(names) > most:
        return listed(names, most)
    return " and ".join([", ".join(names[:-1]), names[-1]] if len(names) > 1 else names)


def as_file_name(name: str) -> str:
    """What a file can be called after something: names may hold what parts folders."""
    return name.replace("/", "-").strip() or "session"


def as_sentence(words: str) -> str:
    """Words as a sentence of their own: the first letter large, the others as they are, and one full stop."""
    return f"{words[:1].upper()}{words[1:].rstrip('.')}."


def said_by(error: BaseException) -> str:
    """What an error says: of the system's its words without number and path; the kind of one that says nothing."""
    said = error.strerror if isinstance(error, OSError) else None
    return said or str(error) or type(error).__name__


def told_by(error: BaseException) -> str:
    """The same where nothing else names the file: "No space left on device: /media/x/a.wav"."""
    named = error.filename if isinstance(error, OSError) else None
    return f"{said_by(error)}: {named}" if named else said_by(error)


def clock(seconds: float) -> str:
    """A position in the piece, as minutes and seconds: 134.4 → "2:14"."""
    whole = int(seconds)
    return f"{whole // 60}:{whole % 60:02d}"


def time_of_day(unix: float) -> str:
    """A Unix time on the clock of whoever reads it: "14:32:07"."""
    return datetime.fromtimestamp(unix).strftime("%H:%M:%S")


def exact_clock(seconds: float) -> str:
    """The same to a hundredth of a second, where there is one: 134.5 → "2:14.5"."""
    hundredths = round(seconds * 100)
    rest = f"{hundredths % 6000 / 100:05.2f}".rstrip("0").rstrip(".")
    return f"{hundredths // 6000}:{rest}"


def duration(seconds: float) -> str:
    """How long something takes, as nearly as it is of use: "40 s", "3 min", "1 h 20 min"."""
    if seconds < 89.5:
        return f"{max(seconds, 1):.0f} s"
    hours, minutes = divmod(round(seconds / 60), 60)
    return " ".join([f"{hours} h"] * bool(hours) + [f"{minutes} min"] * bool(minutes))


def about(seconds: float) -> str:
    """The same of what is only known about: "about 3 min"."""
    return f"about {duration(seconds)}"


def from_clock(text: str) -> float:
    """Seconds of a position, written with minutes or without, or of how far to move: "2:14.5" → 134.5, "-0:30" → −30.
    ValueError if it is none."""
    sign, rest = (-1, text.strip()[1:]) if text.strip().startswith("-") else (1, text)
    minutes, _, seconds = rest.rpartition(":")
    whole, part = int(minutes or 0), float(seconds)
    if whole < 0 or not 0 <= part < math.inf:
        raise ValueError(f"{text!r} is no position")
    return sign * (60 * whole + part)


def size(of: float) -> str:
    """Bytes in memory: "0.3 MB", "12 MB", "3.4 GB" (of 1024 MB)."""
    if of >= 1000 * 2**20:
        return f"{of / 2**30:.1f} GB"
    return f"{of / 2**20:.1f} MB" if of < 10 * 2**20 else f"{of / 2**20:.0f} MB"


def percent(fraction: float) -> str:
    """A load as shown everywhere: as any share, with one decimal too where it just fits or does not."""
    value = fraction * 100
    return f"{value:.1f} %" if 0.05 <= abs(value - 100) < 1 else compared(fraction)


def compared(fraction: float) -> str:
    """A share of something else as shown everywhere: whole per cent from ten up, one decimal below."""
    value = fraction * 100
    return f"{value:.0f} %" if abs(value) >= 9.95 else f"{value:z.1f} %"


def milliseconds(seconds: float) -> str:
    """A short time as shown everywhere: 0.00533 → "5.33 ms", 0.0107 → "10.7 ms"."""
    value = seconds * 1e3
    digits = 0 if value >= 99.5 else 1 if value >= 9.95 else 2
    return f"{value:.{digits}f} ms"


def gigahertz(hertz: float) -> str:
    """A core's clock: "3.4 GHz"."""
    return f"{hertz / 1e9:.1f} GHz"


def microseconds(seconds: float) -> str:
    """A cost as shown everywhere: 0.0000124 → "12 µs"; from a millisecond on as milliseconds."""
    value = seconds * 1e6
    return milliseconds(seconds) if value >= 1000 else f"{value:.0f} µs" if value >= 9.95 else f"{value:.1f} µs"


def minutes(value: float) -> str:
    """A price as shown everywhere, in minutes: 0.52 → "0.5 min"; below a twentieth of one "under 0.1 min"."""
    return (
        "nothing"
        if value <= 0
        else "under 0.1 min"
        if value < 0.05
        else f"{value:.1f} min"
        if value < 9.95
        else f"{value:.0f} min"
    )
