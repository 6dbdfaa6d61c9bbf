"""Looks into one plugin file and prints what it holds as one line of JSON. Runs in a process of its own."""

from __future__ import annotations

import sys

import msgspec

from .catalogue import Installed
from .formats.hosted import PluginError
from .worker import restrain


def main() -> None:
    from .formats import clap

    restrain()
    try:
        found = [Installed("clap", *described) for described in clap.Library(sys.argv[1]).described()]
    except PluginError as error:
        sys.exit(str(error))
    # A line of its own at the very end: the plugin may have printed before.
    sys.stdout.write("\n" + msgspec.json.encode(found).decode() + "\n")
    sys.stdout.flush()


if __name__ == "__main__":
    main()
