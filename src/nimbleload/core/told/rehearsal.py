"""What a rehearsal has shown, in sentences; strip by strip against the prediction, with reasons."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import NamedTuple

from ..load.in_part import Part
from ..load.rehearsal import Prediction, Rehearsal, Streamed, agreement, own_error
from ..session.computer import deadline
from ..session.session import Session
from ..units import agreeing, compared, count, duration, listed, microseconds, percent, size
from .held_up import COMPUTED_NOT, GAVE_WAY, NO_CORE, OF_DISK, why_late_words
from .opening import WORTH

# A strip is worth a reason when it is off by more than this much of itself, and of a thousandth of the deadline.
TELLING = 0.10
INTERRUPTED = 3.0
# What is less is not worth a word (bytes).
WORTH_TELLING = 1 << 20
# Where so many of the blocks were undisturbed, nothing is told of the others.
WHOLLY = 0.95
# Plugins are named in which so large a part of late blocks were held up, if that is most of them.
OFTEN, MOSTLY = 0.25, 0.7
# What leaves so many of the late blocks, or fewer, helps; what leaves so many more hardly less (parts of them).
HALF, HARDLY = 0.5, 0.1
# What takes a core though the system has given it to a thread.
OUTSIDE = "something that is no thread of this system (another guest of the machine, interrupts)"
# A clock that is off by more is told.
OTHER_CLOCK = 0.02
# So many times longer than at best arithmetic takes where others share the cores.
SHARED = 1.08


class StripCheck(NamedTuple):
    """One strip's predicted and rehearsed time (seconds), and why they differ; no reason if they hardly do."""

    strip: str
    name: str
    predicted: float
    rehearsed: float
    reason: str

    @property
    def off(self) -> float:
        """By how much of the rehearsed time the prediction is off; positive if it was too low."""
        return (self.rehearsed - self.predicted) / self.rehearsed if self.rehearsed > 0 else 0.0


def checks(session: Session, predicted: Prediction, of: Rehearsal) -> list[StripCheck]:
    """Every strip that was played, the largest difference in time first."""
    found = []
    for index, strip in enumerate(session.strips):
        if strip.id not in of.strips:
            continue
        before, after = float(predicted.strips[index]), of.strips[strip.id]
        found.append(StripCheck(strip.id, strip.name, before, after, _reason(session, index, predicted, of)))
    return sorted(found, key=lambda check: -abs(check.rehearsed - check.predicted))


def _reason(session: Session, index: int, predicted: Prediction, of: Rehearsal) -> str:
    """Why a strip took another time than predicted, as far as the figures tell."""
    strip = session.strips[index]
    before, after = float(predicted.strips[index]), of.strips[strip.id]
    gap = after - before
    if abs(gap) < max(TELLING * after, deadline(of.buffer, of.rate) / 1000):
        return ""
    unknown = [use.label for use in strip.live_uses() if predicted.uses.get(use.id, 0.0) == 0 and use.id in of.uses]
    if unknown:
        return f"no figure for {', '.join(unknown)}"
    missing = [use.label for use in strip.live_uses() if use.id in of.refused]
    if missing:
        return f"not played: {', '.join(missing)}"
    quiet = of.undisturbed.strips.get(strip.id) if of.undisturbed.is_telling else None
    if quiet is not None and abs(quiet - before) < abs(gap) / 2:
        return f"the computer: where it was as fast as at its best, this took {microseconds(quiet)}"
    if of.strip_peaks.get(strip.id, 0.0) > INTERRUPTED * after:
        return "interrupted: one block in a hundred took over three times as long"
    if gap > 0 and of.slowdown > 1 + TELLING / 2:
        return f"the cores slow each other down, here by {compared(of.slowdown - 1)}"
    if gap > 0 and of.rested > 1 + TELLING / 2:
        return f"the cores are {compared(of.rested - 1)} slower after each rest between blocks"
    plugins = sum(of.uses.get(use.id, 0.0) for use in strip.live_uses())
    if gap > 0 and after - plugins > gap / 2 and strip.id in of.streamed.tracks:
        return f"taking its sound from its file: {microseconds(after - plugins)}"
    if gap > 0 and after - plugins > gap / 2:
        return f"time between its plugins: {microseconds(after - plugins)}"
    if predicted.is_foreign:
        return "predicted from figures that are not this computer's"
    return "its plugins find colder caches than when they were measured" if gap > 0 else "quicker than measured"


