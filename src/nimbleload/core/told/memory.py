"""What plugins keep in memory, in sentences, and whether there is room for it."""

from __future__ import annotations

from msgspec.structs import replace

from ..decisions.apply import apply
from ..load.memory import ROOM, Keeps, Memory, memory
from ..survey import Survey
from ..units import agreeing, count, listed, size

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


def fits(of: Memory, room: float) -> bool:
    """Whether there is room for it beside everything else, in so many bytes of memory (0: not known)."""
    return not room or of.bytes <= ROOM * room


def sentence(of: Survey) -> str:
    """What the plugins of a session keep, what the most of it is, and whether this computer has room."""
    kept, room = of.memory, of.machine.memory
    if not kept.kinds:
        return "What the plugins keep in memory is not known." if kept.unknown else ""
    said = f"Its plugins keep {kept_words(kept)} of memory"
    if not room:
        said += "."
    elif kept.bytes > room:
        said += f", and {_where(of)} has {size(room)}: what has no room is read from the disk while blocks wait."
    elif not fits(kept, room):
        left = "too little is left for the system, the host and the audio"
        said += f" of the {size(room)} that {_where(of)} has: {left}."
    else:
        said += f" of the {size(room)} that {_where(of)} has."
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
    verb = agreeing(len(told), "plugin takes", "plugins take")
    return f"{verb} more memory for as long as they sound: {listed(names)}."


def not_known(of: Memory) -> str:
    """Of how many plugins it is not known, or not all; empty if it is."""
    if of.unknown:
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
    then = memory(apply(of.session, plan).session, of.planned.cards).bytes
    if of.memory.bytes - then < 1 << 20:
        return ""
    after = "would have room" if then <= ROOM * of.machine.memory else "would still be too much"
    return f"Unloading what the plan freezes gives back {size(of.memory.bytes - then)}: {size(then)} {after}."


def _where(of: Survey) -> str:
    return of.machine.name or ("that computer" if of.machine.is_another else "this computer")
