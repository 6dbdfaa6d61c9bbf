"""The plan as steps down from today's load: each with what it brings and a word to take it back; and a suggestion."""

from __future__ import annotations

from functools import partial

from msgspec.structs import replace
from PySide6.QtCore import QPoint, QSize, Qt, Signal
from PySide6.QtGui import QKeySequence
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QListWidget,
    QListWidgetItem,
    QMenu,
    QPushButton,
    QSpinBox,
    QVBoxLayout,
    QWidget,
)

from ...core.decisions.apply import told_as, without_effect
from ...core.decisions.decision import Decision, DecisionKind, Plan
from ...core.decisions.price import PRESETS, Weights
from ...core.optimise.candidates import KINDS
from ...core.optimise.steps import Stepped
from ...core.optimise.suggest import Suggestion
from ...core.optimise.weigh import given_back
from ...core.session.session import LEAST_LIMIT, MOST_LIMIT, Session
from ...core.survey import Survey
from ...core.told.as_known import fits_words, is_unknown, load_words
from ...core.told.restore_list import left_words, restore_list
from ...core.told.steps import how_good, in_the_way, price_words, step_words, why, words
from ...core.units import count, duration, listed, minutes, percent, size
from ..look.emptied import emptied
from ..look.lines import Lines
from ..look.on_key import on_key
from ..look.prose import Prose
from ..look.theme import theme
from ..look.words import Words
from .decide_dialogs import WeightsDialog

OWN = "your own…"


