"""Looks once for all plugins of this computer, and makes the example's audio once, for all processes that run tests:
`python -m tests.helpers.look_up`."""

from __future__ import annotations

import os
from pathlib import Path

# Where it is kept, in the folder in which the tests are run. What has changed since is looked into again.
LOOKED_UP = Path(".pytest_cache") / "looked-up"
SOURCE, AUDIO = Path(__file__).parents[2] / "src", "example.dawproject"


def outdated(folder: str, names: list[str]) -> list[str]:
    """Of these files there (for `shutil.copytree`) what was made before the program was as it is now."""
    if AUDIO not in names:
        return []
    changed = max(path.stat().st_mtime for path in SOURCE.rglob("*.py"))
    return [AUDIO] if (Path(folder) / AUDIO).stat().st_mtime < changed else []


def main() -> None:
    os.environ["XDG_CACHE_HOME"] = str(LOOKED_UP.absolute())

    from nimbleload.demo import audio
    from nimbleload.probe import catalogue

    catalogue.catalogue()
    audio.path().unlink(missing_ok=True)
    audio.made()


if __name__ == "__main__":
    main()
