"""What a computer holds, in sentences: the ceiling, its trials, a test load and what was heard of it."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from ..computer.by_ear import ByEar
from ..computer.ceiling import LOWEST, ONE_IN, Ceiling, Held
from ..units import count, milliseconds, percent

# What slows so few of the blocks, and what holds up for so short a time (seconds), is not told.
SEEN, LONG_HOLD = 0.01, 0.3e-3


def ceiling_words(of: Ceiling) -> str:
    """What is held at one buffer size, in a sentence, and what stands in the way of more."""
    where = f"{of.buffer} samples, {count(of.threads, 'core')}"
    if of.held <= 0:
        held = f"not even {percent(LOWEST)} is held"
    else:
        held = f"{percent(of.held)} is held" + (f" ({spread})" if (spread := _spread(of)) else "")
    return " ".join([f"{where}: {held}.", *_in_the_way([of])])


def ceilings_words(found: Sequence[Ceiling]) -> str:
    """What ceilings mean, and what stands in the way of more, for all buffer sizes that were tried."""
    real = all(trial.real_time for each in found for trial in each.trials)
    said = [f"With so much on each of {count(found[0].threads, 'core')} a block is late in one second of {ONE_IN:g}."]
    if not real:
        said.append("Real time was refused: what other programs do is in these figures.")
    return " ".join([*said, *_in_the_way(found), "It counts until the computer is started again."])


def _spread(of: Ceiling) -> str:
    """Between which loads the ceiling lies; empty if these are one."""
    least, most = percent(of.least), percent(of.most)
    return "" if least == most else f"{least} to {most}" if of.least > 0 else f"at most {most}"


def _in_the_way(found: Sequence[Ceiling]) -> list[str]:
    """Why it is not more, for all of them together."""
    said = []
    slowed = [each for each in found if each.slowed >= SEEN]
    if slowed:
        blocks = _range(percent(each.slowed) for each in sorted(slowed, key=lambda each: each.slowed))
        times = _range(f"{each.slower:.1f}" for each in sorted(slowed, key=lambda each: each.slower))
        said.append(
            f"In {blocks} of the blocks the same work took {times} times as long as at best: others on the same cores, "
            "or a lower clock."
        )
    longest, lost = max(each.longest for each in found), sum(each.lost for each in found)
    if longest >= LONG_HOLD:
        said.append(f"Something held a core up for {milliseconds(longest)}.")
    if lost:
        said.append(f"In {count(lost, 'second')} that was for longer than a block: no load is held then.")
    return said


def _range(words: Iterable[str]) -> str:
    """From the first to the last of some figures: "22 to 50 %"."""
    each = list(words)
    return each[0] if each[0] == each[-1] else f"{each[0].removesuffix(' %')} to {each[-1]}"


def load_words(of: Held, buffer: int, cores: int) -> str:
    """What a test load does at the moment."""
    late = f"{of.late} of {of.blocks} late" if of.late else "none late"
    rank = "" if of.real_time else " Real time was refused: the host goes before it, so this tells little."
    where = "the core" if cores == 1 else f"each of {cores} cores"
    return f"{percent(of.load)} of {where} in blocks of {buffer} samples; {late}.{rank}"


def by_ear_words(of: ByEar) -> str:
    """What somebody heard while test loads ran."""
    clean, crackles = of.clean_to, of.crackles_from
    if crackles is None:
        return "" if clean is None else f"No crackle up to {percent(clean)}."
    if clean is None:
        return f"It crackles with {percent(crackles)} already: there is no room for more."
    return f"Clean with {percent(clean)}, crackles with {percent(crackles)}: so much of each core is left for more."


def trial_words(of: Held) -> str:
    """One trial: how many blocks were late."""
    if not of.late:
        return f"{percent(of.load)}: none late; the latest block ended at {percent(of.worst)} of its deadline"
    return f"{percent(of.load)}: {of.late} of {count(of.blocks, 'block')} late"
