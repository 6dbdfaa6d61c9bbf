"""What was taken of the engine's time on its cores by nothing that this system schedules."""

from __future__ import annotations

from .blocks import Seen

# From so much time on cores (seconds) it is told.
ENOUGH = 0.1


def taken_outside(of: Seen) -> float | None:
    """Which share of the time in which the engine's threads had a core was not theirs (0 … 1): by the scheduler's count
    of what they ran, against when they took and left their cores. Other guests of a virtual machine take it, and
    interrupts. At least that: the count holds some microseconds more of each switch. None where it is not known."""
    places = [k for k in of.engine if of.recording.threads[k].ran >= 0]
    there = sum(float((of.runs[k].end - of.runs[k].begin).sum()) for k in places) / 1e9
    if there < ENOUGH:
        return None
    return min(max(1 - sum(of.recording.threads[k].ran for k in places) / there, 0.0), 1.0)
