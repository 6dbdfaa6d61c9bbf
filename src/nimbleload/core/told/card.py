"""A cost card in plain sentences: cost, rhythm, silence, truth, company, upkeep."""

from __future__ import annotations

from ..cards.card import EXACT_DB, NEAR_DB, CostCard, Inputs, Made, Silence
from ..cards.doubt import disturbed_in_turns
from ..cards.rhythm import rhythm
from ..cards.upkeep import Upkeep
from ..session.computer import deadline
from ..units import all_of, compared, decibels, microseconds, milliseconds, percent, size
from .trouble import trouble_of

# A filter's own delay is no false latency, and rounding is no other sound.
LATENCY_SLACK = 32
# What comes later than this many samples and does not say so may well be a delay.
MEANT = 1024

DIFFERENT_DB = -60.0


# A tail is dearer, and full scale exceeded, only by more than noise and rounding make.
DEARER = 1.25


OVER_DB = 0.1


COMPANY_TOLD = 4 << 20

# So many times as long beside others is worth a word.
WORTH_TELLING = 1.03
# Another cost with other input is told beyond this share of it, and so many seconds.
MINDS, LEAST_MINDED = 0.1, 0.5e-6


def card_sentences(card: CostCard, rate: int, buffer: int) -> list[str]:
    """What a card says in plain words: cost, rhythm, silence, fixed part, latency, tail, noise; the failure first."""
    said = [trouble_of(card.name, card.failure)] if card.failure else []
    if card.cost(rate, buffer, "sounding").provenance == "unknown":
        return said or ["Not measured yet."]
    said += _costs(card, rate, buffer)
    if card.silence is not None:
        said.extend(_silence(card.silence))
    if card.latency:
        said.append(f"Reports a latency of {card.latency} samples ({milliseconds(card.latency / rate)}).")
    said.extend(_truths(card))
    if card.tail is None and card.listened is not None:
        said.append(f"Sounds on beyond {card.listened:.0f} s after its input ends: its tail was still there then.")
    elif card.tail is None:
        said.append("Its tail was not tried.")
    elif card.tail > 0.05:
        said.append(f"Sounds on for {card.tail:.1f} s after its input ends.")
    if card.made is not None:
        said.extend(_channels(card.made, card.key.channels))
    if card.filled:
        said.append(f"Costs less at first: the figures here are those after {card.filled:.1f} s of sound.")
    said.extend(_company(card, rate, buffer))
    said.extend(_paced(card, rate))
    said.extend(_slowing(card, rate))
    if card.upkeep is not None:
        said.extend(_upkeep(card.upkeep))
    if card.made is not None and card.made.path:
        said.append(_held(card.made))
    cell = card.cell(rate, buffer, "sounding")
    if cell is not None and not cell.quiet:
        much = f" by up to {compared(cell.shared - 1)}" if cell.is_doubtful else ""
        said.append(f"Others shared the core while this was measured: the figure may be too high{much}.")
    return said


def _held(of: Made) -> str:
    """What kept the plugin in while it ran, as a sentence."""
    if not of.held:
        return "Nothing but limits kept it in while it ran: this system offers no more."
    words = {"files": "it could read no hidden files and write none of yours", "system calls": "it reached no network"}
    kept = [words[name] for name in of.held if name in words]
    return f"Ran held in: {' and '.join(kept)}." if kept else "Ran with limits only, as you have allowed it."


