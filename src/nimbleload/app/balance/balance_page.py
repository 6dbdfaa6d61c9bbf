"""Balance: what is wrong, at which buffer, on which tracks and cores, when in the piece, and what it would take."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QFrame, QHBoxLayout, QPushButton, QSplitter, QStackedWidget, QVBoxLayout, QWidget

from ...core.computer.ceiling import Ceiling, by_buffer
from ...core.decisions.decision import Decision
from ...core.decisions.price import Weights
from ...core.load.load_map import LoadMap
from ...core.load.ranking import Stretch, stretch_load
from ...core.optimise.suggest import Suggestion
from ...core.optimise.weigh import Weighed
from ...core.survey import Survey
from ...core.told.basis import basis_words
from ...core.told.lasting import in_the_end_words
from ...core.told.verdict import Verdict, verdict
from ...core.told.versions import against_held
from ...core.units import as_sentence, clock, percent
from ..background.desk import Desk
from ..background.turns import Turns
from ..decide.option_list import OptionList
from ..decide.plan_drawer import PlanDrawer
from ..look.elided import Elided
from ..look.panels import headed
from ..look.sentence import COMPUTING, NOT_COMPUTED, Sentence
from ..look.words import Words
from .block_view import BlockView
from .buffer_row import BufferRow
from .timeline_view import TimelineView
from .track_list import TrackList

KINDS = ("mean", "typical", "bad", "worst")


class Panel(QFrame):
    """A picture under a title, with a quiet remark at the right."""

    def __init__(self, title: str, inside: QWidget, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setProperty("role", "panel")
        self.title, self.remark = Elided(title), Words()
        self.title.setProperty("role", "title")
        self.remark.setProperty("role", "quiet")
        top = QHBoxLayout()
        top.addWidget(self.title, 1)
        top.addWidget(self.remark)
        column = QVBoxLayout(self)
        column.setContentsMargins(10, 7, 10, 6)
        column.setSpacing(3)
        self.top = top
        column.addLayout(top)
        column.addWidget(inside, 1)


def _about(of: Survey) -> tuple[object, ...]:
    """What a suggestion is about: with any other of these it says nothing."""
    return of.session, of.buffer, of.machine


class BalancePage(QWidget):
    """The page. `place_wanted` asks for another place, by its name."""

    place_wanted = Signal(str)

    def __init__(self, desk: Desk, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._desk = desk
        self.sentence = Sentence(lines=3)
        self.buffers = BufferRow()
        self._ceilings: tuple[Ceiling, ...] = ()
        self._slower = 1.0
        self.tracks = TrackList()
        self.block = BlockView()
        self.options, self.drawer = OptionList(), PlanDrawer()
        self.right = QStackedWidget()
        self.right.addWidget(self.drawer)
        self.right.addWidget(self.options)
        self.timeline = TimelineView()
        # What was found last, and about what.
        self._suggestion: tuple[tuple[object, ...], Suggestion] | None = None
        self._wanted: tuple[Weights, list, float | None] | None = None  # asked for before there was a load
        self._turns = Turns(self)
        # The load of a version of this session that later ones are compared with.
        self.held: LoadMap | None = None
        self._updated = 0
        self._block_panel = Panel("One block", self.block)
        self._timeline_panel = Panel("Load through the piece", self.timeline)
        self.kind = "mean"
        self.kinds = {kind: QPushButton(kind) for kind in KINDS}
        for button in self.kinds.values():
            button.setProperty("role", "word")
            button.setCheckable(True)
            self._block_panel.top.addWidget(button)
        self.kinds[self.kind].setChecked(True)
        self._lay_out()
        self._connect()

    def heightForWidth(self, width: int) -> int:
        """The least it can do with: whoever scrolls it asks, and would else give it all that it would like."""
        layout = self.layout()
        return layout.minimumHeightForWidth(width) if layout is not None else -1

    def _lay_out(self) -> None:
        middle = QSplitter(Qt.Orientation.Horizontal)
        for part, share in ((self.tracks, 42), (self._block_panel, 34), (self.right, 24)):
            middle.addWidget(part)
            middle.setStretchFactor(middle.count() - 1, share)
        middle.setChildrenCollapsible(False)
        middle.setSizes([470, 420, 290])
        self.middle = middle
        halves = QSplitter(Qt.Orientation.Vertical)
        halves.addWidget(middle)
        halves.addWidget(self._timeline_panel)
        halves.setStretchFactor(0, 3)
        halves.setStretchFactor(1, 1)
        halves.setChildrenCollapsible(False)
        halves.setSizes([380, 200])
        self.halves = halves
        column = headed(self, self.sentence)
        column.addWidget(self.buffers)
        column.addWidget(halves, 1)

    def _connect(self) -> None:
        desk = self._desk
        self.sentence.pressed.connect(self._next_step)
        self.buffers.chosen.connect(desk.choose_buffer)
        self.tracks.chosen.connect(desk.select)
        self.block.chosen.connect(self.tracks.choose)
        self.timeline.moved.connect(desk.move_to)
        self.timeline.stepped.connect(desk.step_moment)
        self.timeline.stretched.connect(self._show_stretch)
        self.options.decided.connect(desk.decide)
        self.options.fader_set.connect(desk.place_fader)
        self.options.left.connect(self.tracks.clear_choice)
        desk.opened.connect(self._show_opening)
        desk.recomputed.connect(self._show_survey)
        desk.moved.connect(self._show_instant)
        desk.selected.connect(lambda: self.block.show_selection(desk.selection))
        desk.selected.connect(lambda: self.tracks.show_chosen(desk.selection))
        desk.weighed.connect(self._show_options)
        desk.looked_ahead.connect(self._show_outlook)
        desk.stepped.connect(self.show_plan)
        desk.suggested.connect(self._show_suggestion)
        self.drawer.suggest_wanted.connect(self._suggest)
        self.drawer.removed.connect(self._take_back)
        self.drawer.moved.connect(desk.move_step)
        self.drawer.replaced.connect(self._replace)
        self.drawer.cleared.connect(desk.clear_plan)
        self.drawer.limit_chosen.connect(desk.choose_limit)
        for kind, button in self.kinds.items():
            button.clicked.connect(partial(self.show_kind, kind))
        desk.failed.connect(self._show_failure)
        desk.not_suggested.connect(self._show_no_plan)

    def _show_opening(self) -> None:
        self.timeline.let_go()
        self._suggestion, self._wanted, self.held = None, None, None
        if self._desk.document is not None:
            self.drawer.show_opening(self._desk.document.session.limit)
        self.sentence.say(COMPUTING, "The session is open.", "quiet")
        self.options.show_nothing()

    @property
    def is_shown(self) -> bool:
        """Whether every pane shows what was computed last."""
        return self._turns.is_through

    def _show_failure(self, reason: str) -> None:
        self._wanted = None
        self.drawer.suggest.setEnabled(True)
        self.sentence.say(NOT_COMPUTED, reason, "overload")

    def _show_no_plan(self, reason: str) -> None:
        """Everything else stays as it is."""
        self.show_plan()
        self.drawer.show_trouble(reason)

    def _show_survey(self) -> None:
        of, at = self._desk.survey, self._desk.instant
        assert of is not None and at is not None
        self.tracks.show_survey(of, at)
        self._turns.take(self.show_plan)
        if self._wanted is not None:
            self._suggest(*self._wanted)
        self._show_moment()

    def _show_instant(self) -> None:
        assert self._desk.instant is not None
        self.tracks.show_instant(self._desk.instant)
        self._show_moment()

    def _show_moment(self) -> None:
        """Everything that follows the moment, but for the list of tracks: the sentence, and then each pane in turn."""
        of, at = self._desk.survey, self._desk.instant
        assert of is not None and at is not None
        self._say(verdict(of, at))
        self._turns.take(self._show_sizes, self._show_block, self._show_piece)

    def _show_sizes(self) -> None:
        of, at = self._desk.survey, self._desk.instant
        if of is not None and at is not None:
            self.buffers.show_rungs(at.rungs, of.buffer, of.session.limit)
            self.buffers.show_peaks(self._desk.outlook.peaks if self._desk.outlook is not None else {})
            self._show_held()

    def _show_piece(self) -> None:
        """The load through the piece, with its words."""
        of, at = self._desk.survey, self._desk.instant
        if of is None or at is None:
            return
        if not self.timeline.shows(of, self.held):
            self.timeline.show_survey(of, self.held)
        self.timeline.show_band(self._desk.band)
        self.timeline.show_second(at.second)
        before, after = of.before.highest, of.after.highest
        here = percent(at.rung(of.buffer).load)
        if at.judged.kind == "unknown":
            words = "not known"
        elif self.held is not None and self.held is not of.after:
            words = against_held(self.held, of.after, at.second)
        elif of.plan.decisions:
            worst = f"worst: now {percent(before)} → with this plan {percent(after)}"
            words = f"{worst};  here {percent(at.load_before)} → {here}"
        else:
            words = f"worst {percent(after)};  here {here}"
        self._timeline_panel.remark.setText(words if self.timeline.stretch is None else self._stretch_words())

    def hold_version(self, on: bool) -> None:
        """Holds the version that is shown, with its plan, to compare later ones with; or lets the held one go."""
        if self._desk.survey is not None:
            self.held = self._desk.survey.after if on else None
            self._show_piece()

    def _show_stretch(self, stretch: Stretch | None) -> None:
        self.tracks.show_stretch(stretch)
        self._desk.choose_stretch(stretch)
        self._show_piece()

    def _stretch_words(self) -> str:
        """What the load does in the stretch that was drawn."""
        of, stretch = self._desk.survey, self.timeline.stretch
        assert of is not None and stretch is not None
        found = stretch_load(of.after, stretch)
        late = f", {found.late:.1f} s over the deadline" if found.late > 0 else ""
        where = f"{clock(stretch[0])} to {clock(stretch[1])}"
        return f"{where}: up to {percent(found.highest)}, {percent(found.mean)} on average{late}"

    def _say(self, said: Verdict) -> None:
        """The sentence: a verdict, what it rests on, and the next step."""
        of, at = self._desk.survey, self._desk.instant
        assert of is not None and at is not None
        memory = "overload" if said.overload else "tight"
        tone = {"unknown": "quiet", "peaks": "tight", "memory": memory}.get(said.kind, at.rung(of.buffer).word)
        headline = f"Without the plan: {said.headline}" if self._desk.is_peeking else said.headline
        rung = at.rung(of.buffer)
        later = in_the_end_words(rung.load, of.session.limit, self._slower) if rung.word != "not known" else ""
        self.sentence.say(headline, said.advice + later + self._basis(), tone, self._next_word())

    def show_kind(self, kind: str) -> None:
        """Shows the mean, typical, bad or worst block of the moment."""
        self.kind = kind
        self._show_block()

    def _show_block(self) -> None:
        of, at, outlook = self._desk.survey, self._desk.instant, self._desk.outlook
        if of is None or at is None:
            return
        for kind, button in self.kinds.items():
            button.setChecked(kind == self.kind)
            button.setEnabled(kind == "mean" or outlook is not None)
        if self.kind == "mean" or outlook is None:
            self.block.show_block(of, at)
            self._block_panel.title.setText(f"One block at {clock(at.second)}")
            return
        blocks = {"typical": outlook.typical, "bad": outlook.bad, "worst": outlook.worst}
        self.block.show_block(of, at, blocks[self.kind])
        words = {"typical": "the median block", "bad": "one in a hundred", "worst": "of all blocks drawn"}
        self._block_panel.title.setText(f"One block at {clock(at.second)}, {words[self.kind]}")

    def show_ceilings(self, found: Sequence[Ceiling], slower: float = 1.0) -> None:
        """What this computer was found to hold; it is shown where the session is computed for as many threads. The same
        work takes so many times as long when it has worked for a while (`slower`)."""
        changed, self._ceilings, self._slower = slower != self._slower, tuple(found), slower
        self._show_held()
        if changed and self._desk.outlook is not None:
            self._say(self._desk.outlook.verdict)

    def _show_held(self) -> None:
        of = self._desk.survey
        known = by_buffer(self._ceilings, of.session.rate, of.threads) if of is not None else {}
        self.buffers.show_held({size: each.held for size, each in known.items()})
        self.drawer.show_held(known[of.buffer].held if of is not None and of.buffer in known else None)

    def _show_outlook(self) -> None:
        """Peaks, and what would help most: they come a little later than the rest."""
        outlook, at, of = self._desk.outlook, self._desk.instant, self._desk.survey
        if outlook is None or at is None or of is None:
            return
        self.buffers.show_peaks(outlook.peaks)
        self.timeline.show_band(self._desk.band)
        self._show_block()
        self._say(outlook.verdict)

    def _basis(self) -> str:
        """What the load rests on, if it is not all measured on this computer."""
        at = self._desk.instant
        assert at is not None
        parts = basis_words(at, self._updated)
        return f" {as_sentence('; '.join(parts))}" if parts else ""

    def show_updated(self, count: int) -> None:
        """So many of the session's plugin settings were measured before their plugin was updated."""
        changed, self._updated = count != self._updated, count
        if changed and self._desk.outlook is not None:
            self._say(self._desk.outlook.verdict)

    def _needs_measuring(self) -> bool:
        at = self._desk.instant
        if at is None:
            return False
        lacks = set(at.shares) - {"measured", "scaled"}
        return at.judged.kind == "unknown" or bool(lacks) or self._updated > 0

    def _is_worst(self) -> bool:
        of, at = self._desk.survey, self._desk.instant
        return of is not None and at is not None and of.after.load[at.moment] >= of.after.load.max()

    def _next_word(self) -> str:
        if not self._is_worst():
            return "Go to the worst moment"
        at, of = self._desk.instant, self._desk.survey
        over = at is not None and of is not None and at.rung(of.buffer).load > of.session.limit
        if over and at is not None and at.judged.kind != "unknown":
            return "Suggest a plan"
        if of is not None and not any(strip.uses() for strip in of.session.strips):
            return "Add plugins"
        return "Measure…" if self._needs_measuring() else ""

    def _next_step(self) -> None:
        if not self._is_worst():
            self._desk.move_to(None)
        elif self._next_word() == "Suggest a plan":
            self.suggest()
        else:
            self.place_wanted.emit("Session" if self._next_word() == "Add plugins" else "Measure")

    def suggest(self) -> None:
        """Has a plan suggested, with what the drawer says."""
        self.tracks.clear_choice()
        self.drawer.suggest.click()

    def _suggest(self, weights: Weights, kinds: list, disk: float | None) -> None:
        self._suggestion, self._wanted = None, None
        if self._desk.document is None:
            return
        if self._desk.survey is None:  # it is looked for as soon as there is a load to start from
            self._wanted = weights, kinds, disk
            self.drawer.show_suggesting("The load is computed first…")
            return
        self.drawer.show_suggesting()
        self._desk.suggest(weights, kinds, disk)

    def _show_suggestion(self, found: Suggestion) -> None:
        """The plan itself comes with the next survey, unless it is the one in force already."""
        of = self._desk.survey
        self._suggestion = (_about(of), found) if of is not None else None
        self.drawer.suggest.setEnabled(True)
        self.show_plan()

    def _take_back(self, decisions: tuple[Decision, ...]) -> None:
        document = self._desk.document
        if document is not None:
            self._desk.change("take back a step", document._replace(plan=document.plan.without(*decisions)))

    def _replace(self, old: Decision, new: Decision) -> None:
        document = self._desk.document
        if document is not None:
            self._desk.change("how a step is done", document._replace(plan=document.plan.replaced(old, new)))

    def show_plan(self) -> None:
        """The drawer; after a suggestion, for as long as its plan and all that it was looked for in are in force, with
        how good it is."""
        of = self._desk.survey
        if of is None:
            return
        self.drawer.show_plan(of, self._desk.plan_steps)
        if self._suggestion is None:
            return
        about, found = self._suggestion
        # With other figures than it was found with the plan leads elsewhere.
        is_there = abs(of.after.highest - found.load) < 1e-6
        if found.plan == of.plan and about == _about(of) and is_there:
            self.drawer.show_suggestion(of, found)

    def _show_options(self, weighed: list[Weighed]) -> None:
        of, at = self._desk.survey, self._desk.instant
        self.right.setCurrentWidget(self.options if self._desk.selection else self.drawer)
        if of is not None and at is not None:
            self.options.show_options(of, at, self._desk.selection, weighed)