class PlanDrawer(QFrame):
    """`suggest_wanted` asks for a plan (weights, kinds allowed, bytes that freezes may take or None).

    `limit_chosen` brings the load to stay under, as a fraction; `removed` takes a step's decisions back.

    `moved` brings a step's number and by how many places it is to come later; `replaced` a decision and another one in
    its place.
    """

    suggest_wanted = Signal(object, list, object)
    limit_chosen = Signal(float)
    removed = Signal(object)
    moved = Signal(int, int)
    replaced = Signal(object, object)
    cleared = Signal()

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setProperty("role", "panel")
        self._title, self._words = Words("The plan"), Prose()
        self._title.setProperty("role", "title")
        self.preset = QComboBox()
        self.preset.addItems([*PRESETS, OWN])
        self._own = Weights()
        self.preset.setAccessibleName("What hurts")
        self.kinds = {kind: QCheckBox(kind) for kind in KINDS}
        self.suggest = QPushButton("Suggest")
        self.limit, self.freezes, self.held = QSpinBox(), QSpinBox(), QPushButton()
        self.steps, self.restore = QListWidget(), Prose()
        Lines(self.steps)
        self.steps.setAccessibleName("The decisions of the plan, with the worst load after each")
        self.restore.setProperty("role", "quiet")
        self.remove, self.clear = QPushButton("Take back"), QPushButton("Take back all")
        self.idle = QPushButton()
        self._idle: tuple[Decision, ...] = ()
        self.earlier, self.later = QPushButton("↑"), QPushButton("↓")
        self._decisions: list[tuple[Decision, ...]] = []
        self._chosen: tuple[Decision, ...] = ()
        self._next = -1  # the row that is chosen next, where what was chosen has been taken back
        self._shown: tuple[Session, Plan] | None = None
        self._trouble: tuple[tuple[Session, Plan] | None, str] | None = None
        self._lay_out()
        self._dress_wishes()
        self.suggest.clicked.connect(self._ask)
        self.preset.activated.connect(lambda _: self.ask_weights() if self.preset.currentText() == OWN else None)
        self.remove.clicked.connect(self.remove_chosen)
        self.clear.clicked.connect(self.cleared)
        self.idle.clicked.connect(lambda: self.removed.emit(self._idle))
        for button, by, keys, word in (
            (self.earlier, -1, "Alt+Up", "earlier"),
            (self.later, 1, "Alt+Down", "later"),
        ):
            theme.fit(button, lambda arrow: arrow.setFixedWidth(theme.px(30)))
            button.clicked.connect(lambda _=False, by=by: self.move_chosen(by))
            button.setToolTip(f"Take this step {word} ({keys})")
            button.setAccessibleName(button.toolTip())
            on_key(self.steps, keys, partial(self.move_chosen, by))
        self.remove.setToolTip("Take the chosen step back (Delete)")
        on_key(self.steps, QKeySequence.StandardKey.Delete, self.remove_chosen)
        self.steps.currentRowChanged.connect(self._choose)
        self._menu = QMenu(self.steps)
        self.steps.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.steps.customContextMenuRequested.connect(self._ask_how)

    def _lay_out(self) -> None:
        top = QHBoxLayout()
        top.addWidget(self.preset, 1)
        top.addWidget(self.suggest)
        allowed = QGridLayout()
        allowed.setColumnStretch(3, 1)
        for number, box in enumerate(self.kinds.values()):
            box.setChecked(True)
            allowed.addWidget(box, *divmod(number, 3))
        wishes = QGridLayout()
        wishes.setColumnStretch(2, 1)
        for row, (name, part) in enumerate((("Stay under", self.limit), ("Freezes up to", self.freezes))):
            label = Words(name)
            label.setBuddy(part)
            wishes.addWidget(label, row, 0)
            wishes.addWidget(part, row, 1)
        wishes.addWidget(self.held, 0, 2)
        bottom = QHBoxLayout()
        for button in (self.remove, self.clear, self.earlier, self.later, self.idle):
            button.setProperty("role", "narrow")
        self.idle.hide()
        bottom.addWidget(self.remove)
        bottom.addWidget(self.clear)
        bottom.addStretch(1)
        bottom.addWidget(self.earlier)
        bottom.addWidget(self.later)
        column = QVBoxLayout(self)
        column.setContentsMargins(10, 7, 8, 6)
        column.setSpacing(4)
        column.addWidget(self._title)
        column.addLayout(top)
        column.addLayout(allowed)
        column.addLayout(wishes)
        column.addWidget(self._words)
        column.addWidget(self.steps, 1)
        column.addWidget(self.idle)
        column.addWidget(self.restore)
        column.addLayout(bottom)

    def _dress_wishes(self) -> None:
        """The limit, what this computer holds beside it, and how much the freezes may take."""
        self.limit.setRange(round(LEAST_LIMIT * 100), round(MOST_LIMIT * 100))
        self.limit.setSuffix(" %")
        self.limit.setSingleStep(5)
        self.limit.setAccessibleName("The load to stay under")
        self.limit.setToolTip("The load that no moment is to exceed; the dashed line in the load through the piece")
        self.freezes.setRange(0, 1_000_000)
        self.freezes.setSingleStep(500)
        self.freezes.setSuffix(" MB")
        self.freezes.setSpecialValueText("any size")
        self.freezes.setAccessibleName("How much disk space all freezes of a suggestion may take together")
        self.freezes.setToolTip(self.freezes.accessibleName())
        for part in (self.limit, self.freezes):
            part.setKeyboardTracking(False)
        self.limit.valueChanged.connect(lambda value: self.limit_chosen.emit(value / 100))
        self.held.setProperty("role", "narrow")
        self.held.setToolTip("What this computer was found to hold at this buffer size without a late block (Machine)")
        self.held.clicked.connect(lambda: self.limit.setValue(int(self.held.property("held"))))
        self.held.hide()

    def show_opening(self, limit: float) -> None:
        """Another session has been opened: its limit (fraction), and nothing of the one before."""
        self.show_limit(limit)
        self.suggest.setEnabled(True)
        self._shown, self._trouble, self._decisions = None, None, []
        self._words.setText("")
        self.steps.clear()
        self.restore.hide()
        self.clear.setEnabled(False)
        self._choose(-1)

    def show_limit(self, limit: float) -> None:
        """The session's limit (fraction)."""
        if not self.limit.hasFocus() or self.limit.value() / 100 != limit:
            self.limit.blockSignals(True)
            self.limit.setValue(round(limit * 100))
            self.limit.blockSignals(False)

    def show_held(self, held: float | None) -> None:
        """What this computer holds at the chosen buffer size (fraction), to be taken as the limit; None: not known."""
        whole = max(int((held or 0) * 100), self.limit.minimum())
        self.held.setProperty("held", whole)
        self.held.setText(f"holds {whole} %")
        self.held.setAccessibleName(f"Take what this computer holds, {whole} %, as the limit")
        self.held.setVisible(held is not None)

    def disk(self) -> float | None:
        """How many bytes the freezes of a suggestion may take; None for any."""
        return self.freezes.value() * 1e6 if self.freezes.value() else None

    def _ask(self) -> None:
        self.suggest_wanted.emit(self.weights(), self.allowed(), self.disk())

    def weights(self) -> Weights:
        """What hurts: a preset, or the user's own."""
        return PRESETS.get(self.preset.currentText(), self._own)

    def ask_weights(self) -> None:
        """Asks for weights of the user's own, from those in force; they are taken at once."""
        dialog = WeightsDialog(self.weights(), self)
        dialog.changed.connect(self._take_weights)
        dialog.open()

    def _take_weights(self, weights: Weights) -> None:
        self._own = weights
        self.preset.setCurrentText(OWN)

    def allowed(self) -> list[DecisionKind]:
        """The kinds of decision that a suggestion may take."""
        return [kind for kind, box in self.kinds.items() if box.isChecked()]

    def remove_chosen(self) -> None:
        """Takes the chosen step back."""
        row = self.steps.currentRow()
        if 0 <= row < len(self._decisions):
            self._next = row
            self.removed.emit(self._decisions[row])

    def move_chosen(self, by: int) -> None:
        """Has the chosen step come so many places later, if there is room."""
        row = self.steps.currentRow()
        if 0 <= row < len(self._decisions) and 0 <= row + by < len(self._decisions):
            self.moved.emit(row, by)

    def _ask_how(self, at: QPoint) -> None:
        """Offers how the step under the pointer is done: its plugins unloaded or not, its source muted or off."""
        item = self.steps.itemAt(at) or self.steps.currentItem()
        row = self.steps.row(item) if item is not None else -1
        if not 0 <= row < len(self._decisions) or len(self._decisions[row]) != 1:
            return
        (decision,) = self._decisions[row]
        menu = emptied(self._menu)
        if decision.kind == "freeze":
            other = replace(decision, unloaded=not decision.unloaded)
            words = "Keep its plugins loaded" if decision.unloaded else "Unload its plugins"
            menu.addAction(words, lambda: self.replaced.emit(decision, other))
        elif decision.kind == "bounce" and decision.start is None and self._is_track(decision):
            other = replace(decision, muted=not decision.muted)
            words = "Switch its source off" if decision.muted else "Leave its source muted"
            menu.addAction(words, lambda: self.replaced.emit(decision, other))
        if menu.actions():
            menu.popup(self.steps.viewport().mapToGlobal(at))

    def _is_track(self, decision: Decision) -> bool:
        return self._shown is not None and self._shown[0].strip(decision.strip).kind == "track"

    def _choose(self, row: int) -> None:
        """The step of this row is the chosen one, wherever it goes."""
        known = 0 <= row < len(self._decisions) and self.steps.count() == len(self._decisions)
        if known:
            self._chosen = self._decisions[row]
        self.remove.setEnabled(known)
        self.earlier.setEnabled(known and row > 0)
        self.later.setEnabled(known and row + 1 < len(self._decisions))

    def show_plan(self, of: Survey, stepped: Stepped | None) -> None:
        """Shows the plan in force; its steps once they are known."""
        steps = stepped.steps if stepped is not None else None
        plan = of.plan
        self._shown = of.session, plan
        self.show_limit(of.session.limit)
        before, after = of.before.highest, of.after.highest
        taken = len(plan.steps())
        cost = f", {minutes(sum(step.price.minutes for step in steps))}" if steps is not None else ""
        leads = "" if is_unknown(of) else f" → {percent(after)}"
        said = f"{count(taken, 'step')}{cost}: worst {load_words(of, before)}{leads}."
        if not taken:
            said = "No decisions yet. Choose a track to see what each saves, or have a plan suggested."
        if self._trouble is not None and self._trouble[0] == self._shown:
            said = self._trouble[1]
        # While it is looked for one it says that.
        if self.suggest.isEnabled():
            self._words.setText(said)
        self._decisions = [step.decisions for step in steps] if steps is not None else plan.steps()
        self._show_idle(of)
        chosen = self._chosen
        self.steps.blockSignals(True)  # or whatever comes to stand in the place of what is chosen is taken for it
        self.steps.clear()
        if stepped is not None:
            self._list_steps(of, stepped)
        if steps is None and taken:
            self.steps.addItem("Working out the steps…")
        known = chosen in self._decisions
        row = self._decisions.index(chosen) if known else min(self._next, self.steps.count() - 1)
        self.steps.setCurrentRow(row if steps is not None else -1)
        self.steps.blockSignals(False)
        if not known and steps is not None:
            self._next = -1
        self._choose(self.steps.currentRow())
        back = restore_list(of.session, plan)
        said = left_words(back, plan.put_back)
        given = given_back(of)
        if given.memory >= 1 << 20:
            again = f", {duration(given.seconds)} to load again" if given.seconds >= 0.5 else ""
            said += f" Unloaded: {size(given.memory)} given back{again}."
        self.restore.setText(said)
        self.restore.setVisible(bool(back))
        self.clear.setEnabled(taken > 0)

    def _show_idle(self, of: Survey) -> None:
        """Offers to take back what is decided about plugins that a freeze or bounce holds."""
        self._idle = without_effect(of.session, of.plan)
        self.idle.setText(f"Take back {count(len(self._idle), 'decision')} without effect")
        told = listed([told_as(of.session, decision) for decision in self._idle])
        self.idle.setToolTip(f"A freeze or bounce holds the plugin of {told}")
        self.idle.setVisible(bool(self._idle))

    def _list_steps(self, of: Survey, stepped: Stepped) -> None:
        for step in stepped.steps:
            leads = "" if is_unknown(of) else f"{percent(step.before)} → {percent(step.load)}   "
            held = "without effect: " if set(step.decisions) <= set(self._idle) else ""
            item = QListWidgetItem(f"{leads}{held}{words(of, step.decisions)}")
            reason = why(of, stepped.worst, step.decisions)
            item.setToolTip(f"{step_words(of, step)}\n{price_words(step.price)}\n{reason}")
            self.steps.addItem(item)

    def show_suggesting(self, said: str = "Looking for the plan that gives up least…") -> None:
        self.suggest.setEnabled(False)
        self._trouble = None
        self._words.setText(said)

    def show_trouble(self, reason: str) -> None:
        """Says why there is no suggestion, until session or plan are others; the plan in force stays."""
        self.suggest.setEnabled(True)
        self._trouble = self._shown, reason
        self._words.setText(reason)

    def show_suggestion(self, of: Survey, found: Suggestion) -> None:
        """Says how good the suggested plan is; the plan itself comes with `show_plan`."""
        if not found.reached:
            self._words.setText(in_the_way(of, found))
        elif not found.steps:
            self._words.setText(fits_words(of))
        else:
            reached = f"{count(len(found.steps), 'step')}, {minutes(found.price)}, reach {percent(found.load)}."
            self._words.setText(f"{reached} {how_good(found)}")

    def minimumSizeHint(self):
        layout = self.layout()
        width = max(theme.px(220), layout.totalMinimumSize().width())
        # What is said goes on in as many lines as it needs.
        return QSize(width, layout.totalMinimumHeightForWidth(max(self.width(), width)))

    def resizeEvent(self, event):
        super().resizeEvent(event)
        if event.oldSize().width() != event.size().width():
            self.updateGeometry()
