"""Proves a shared bus: what its tracks sound like together, each with its own plugin, against the one on the bus.

Only a plan's word says that sharing is exact; this is a fact of the session's own audio.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from pathlib import Path

import msgspec

from ..core.decisions.alike import is_late
from ..core.decisions.apply import apply
from ..core.decisions.decision import Plan
from ..core.session.panning import PanLaw
from ..core.session.session import Session, Timing
from ..core.session.strips import Strip
from ..store.audio import AudioError, Sources
from ..store.sounding import Sounding
from .against import Kept, against
from .asked import NOTHING_ASKED, Asked
from .proof import residual_of
from .render import Job, RenderError, Step, ended, own_obstacles
from .rendering import ends_of
from .stage import Feed, Stage, behind_pan, obstacles_on_the_way, ways_of_hosts

TOGETHER = Strip("together", "Together", "bus")


class Check(msgspec.Struct, frozen=True):
    """A bus that a plan makes: its tracks as they are now, and as they would be, each with what it plays. `without` are
    the names of what hears them by sends that leave before it, which they left behind it before."""

    bus: Strip
    members: tuple[Strip, ...]
    after: tuple[Strip, ...]
    sounding: tuple[Sounding, ...]
    rate: int
    buffer: int
    timing: Timing = Timing()
    law: PanLaw = ""
    without: tuple[str, ...] = ()

    @property
    def job(self) -> Job:
        """The same as a job, for lists of what there is to do."""
        samples = round(max((end for each in self.sounding for end in ends_of(each)), default=0.0) * self.rate)
        last = len(self.bus.inserts) - 1
        return Job(self.bus, last, self.bus.inserts, Sounding(), self.rate, self.buffer, samples)

    @property
    def ways(self) -> tuple[Job, Job]:
        """The members through what they meet in, as jobs: now, and by the bus."""
        bus = Stage(self.bus, self.bus.heard_uses(), Sounding(), (Feed(TOGETHER.id, 1.0),))
        job = msgspec.structs.replace(self.job, strip=TOGETHER, through=-1, uses=(), timing=self.timing)
        one, other = (
            msgspec.structs.replace(job, before=each)
            for each in (self.stages(shared=False), (*self.stages(shared=True), bus))
        )
        return one, other

    def stages(self, shared: bool) -> tuple[Stage, ...]:
        """The members, each with where it leads to: as they are now, or to the bus."""
        target = self.bus if shared else TOGETHER
        found = []
        for strip, sounding in zip(self.after if shared else self.members, self.sounding, strict=True):
            feed = behind_pan(strip, sounding, target.id, self.law)
            found.append(Stage(strip, strip.heard_uses(), sounding, (feed,), self.law))
        return tuple(found)


def checks(session: Session, plan: Plan, audio_of: Mapping[str, Sounding], buffer: int) -> list[Check]:
    """The buses that a plan makes, with the tracks that share them."""
    after = apply(session, plan).session
    known = {strip.id: strip for strip in session.strips}
    found = []
    for bus in after.strips:
        if bus.id in known or bus.kind != "bus":
            continue
        # All else that the plan does to its tracks is done in both.
        others = plan.without(*(decision for decision in plan.decisions if decision.into == bus.id))
        before = {strip.id: strip for strip in apply(session, others).session.strips}
        joined = [strip for strip in after.strips if strip.output == bus.id and strip.id in known]
        heard = [strip for strip in joined if strip.enabled and not strip.mute]
        members = tuple(before[strip.id] for strip in heard)
        sounding = tuple(audio_of.get(strip.id, Sounding()) for strip in heard)
        how = (session.rate, buffer, session.timing, session.host.pan_law)
        late = {send.target for strip in heard for send in strip.sends if send.enabled and is_late(strip, send)}
        without = tuple(strip.name for strip in session.strips if strip.id in late)
        found.append(Check(bus, members, tuple(heard), sounding, *how, without=without))
    return found


def obstacles(check: Check) -> list[str]:
    """Why sharing cannot be proven, in sentences; empty if it can."""
    found = []
    for stage in check.stages(shared=False):
        strip = stage.strip
        own = own_obstacles(strip, stage.uses, stage.sounding, check.rate)
        reasons = [*own, *obstacles_on_the_way(stage), *ways_of_hosts(stage)]
        if any(use.sidechain is not None for use in strip.heard_uses()):
            reasons.append("a plugin on it listens to another track")
        found += [f"{strip.name}: {reason}" for reason in reasons]
    return found


def prove(
    check: Check, source: Path, folder: Path, asked: Asked = NOTHING_ASKED
) -> Iterator[Step]:  # fmt: skip
    """Takes the one from the other (see `against`); the last step tells what they differ by, or why that is not known.
    What is to be listened to is written into the folder."""
    target = folder / check.job.file_name("wav")
    sides = [target.with_name(f"{target.stem} {each}.wav") for each in ("before", "after")]
    try:
        with Sources(source) as sources:
            yield from against(*check.ways, check.bus, sources, sources, Kept(residual_of(target), sides), asked)
    except (AudioError, RenderError, OSError) as error:
        yield ended(check.job, error)
