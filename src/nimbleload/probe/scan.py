"""Looks into plugin files and prints what each holds as a line of JSON, in order. Runs in a process of its own."""

from __future__ import annotations

import sys

import msgspec

from .catalogue import Answer, Installed
from .formats import clap
from .formats.hosted import PluginError
from .worker import restrain


def look(path: str) -> Answer:
    try:
        return Answer(path, tuple(Installed("clap", *described) for described in clap.Library(path).described()))
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
