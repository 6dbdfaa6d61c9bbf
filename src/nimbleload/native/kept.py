"""What was compiled is kept in files beside the program; a process that holds a stranger's code must not write them."""

from __future__ import annotations

from numba.core import caching


def keep_what_is_compiled() -> None:
    """From now on this process reads what was compiled before, and writes nothing of what it compiles itself."""
    caching.Cache.save_overload = _not_saved


def _not_saved(self: object, signature: object, data: object) -> None:
    return None
