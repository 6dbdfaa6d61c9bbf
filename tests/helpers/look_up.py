"""Looks once for all plugins of this computer, for all processes that run tests: `python -m tests.helpers.look_up`."""

from __future__ import annotations

import os
from pathlib import Path

# Where it is kept, in the folder in which the tests are run. What has changed since is looked into again.
LOOKED_UP = Path(".pytest_cache") / "looked-up"


def main() -> None:
    os.environ["XDG_CACHE_HOME"] = str(LOOKED_UP.absolute())

    from nimbleload.probe import catalogue

    catalogue.catalogue()


if __name__ == "__main__":
    main()
