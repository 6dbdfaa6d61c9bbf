"""For how long a computer keeps its pace, in sentences."""

from __future__ import annotations

from ..computer.lasting import SHORTEST, SLOWER, Lasting
from ..units import clock, count, duration, gigahertz, percent

WHY = (
    "Processors may draw more power for half a minute than for an hour, and slow down when they are hot. The same work "
    "runs on all cores, in real time, until it takes no longer any more: for about five minutes, fifteen at most. The "
    "computer gets warm."
)


def lasting_words(of: Lasting) -> str:
    """What the same work takes in the end, against at first."""
    if not of.is_known:
        return "Not long enough to tell for how long this computer keeps its pace."
    where = f"{percent(of.load)} on {count(of.threads, 'core')} for {duration(of.seconds)}"
    if of.slower == 1.0:
        said = [f"{where}: as quick at the end as at first."]
    else:
        longer = f"{of.slower:.2f} times as long" if of.slower < 10 else f"{of.slower:.0f} times as long"
        said = [f"{where}: after {clock(of.since)} the same work, and any plugin, takes {longer}{_clocks(of)}."]
        said.append("Balance marks what this computer holds then.")
    if of.hot:
        said.append(f"Cores were slowed down for heat {of.hot} time{'s' if of.hot > 1 else ''} meanwhile.")
    if not of.is_level:
        said.append("It was ended before it was clear whether that stays so.")
    if not all(each.real_time for each in of.stretches):
        said.append("Real time was refused: what other programs do is in these figures.")
    return " ".join(said)


def in_the_end_words(load: float, limit: float, slower: float) -> str:
    """What becomes of a load (fraction) under its limit when the same work takes so many times as long; empty if it
    stays under it."""
    if not load <= limit < load * slower:
        return ""
    longer = f"the same takes {slower:.2f} times as long"
    return f" When this computer has worked for a while {longer}: {percent(load * slower)} (see Machine)."


def _clocks(of: Lasting) -> str:
    """The clocks that go with it, if they are told and explain anything."""
    first, last = of.clocks
    return f" ({gigahertz(last)}, where it was {gigahertz(first)})" if last and first > SLOWER * last else ""


def goes_on_words(of: Lasting) -> str:
    """How it stands while it is looked at."""
    now = of.stretches[-1]
    at = f", at {gigahertz(now.clock)}" if now.clock else ""
    said = f"{clock(of.seconds)}: the work takes {of.times[-1]:.2f} times as long as at first{at}."
    left = SHORTEST - of.seconds
    return f"{said} At least {duration(left)} more." if left > 0 else said