def off_by(share: float) -> str:
    """By how much a prediction is off, in words: `share` of what was rehearsed, positive if it was too high."""
    return "right" if abs(share) < 0.005 else f"{compared(abs(share))} {'high' if share > 0 else 'low'}"


def offered(part: Part, here: int) -> str:
    """What would be rehearsed of a session that is planned for more cores than there are here."""
    who = "of them plays" if part.cores == 1 else f"{part.cores} of them play"
    return (
        f"The session is planned for {count(part.threads, 'core')}, and {agreeing(here, 'is', 'are')} here: what the "
        f"fullest {who} is rehearsed, {len(part.ids)} of {part.total} tracks and buses."
    )


def followed(part: Part, predicted: Prediction, of: Rehearsal) -> str:
    """What follows from a part for the whole."""
    own = own_error(predicted, of)
    quiet = own is not None and predicted.alone > 0
    planned = count(part.threads, "core")
    ratio = of.undisturbed.typical / predicted.alone if quiet else of.typical / max(predicted.typical, 1e-9)
    return (
        f"That was the share of {part.cores} of {planned}. If all the rest is off by as much, the whole takes "
        f"{percent(part.load * ratio)} on {planned}; {percent(part.load)} was predicted."
    )


def without_plan(before: Rehearsal) -> str:
    """What the same moment took without the plan, as a sentence."""
    held = f"{before.missed} of {len(before.loads)} were late" if before.missed else "none was late"
    return (
        f"Without the plan they took {percent(before.typical)} as a rule, one in a hundred {percent(before.bad)}, "
        f"and {held}."
    )


def why_late(session: Session, of: Rehearsal) -> list[str]:
    """Why blocks were late, in a sentence; nothing if none was."""
    why = of.why
    if why.too_much:
        return [f"They are late since the work is too much: as a rule a block takes {percent(of.typical)} of its time."]
    names = {use.id: f"{use.label} on {strip.name}" for strip in session.strips for use in strip.live_uses()}
    asleep = f", {_met(why.slept_in, names)}" if why.slept_in else ""
    parts = (
        (why.woken, NO_CORE),
        (why.read, f"{OF_DISK}{asleep}"),
        (why.waited, f"waited {COMPUTED_NOT}{asleep}"),
        (why.give_way, GAVE_WAY),
        (why.taken, f"lost a core to {OUTSIDE}"),
        (why.longer, f"took longer {_met(why.longer_in, names)}"),
        (why.slower, "took longer in all plugins: cores were slowed down or taken away meanwhile"),
        (why.rest, "took longer beside their plugins"),
    )
    return why_late_words(parts)


