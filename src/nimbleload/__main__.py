"""The way in: `nimble-load COMMAND` from a shell, and the window from a desktop."""

from __future__ import annotations

import sys

from .native.garbage import kept


def main() -> None:
    """Runs the command line."""
    with kept():
        from .shell import cli
    cli()


def desktop() -> None:
    """Opens the window, with the session file given, if any."""
    sys.argv[1:1] = ["open"]
    main()


if __name__ == "__main__":
    main()
