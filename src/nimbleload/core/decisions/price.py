"""What a decision costs the engineer, in minutes that he will lose, built up from facts and told as a sum."""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple

import msgspec

from ..cards.card import Cards
from ..session.computer import Machine
from ..session.session import Session
from .decision import Plan, Standing

# How often one comes back to a track before the mix is done.
RETURNS: dict[Standing, float] = {"done": 0.0, "normal": 1.0, "in work": 5.0}
# Minutes to undo a freeze, and to go back to the kept source of a bounce.
THAW, GO_BACK = 0.2, 2.0
# The sound of what is switched off, missing until it is put back.
SOUND_GONE = 5.0
REHEARSED_AGAIN, ROUTED = 2.0, 1.0
# A lighter setting that nobody has compared with the full one: as if it left −40 dB.
NOT_COMPARED = 1.0


class Weights(msgspec.Struct, frozen=True):
    """What hurts. The first four are factors (1: as it is), all others minutes.

    `rendering`: waiting for renders; `returning`: coming back to what is frozen or printed; `sound`: another sound;
    `tails`: tails that are cut. `locked`: a plugin that cannot be touched; `bus` and `member`: a shared bus, and each
    track that feeds it; `nearly`: sharing that is not quite exact; `kind` and `use`: a lighter setting of one kind of
    plugin, and each plugin that takes it; `suspend`; `off`: a plugin that does nothing; `disk`: 100 MB; `step`: any
    freeze or bounce, however quickly it is done.
    """

    rendering: float = 1.0
    returning: float = 1.0
    sound: float = 1.0
    tails: float = 1.0
    locked: float = 0.1
    bus: float = 0.5
    member: float = 0.1
    nearly: float = 1.0
    kind: float = 0.5
    use: float = 0.02
    suspend: float = 0.1
    off: float = 0.1
    disk: float = 0.1
    step: float = 0.0


PRESETS: dict[str, Weights] = {
    "balanced": Weights(),
    "keep the sound": Weights(sound=4.0, nearly=4.0, tails=2.0),
    "keep it editable": Weights(returning=3.0, locked=0.3, sound=0.5),
}


class Part(NamedTuple):
    """One summand of a price: minutes, and what they go on."""

    minutes: float
    words: str


class Price(NamedTuple):
    """A price as the sum of its parts. Those in `once` (by what they are about) are paid once in a plan."""

    parts: tuple[Part, ...] = ()
    once: tuple[tuple[str, Part], ...] = ()

    @property
    def own(self) -> float:
        """The minutes that this decision alone costs, whatever else is decided."""
        return sum(part.minutes for part in self.parts)

    @property
    def minutes(self) -> float:
        """All minutes, if nothing else is decided."""
        return self.own + sum(part.minutes for _, part in self.once)


class Terms(NamedTuple):
    """What prices go by: the session with its cards, the computer, the plan's standings, and what hurts.

    With `tracking` the plan is meant for recording only: what is put back before the render costs no sound.
    """

    session: Session
    cards: Cards
    machine: Machine
    plan: Plan
    weights: Weights = Weights()
    tracking: bool = False

    def returns(self, strip_id: str) -> float:
        """How often one will come back to a track."""
        return RETURNS[self.plan.standing(strip_id)] * self.weights.returning


def total(prices: Iterable[Price]) -> Price:
    """Several prices as one: their parts added up by what they go on, and what is paid once counted once."""
    parts: dict[str, float] = {}
    once: dict[str, Part] = {}
    for price in prices:
        for part in price.parts:
            parts[part.words] = parts.get(part.words, 0.0) + part.minutes
        once.update(price.once)
    return Price(tuple(Part(minutes, words) for words, minutes in parts.items()), tuple(once.items()))


def sound_minutes(null_db: float | None) -> float:
    """What another sound costs, by what a null test against the full setting leaves (dB); None: not compared.

    Nothing below −60 dB, a minute at −40 dB, five from −20 dB on; on straight lines in between.
    """
    if null_db is None:
        return NOT_COMPARED
    if null_db <= -40:
        return max(null_db + 60, 0.0) / 20
    return 1 + 4 * min((null_db + 40) / 20, 1.0)