def helped_words(session: Session, of: Rehearsal) -> list[str]:
    """What would have kept late blocks from being late, tried on these: nothing where that is not much."""
    found, said = of.helped, []
    if not found.late:
        return []
    uses = {use.id: f"{use.label} on {strip.name}" for strip in session.strips for use in strip.live_uses()}
    tracks = {strip.id: strip.name for strip in session.strips}
    use = min(found.without, key=lambda each: found.without[each], default="")
    track = min(found.frozen, key=lambda each: found.frozen[each], default="")
    fewer, fewest = found.without.get(use, found.late), found.frozen.get(track, found.late)
    # A plugin is the lesser step.
    is_use = fewer - fewest <= HARDLY * found.late
    left, what = fewest, f"With {tracks.get(track, track)} frozen"
    if is_use:
        left, what = fewer, f"Without {uses.get(use, use)}"
    if left <= HALF * found.late:
        said.append(f"{what} {_of_late(left, found.late)}.")
    share = {size: late / number for size, (late, number) in found.larger.items() if number}
    now = found.late / max(len(of.loads), 1)
    fewest_of = min(share, key=lambda each: share[each], default=0)
    size = next((each for each in sorted(share) if not share[each]), fewest_of)
    if size and share[size] <= HALF * now:
        late, number = found.larger[size]
        few = "none" if not late else f"{late} of {number}"
        said.append(f"In blocks of {size} samples {few} would have been late.")
    elif size:
        said.append("In larger blocks hardly fewer would have been late.")
    return said


def _of_late(left: int, late: int) -> str:
    """How many of the late blocks are left."""
    if late == 1:
        return "it would have been in time"
    few = "none" if not left else str(left)
    return f"{few} of the {late} would have been late"


def _met(times: Mapping[str, int], names: Mapping[str, str]) -> str:
    """In which plugins that was: those in which it was often, if it mostly was in such."""
    whole = sum(times.values())
    often = {use: count for use, count in times.items() if count >= OFTEN * whole}
    if sum(often.values()) < MOSTLY * whole:
        return "in a plugin, each time in another: cores were slowed down or taken away meanwhile"
    which = listed([names.get(use, use) for use in sorted(often, key=lambda use: -often[use])])
    return f"in {which}" if len(often) == len(times) else f"mostly in {which}"


def verdict(of: Rehearsal) -> str:
    """What the rehearsal has shown, in a sentence."""
    minutes = "" if of.missed == 0 else f", {of.missed_per_minute:.0f} a minute,"
    held = "Held every deadline" if of.missed == 0 else f"Missed {of.missed} of {len(of.loads)} deadlines{minutes}"
    whose = ""
    if 0 < of.missed <= 2 * of.why.computers:
        most = "all" if of.why.computers == of.missed else str(of.why.computers)
        whose = f"; {'by' if of.missed == 1 else f'{most} of them by'} the computer's doing"
    return f"{held} at {of.buffer} samples on {of.cores} core{'s' if of.cores > 1 else ''}{whose}."


def taken(predicted: Prediction, of: Rehearsal) -> str:
    """What the blocks took, and what had been predicted, in sentences."""
    typical, bad = agreement(predicted, of)
    said = (
        f"Blocks took {percent(of.typical)} of the deadline as a rule, one in a hundred {percent(of.bad)}, "
        f"the worst {percent(of.worst)}. Predicted: typical {percent(predicted.typical)} ({off_by(typical)}), "
        f"one in a hundred {percent(predicted.bad)} ({off_by(bad)})."
    )
    if abs(predicted.clock - 1) > OTHER_CLOCK:
        way = "lower" if predicted.clock > 1 else "higher"
        said += (
            f" The clock of the cores was {compared(abs(1 / predicted.clock - 1))} {way} than while the plugins were "
            "measured; the prediction is brought to it."
        )
    quiet, own = of.undisturbed, own_error(predicted, of)
    if own is None or quiet.share > WHOLLY:
        return said
    return (
        f"{said} In the {percent(quiet.share)} of blocks in which the computer was as fast as when plugins are "
        f"measured they took {percent(quiet.typical)}; {percent(predicted.alone)} was predicted for such "
        f"({off_by(own)})."
    )


def memory_words(predicted: Prediction, of: Rehearsal) -> str:
    """What all that was loaded keeps, against what was predicted; empty where neither is known, or it is little."""
    if max(predicted.memory, of.memory) < WORTH_TELLING or not of.memory:
        return ""
    said = f"What was loaded keeps {size(of.memory)} of memory"
    return f"{said}; {size(predicted.memory)} were predicted." if predicted.memory else f"{said}."


