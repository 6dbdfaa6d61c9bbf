"""What the user lets single plugins do beyond what all may: asked for once, kept in a file of its own."""

from __future__ import annotations

from pathlib import Path

import msgspec
import platformdirs

from ..native.decoding import decoded
from . import atomic

# All files that the user may use himself, and the network.
PERMISSIONS = ("files", "network")


class AllowedError(Exception):
    """Why what is allowed could not be kept, as a sentence."""


def default_path() -> Path:
    """Where it is kept, whether it is there or not."""
    return Path(platformdirs.user_config_dir("nimble-load")) / "allowed.json"


def all_allowed(path: Path | None = None) -> dict[str, tuple[str, ...]]:
    """What each plugin may do beyond, by "standard:identifier"; nothing of a file that cannot be read."""
    try:
        found = decoded((path or default_path()).read_bytes(), dict[str, tuple[str, ...]])
    except (OSError, msgspec.MsgspecError, UnicodeDecodeError):
        return {}
    return {name: tuple(p for p in PERMISSIONS if p in given) for name, given in found.items()}


def allowed(standard: str, identifier: str, path: Path | None = None) -> tuple[str, ...]:
    """What one plugin may do beyond."""
    return all_allowed(path).get(f"{standard}:{identifier}", ())


def allow(standard: str, identifier: str, permission: str, given: bool = True, path: Path | None = None) -> None:
    """Lets a plugin do something from now on, or no longer. AllowedError if that cannot be kept.

    ValueError for a permission that there is not.
    """
    if permission not in PERMISSIONS:
        raise ValueError(f"there is no permission {permission!r}: {', '.join(PERMISSIONS)}")
    path, name = path or default_path(), f"{standard}:{identifier}"
    kept = all_allowed(path)
    now = {*kept.get(name, ()), permission} if given else {*kept.get(name, ())} - {permission}
    kept[name] = tuple(p for p in PERMISSIONS if p in now)
    content = {key: value for key, value in sorted(kept.items()) if value}
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        atomic.write(path, msgspec.json.format(msgspec.json.encode(content)) + b"\n")
    except OSError as error:
        raise AllowedError(f"What {name} may do could not be kept in {path}: {error}.") from error
