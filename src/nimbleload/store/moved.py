"""Where files lie that were named elsewhere: on another computer, or before their folder was moved."""

from __future__ import annotations

import re
from pathlib import Path
from urllib.parse import unquote

# What paths on Windows begin with.
DRIVE = re.compile("[A-Za-z]:/")


def lies_at(name: str, home: Path) -> str:
    """Where a file or folder lies: as named; or, where the folder that held it is gone as well, in `home` by as much of
    its path as is there. Else as named: what is only missing is not taken for another one of its name."""
    path = Path(name)
    if path.is_absolute() and path.exists():
        return name
    for left in range(path.is_absolute(), len(path.parts)):
        is_moved = not path.is_absolute() or not Path(*path.parts[:left]).exists()
        if is_moved and (found := home.joinpath(*path.parts[left:])).exists():
            return str(found)
    return name


def referred_at(name: str, home: Path) -> Path:
    """Where a file lies that an exchange file in the folder `home` refers to, whatever computer it was written on: as
    named; or, where it was named from a root that is not there, in `home` by as much of its path as is."""
    named = unquote(name.removeprefix("file://")) if name.startswith("file://") else name
    if (home / named).exists():
        return home / named
    named = named.replace("\\", "/")
    if DRIVE.match(named):
        named = f"/{named}"
    return Path(lies_at(named, home)) if named.startswith("/") else home / named
