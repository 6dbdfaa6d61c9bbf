"""Decisions, and the plans that hold them."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Literal

import msgspec

DecisionKind = Literal["live", "off", "freeze", "suspend", "lighten", "disarm", "share", "bounce", "outboard"]
# How settled a track is: what is done is hardly touched again, what is in work is touched again and again.
Standing = Literal["done", "normal", "in work"]
STANDINGS: tuple[Standing, ...] = ("done", "normal", "in work")


class Decision(msgspec.Struct, frozen=True):
    """One thing to do to one strip, or to one plugin on it.

    *live*: stays as it is. *off*: switched off, the whole strip or the plugin `use`. *freeze*: the strip is rendered
    up to the place `through` of its chain (-1: the source alone; None: the whole chain). *suspend*: the strip costs
    nothing while it is silent. *lighten*: the plugin `use` takes the session's `variant` of that name. *disarm*: the
    strip is no longer record-armed. *share*: the plugin `use` and all after it move to the bus `into`, which all strips
    that share with it feed; in the setting of the plugin `like`, if one is named. *bounce*: the strip is printed to new
    audio, for good, up to the place `through`, or only from `start` to `end` (seconds), which goes to a track of its
    own; a bus with all that feeds only it. *outboard*: the plugin `use` runs on a device outside the computer.

    A freeze may have its plugins `unloaded`: they give their memory back, and load again when it is undone. The source
    of a bounced track is switched off, or stays `muted`, and then costs what it did.
    """

    kind: DecisionKind
    strip: str
    use: str | None = None
    through: int | None = None
    variant: str | None = None
    into: str | None = None
    start: float | None = None
    end: float | None = None
    like: str | None = None
    unloaded: bool = False
    muted: bool = False

    @property
    def subject(self) -> tuple[str, str | None]:
        """What it is about; a plan holds at most one decision for each subject."""
        return (self.strip, self.use)

    @property
    def stretch(self) -> tuple[float, float] | None:
        """The two seconds between which a bounce prints; None for all there is."""
        return (self.start, self.end) if self.start is not None and self.end is not None else None

    @property
    def step(self) -> tuple[str | None, ...]:
        """What decisions have in common that are one step of a plan: they share one bus, take lighter settings of one
        name, suspend, or switch single plugins off."""
        if self.into is not None:
            return ("share", self.into)
        if self.kind == "lighten":
            return ("lighten", self.variant)
        if self.kind == "suspend" or (self.kind == "off" and self.use is not None):
            return (self.kind,)
        return (self.kind, *self.subject)


class Plan(msgspec.Struct, frozen=True):
    """An ordered set of decisions, at most one for each strip and one for each plugin.

    `pinned` are the ids of strips that a suggestion leaves as they are; `done` and `in_work` those of tracks that are
    hardly, or often, touched again: what freezing them costs goes by it. `put_back` are the lines of the restore list
    that are done, `carried_out` those of decisions that the session's export had carried out when it was taken in.
    """

    decisions: tuple[Decision, ...] = ()
    pinned: tuple[str, ...] = ()
    put_back: tuple[str, ...] = ()
    done: tuple[str, ...] = ()
    in_work: tuple[str, ...] = ()
    carried_out: tuple[str, ...] = ()

    def decide(self, decision: Decision) -> Plan:
        """The plan with this decision in place of the earlier one on the same subject; *live* only removes it."""
        others = tuple(d for d in self.decisions if d.subject != decision.subject)
        made = others if decision.kind == "live" else (*others, decision)
        return msgspec.structs.replace(self, decisions=made)

    def with_all(self, decisions: Iterable[Decision]) -> Plan:
        """The plan with all of these taken, one after the other."""
        made = self
        for decision in decisions:
            made = made.decide(decision)
        return made

    def replaced(self, old: Decision, new: Decision) -> Plan:
        """The plan with one decision in the place of another one about the same."""
        return msgspec.structs.replace(self, decisions=tuple(new if d == old else d for d in self.decisions))

    def without(self, *decisions: Decision) -> Plan:
        """The plan without these decisions."""
        return msgspec.structs.replace(self, decisions=tuple(d for d in self.decisions if d not in decisions))

    def pin(self, strip_ids: Iterable[str], on: bool) -> Plan:
        """The plan with these strips pinned, or let go."""
        ids = set(strip_ids)
        kept = tuple(strip for strip in self.pinned if strip not in ids)
        return msgspec.structs.replace(self, pinned=(*kept, *sorted(ids)) if on else kept)

    def stand(self, strip_ids: Iterable[str], standing: Standing) -> Plan:
        """The plan with these tracks said to be done, as most are, or in work."""
        ids = set(strip_ids)
        done, in_work = (tuple(s for s in each if s not in ids) for each in (self.done, self.in_work))
        if standing == "done":
            done = (*done, *sorted(ids))
        elif standing == "in work":
            in_work = (*in_work, *sorted(ids))
        return msgspec.structs.replace(self, done=done, in_work=in_work)

    def standing(self, strip_id: str) -> Standing:
        """How settled a track is."""
        return "done" if strip_id in self.done else "in work" if strip_id in self.in_work else "normal"

    def steps(self) -> list[tuple[Decision, ...]]:
        """The decisions in their order, those that go together together (see `Decision.step`)."""
        together: dict[tuple[str | None, ...], list[Decision]] = {}
        for decision in self.decisions:
            together.setdefault(decision.step, []).append(decision)
        return [tuple(decisions) for decisions in together.values()]

    def moved(self, step: int, by: int) -> Plan:
        """The plan with one of its steps so many places later (earlier if negative).

        It does the same, but that the first ones get the room of an outboard device. IndexError if there is no such
        step or place.
        """
        steps = self.steps()
        if not (0 <= step < len(steps) and 0 <= step + by < len(steps)):
            raise IndexError(f"the plan has {len(steps)} steps: step {step + 1} cannot move by {by}")
        steps.insert(step + by, steps.pop(step))
        return msgspec.structs.replace(self, decisions=tuple(decision for each in steps for decision in each))

    def for_strip(self, strip_id: str) -> Decision | None:
        """The decision about the strip as a whole, if there is one."""
        return next((d for d in self.decisions if d.subject == (strip_id, None)), None)


class KeptPlan(msgspec.Struct, frozen=True):
    """A plan put by under a name with the buffer size that it is for: one for tracking, one for mixing."""

    name: str
    plan: Plan
    buffer: int
