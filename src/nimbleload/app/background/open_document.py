"""What is open in the window: the document with its history and its cards, and every change to it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

import msgspec
from PySide6.QtCore import QObject, Signal

from ...core.cards.card import Cards, CostCard
from ...core.decisions.after_edit import after_edit
from ...core.decisions.decision import Decision, KeptPlan, Plan, Standing
from ...core.load.rehearsal import Prediction, Rehearsal, learned
from ...core.session.chain_edits import place_fader
from ...core.session.computer import Device, Host, Machine
from ...core.session.session import Session
from ...core.told.cores import cores_words
from ...store.dawproject import ImportReport
from ...store.renewing import Renewal
from ...store.session_file import Saved
from ...store.this_computer import from_here
from ..document.document import Document, History


def document_of(saved: Saved) -> Document:
    """What a session file holds as a document, on this computer."""
    return Document(saved.session, saved.plan, from_here(saved.machine), saved.buffer, saved.kept)


class OpenDocument(QObject):
    """Holds the document. `saved_changed`: whether there is something to save.

    Every change is a step of the history, and calls `_changed`, from which follows all that is computed.
    """

    saved_changed = Signal()

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.history = History()
        self.cards: Cards = {}
        self.path: Path | None = None
        self.report: ImportReport | None = None

    def _changed(self) -> None:
        """Another document is in force."""
        self.saved_changed.emit()

    def saved(self) -> Saved | None:
        """The document as it goes into a session file."""
        if self.document is None:
            return None
        session, plan, machine, buffer, kept = self.document
        wanted = session.cards_needed()
        return Saved(session, plan, tuple(c for k, c in self.cards.items() if k in wanted), machine, buffer, kept)

    def take_again(self, path: Path, saved: Saved, cards: Cards) -> None:
        """Takes what the file of the open session holds now, as a step of the history."""
        self.take_cards(cards)
        self.change("what the file holds now", document_of(saved))
        self.mark_saved(path)

    def take_newer(self, made: Renewal) -> None:
        """Takes a newer export of the session's mix, with what goes on of the plan, as a step of the history."""
        self.report = made.report
        self._change("the newer export", session=made.saved.session, plan=made.saved.plan, kept=made.saved.kept)

    def mark_saved(self, path: Path) -> None:
        self.path = path
        self.history.mark_clean()
        self.saved_changed.emit()

    @property
    def document(self) -> Document | None:
        """What is on the desk; None if nothing is."""
        return self.history.now

    @property
    def has_unsaved(self) -> bool:
        return not self.history.is_clean

    def change(self, what: str, document: Document, kind: str = "") -> None:
        """Takes a new snapshot; `what` names the step for undo. Those of one `kind` in a row are one step."""
        if self.document is None or document == self.document:
            return
        self.history.change(what, document, kind)
        self._changed()

    def undo(self) -> None:
        if self.history.undo():
            self._changed()

    def redo(self) -> None:
        if self.history.redo():
            self._changed()

    def choose_buffer(self, buffer: int) -> None:
        if self.document is not None:
            self.change(f"buffer {buffer}", self.document._replace(buffer=buffer), "buffer")

    def choose_machine(self, machine: Machine) -> None:
        self._change(cores_words(machine), machine=machine)

    def choose_rate(self, rate: int) -> None:
        """Another sample rate; what was not measured at it is scaled from the nearest one, and counts as such."""
        self._change_session(f"{rate / 1000:g} kHz", rate=rate)

    def edit(self, what: str, session: Session) -> None:
        """Takes an edited session; the plan goes on for what is still there."""
        if self.document is not None and session != self.document.session:
            plan = after_edit(self.document.plan, self.document.session, session)
            self.change(what, self.document._replace(session=session, plan=plan))

    def choose_limit(self, limit: float) -> None:
        """The load to stay under, as a fraction of the deadline. Several changes in a row are one step."""
        if self.document is not None and limit != self.document.session.limit:
            session = msgspec.structs.replace(self.document.session, limit=limit)
            self.change(f"limit {limit:.0%}".replace("%", " %"), self.document._replace(session=session), "limit")

    def choose_host(self, host: Host, device: Device) -> None:
        self._change_session("host and device", host=host, device=device)

    def _change(self, what: str, **fields: Any) -> None:
        if self.document is not None:
            self.change(what, self.document._replace(**fields))

    def _change_plan(self, what: str, made: Callable[[Plan], Plan]) -> None:
        if self.document is not None:
            self._change(what, plan=made(self.document.plan))

    def _change_session(self, what: str, **fields: Any) -> None:
        if self.document is not None:
            self.edit(what, msgspec.structs.replace(self.document.session, **fields))

    def decide(self, what: str, decisions: Sequence[Decision]) -> None:
        """Takes decisions into the plan, as one step."""
        self._change_plan(what, lambda plan: plan.with_all(decisions))

    def place_fader(self, strip_id: str, after: int) -> None:
        """So many of the last inserts of a strip come after its fader."""
        if self.document is not None:
            self.edit("place of the fader", place_fader(self.document.session, strip_id, after))

    def move_step(self, step: int, by: int) -> None:
        """Has a step of the plan come so many places later."""
        self._change_plan("order of steps", lambda plan: plan.moved(step, by))

    def take_card(self, card: CostCard) -> None:
        """A cost card came in or has grown; loads follow when `refresh` is called."""
        self.take_cards({card.key: card})

    def take_cards(self, cards: Cards) -> None:
        """The same for many at once."""
        self.cards = {**self.cards, **cards}

    def keep_plan(self, name: str) -> None:
        """Puts the plan by under a name, with the buffer size; one of the same name gives way."""
        if self.document is not None:
            others = tuple(kept for kept in self.document.kept if kept.name != name)
            made = KeptPlan(name, self.document.plan, self.document.buffer)
            self.change(f"keep the plan {name}", self.document._replace(kept=(*others, made)))

    def use_plan(self, kept: KeptPlan) -> None:
        """Takes a plan that was put by, and its buffer size."""
        self._change(f"plan {kept.name}", plan=kept.plan, buffer=kept.buffer)

    def forget_plan(self, kept: KeptPlan) -> None:
        """Lets go of a plan that was put by."""
        if self.document is not None:
            others = tuple(each for each in self.document.kept if each != kept)
            self.change(f"forget the plan {kept.name}", self.document._replace(kept=others))

    def tick(self, lines: Sequence[str]) -> None:
        """Notes which lines of the restore list are done."""
        if self.document is not None:
            plan = msgspec.structs.replace(self.document.plan, put_back=tuple(lines))
            self._change("restore list", plan=plan)

    def clear_plan(self) -> None:
        """Takes all decisions back; pinned tracks stay pinned."""
        self._change_plan("take back all decisions", lambda plan: plan.without(*plan.decisions))

    def stand(self, strip_ids: Sequence[str], standing: Standing) -> None:
        """Says of these tracks that they are done, as most are, or in work: what freezing them costs goes by it."""
        self._change_plan(f"tracks {standing}", lambda plan: plan.stand(strip_ids, standing))

    def pin(self, strip_ids: Sequence[str], on: bool) -> None:
        """Pins strips, so that a suggestion leaves them alone, or lets them go."""
        if strip_ids:
            self._change_plan("pin" if on else "let go", lambda plan: plan.pin(strip_ids, on))

    def learn(self, predicted: Prediction, of: Rehearsal) -> None:
        """Takes what a rehearsal has taught into the prediction."""
        if self.document is not None:
            session = self.document.session
            host = learned(session, predicted, of)
            after = msgspec.structs.replace(session, host=host)
            self.change("what the rehearsal taught", self.document._replace(session=after))
