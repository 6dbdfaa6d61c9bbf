"""What a computer with fewer cores can play of a session against its deadlines: what some of those planned would."""

from __future__ import annotations

from collections.abc import Set
from typing import NamedTuple

import numpy as np
from msgspec.structs import replace

from ..block.schedule import Block
from ..session.plugins import PluginUse
from ..session.session import Session
from ..session.strips import Clip, Strip

# Up to so much of their time (work without any waiting) cores may well play all of it.
WHOLE = 0.85


class Part(NamedTuple):
    """The part of a session that so many `cores` of all `threads` play in a block, the fullest of them: the strips
    `ids` of all `total`. The whole block takes `load` (a fraction of the deadline)."""

    ids: frozenset[str]
    cores: int
    threads: int
    total: int
    load: float


def in_part(session: Session, block: Block, deadline: float, cores: int) -> Part | None:
    """The part of a session that so many cores play if its block is computed as planned; None if it is planned for no
    more, or would hardly fill them.

    `session` is the one with its plan, `deadline` in seconds.
    """
    if block.threads <= cores or block.work <= WHOLE * cores * deadline:
        return None
    took = np.bincount(block.core, block.end - block.start, minlength=block.threads)
    fullest = np.argsort(-took, kind="stable")[:cores]
    total = len(session.strips)
    inside = {int(task) % total for task in np.flatnonzero(np.isin(block.core, fullest))}
    ids = frozenset(strip.id for number, strip in enumerate(session.strips) if number in inside)
    return Part(ids, cores, block.threads, total, block.makespan / deadline)


def only(session: Session, ids: Set[str]) -> Session:
    """A session with these strips alone, and a main output, which has nothing to do if it is not among them.

    What led to others leads to the main output. What is fed by none of those that are left plays itself all the time.
    """
    mains = [strip for strip in session.strips if strip.kind == "main"]
    main = mains[0] if mains else Strip("main", "Main", "main")
    there = ids | {main.id}
    kept = [_alone(strip, there, main.id) for strip in session.strips if strip.id in ids]
    if main.id not in ids:
        kept.append(replace(main, inserts=(), instrument=None, sends=()))
    fed = {strip.output for strip in kept} | {send.target for strip in kept for send in strip.sends}
    whole = (Clip(0.0, session.length),)
    strips = [
        strip if strip.kind in ("track", "main") or strip.id in fed else replace(strip, kind="track", clips=whole)
        for strip in kept
    ]
    return replace(session, strips=tuple(strips))


def _alone(strip: Strip, there: Set[str], main: str) -> Strip:
    """A strip that leads only to what is there, and listens only to that."""

    def alone(use: PluginUse) -> PluginUse:
        return replace(use, sidechain=None) if use.sidechain is not None and use.sidechain not in there else use

    leads = strip.output if strip.output in there or strip.id == main else main
    return replace(
        strip, output=leads, sends=tuple(send for send in strip.sends if send.target in there),
        parent=strip.parent if strip.parent in there else None,
        part_of=strip.part_of if strip.part_of in there else None, inserts=tuple(map(alone, strip.inserts)),
        instrument=alone(strip.instrument) if strip.instrument is not None else None,
    )  # fmt: skip