def _costs(card: CostCard, rate: int, buffer: int) -> list[str]:
    """What a block takes, sounding and silent, how evenly, and what of it is there whatever its length."""
    cell, said = card.cell(rate, buffer, "sounding"), []
    sounding = card.cost(rate, buffer, "sounding")
    block_time = deadline(buffer, rate)
    said.append(
        f"Takes {microseconds(sounding.seconds)} of each {milliseconds(block_time)} block at {buffer} samples: "
        f"{percent(sounding.seconds / block_time)} of one core."
    )
    if cell is not None and cell.aside > 0:
        beside = percent(cell.aside / block_time)
        said.append(f"Threads or processes of its own also take {beside} of a core meanwhile, on other cores.")
    found = rhythm(cell.sequence_ns()) if cell is not None else None
    if found is not None and found.is_bursty:
        every = f"every {found.period} blocks" if found.period else "now and then"
        said.append(
            f"Works in bursts: {microseconds(found.ordinary)} as a rule, {microseconds(found.burst)} {every}. "
            "The average looks fine; the peak is what drops out."
        )
    silent = card.cost(rate, buffer, "silent")
    share = silent.seconds / sounding.seconds if sounding.seconds > 0 else 1.0
    if share > 1.1:
        said.append(f"Costs more while nothing sounds: {compared(share)} of that.")
    elif share > 0.8:
        said.append("Costs as much while nothing sounds: muting it saves nothing.")
    else:
        said.append(f"While nothing sounds it takes {compared(share)} of that.")
    fit = card.fit(rate, "sounding")
    if fit is not None and sounding.seconds > 0:
        part = min(fit.fixed / sounding.seconds, 1.0)
        if part >= 0.01:
            price = microseconds(fit.fixed)
            said.append(f"Each call costs {price} whatever its length: {compared(part)} of its cost at this size.")
    said.extend(_notes(card, rate, buffer))
    said.extend(_inputs(card.inputs))
    waking = card.cell(rate, buffer, "waking")
    if waking is not None and waking.largest > 1.5 * max(cell.largest if cell else 0.0, 2 * sounding.seconds):
        said.append(f"Waking up costs a spike of {microseconds(waking.largest)} in one block.")
    return said


def _inputs(of: Inputs | None) -> list[str]:
    """How far the cost goes by what comes in, where it does."""
    if of is None or of.dense <= 0:
        return []
    kinds = ((of.hot, "with peaks at full scale"), (of.short, "with short sounds and gaps between"))
    least = max(MINDS * of.dense, LEAST_MINDED)
    told = [f"{compared(cost / of.dense)} {words}" for cost, words in kinds if abs(cost - of.dense) > least]
    if not told:
        return []
    return [f"What it takes goes by what comes in: against steady music at −18 dBFS {' and '.join(told)}."]


def _paced(card: CostCard, rate: int) -> list[str]:
    """What coming back to it once a deadline costs on this computer, where it costs something."""
    told = [
        f"{microseconds(each.paced - each.row)} more at {each.buffer} samples"
        for each in sorted(card.paced, key=lambda each: each.buffer)
        if each.rate == rate and each.added > MINDS and each.paced - each.row > LEAST_MINDED
    ]  # fmt: skip
    if not told:
        return []
    said = [
        f"Called once a deadline, as in a session, a block takes {' and '.join(told)} than in a row: this "
        "computer has given its caches to others meanwhile."
    ]
    if disturbed_in_turns(card, rate):
        said.append("Others shared the core all the while this was measured: it may be less.")
    return said


def _slowing(card: CostCard, rate: int) -> list[str]:
    """What it does to the clock of its core, where that is worth a word."""
    known = [each for each in card.slowing if each.rate == rate and each.seconds > 0]
    if not known:
        return []
    most = max(known, key=lambda each: each.seconds)
    return [
        f"Lowers the clock of its core: for {milliseconds(most.seconds)} after a block of {most.buffer} samples "
        f"everything takes {compared(most.by - 1)} longer, as with wide vectors on some processors."
    ]


def _silence(of: Silence) -> list[str]:
    """What ten seconds of silence showed."""
    said = []
    if of.sleeps:
        said.append(f"Falls asleep by itself: after ten seconds of silence a block takes {microseconds(of.after[2])}.")
    if of.sounding > 0 and of.dearest > DEARER * of.sounding:
        most = compared(of.dearest / of.sounding)
        said.append(f"Its dying tail costs up to {most} of what it takes while it sounds.")
    if of.dearest > 0 and of.unflushed > 1.5 * of.dearest:
        share = compared(of.unflushed / of.dearest)
        said.append(f"In a host that does not flush denormal numbers to zero its tail would cost {share} of that.")
    return said


