"""Reading the small files in which the kernel tells about itself; what is not there is None."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path


def text(path: Path) -> str | None:
    """What stands in a file; None if it is not there or cannot be read."""
    try:
        return path.read_text(errors="replace").strip()
    except OSError:
        return None


def number(path: Path) -> int | None:
    """A whole number in a file; None if there is none."""
    return as_number(text(path))


def as_number(words: str | None) -> int | None:
    """A whole number at the beginning of some words; None if there is none."""
    try:
        return int(words.split()[0]) if words else None
    except (ValueError, IndexError):
        return None


def pairs(path: Path) -> dict[str, str]:
    """Lines of the form "name: value" or "name=value"; empty if there is no such file."""
    found = {}
    for line in (text(path) or "").splitlines():
        name, mark, value = line.partition("=" if "=" in line and ":" not in line.split("=")[0] else ":")
        if mark:
            found[name.strip()] = value.strip().strip('"')
    return found


def in_meminfo(root: Path, name: str) -> int | None:
    """What the kernel under `root` tells of its memory by a name (bytes); None if it does not."""
    found = as_number(pairs(root / "proc/meminfo").get(name))
    return None if found is None else found * 1024


def inside(folder: Path, pattern: str) -> Iterator[Path]:
    """What lies in a folder and fits a pattern, in order; nothing if there is no such folder."""
    try:
        found = sorted(folder.glob(pattern), key=lambda path: (len(path.name), path.name))
    except OSError:
        return
    yield from found


def numbers(listed: str | None) -> tuple[int, ...]:
    """Numbers as the kernel lists them: "0-2,5" are 0, 1, 2 and 5. Empty where that cannot be read."""
    found: list[int] = []
    for part in (listed or "").replace(" ", ",").split(","):
        first, _, last = part.partition("-")
        if first.isdigit():
            found.extend(range(int(first), int(last if last.isdigit() else first) + 1))
    return tuple(found)
