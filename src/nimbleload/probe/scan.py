"""Looks into plugin files and tells what each holds as a line of JSON, in order. Runs in a process of its own.

Started by `supervisor` with a file descriptor to tell it on, a folder to write into, and the files. It is held as a
worker is: a plugin's code runs as soon as its file is opened.
"""

from __future__ import annotations

import os
import sys
from pathlib import Path

import msgspec

from ..native.kept import keep_what_is_compiled
from .catalogue import Answer, Begun, Installed
from .formats.hosted import PluginError
from .places import places
from .protection import hold
from .restraint import restrain
from .standards import ALL_LV2, ENDINGS, INSIDE, STANDARDS

# Nothing is played here: whoever asks for more addresses (bytes) while he is looked at has run wild.
MEMORY_LIMIT = 8 << 30


def look(path: str) -> Answer:
    """What one file holds, or why it cannot be said; ALL_LV2 stands for all LV2 bundles, and INSIDE before a file asks
    where the code of each of its plugins lies."""
    if path.startswith(INSIDE):
        try:
            return Answer(path, places=places(Path(path.removeprefix(INSIDE))))
        except PluginError as error:
            return Answer(path, failure=str(error))
    standard = ALL_LV2 if path == ALL_LV2 else ENDINGS[Path(path).suffix]
    try:
        module = STANDARDS[standard]()
        found = module.describe_all() if path == ALL_LV2 else module.describe(path)
        return Answer(path, tuple(Installed(standard, *described) for described in found))
    except PluginError as error:
        return Answer(path, failure=str(error))


def main() -> None:
    """Looks into the files that are named, and tells before and after each."""
    channel, folder, paths = int(sys.argv[1]), Path(sys.argv[3]), sys.argv[4:]
    restrain(MEMORY_LIMIT)
    for module in STANDARDS.values():
        module()
    keep_what_is_compiled()
    hold(folder, [path.removeprefix(INSIDE) for path in paths])
    os.set_inheritable(channel, False)
    for path in paths:
        os.write(channel, msgspec.json.encode(Begun(path)) + b"\n")
        os.write(channel, msgspec.json.encode(look(path)) + b"\n")
    # What plugins do when they are let go is of no interest: everything has been told.
    os._exit(0)
