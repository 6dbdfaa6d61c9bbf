"""The way in: `nimble-load COMMAND` from a shell, and the window from a desktop."""

from __future__ import annotations

import sys


def main() -> None:
    """Runs the command line, with the commands that open windows."""
    from .shell import cli
    from .shell.windows import add_commands

    add_commands(cli)
    cli()


def desktop() -> None:
    """Opens the window, with the session file given, if any."""
    sys.argv[1:1] = ["open"]
    main()


if __name__ == "__main__":
    main()
