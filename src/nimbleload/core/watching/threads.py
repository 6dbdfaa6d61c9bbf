"""What is known of a host's threads where nothing else can be seen."""

from __future__ import annotations

from typing import NamedTuple


class ThreadLoad(NamedTuple):
    """One thread: which share of a core it takes, and for which share of the time it waits for one."""

    name: str
    is_real_time: bool
    core: float
    waited: float
