"""Off: a plugin, or a whole track, costs nothing and is not heard."""

from __future__ import annotations

from collections.abc import Iterator

import msgspec

from ..cards.card import Cards, CostCard
from ..session.plugins import PluginUse
from ..session.session import Session
from ..session.strips import Strip
from .decision import Decision
from .kind import Asked, Kind, Option, bypassed, named_use, with_uses
from .price import SOUND_GONE, Part, Price, Terms


class Off(Kind):
    """A track, or one plugin, is switched off."""

    def obstacle(self, strip: Strip, decision: Decision, session: Session) -> str | None:
        if decision.use is None and strip.kind == "main":
            return "the main output cannot be switched off."
        return None

    def change(self, strip: Strip, decision: Decision, session: Session) -> Strip:
        use = named_use(strip, decision.use)
        if decision.use is None:
            return msgspec.structs.replace(strip, enabled=False)
        return with_uses(strip, {use.id: bypassed(use)}) if use is not None else strip

    def price(self, terms: Terms, decision: Decision) -> Price:
        use = named_use(terms.session.strip(decision.strip), decision.use)
        if use is not None and changes_nothing(use, terms.cards):
            back = Part(terms.weights.off, f"to switch every {use.label} on again, if it is missed")
            kind = f"{use.plugin.standard}:{use.plugin.identifier}:off"
            return Price((Part(terms.weights.use, "for each that is switched off"),), ((kind, back),))
        gone = 0.0 if terms.tracking else SOUND_GONE * terms.weights.sound
        return Price((Part(terms.weights.off, "to switch it on again"), Part(gone, "without its sound until then")))

    def options(self, strip: Strip, asked: Asked) -> Iterator[Option]:
        decision = Decision("off", strip.id)
        given = "its sound; must come back before the render"
        yield Option(decision, "Switch off", given, self.obstacle(strip, decision, asked.session))

    def words(self, session: Session, decision: Decision) -> str:
        strip = session.strip(decision.strip)
        use = named_use(strip, decision.use)
        return f"Switch off {use.label} on {strip.name}" if use is not None else f"Switch off {strip.name}"

    def way_back(self, strip: Strip, decision: Decision) -> str | None:
        use = named_use(strip, decision.use)
        return f"Switch {f'{use.label} on {strip.name}' if use is not None else strip.name} on again."


def changes_nothing(use: PluginUse, cards: Cards) -> bool:
    """Whether a plugin can go without another sound: what comes out is what went in, on time and all through the piece,
    and nobody listens."""
    card = cards.get(use.card_key())
    return card is not None and only_passes_on(use, card) and not card.latency


def only_passes_on(use: PluginUse, card: CostCard) -> bool:
    """Whether what comes out of a plugin is what went in, all through the piece, and nobody listens."""
    is_idle = card.truth is not None and card.truth.idle
    return is_idle and not use.latency and use.sidechain is None and not use.automated
