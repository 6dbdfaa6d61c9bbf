"""Lighten: a plugin takes a lighter setting; one line of the restore list puts all of one kind back."""

from __future__ import annotations

from collections.abc import Iterator

from ..session.plugins import PluginUse, Variant
from ..session.session import Session
from ..session.strips import Strip
from ..units import decibels
from .decision import Decision
from .kind import Asked, Kind, Option, called, named_use, with_uses
from .price import Part, Price, Terms, sound_minutes


class Lighten(Kind):
    """A plugin takes a setting that costs less, one of the session's variants."""

    def obstacle(self, strip: Strip, decision: Decision, session: Session) -> str | None:
        use = named_use(strip, decision.use)
        if use is None:
            return "lightening is for one plugin; the plan names none."
        if variant_named(session, use, decision.variant) is None:
            return f"{use.label} has no lighter setting named {decision.variant!r} in this session."
        return None

    def change(self, strip: Strip, decision: Decision, session: Session) -> Strip:
        use = named_use(strip, decision.use)
        variant = variant_named(session, use, decision.variant) if use is not None else None
        return with_uses(strip, {use.id: variant.applied(use)}) if use is not None and variant is not None else strip

    def price(self, terms: Terms, decision: Decision) -> Price:
        weights = terms.weights
        use = named_use(terms.session.strip(decision.strip), decision.use)
        variant = variant_named(terms.session, use, decision.variant) if use is not None else None
        if use is None or variant is None:
            return Price()
        sound = 0.0 if terms.tracking else sound_minutes(null_db(terms, use, variant)) * weights.sound
        kind = kind_of(use, variant)
        once = [(f"{kind}: back", Part(weights.kind, f"to put every {use.label} back from {variant.name}"))]
        if sound > 0:
            once.append((f"{kind}: sound", Part(sound, f"for its sound: {_left(null_db(terms, use, variant))}")))
        return Price((Part(weights.use, "for each that takes it"),), tuple(once))

    def options(self, strip: Strip, asked: Asked) -> Iterator[Option]:
        for use in strip.uses():
            for variant in asked.session.variants:
                if variant.of == use.card_key() and use.enabled:
                    lighter = Decision("lighten", strip.id, use.id, variant=variant.name)
                    title = f"Lighten {use.label}: {variant.name}"
                    yield Option(lighter, title, "another sound until restored", None)

    def words(self, session: Session, decision: Decision) -> str:
        strip = session.strip(decision.strip)
        return f"Lighten {called(named_use(strip, decision.use))} on {strip.name}: {decision.variant}"

    def way_back(self, strip: Strip, decision: Decision) -> str | None:
        use = named_use(strip, decision.use)
        if use is None:
            return None
        voices = f", {use.voices} voices" if use.voices else ""
        return f"Set {use.label} on {strip.name} back: {use.setting.words()}{voices}."


def kind_of(use: PluginUse, variant: Variant) -> str:
    """What is put back by one line: all plugins of one make in one lighter setting."""
    return f"{use.plugin.standard}:{use.plugin.identifier}:{variant.name}"


def null_db(terms: Terms, use: PluginUse, variant: Variant) -> float | None:
    """What a null test of the lighter setting against the full one left (dB); None if it was not made."""
    card = terms.cards.get(variant.applied(use).card_key())
    return card.against(use.card_key()) if card is not None else None


def _left(db: float | None) -> str:
    return "not compared with the full setting yet" if db is None else f"a null test leaves {decibels(db)}"


def variant_named(session: Session, use: PluginUse, name: str | None) -> Variant | None:
    """The session's variant of that name for the card of this use."""
    return next((v for v in session.variants if v.of == use.card_key() and v.name == name), None)
