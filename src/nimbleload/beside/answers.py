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


def _at(answer: Callable[..., Any]) -> Callable[..., Any]:
    """The same of a survey and an instant, which is asked for by its second."""
    return lambda of, second, *rest: answer(of, instant(of, second), *rest)


def _kept_loads(of: Survey, kept: Any) -> Any:
    return [kept_load(of, each) for each in kept]


ANSWERS: dict[str, Callable[..., Any]] = {
    "instant": instant,
    "foreseen": _at(foreseen),
    "fitted": _at(fitted),
    "host_seen": _at(host_seen),
    "weigh": _at(weigh),
    "steps": stepped,
    "last_steps": stepped,
    "outlook": _at(outlook),
    "band": band,
    "suggest": suggest,
    "alternatives": alternatives,
    "findings": _at(weighed),
    "kept_loads": _kept_loads,
    "tracking": tracking,
}
# What the user waits for goes beside what may take seconds.
AT_ONCE = ("survey", "instant", "foreseen", "fitted", "host_seen", "weigh", "findings", "kept_loads", "tracking")
# What nobody waits for any more as soon as another survey is asked for: told now and then whether it may go on.
OF_THE_LAST = ("last_steps", "outlook", "band")
# What says by a ValueError why there is no answer.
REFUSING = ("fitted", "host_seen")
