"""The questions that the process beside the window can be asked, each of a survey."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from ..core.optimise.alternatives import alternatives
from ..core.optimise.steps import steps
from ..core.optimise.suggest import suggest
from ..core.optimise.weigh import weigh
from ..core.survey import Survey, instant, kept_load, tracking
from ..core.told.findings import weighed
from ..core.told.outlook import band, outlook


def _weigh(of: Survey, second: float, *chosen: Any) -> Any:
    return weigh(of, instant(of, second), *chosen)


def _outlook(of: Survey, second: float) -> Any:
    return outlook(of, instant(of, second))


def _findings(of: Survey, second: float) -> Any:
    return weighed(of, instant(of, second))


def _kept_loads(of: Survey, kept: Any) -> Any:
    return [kept_load(of, each) for each in kept]


ANSWERS: dict[str, Callable[..., Any]] = {
    "weigh": _weigh,
    "steps": steps,
    "outlook": _outlook,
    "band": band,
    "suggest": suggest,
    "alternatives": alternatives,
    "findings": _findings,
    "kept_loads": _kept_loads,
    "tracking": tracking,
}
# What the user waits for goes beside what may take seconds.
AT_ONCE = ("weigh", "findings", "kept_loads", "tracking")
