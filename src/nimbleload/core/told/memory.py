"""What plugins keep in memory, in sentences, and whether there is room for it."""

from __future__ import annotations

from msgspec.structs import replace

from ..decisions.apply import apply
from ..load.memory import Keeps, Memory, fits, memory
from ..load.opening import opening
from ..survey import Survey
from ..units import agreeing, count, listed, size
from .opening import opening_words

# What takes less than this in a minute is not worth a word (bytes).
GROWS = 1 << 20
# Plugins that keep a smaller share of all are not named.
MOST = 0.15


def kept_words(of: Memory) -> str:
    """What plugins keep, in a few words: "3.4 GB", "at least 820 MB", "not known"."""
    if not of.kinds and of.unknown:
        return "not known"
    return f"{'at least ' if of.is_at_least else ''}{size(of.bytes)}"


def kind_words(of: Keeps) -> str:
    """Those of one plugin in one setting: "Quire (12: 9.8 GB)"."""
    return f"{of.label} ({of.many}: {size(of.bytes)})" if of.many > 1 else f"{of.label} ({size(of.bytes)})"


def how_kept(of: Keeps) -> str:
    """How it comes to that: "12 instances of 34 MB each, and 9.4 GB for all of them together"."""
    each = f"{count(of.many, 'instance')} of {size(of.each)}{' each' if of.many > 1 else ''}"
    return f"{each}, and {size(of.pool)} for all of them together" if of.pool >= 1 << 20 else each


def sentence(of: Survey) -> str:
    """What the plugins of a session keep, what the most of it is, and whether this computer has room."""
    kept, room = of.memory, of.machine.memory
    if not kept.kinds:
        return "What the plugins keep in memory is not known." if kept.unknown else ""
    said, has = f"Its plugins keep {kept_words(kept)}", f"{_where(of)} has"
    if not room:
        said += " of memory."
    elif kept.bytes > room:
        said += f" of memory, and {has} {size(room)}: what has no room is read from the disk while blocks wait."
    else:
        said += f" of the {size(room)} of memory that {has}"
        little = ": too little is left for the system, the host and the audio"
        said += "." if fits(kept, room) else f"{little}."
    most = [kind_words(each) for each in kept.kinds if each.bytes >= MOST * kept.bytes]
    if most:
        said += f" Most of it: {listed(most)}."
    return said


def trouble(of: Survey) -> str:
    """The same where there is no room, with what would help; empty where there is."""
    if fits(of.memory, of.machine.memory):
        return ""
    return " ".join((sentence(of), _unloading(of))).strip()


def growing(of: Memory) -> str:
    """Which plugins take more and more; empty if none does."""
    told = [each for each in of.growing if each.grows * 60 >= GROWS]
    if not told:
        return ""
    names = [f"{each.label} ({size(each.grows * 3600)} an hour{' together' if each.many > 1 else ''})" for each in told]
    more = "more memory for as long as"
    those = agreeing(len(told), f"plugin takes {more} it sounds", f"plugins take {more} they sound")
    return f"{those}: {listed(names)}."


def room_words(more: int | None, fit: int) -> str:
    """That memory has room for fewer than so many more as `fit` otherwise; empty where it has."""
    if more is None or more >= fit:
        return ""
    if not more:
        return "But there is no memory for one more."
    return f"But there is memory for {more} more alone."


def not_known(of: Memory) -> str:
    """Of how many plugins it is not known, or not all; empty if it is."""
    if of.unknown and of.kinds:
        return f"Of {count(of.unknown, 'plugin')} it is not known."
    if of.earlier:
        return f"What {count(of.earlier, 'plugin')} share{'s' if of.earlier == 1 else ''} with others is not known yet."
    return ""


def _unloading(of: Survey) -> str:
    """What it gives back to unload what the plan freezes, where it is kept loaded."""
    kept = [d for d in of.plan.decisions if d.kind == "freeze" and not d.unloaded]
    plan = of.plan
    for decision in kept:
        plan = plan.replaced(decision, replace(decision, unloaded=True))
    then = memory(apply(of.session, plan).session, of.planned.cards)
    if of.memory.bytes - then.bytes < 1 << 20:
        return ""
    after = "would have room" if fits(then, of.machine.memory) else "would still be too much"
    less = size(of.memory.bytes - then.bytes)
    return f"Unloading what the plan freezes gives back {less}: {kept_words(then)} {after}."


def _where(of: Survey) -> str:
    return of.machine.name or ("that computer" if of.machine.is_another else "this computer")


def lines(of: Survey) -> list[str]:
    """All that is to be said of the memory beside a verdict, a sentence or two each: where there is no room for what
    plugins keep, that says so."""
    kept = sentence(of) if fits(of.memory, of.machine.memory) else ""
    return [words for words in (kept, not_known(of.memory), loading(of), growing(of.memory)) if words]


def loading(of: Survey) -> str:
    """How long its plugins take to load; empty where that is short."""
    # What comes from files: samples and the like, and code.
    read = of.memory.code + sum(each.pool for each in of.memory.kinds)
    return opening_words(opening(of.session, of.planned.cards), read)
