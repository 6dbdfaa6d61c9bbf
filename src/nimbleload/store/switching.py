"""Automation that switches a plugin off for some stretches of the piece, as the exchange format writes it."""

from __future__ import annotations

from collections.abc import Sequence

from ..core.piece.moments import Span


def seconds(value: float) -> str:
    """A time as it is written, to the nanosecond."""
    return f"{value:.9f}".rstrip("0").rstrip(".")


def points(target: str, own: str, resting: Sequence[Span]) -> str:
    """Automation that switches a parameter (the id `target`) off for some stretches; `own` is the automation's id."""
    rows = [] if resting and resting[0][0] == 0.0 else [(0.0, "true")]
    rows += [row for start, end in resting for row in ((start, "false"), (end, "true"))]
    inside = "".join(f'<BoolPoint time="{seconds(second)}" value="{value}"/>' for second, value in rows)
    return f'<Points id="{own}" timeUnit="seconds"><Target parameter="{target}"/>{inside}</Points>'
