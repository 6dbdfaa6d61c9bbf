"""How long a session's plugins take to load, in sentences."""

from __future__ import annotations

from ..load.opening import Loads, Opening
from ..units import count, duration, listed, size

# What takes less in all (seconds) is not worth a word, nor what is a smaller share of it; what is read first (bytes).
WORTH, MOST, READ = 2.0, 0.15, 256 << 20


def opening_words(of: Opening, read: int = 0) -> str:
    """How long loading takes, and of what most of it is; empty if it is short. `read` is what is kept of samples and
    code (bytes): it has to come from the disk first."""
    if of.seconds < WORTH:
        return ""
    how = "at least " if of.unknown else "at most " if of.earlier else "about "
    said = f"Its plugins take {how}{duration(of.seconds)} to load, one after the other"
    most = [_kind(each) for each in of.kinds if each.seconds >= MOST * of.seconds]
    said += f", most of it {listed(most)}." if most else "."
    return f"{said} Before that {size(read)} are read, if they are not in memory yet." if read >= READ else said


def _kind(of: Loads) -> str:
    return f"{of.label} ({count(of.many, 'instance')}, {duration(of.seconds)})"