def loading_words(predicted: Prediction, of: Rehearsal) -> str:
    """How long loading took, against what was predicted; empty where it was short."""
    if of.loaded_in < WORTH:
        return ""
    said = f"It was loaded in {duration(of.loaded_in)}"
    return f"{said}; {duration(predicted.loaded_in)} were predicted." if predicted.loaded_in else f"{said}."


def conditions(predicted: Prediction, of: Rehearsal) -> list[str]:
    """What to know about how it was played."""
    said = [each for each in (memory_words(predicted, of), loading_words(predicted, of)) if each]
    if not of.real_time:
        said.append("The system did not allow real-time scheduling: other programs may have interrupted it.")
    if not of.locked:
        said.append("The memory could not be locked: a page that was swapped out would have held up a block.")
    if not of.undisturbed.is_telling:
        shared = "The cores were shared with others nearly all the time"
        no_time = "Too few blocks left time to look at what the computer did meanwhile"
        why = shared if of.units > SHARED else no_time
        said.append(f"{why}: the prediction's own error cannot be told from what the computer did.")
    if of.units > SHARED:
        said.append(
            f"Other threads on the same cores held up what computes in parallel by {compared(of.units - 1)} as a rule."
        )
    if of.slowdown > 1.05:
        said.append(f"While all cores compute, each is {compared(of.slowdown - 1)} slower than alone.")
    if of.rested > 1.05:
        said.append(
            f"After each rest between blocks a core is {compared(of.rested - 1)} slower than at its best: its clock "
            "has dropped, or others have used it. The fuller the blocks, the less of that."
        )
    said += _streamed(of.streamed)
    if of.refused:
        were = agreeing(len(of.refused), "plugin was", "plugins were")
        said.append(f"{were} not played: {_some(list(of.refused.values()))}.")
    return said


def _streamed(of: Streamed) -> Iterator[str]:
    """What is to be known of tracks that were rendered, and their files."""
    if of.tracks:
        one, more = "rendered track was played from its file", "rendered tracks were played from their files"
        played = agreeing(len(of.tracks), one, more)
        late = "All of it was there in time."
        if of.late:
            late = (
                f"{count(of.late, 'block')} of a track had not been read in time, and went by in silence: the disk is "
                "too slow for all of them, or was busy."
            )
        yield (
            f"{played}, as a host does: {of.rate / 1e6:.1f} MB a second were read, which took {percent(of.share)} of "
            f"one core beside the blocks. {late}"
        )
    if of.without:
        have = agreeing(len(of.without), "frozen track has", "frozen tracks have")
        gets = "What the plan freezes has one when it is carried out."
        yield f"{have} no file here: what reading takes is not in this rehearsal. {gets}"
    if of.unread:
        were = agreeing(len(of.unread), "file was", "files were")
        yield f"{were} not played: {_some(list(of.unread.values()))}."


def _some(reasons: Sequence[str]) -> str:
    return "; ".join(dict.fromkeys(reasons[:3]))


def missed_words(missed: int) -> str:
    """How a rehearsal has gone so far."""
    return "no deadline missed so far" if missed == 0 else f"{count(missed, 'deadline')} missed so far"


def tried_words(more: int, cores: int, session: Session, predicted: Prediction, of: Rehearsal) -> str:
    """What a `session` that is planned for so many cores did when it was rehearsed with so many more of something."""
    what = f"Rehearsed with {more} more." if more else "Rehearsed as it is, since not one more fits."
    fewer = (
        f"The session is planned for {count(cores, 'core')}, and here are {of.cores}: this says how far the prediction "
        "holds, not whether so many fit there."
    )
    here = [fewer] if of.cores < cores else []
    why = [*why_late(session, of), *helped_words(session, of)]
    return " ".join((what, verdict(of), *why, taken(predicted, of), *here, *conditions(predicted, of)))
