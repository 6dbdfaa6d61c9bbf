"""The way in: `nimble-load COMMAND` from a shell, and the window from a desktop."""

from __future__ import annotations

import gc
import sys


def main() -> None:
    """Runs the command line."""
    # A million objects come with what is imported, and none of them goes again: looking for garbage among them would
    # take a fifth of a start.
    gc.disable()
    from .shell import cli

    gc.freeze()
    gc.enable()
    cli()


def desktop() -> None:
    """Opens the window, with the session file given, if any."""
    sys.argv[1:1] = ["open"]
    main()


if __name__ == "__main__":
    main()