def _notes(card: CostCard, rate: int, buffer: int) -> list[str]:
    """What fewer notes take of the full chord that it was measured with."""
    most = card.key.voices
    if most < 2 or not card.polyphony:
        return []
    one, half = (float(share) for share in card.with_notes(rate, buffer, (1, most // 2)))
    if one > 0.9:
        return [f"With one note it takes as much as with all {most}."]
    few = f"With one note it takes {compared(one)} of what all {most} do"
    return [f"{few}, with {most // 2} notes {compared(half)}." if most > 3 else f"{few}."]


def _channels(made: Made, there: int) -> list[str]:
    """How a plugin has less than the channels that there are on its track."""
    if made.instances > 1:
        return [f"Has one channel: there is one of it for each of the track's {made.instances}, counted here."]
    if 0 < made.hears < there:
        return [f"Hears {made.hears} of its track's {there} channels here: hosts give it that, or all together."]
    return []


def _company(card: CostCard, rate: int, buffer: int) -> list[str]:
    """How much dearer it gets among others."""
    extra = card.in_company(rate, buffer, COMPANY_TOLD)
    if extra < 0.05:
        return []
    return [f"Among others that use {COMPANY_TOLD >> 20} MB between its blocks it takes {compared(extra)} more."]


def _upkeep(of: Upkeep) -> list[str]:
    said = _around(of)
    if of.memory >= 1 << 20 or (of.pool or 0) >= 1 << 20:
        once = f", and all of them together {size(of.pool)} more" if of.pool and of.pool >= 1 << 20 else ""
        said.append(f"Each instance keeps {size(of.memory)} of memory{once}.")
    if of.grows * 60 >= 1 << 20:
        said.append(f"Takes more and more memory while it sounds: {size(of.grows * 3600)} an hour, each instance.")
    if of.refused:
        said.append(f"A second instance beside it could not be loaded: {of.refused.rstrip('.')}.")
    if of.graphics:
        said.append(f"Can compute on a graphics card ({of.graphics}): what it takes there cannot be seen.")
    if max(of.load, of.again) >= 0.5:
        each = "" if of.again < 0 else f", {_seconds(of.again)} for each further instance"
        said.append(f"Takes {_seconds(of.load)} to load{each}.")
    if of.read >= 1 << 16:
        said.append(f"Reads {of.read / (1 << 20):.1f} MB from files in each second while it runs.")
    if of.faults >= 10:
        said.append(f"Meets {of.faults:.0f} page faults in each second: each can hold up a block.")
    return said


def _seconds(of: float) -> str:
    return f"{of:.1f} s" if of >= 0.095 else milliseconds(of)


def _around(of: Upkeep) -> list[str]:
    """What the cores around it do to it, where it is worth a word."""
    kinds = (
        (of.beside, "while other cores compute"), (of.paired, "beside another on the other thread of its core"),
        (of.slower, "on a slow core of this computer"),
    )  # fmt: skip
    told = [f"{factor:.2f} times as long {where}" for factor, where in kinds if factor >= WORTH_TELLING]
    return [f"Takes {all_of(told)}."] if told else []


def shareable(linear_db: float) -> str:
    """What sharing one instance on a bus does to the sound, as a sentence."""
    leaves = f"a null test leaves {decibels(linear_db)}"
    if linear_db <= EXACT_DB:
        return f"One on a bus sounds as one on each track does: {leaves}."
    if linear_db <= NEAR_DB:
        return f"One on a bus sounds nearly as one on each track does: {leaves}."
    return f"One on a bus in place of one on each track changes the sound: {leaves}."


def _truths(card: CostCard) -> list[str]:
    """What a plugin does that it should not, or that nobody may have noticed."""
    truth = card.truth
    if truth is None:
        return []
    if not truth.finite:
        return ["Puts out numbers that are none (NaN or infinity)."]
    if truth.silent:
        return ["Nothing came out of it while it was measured."]
    said = []
    late = truth.latency - card.latency if truth.latency is not None else 0
    if late > MEANT:
        said.append(
            f"Comes {late} samples later than it reports, as what is a delay does; if it is none, what it is mixed "
            "with is off."
        )
    elif abs(late) > LATENCY_SLACK:
        said.append(f"Its true latency is {truth.latency} samples, not {card.latency}: what it is mixed with is off.")
    if truth.null_db is not None and truth.null_db > DIFFERENT_DB:
        said.append(f"Sounds different at another buffer size: {truth.null_db:.0f} dB of it are left in a null test.")
    if truth.hot_peak is not None and truth.hot_peak > OVER_DB:
        said.append(f"A loud but legal input makes it put out {truth.hot_peak:+.1f} dBFS: what follows may clip.")
    if truth.linear_db is not None:
        said.append(shareable(truth.linear_db))
        moved = [(truth.pan_db, "panned tracks"), (truth.ride_db, "tracks whose fader rides")]
        kept = [name for db, name in moved if db is not None and db > NEAR_DB]
        if kept and truth.linear_db <= NEAR_DB:
            said.append(f"Not of {' or '.join(kept)}: it would come after that, and sound different.")
    if truth.idle:
        said.append("What comes out is what went in: in this setting it does nothing.")
    return said
