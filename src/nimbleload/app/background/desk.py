"""What lies on the desk: the document, its history, and everything computed from it, kept up to date off the window's
thread."""

from __future__ import annotations

import logging
from collections.abc import Callable, Sequence
from concurrent.futures import CancelledError, ThreadPoolExecutor
from pathlib import Path
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QObject, QTimer, Signal

from ...beside.client import Beside
from ...beside.messages import NotWantedError
from ...core.cards.card import CostCard
from ...core.decisions.decision import DecisionKind, Plan
from ...core.decisions.price import Weights
from ...core.optimise.candidates import wishes_for
from ...core.optimise.steps import Step, Stepped
from ...core.optimise.suggest import Suggestion
from ...core.optimise.weigh import Weighed
from ...core.session.plugins import CardKey
from ...core.session.session import SessionError
from ...core.survey import Instant, Survey, worst_seconds
from ...core.told.outlook import Outlook
from ...core.units import told_by
from ...store.dawproject import ImportReport
from ...store.session_file import Saved
from ..document.document import Document
from .jobs import Jobs, guarded
from .open_document import OpenDocument, document_of
from .to_window_thread import ToWindowThread

log = logging.getLogger(__name__)
T = TypeVar("T")

WEIGH_AFTER_MS = 40
LOOK_AFTER_MS = 250

# What is told in place of an answer that has come too late.
CHANGED = "The session has changed while this was worked out: ask again."


