"""Looks into plugin files and prints what each holds as a line of JSON, in order. Runs in a process of its own."""

from __future__ import annotations

import sys
from pathlib import Path

import msgspec

from .catalogue import Answer, Installed
from .formats.hosted import PluginError
from .restraint import restrain
from .standards import ALL_LV2, ENDINGS, STANDARDS


def look(path: str) -> Answer:
    standard = ALL_LV2 if path == ALL_LV2 else ENDINGS[Path(path).suffix]
    try:
        module = STANDARDS[standard]()
        found = module.describe_all() if path == ALL_LV2 else module.describe(path)
        return Answer(path, tuple(Installed(standard, *described) for described in found))
    except PluginError as error:
        return Answer(path, failure=str(error))


def main() -> None:
    restrain()
    for path in sys.argv[1:]:
        # A line of its own: the plugin may have printed before.
        sys.stdout.write("\n" + msgspec.json.encode(look(path)).decode() + "\n")
        sys.stdout.flush()


if __name__ == "__main__":
    main()
