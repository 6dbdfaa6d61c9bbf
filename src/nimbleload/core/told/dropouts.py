"""The dropouts of a watched host in sentences: how many, why, whether they keep a rhythm, and what was at work then."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import NamedTuple

from ..units import all_of, count, duration, milliseconds, percent, time_of_day
from ..units import clock as position
from ..watching.dropouts import Dropout
from ..watching.history import Past
from ..watching.larger import TIMES
from ..watching.pattern import With, at_work_with, only_first, only_last, regular
from .held_up import NO_THREAD, OUTSIDE
from .late_blocks import late_parts, late_words
from .watching import buffer_of

Called = Callable[[int], str]
# What is at work in so much of the other time as well is no news; so many of the others are named in a line.
OFTEN, NAMED = 0.2, 2
# From so much playing on (seconds) it is worth a word that nothing happened.
QUIET = 60.0
# A period is the same if it is so near (a part of it).
SAME = 0.05
# What programs are called that had ended before they were looked at.
STARTED = "something that {} starts"
# What could not be seen for so long (seconds) is told.
UNSEEN = 1.0


def when(of: Dropout, past: Past) -> str:
    """When one came: the time of day, or how long after watching began if that is not known."""
    return time_of_day(of.day) if of.day else position((of.time - past.begun) / 1e9)


def what(of: Dropout) -> str:
    """How large it was: "3 blocks, 12 ms late"."""
    if not of.blocks:
        return "an xrun"
    return f"{count(of.blocks, 'block')}, {milliseconds(of.by)} late"


def why(of: Dropout, called: Called, threads: Sequence[str]) -> str:
    """What made its blocks late, in a line. `called` gives the name of an owner of code, `threads` are those of the
    recording by name."""
    if of.why is None:
        thread = f"while {threads[of.absent]} did not compute" if of.absent >= 0 else "every block was in time"
        return f"The sound server gave a block up; {thread}"
    reasons = [words for number, words in late_parts(of.why.told(), called, threads) if number]
    words = "; ".join(reasons)
    return f"{words[:1].upper()}{words[1:]}"


def beside(of: Dropout) -> str:
    """What was at work then and is not usually."""
    seldom = [each for each in of.beside if each.usually < OFTEN]
    called = {"device": "interrupts of {}", "started": STARTED}
    return all_of([called.get(each.what, "{}").format(each.name) for each in seldom], NAMED)


def past_words(past: Past, called: Called, threads: Sequence[str]) -> list[str]:
    """All that is to be said of what was seen so far, the most important first."""
    found = past.dropouts
    said = []
    if not past.number:
        if past.played >= QUIET:
            said.append(f"No dropout in {duration(past.played)} of playing.")
    else:
        one = past.number == 1
        of_what = "" if found[-1].day else " of watching"
        last = f"{'at' if one else 'the last at'} {when(found[-1], past)}{of_what}"
        many = "A dropout" if one else f"{past.number} dropouts"
        size = f": {what(found[-1])}" if one else ""
        said.append(f"{many} in {duration(past.played)} of playing, {last}{size}.")
        said += late_words(past.why.told() if past.why is not None else None, called, threads)
        said += _taken_words(found)
        said += _given_up(found)
        said += larger_words(found)
        said += rhythm_words(found)
        said += [_with_words(each, len(found)) for each in at_work_with(found)[:NAMED]]
        said += _end_words(past)
    said += mark_words(past)
    if past.unseen >= UNSEEN:
        said.append(f"{duration(past.unseen)} of it could not be seen: there was no time to look at the records.")
    if past.no_cycle >= UNSEEN:
        said.append(
            f"For {duration(past.no_cycle)} no cycle could be found in what the threads did, so that nothing is known "
            "of the blocks then."
        )
    return said


def _taken_words(found: Sequence[Dropout]) -> list[str]:
    """Of how many cores were taken away in the seconds around them: what these blocks look like then is no reason,
    unless it is known that it was in them."""
    taken = [each.taken for each in found if each.taken >= OUTSIDE and not _all_outside(each)]
    if not taken:
        return []
    which = "it" if len(found) == 1 else f"{'all' if len(taken) == len(found) else len(taken)} of them"
    return [
        f"Around {which} at least {percent(min(taken))} of the engine's time on cores was taken away by "
        f"{NO_THREAD}: what began late or took longer in the system may be that."
    ]


def _all_outside(of: Dropout) -> bool:
    return of.why is not None and of.why.late.outside == of.why.late.blocks


def _given_up(found: Sequence[Dropout]) -> list[str]:
    """Those in which no block was late."""
    alone = sum(1 for each in found if each.why is None)
    if not alone:
        return []
    which = "One of them is" if alone == 1 else f"{alone} of them are"
    xruns = "an xrun" if alone == 1 else "xruns"
    return [f"{which} {xruns} of the sound server while no block was late: look at the device and its driver."]


def larger_words(found: Sequence[Dropout]) -> list[str]:
    """In how large a buffer they would not have come, as far as their blocks tell: of those in the last buffer size."""
    known = [each for each in found if each.still and abs(each.period / found[-1].period - 1) < SAME]
    if not known:
        return []
    one = len(known) == 1
    sizes = [_size_words(times * known[-1].period) for times in TIMES]
    still = [sum(each.still[k] for each in known) for k in range(len(TIMES))]
    some = ["it" if one else "all" if each == len(known) else f"{each} of the {len(known)}" for each in still]
    if not still[0]:
        return [f"With {sizes[0]} {'it' if one else 'none of them'} would {'not ' if one else ''}have come."]
    helps = next((k for k, number in enumerate(still) if not number), None)
    if helps is None:
        them = "it" if one else "these"
        return [f"Even with {sizes[-1]} {some[-1]} would have come: a larger buffer is no cure for {them}."]
    before, none = some[helps - 1], "not" if one else "none"
    return [f"With {sizes[helps - 1]} {before} would have come all the same, with {sizes[helps]} {none}."]


def _size_words(period: float) -> str:
    """A buffer size, by how long its blocks may take (seconds)."""
    found = buffer_of(period)
    return f"{found[0]} samples" if found is not None else f"blocks of {milliseconds(period)}"


def rhythm_words(found: Sequence[Dropout]) -> list[str]:
    """Whether they come by a clock."""
    kept = regular(tuple(each.time / 1e9 for each in found))
    if kept is None:
        return []
    every = f"{kept.every:.{2 if kept.every < 10 else 1}f} s"
    whole = "All" if kept.on == len(found) else f"{kept.on} of the {len(found)}"
    missing = "" if kept.met == kept.steps else f" ({kept.met} of {kept.steps} times)"
    return [
        f"{whole} came in steps of {every}{missing}, which is no chance: something starts by a clock then, in the "
        "host, a plugin or the system, or a loop of the piece comes round."
    ]


def _with_words(of: With, whole: int) -> str:
    """That something was at work beside dropouts more often than by chance."""
    many = "In all" if of.times == whole else f"In {of.times} of the {whole}"
    usually = "hardly ever" if of.usually < 0.005 else f"in {percent(of.usually)} of the time"
    remedy = "" if of.what == "thread" else ": play once without it"
    if of.what == "device":
        return f"{many} {of.name} interrupted far more often than usual, as it does {usually} else{remedy}."
    who = STARTED.format(of.name) if of.what == "started" else f"the {of.what} {of.name}"
    return f"{many} {who} was at work, as it is {usually} else{remedy}."


def _end_words(past: Past) -> list[str]:
    """Whether they all came at first, or none did."""
    played, whole = [each.played for each in past.dropouts], past.played
    if past.forgotten:
        return []
    if only_first(played, whole):
        since = duration(whole - max(played))
        within = f"the first {duration(max(played))} of playing"
        return [f"{'It' if past.number == 1 else 'All'} came in {within}; none in the {since} since."]
    if only_last(played, whole):
        return [f"None came in the first {duration(min(played))} of playing: something is different since."]
    return []


def mark_words(past: Past) -> list[str]:
    """What blocks say of the dropouts that somebody heard."""
    whole = len(past.marks)
    if not whole:
        return []
    late = sum(each.is_dropout for each in past.marks)
    heard = "You heard one" if whole == 1 else f"You heard {whole}"
    if not late:
        fullest = max(each.fullest for each in past.marks)
        before = "it" if whole == 1 else "any of them"
        return [
            f"{heard}, and no block was late before {before}; the fullest took {percent(fullest)}. So it is not the "
            "load of what is watched: look at the device, its cable and clock, at other programs that play, and at "
            "plugins that click by themselves."
        ]
    which = "it" if whole == 1 else "each of them" if late == whole else f"{late} of them"
    chance = f" By chance {percent(past.covered)} would have one." if past.covered >= 0.05 else ""
    return [f"{heard}: a block was late just before {which}.{chance}"]


class Line(NamedTuple):
    """A dropout in a line: when, how large, why, and what else was at work."""

    when: str
    what: str
    why: str
    beside: str

    @property
    def whole(self) -> str:
        more = f" Beside it: {self.beside}." if self.beside else ""
        return f"{self.when}  {self.what}. {self.why}.{more}"


def line(of: Dropout, past: Past, called: Called, threads: Sequence[str]) -> Line:
    """One dropout in a line."""
    return Line(when(of, past), what(of), why(of, called, threads), beside(of))