class Desk(OpenDocument):
    """Holds the document and computes from it. Signals come on the window's thread.

    `opened`: another session; `recomputed`: loads have changed; `moved`: the moment has; `weighed`: the options of the
    selection are known; `looked_ahead`: peaks and what would help are; `stepped`: the steps of the plan;
    `suggested`: a plan was found, or is not to be had; `saved_changed`: whether there is something to save. `failed`:
    the load cannot be computed; `not_suggested`: no plan could be looked for; `troubled`: something else went wrong.
    """

    opened = Signal()
    recomputed = Signal()
    moved = Signal()
    looked_ahead = Signal()
    stepped = Signal()
    suggested = Signal(object)
    compared = Signal(object)
    selected = Signal()
    weighed = Signal(list)
    failed = Signal(str)
    not_suggested = Signal(str)
    troubled = Signal(str)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.survey: Survey | None = None
        self.instant: Instant | None = None
        # What was found last, and of what: it counts only while that is shown.
        self._outlook: tuple[Instant, Outlook] | None = None
        self._steps: tuple[Survey, Stepped] | None = None
        self._band: tuple[Survey, NDArray[np.float64]] | None = None
        self.selection: tuple[str, ...] = ()
        self._second: float | None = None
        self._to_window = ToWindowThread(self)
        self.beside = Beside()
        self._work = ThreadPoolExecutor(1, "load")
        self.jobs = Jobs(self)
        self.jobs.failed.connect(self.troubled)
        self._look_work = ThreadPoolExecutor(1, "peaks")
        # How often was asked for a survey, for weighing and for another moment; and what of it has been told.
        self._asked = 0
        self._weighing = 0
        self._moving = 0
        self._told = (0, 0, 0)
        # First paint, then weigh.
        self._weigh_soon = QTimer(self)
        self._weigh_soon.setSingleShot(True)
        self._weigh_soon.setInterval(WEIGH_AFTER_MS)
        self._weigh_soon.timeout.connect(self._start_weighing)
        self._looking = 0
        self._is_closed = False
        self.stretch: tuple[float, float] | None = None
        self._peeked: tuple[Survey, Instant] | None = None
        self.wants_peek = False
        self._look_soon = QTimer(self)
        self._look_soon.setSingleShot(True)
        self._look_soon.setInterval(LOOK_AFTER_MS)
        self._look_soon.timeout.connect(self._start_looking)

    # The document and its history

    def open(
        self,
        saved: Saved,
        cards: dict[CardKey, CostCard],
        path: Path | None = None,
        report: ImportReport | None = None,
        unsaved: bool = False,
    ) -> None:
        """Puts another session on the desk; its history starts anew."""
        self.history.begin(document_of(saved), is_clean=not unsaved)
        self.cards, self.path, self.report = cards, path, report
        self.survey, self.instant, self._second, self.selection = None, None, None, ()
        self._peeked, self.wants_peek = None, False
        self._outlook, self._band, self._steps = None, None, None
        self.opened.emit()
        self.selected.emit()
        self.saved_changed.emit()
        self._look_work.submit(self._guarded, self.beside.prepare, "the process beside could not be started")
        self._recompute()

    def _changed(self) -> None:
        if self.document is not None:
            there = {strip.id for strip in self.document.session.strips}
            kept = tuple(each for each in self.selection if each in there)
            if kept != self.selection:
                self.selection = kept
                self.selected.emit()
        self.saved_changed.emit()
        self._recompute()

    @property
    def is_idle(self) -> bool:
        """Whether everything that was asked for has been computed and told."""
        return self._told == (self._asked, self._weighing, self._moving)

    def select(self, strip_ids: Sequence[str]) -> None:
        if tuple(strip_ids) != self.selection:
            self.selection = tuple(strip_ids)
            self.selected.emit()
            self._weigh()

    def choose_stretch(self, stretch: tuple[float, float] | None) -> None:
        """A stretch of the piece that decisions may be about, or none."""
        self.stretch = stretch
        self._weigh()

    def move_to(self, second: float | None) -> None:
        """Chooses a moment by its second; None stands for the worst one."""
        self._second = second
        if self.survey is None:
            return
        self._moving += 1
        of, asked = self.survey, self._moving

        def work() -> None:
            # Where the moment is dragged only the last place counts.
            if asked == self._moving:
                self._to_window.post(self._take_moved, asked, of, self.beside.instant(of, second))

        self._work.submit(self._guarded, work, "the moment could not be computed")

    def _take_moved(self, asked: int, of: Survey, found: Instant) -> None:
        if asked != self._moving:
            return
        self._told = (*self._told[:2], asked)
        if of is self.survey:
            self.instant = found
            self._look()
            self.moved.emit()
            self._weigh()

    @property
    def _chosen(self) -> float:
        """The second that is shown, or will be as soon as it is computed."""
        assert self.instant is not None
        if self._second is None or self._told[2] == self._moving:
            return self.instant.second
        return self._second

    def step_worst(self, step: int) -> None:
        """The next (1) or previous (−1) of the worst moments."""
        if self.survey is None or self.instant is None:
            return
        worst, moments = worst_seconds(self.survey.after), self.survey.planned.moments
        here = [k for k, s in enumerate(worst) if moments.at(s) == moments.at(self._chosen)]
        self.move_to(worst[(here[0] + step) % len(worst)] if here else worst[0])

    def step_moment(self, step: int) -> None:
        """The next (1) or previous (−1) moment of the piece."""
        if self.survey is None or self.instant is None:
            return
        times = self.survey.after.times
        moment = min(max(self.survey.planned.moments.at(self._chosen) + step, 0), len(times) - 2)
        self.move_to(float(times[moment : moment + 2].mean()))

    def refresh(self) -> None:
        """Computes everything anew from the cards as they are."""
        self._recompute()

    def show_again(self) -> None:
        """Has everything shown again as it is known: other colours or another text size change no figure."""
        if self.survey is None or self.instant is None:
            self.refresh()
            return
        self.recomputed.emit()
        self._weigh()

    # Computing, on a thread of its own

    def _recompute(self) -> None:
        if self.document is None or self._is_closed:
            return
        self._asked += 1
        asked, document, cards, second = self._asked, self.document, self.cards, self._second

        def work() -> None:
            if asked != self._asked:
                return  # something newer has been asked for meanwhile
            try:
                found = self.beside.survey(*document[:2], cards, document.machine, document.buffer, second)
                self._to_window.post(self._take, asked, found)
            except CancelledError:
                log.info("closed before the load was computed")
            except SessionError as error:
                self._to_window.post(self._take, asked, str(error))
            except Exception as error:
                log.exception("computing the load failed")
                self._to_window.post(
                    self._take, asked, f"The load could not be computed: {told_by(error)}. The session is unchanged."
                )

        self._work.submit(work)

    def _take(self, asked: int, result: object) -> None:
        if asked != self._asked:
            return
        self._peeked, self.wants_peek = None, False
        self._told = (asked, *self._told[1:])
        if isinstance(result, str):
            self.failed.emit(result)
            return
        assert isinstance(result, tuple)
        self.survey, self.instant = result
        self._look()
        self.recomputed.emit()
        self._weigh()
        if self._second is not None and self.instant is not None and self.instant.second != self._second:
            self.move_to(self._second)  # it was moved while this was computed

    def _weigh(self) -> None:
        """Asks what every option would save for the chosen strips, once the page has been painted."""
        self._weighing += 1
        self._weigh_soon.start()

    def _start_weighing(self) -> None:
        if self.survey is None or self.instant is None or self.document is None:
            return
        asked, of, at, chosen, stretch = self._weighing, self.survey, self.instant, self.selection, self.stretch

        def work() -> None:
            if asked == self._weighing:
                self._to_window.post(self._take_weighed, asked, self.beside.weigh(of, at, chosen, stretch))

        self._work.submit(self._guarded, work, "what decisions would save could not be computed")

    def _take_weighed(self, asked: int, result: list[Weighed]) -> None:
        if asked == self._weighing:
            self._told = (self._told[0], asked, self._told[2])
            self.weighed.emit(result)

    # Peaks and what would help: slower, and so a little later

    def _look(self) -> None:
        """What was known of another moment or plan no longer counts; asks anew, once all else has been painted."""
        if self._is_closed:
            return
        self._looking += 1
        self._outlook = None
        self._look_soon.start()

    @property
    def outlook(self) -> Outlook | None:
        """Peaks and what would help at the moment that is shown; None until they are known."""
        return self._outlook[1] if self._outlook is not None and self._outlook[0] is self.instant else None

    @property
    def plan_steps(self) -> Stepped | None:
        """The steps of the plan that is shown, and the block that they are for; None until they are known."""
        return self._steps[1] if self._steps is not None and self._steps[0] is self.survey else None

    @property
    def steps(self) -> list[Step] | None:
        """The steps alone."""
        return self.plan_steps.steps if self.plan_steps is not None else None

    @property
    def band(self) -> NDArray[np.float64] | None:
        """What one block in a hundred reaches through the piece as it is shown; None until that is known."""
        return self._band[1] if self._band is not None and self._band[0] is self.survey else None

    def _start_looking(self) -> None:
        of, at, asked = self.survey, self.instant, self._looking
        if of is None or at is None or self._is_closed:
            return
        wants_steps, wants_band = self.steps is None, self.band is None

        def work() -> None:
            try:
                if wants_steps and asked == self._looking:
                    self._to_window.post(self._take_steps, of, self.beside.last_steps(of))
                if asked == self._looking:
                    self._to_window.post(self._take_outlook, asked, at, self.beside.outlook(of, at))
                if wants_band and asked == self._looking:
                    self._to_window.post(self._take_band, of, self.beside.band(of))
            except NotWantedError:
                # Of what is shown all the same, if another survey was asked for beside it (of a rehearsal's strips).
                self._to_window.post(self._look_again, asked)

        self._look_work.submit(self._guarded, work, "what would help could not be computed")

    def _look_again(self, asked: int) -> None:
        if asked == self._looking:
            self._look_soon.start()

    def _guarded(self, work: Callable[[], None], failure: str, tell: Callable[[str], object] | None = None) -> None:
        """Runs work of another thread; what goes wrong ends in the log and in a sentence. Closing ends it."""
        told = tell or self.troubled.emit
        unchanged = "The session and the plan are unchanged."
        guarded(work, failure, unchanged, lambda sentence: self._to_window.post(told, sentence))

    def _take_outlook(self, asked: int, at: Instant, found: Outlook) -> None:
        if asked == self._looking:
            self._outlook = at, found
            self.looked_ahead.emit()

    def _take_band(self, of: Survey, loads: NDArray[np.float64]) -> None:
        self._band = of, loads
        if of is self.survey:
            self.looked_ahead.emit()

    def _take_steps(self, of: Survey, found: Stepped) -> None:
        self._steps = of, found
        if of is self.survey:
            self.stepped.emit()

    def suggest(self, weights: Weights, kinds: Sequence[DecisionKind], disk: float | None = None) -> None:
        """Looks for the plan that gives up least, in addition to what has been decided by hand.

        `disk` is how many bytes its freezes may take, None for any.
        """
        self.peek(False)
        of = self.survey
        if of is None or self.document is None:
            return
        document = self.document
        wishes = wishes_for(of, weights, kinds, disk)

        def work() -> None:
            self._to_window.post(self._take_suggestion, (self.beside.suggest(of, wishes), document))

        self._look_work.submit(self._guarded, work, "no plan could be suggested", self.not_suggested.emit)

    def compare(self, weights: Weights, kinds: Sequence[DecisionKind], disk: float | None = None) -> None:
        """Looks for three plans; `compared` brings them by name."""
        self.peek(False)
        of = self.survey
        if of is None:
            return
        wishes = wishes_for(of, weights, kinds, disk)

        def work() -> None:
            take = self._if_unchanged(of, self.compared.emit, self.not_suggested.emit)
            self._to_window.post(take, self.beside.alternatives(of, wishes))

        self._look_work.submit(self._guarded, work, "the plans could not be compared", self.not_suggested.emit)

    @property
    def is_peeking(self) -> bool:
        """Whether the session is shown without its plan just now."""
        return self._peeked is not None

    def peek(self, on: bool) -> None:
        """Shows the session without its plan for as long as it is on; the plan itself stays."""
        of, at, document, cards = self.survey, self.instant, self.document, self.cards
        if of is None or at is None or document is None:
            return
        if not on:
            self.wants_peek = False
            if self._peeked is not None:
                second = self._chosen
                self.survey, self.instant = self._peeked
                self._peeked = None
                if second != self.instant.second:
                    self.move_to(second)
                if self.outlook is None or self.steps is None or self.band is None:
                    self._look()
                self.recomputed.emit()
        elif of.plan.decisions and self._peeked is None:
            self.wants_peek = True

            def work() -> None:
                if self.wants_peek:
                    machine, buffer = document.machine, document.buffer
                    bare = self.beside.survey(document.session, Plan(), cards, machine, buffer, at.second)
                    self._to_window.post(self._take_peek, (of, at), bare)

            self._work.submit(self._guarded, work, "the session without its plan could not be computed")

    def toggle_peek(self) -> None:
        """Shows the session without its plan, or with it again."""
        self.peek(not self.wants_peek)

    def _take_peek(self, planned: tuple[Survey, Instant], bare: tuple[Survey, Instant]) -> None:
        if self.wants_peek and self._peeked is None and self.survey is planned[0] and self.instant is planned[1]:
            self._peeked = planned
            self.survey, self.instant = bare
            self.recomputed.emit()

    def ask(
        self, question: Callable[[Beside, Survey, Instant], T], then: Callable[[T], object], failure: str
    ) -> None:
        """Asks the process beside the window of what is shown; `then` gets the answer. `failure` begins the sentence
        that `troubled` brings if there is none."""
        of, at = self.survey, self.instant
        if of is not None and at is not None:
            self.jobs.run(
                lambda: question(self.beside, of, at), self._if_unchanged(of, then, self.troubled.emit), failure
            )  # fmt: skip

    def _if_unchanged(
        self, of: Survey, then: Callable[[T], object], tell: Callable[[str], object]
    ) -> Callable[[T], None]:
        """Takes an answer if the session that it was asked of is still there as it was: it may speak of tracks that
        are gone. Else that is told."""

        def take(found: T) -> None:
            if self.document is not None and self.document.session is of.session:
                then(found)
            else:
                tell(CHANGED)

        return take

    def _take_suggestion(self, result: tuple[Suggestion, Document]) -> None:
        found, document = result
        # What has been decided meanwhile goes before a suggestion that does not know of it.
        if self.document is document:
            self.change("suggested plan", document._replace(plan=found.plan))
        self.suggested.emit(found)

    def close(self) -> None:
        """Ends the threads; nothing is computed after."""
        self._is_closed = True
        self._to_window.close()
        self._looking += 1
        self._look_soon.stop()
        self.beside.close()
        self.jobs.close()
        self._look_work.shutdown(wait=True, cancel_futures=True)
        self._asked += 1
        self._weighing += 1
        self._moving += 1
        self._weigh_soon.stop()
        self._work.shutdown(wait=True, cancel_futures=True)
