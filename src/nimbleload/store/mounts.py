"""On which device a folder lies, and on what kind of file system."""

from __future__ import annotations

from pathlib import Path


def over(place: Path, told: str) -> tuple[str, str]:
    """The device and the kind of file system of a folder, by what /proc/self/mounts tells; empty where it says nothing.

    Of two that are mounted at one place the later one is seen.
    """
    device, kind, longest = "", "", 0
    for line in told.splitlines():
        parts = line.split()
        if len(parts) > 2 and len(parts[1]) >= longest and place.is_relative_to(parts[1]):
            device, kind, longest = parts[0], parts[2], len(parts[1])
    return device, kind
