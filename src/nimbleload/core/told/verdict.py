"""The verdict on one moment: what is wrong and what would help, each with its own test on the figures."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal, NamedTuple

from ..block.schedule import Block
from ..load.load_map import Rung
from ..session.session import Session
from ..units import clock, milliseconds, percent

VerdictKind = Literal["unknown", "live", "chain", "price", "overhead", "work", "waiting", "peaks", "fits"]

# A bound explains a load when it is at least this share of it.
NEAR = 0.9
# A larger buffer is worth naming if it fits; it is the whole matter if it takes off this share of the load.
MATTERS = 0.15
# The host's own time is the matter from this share of the work on.
MUCH_OVERHEAD = 1 / 3


class Verdict(NamedTuple):
    """`headline` says what is wrong and how bad, `advice` what would help; `overload` is true past the deadline."""

    kind: VerdictKind
    headline: str
    advice: str
    overload: bool


def judge(
    session: Session,
    rung: Rung,
    second: float,
    block: Block,
    missing: int,
    known: int,
    rungs: Sequence[Rung] = (),
    overhead: float = 0.0,
) -> Verdict:
    """The verdict on one moment at one buffer size, whose block is `block`.

    `missing` and `known` count live plugins without and with a figure. `rungs` are the other sizes of the ladder,
    `overhead` the host's own share of the work (0 … 1).
    """
    at, load, block_time = clock(second), percent(rung.load), milliseconds(rung.buffer / session.rate)
    if known == 0 and missing > 0:
        return Verdict("unknown", "Nothing is measured yet.", f"{_without_figure(missing)}: measure first.", False)
    gap = f" {_without_figure(missing)} and count{'s' if missing == 1 else ''} as nothing." if missing else ""
    if rung.load <= session.limit:
        room = percent(1 - rung.load)
        advice = f"{room} of the deadline stays free; the limit is {percent(session.limit)}.{gap}"
        return Verdict("fits", f"Fits at {at}.  {load} of the {block_time} deadline.", advice, False)
    overload = rung.load > 1
    verb = "Overloads" if overload else "Tight"
    headline = f"{verb} at {at}.  {load} of the {block_time} deadline."
    kind, advice = _explain(session, rung, block, overhead)
    larger = next((r for r in rungs if r.buffer > rung.buffer and r.load <= session.limit), None)
    if larger is not None:
        advice += f" At {larger.buffer} samples it would fit, with {percent(larger.load)}."
        if kind in ("work", "overhead", "waiting") and larger.load < (1 - MATTERS) * rung.load:
            kind, advice = "price", _price(rung, larger)
    return Verdict(kind, headline, advice + gap, overload)


def _without_figure(count: int) -> str:
    return "1 plugin has no figure" if count == 1 else f"{count} plugins have no figure"


def _price(rung: Rung, larger: Rung) -> str:
    """A buffer that is too small for what each call costs whatever its length."""
    return (
        f"The buffer is too small for the fixed price of each call: at {larger.buffer} samples the same work takes "
        f"{percent(larger.load)}, for a round trip of {milliseconds(larger.round_trip)} in place of "
        f"{milliseconds(rung.round_trip)}."
    )


def _explain(session: Session, rung: Rung, block: Block, overhead: float) -> tuple[VerdictKind, str]:
    """Which of the bounds is near the load, and so what would help."""
    limit, threads = percent(session.limit), block.threads
    if rung.live >= rung.load - 1e-9 and rung.live > 0:
        armed = ", ".join(strip.name for strip in session.strips if strip.armed and strip.enabled)
        return "live", (
            f"It is the live thread alone, which computes {armed} and all that comes after at the device's buffer: it "
            f"must shrink by {percent(rung.live - session.limit)} of the deadline, or be disarmed; nothing else helps."
        )
    if overhead >= MUCH_OVERHEAD:
        return "overhead", (
            f"{percent(overhead)} of the work is the host's own, for each strip and plugin: fewer of them help, and "
            "larger buffers; lighter plugins hardly do."
        )
    if threads == 1:
        need = percent(rung.load - session.limit)
        return "work", f"One core does all the work: {need} of the deadline must go to reach {limit}."
    if rung.chain >= NEAR * rung.load and rung.chain >= rung.spread:
        names = " → ".join(session.strips[i].name for i in block.strips(block.chain) if session.strips[i].uses())
        return "chain", (
            f"One chain is too long: {names}. It must shrink to {limit} of the deadline; more cores do not help."
        )
    if rung.spread >= NEAR * rung.load:
        surplus = percent(max(rung.spread - session.limit, 0.0) * threads)
        freed = f"about {surplus} of a core must go" if rung.spread > session.limit else "little must go"
        return "work", (
            f"The cores are evenly filled. Even perfectly spread, the work needs {percent(rung.spread)}: "
            f"removing work helps, moving it does not; {freed} to reach {limit}."
        )
    closing = " → ".join(session.strips[i].name for i in block.strips(block.closing))
    alone = percent((block.makespan - float(block.start[block.closing[0]])) * session.rate / rung.buffer)
    return "waiting", (
        f"The cores wait: evenly spread, the work would need {percent(rung.spread)}, but at the end {closing} "
        f"must run one after the other, for {alone} of the deadline. Make these lighter, or what they wait for."
    )
