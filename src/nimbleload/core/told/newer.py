"""What a newer export of a mix brought, and what became of the plan: in sentences."""

from __future__ import annotations

from ..decisions.apply import told_as
from ..decisions.decision import Plan
from ..decisions.renewed import Renewed
from ..session.session import Session
from ..survey import Survey
from ..units import agreeing, clock, count, listed
from .as_known import is_unknown, load_words


def newer_words(before: Session, plan: Plan, of: Renewed) -> list[str]:
    """A sentence each: tracks that are new, gone or called otherwise; plugins; the plan."""
    was, now = ({strip.id: strip for strip in each.strips} for each in (before, of.session))
    known = set(of.same.strips.values())
    come = [strip.name for strip in now.values() if strip.id not in known]
    gone = [strip.name for strip in was.values() if strip.id not in of.same.strips]
    kinds = [was[old].kind for old in of.same.strips]
    tracks, buses = kinds.count("track"), kinds.count("bus") + kinds.count("return")
    stay = f"{count(tracks, 'track')} and {count(buses, 'bus')}" if buses else count(tracks, "track")
    said = [f"{stay} {'goes' if tracks + buses == 1 else 'go'} on."]
    if come:
        said.append(f"New: {listed(come, 6)}.")
    if gone:
        said.append(f"Gone: {listed(gone, 6)}.")
    other = [(was[old].name, now[new].name) for old, new in of.same.strips.items() if was[old].name != now[new].name]
    if other:
        said.append(f"Called otherwise: {listed([f'{old} is {new} now' for old, new in other], 6)}.")
    return [*said, *_plugins(before, of), *_plan(before, plan, of)]


def _plugins(before: Session, of: Renewed) -> list[str]:
    was, now = before.uses_by_id(), of.session.uses_by_id()
    come, gone = len(now) - len(of.same.uses), len(was) - len(of.same.uses)
    turned = sum(1 for old, new in of.same.uses.items() if was[old].setting != now[new].setting)
    parts = [
        words for number, words in (
            (come, f"{come} new"), (gone, f"{gone} gone"), (turned, f"{turned} in another setting"),
        ) if number
    ]  # fmt: skip
    return [f"Plugins: {', '.join(parts)}."] if parts else []


def _plan(before: Session, plan: Plan, of: Renewed) -> list[str]:
    decisions = len(plan.decisions)
    if not decisions:
        return []
    done, lost = (listed([told_as(before, each) for each in some], 6) for some in (of.done, of.lost))
    said = [f"Carried out in it already: {done}. What is to be put back of it stays on the list."] if done else []
    stay = len(of.plan.decisions)
    if lost:
        of_all = f"Of {count(decisions, 'decision')} {agreeing(stay, 'goes', 'go')} on"
        said.append(f"{of_all}; gone with what they spoke of: {lost}.")
    elif stay:
        said.append(f"The plan goes on, with {count(stay, 'decision')}.")
    return said


def newer_load(before: Survey, now: Survey) -> str:
    """What the newer mix does to the load, with what goes on of the plan."""
    if is_unknown(now):
        return "What it takes is not known: nothing is measured yet."
    was, takes = (load_words(of, of.after.highest) for of in (before, now))
    then, at = (clock(of.worst_second()) for of in (before, now))
    plan = " with the plan" if now.plan.decisions else ""
    before_it = "what it was is not known" if is_unknown(before) else f"it was {was} at {then}"
    return f"The worst moment now takes {takes} at {at}{plan}; {before_it}."


def written_anew(name: str) -> str:
    """Why nothing is read or written by what is known of an exchange file: it holds another project now."""
    return (
        f"{name} was written anew since this session was taken from it: its tracks may be others now. Take the newer "
        "export in first (Session menu, or nimble-load renew), and the plan goes on."
    )


def offered(name: str) -> str:
    """That a newer export is there."""
    return f"{name} was written anew since this session was taken from it."


HELD = "Balance draws the load of the mix as it was beside what it is now, until you let the held version go."
OFFER = (
    "Taking it in brings its tracks, plugins and clips; the plan, what is done or in work, host and limit go on. What "
    "was changed in the tracks here gives way to it; undo takes it back."
)
