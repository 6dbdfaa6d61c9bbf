"""The document: one snapshot of what the user works on, as undo goes back to it. Nothing of Qt is in it."""

from __future__ import annotations

from typing import NamedTuple

from ...core.decisions.decision import KeptPlan, Plan
from ...core.session.computer import Machine
from ...core.session.session import Session


class Document(NamedTuple):
    """One snapshot of what the user works on. Undo goes back to the one before."""

    session: Session
    plan: Plan
    machine: Machine
    buffer: int
    kept: tuple[KeptPlan, ...] = ()


class History:
    """Snapshots of a document, each with the name of the step that led away from it; and which one is saved."""

    def __init__(self) -> None:
        self._before: list[tuple[str, Document]] = []
        self._after: list[tuple[str, Document]] = []
        self._clean: Document | None = None
        self._kind = ""
        self.now: Document | None = None

    def begin(self, document: Document, is_clean: bool) -> None:
        """Another document, without a past."""
        self.__init__()  # type: ignore[misc]
        self.now, self._clean = document, document if is_clean else None

    def change(self, what: str, document: Document, kind: str = "") -> None:
        """A new snapshot. Changes of the same `kind` in a row, with nothing in between, are one step."""
        assert self.now is not None
        self._after.clear()
        if not (kind and kind == self._kind and self._before):
            self._before.append((what, self.now))
            self._kind, self.now = kind, document
            return
        _, first = self._before.pop()
        if document == first:
            # There and back again is no step at all.
            self._kind, self.now = "", first
            return
        self._before.append((what, first))
        self.now = document

    @property
    def is_clean(self) -> bool:
        """Whether what is now is saved."""
        return self.now is None or self.now is self._clean

    def mark_clean(self) -> None:
        self._clean, self._kind = self.now, ""

    @property
    def undo_step(self) -> str | None:
        return self._before[-1][0] if self._before else None

    @property
    def redo_step(self) -> str | None:
        return self._after[-1][0] if self._after else None

    def undo(self) -> bool:
        """Goes back a step; whether there was one."""
        return self._go(self._before, self._after)

    def redo(self) -> bool:
        """Goes forward again; whether there was a step."""
        return self._go(self._after, self._before)

    def _go(self, source: list[tuple[str, Document]], target: list[tuple[str, Document]]) -> bool:
        if not source or self.now is None:
            return False
        what, document = source.pop()
        target.append((what, self.now))
        self.now, self._kind = document, ""
        return True
