"""What every kind of decision can say of itself; one file a kind fills it in."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

import msgspec

from ..cards.card import Cards
from ..session.plugins import PluginUse
from ..session.session import Session
from ..session.strips import Strip
from ..units import all_of
from .alike import Group
from .decision import Decision, Plan
from .price import Price, Terms


class Option(NamedTuple):
    """One possible decision: `gives_up` says what is given up; `reason` says why it is impossible, or is None.

    `others` are decisions about other strips that are taken with it.
    """

    decision: Decision
    title: str
    gives_up: str
    reason: str | None
    others: tuple[Decision, ...] = ()

    def decisions(self) -> tuple[Decision, ...]:
        return (self.decision, *self.others)


class Work(NamedTuple):
    """A session while a plan is applied to it: strips by id as they are so far, new ones, and what to mind."""

    session: Session
    plan: Plan
    changed: dict[str, Strip]
    added: list[Strip]
    warnings: list[str]


class Asked(NamedTuple):
    """What options are asked for: the session, groups that could share, and a stretch that was drawn (seconds)."""

    session: Session
    sharing: Sequence[Group] = ()
    stretch: tuple[float, float] | None = None


class Kind:
    """One kind of decision. Strips that are passed in are those of the session without the plan, unless said."""

    def obstacle(self, strip: Strip, decision: Decision, session: Session) -> str | None:
        """Why this decision cannot be taken on this strip, as a sentence; None if it can."""
        return None

    def carry_out(self, work: Work, decisions: Sequence[Decision]) -> None:
        """Changes the strips of all decisions of this kind."""
        for decision in decisions:
            work.changed[decision.strip] = self.change(work.changed[decision.strip], decision, work.session)

    def change(self, strip: Strip, decision: Decision, session: Session) -> Strip:
        """The strip with the decision carried out; kinds that reach beyond one strip carry out instead."""
        return strip

    def price(self, terms: Terms, decision: Decision) -> Price:
        """What it costs, in minutes."""
        return Price()

    def options(self, strip: Strip, asked: Asked) -> Iterator[Option]:
        """The decisions of this kind that could be about a strip, possible or not."""
        return iter(())

    def traps(self, decision: Decision, strip: Strip, work: Work) -> Iterator[str]:
        """What to mind of it, whatever was measured, without the strip's name."""
        return iter(())

    def tail_traps(self, strip: Strip, session: Session, cards: Cards) -> Iterator[str]:
        """What to mind of the tail, as measured, without the strip's name."""
        return iter(())

    def words(self, session: Session, decision: Decision) -> str:
        """What it does to which track: "Freeze Cello"."""
        raise NotImplementedError

    def way_back(self, strip: Strip, decision: Decision) -> str | None:
        """What to put back before the final render, as a sentence; None if there is nothing."""
        return None


def named_use(strip: Strip, use_id: str | None) -> PluginUse | None:
    """The plugin of a strip with this id; None if there is none, or no id."""
    return next((use for use in strip.uses() if use.id == use_id), None)


def called(use: PluginUse | None) -> str:
    """What a decision calls its plugin, which may be gone."""
    return use.label if use is not None else "a plugin"


def chain_called(uses: Sequence[PluginUse]) -> str:
    """What a decision calls plugins in a row, which may be gone: "Gate, EQ and Reverb"."""
    return all_of([use.label for use in uses]) if uses else called(None)


def placed(use: PluginUse | None, strip: Strip) -> str:
    """A decision's plugin with its strip, for the restore list; the strip alone where the plugin is gone."""
    return f"{use.label} on {strip.name}" if use is not None else strip.name


def with_uses(strip: Strip, replaced: dict[str, PluginUse]) -> Strip:
    """A strip with some of its plugins, by id, in another form."""
    instrument = replaced.get(strip.instrument.id, strip.instrument) if strip.instrument is not None else None
    inserts = tuple(replaced.get(use.id, use) for use in strip.inserts)
    return msgspec.structs.replace(strip, instrument=instrument, inserts=inserts)


def bypassed(use: PluginUse) -> PluginUse:
    """A plugin that is switched off."""
    return msgspec.structs.replace(use, enabled=False)


def unloaded(use: PluginUse) -> PluginUse:
    """A plugin that gives its memory back."""
    return msgspec.structs.replace(use, loaded=False)
