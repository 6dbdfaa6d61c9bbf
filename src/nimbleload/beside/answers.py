"""The questions that the process beside the window can be asked, each of a survey."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from ..core.optimise.alternatives import alternatives
from ..core.optimise.steps import stepped
from ..core.optimise.suggest import suggest
from ..core.optimise.weigh import weigh
from ..core.survey import Survey, fitted, foreseen, host_seen, instant, kept_load, tracking
from ..core.told.findings import weighed
from ..core.told.outlook import band, outlook


def _weigh(of: Survey, second: float, *chosen: Any) -> Any:
    return weigh(of, instant(of, second), *chosen)


def _outlook(of: Survey, second: float) -> Any:
    return outlook(of, instant(of, second))


def _findings(of: Survey, second: float) -> Any:
    return weighed(of, instant(of, second))


def _foreseen(of: Survey, second: float, outcome: Any) -> Any:
    return foreseen(of, instant(of, second), outcome)


def _fitted(of: Survey, second: float, readings: Any) -> Any:
    return fitted(of, instant(of, second), readings)


def _host_seen(of: Survey, second: float, *seen: Any) -> Any:
    return host_seen(of, instant(of, second), *seen)


def _kept_loads(of: Survey, kept: Any) -> Any:
    return [kept_load(of, each) for each in kept]


ANSWERS: dict[str, Callable[..., Any]] = {
    "instant": instant,
    "foreseen": _foreseen,
    "fitted": _fitted,
    "host_seen": _host_seen,
    "weigh": _weigh,
    "steps": stepped,
    "outlook": _outlook,
    "band": band,
    "suggest": suggest,
    "alternatives": alternatives,
    "findings": _findings,
    "kept_loads": _kept_loads,
    "tracking": tracking,
}
# What the user waits for goes beside what may take seconds.
AT_ONCE = ("survey", "instant", "foreseen", "fitted", "host_seen", "weigh", "findings", "kept_loads", "tracking")
# What says by a ValueError why there is no answer.
REFUSING = ("fitted", "host_seen")
