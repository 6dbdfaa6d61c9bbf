"""The document: one snapshot of what the user works on, as undo goes back to it. Nothing of Qt is in it."""

from __future__ import annotations

from typing import NamedTuple

from ..core.decisions.decision import KeptPlan, Plan
from ..core.session.computer import Machine
from ..core.session.session import Session


class Document(NamedTuple):
    """One snapshot of what the user works on. Undo goes back to the one before."""

    session: Session
    plan: Plan
    machine: Machine
    buffer: int
    kept: tuple[KeptPlan, ...] = ()
