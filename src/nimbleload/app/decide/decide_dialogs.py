"""Dialogs about deciding: what the session gives away, three plans side by side, and the restore list to tick off."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QDialogButtonBox,
    QFormLayout,
    QFrame,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QListWidget,
    QPushButton,
    QSlider,
    QVBoxLayout,
    QWidget,
)

from ...core.decisions.decision import KeptPlan
from ...core.decisions.price import Weights
from ...core.optimise.alternatives import Alternative, first_alike
from ...core.optimise.suggest import Suggestion
from ...core.survey import Survey
from ...core.told.findings import Weighted
from ...core.told.plans import HURTS, UNIT, alike_words, plan_words, weight_words
from ...core.told.steps import price_words, step_words
from ...core.units import count, percent
from ..look.panels import Dialog
from ..look.picture import scrolled
from ..look.prose import Prose
from ..look.restore_view import RestoreView
from ..look.theme import theme
from ..look.words import Words


class FindingsDialog(Dialog):
    """Every finding with what it saves here. `taken` brings its name and its decisions."""

    taken = Signal(str, list)

    def __init__(self, found: Sequence[Weighted], parent: QWidget | None = None) -> None:
        super().__init__("What the session gives away", parent)
        self.resize(theme.px(720), theme.px(480))
        self.buttons: list[QPushButton] = []
        inside = QWidget()
        rows = QVBoxLayout(inside)
        for each in found:
            rows.addWidget(self._row(each))
        if not found:
            rows.addWidget(
                Words("Nothing: no unused tracks, no plugins that do nothing, none alike that could be one.")
            )
        rows.addStretch(1)
        close = QDialogButtonBox(QDialogButtonBox.StandardButton.Close)
        close.rejected.connect(self.reject)
        column = QVBoxLayout(self)
        column.addWidget(scrolled(inside), 1)
        column.addWidget(close)

    def _row(self, each: Weighted) -> QFrame:
        frame = QFrame()
        frame.setProperty("role", "panel")
        name, words, figure = Words(each.finding.name), Words(each.finding.sentence), Words(saving_words(each))
        name.setProperty("role", "title")
        words.setWordWrap(True)
        figure.setProperty("role", "quiet")
        top = QHBoxLayout()
        top.addWidget(name, 1)
        top.addWidget(figure)
        if each.finding.decisions:
            button = QPushButton("Take into the plan")
            button.setAccessibleName(f"Take into the plan: {each.finding.name}")
            button.clicked.connect(lambda: self._take(button, each))
            top.addWidget(button)
            self.buttons.append(button)
        column = QVBoxLayout(frame)
        column.addLayout(top)
        column.addWidget(words)
        return frame

    def _take(self, button: QPushButton, each: Weighted) -> None:
        button.setEnabled(False)
        button.setText("Taken")
        self.taken.emit(each.finding.name, list(each.finding.decisions))


def saving_words(each: Weighted) -> str:
    """What a finding saves at the moment, in words; empty where nothing can be decided."""
    if each.saving is None:
        return ""
    load = each.saving.load
    change = f"load −{percent(load)}" if load >= 0 else f"load +{percent(-load)}"
    return f"{change}, {percent(each.saving.work)} of one core less"


class PlansDialog(Dialog):
    """Plans side by side, each with its steps. `chosen` brings the one that is taken."""

    chosen = Signal(object)

    def __init__(self, of: Survey, found: dict[str, Alternative], parent: QWidget | None = None) -> None:
        super().__init__("Three plans", parent)
        self.resize(theme.px(980), theme.px(480))
        self.buttons: dict[str, QPushButton] = {}
        plans = QHBoxLayout()
        for name, each in found.items():
            plans.addWidget(self._plan(of, name, each, first_alike(found, name)), 1)
        close = QDialogButtonBox(QDialogButtonBox.StandardButton.Close)
        close.rejected.connect(self.reject)
        column = QVBoxLayout(self)
        column.addLayout(plans, 1)
        column.addWidget(close)

    def _plan(self, of: Survey, name: str, each: Alternative, alike: str) -> QFrame:
        """One of them in a frame; of one that is there already, under the name `alike`, it only says so."""
        frame = QFrame()
        frame.setProperty("role", "panel")
        title, words, inside = Words(name.capitalize()), Prose(plan_words(of, each.found)), QWidget()
        title.setProperty("role", "title")
        rows = QVBoxLayout(inside)
        rows.setContentsMargins(0, 0, 0, 0)
        if alike != name:
            rows.addWidget(Prose(alike_words(alike)))
        for step in each.steps if alike == name else ():
            told, price = Prose(step_words(of, step)), Prose(price_words(step.price))
            price.setProperty("role", "quiet")
            for label in (told, price):
                rows.addWidget(label)
            rows.addSpacing(theme.px(6))
        rows.addStretch(1)
        steps = scrolled(inside)
        steps.setAccessibleName(f"Steps of the plan: {name}")
        button = QPushButton("Take this plan")
        button.setAccessibleName(f"Take this plan: {name}")
        button.clicked.connect(lambda: self._take(each.found))
        self.buttons[name] = button
        column = QVBoxLayout(frame)
        for part in (title, words):
            column.addWidget(part)
        column.addWidget(steps, 1)
        column.addWidget(button)
        return frame

    def _take(self, plan: Suggestion) -> None:
        self.chosen.emit(plan)
        self.accept()


class WeightsDialog(Dialog):
    """How much what is given up hurts, from nothing to five times that. `changed` brings the weights as they move."""

    changed = Signal(object)

    def __init__(self, weights: Weights, parent: QWidget | None = None) -> None:
        super().__init__("What hurts", parent)
        self.resize(theme.px(460), theme.px(300))
        self._weights = weights
        self.sliders: dict[str, QSlider] = {}
        self._figures: dict[str, QLabel] = {}
        form = QFormLayout()
        for name, words in HURTS.items():
            slider, figure = QSlider(Qt.Orientation.Horizontal), Words()
            slider.setRange(0, 50)
            slider.setValue(round(10 * getattr(weights, name) / UNIT[name]))
            slider.setAccessibleName(words)
            slider.valueChanged.connect(self._tell)
            row = QHBoxLayout()
            row.addWidget(slider, 1)
            row.addWidget(figure)
            form.addRow(words, row)
            self.sliders[name], self._figures[name] = slider, figure
        close = QDialogButtonBox(QDialogButtonBox.StandardButton.Close)
        close.rejected.connect(self.reject)
        column = QVBoxLayout(self)
        column.addLayout(form)
        column.addStretch(1)
        column.addWidget(close)
        self._tell()

    def _tell(self) -> None:
        """A weight of nothing would make decisions that save nothing free: the least is a hundredth."""
        values = {name: max(slider.value() / 10, 0.01) * UNIT[name] for name, slider in self.sliders.items()}
        for name, value in values.items():
            self._figures[name].setText(weight_words(name, value))
        self.changed.emit(msgspec.structs.replace(self._weights, **values))


class KeptDialog(Dialog):
    """The plans that were put by, each with its load at its buffer size. `kept` brings a name for the present one.

    `used` and `forgotten` bring one of them.
    """

    kept = Signal(str)
    used = Signal(object)
    forgotten = Signal(object)

    def __init__(self, plans: Sequence[tuple[KeptPlan, float]], parent: QWidget | None = None) -> None:
        super().__init__("Plans put by", parent)
        self.resize(theme.px(560), theme.px(320))
        self._plans = [plan for plan, _ in plans]
        self.list, self.name = QListWidget(), QLineEdit()
        self.list.setAccessibleName("Plans put by")
        for plan, load in plans:
            taken = count(len(plan.plan.steps()), "step")
            words = f"{plan.name}: {taken} at {plan.buffer} samples, {percent(load)} at worst"
            self.list.addItem(words)
        self.list.setCurrentRow(0)
        self.name.setPlaceholderText("A name for the present plan: tracking, mixing")
        self.name.setAccessibleName("Name for the present plan")
        self.keep, self.use, self.forget = QPushButton("Put by"), QPushButton("Use"), QPushButton("Forget")
        top, bottom = QHBoxLayout(), QHBoxLayout()
        top.addWidget(self.name, 1)
        top.addWidget(self.keep)
        close = QPushButton("Close")
        for part in (self.use, self.forget):
            part.setEnabled(bool(plans))
            bottom.addWidget(part)
        bottom.addStretch(1)
        bottom.addWidget(close)
        column = QVBoxLayout(self)
        column.addLayout(top)
        column.addWidget(self.list, 1)
        column.addLayout(bottom)
        self.keep.clicked.connect(self._keep)
        self.name.returnPressed.connect(self._keep)
        self.use.clicked.connect(lambda: self._tell(self.used))
        self.forget.clicked.connect(lambda: self._tell(self.forgotten))
        close.clicked.connect(self.reject)
        for button in (self.keep, self.use, self.forget, close):
            button.setAutoDefault(False)

    def _keep(self) -> None:
        if self.name.text().strip():
            self.kept.emit(self.name.text().strip())
            self.accept()

    def _tell(self, signal) -> None:
        row = self.list.currentRow()
        if 0 <= row < len(self._plans):
            signal.emit(self._plans[row])
            self.accept()


class RestoreDialog(Dialog):
    """What to put back before the final render, to tick off. `ticked` brings the lines that are done."""

    def __init__(self, lines: Sequence[str], done: Sequence[str], parent: QWidget | None = None) -> None:
        super().__init__("Before the final render", parent)
        self.resize(theme.px(600), theme.px(420))
        self.words, self.list = Words(), RestoreView()
        self.list.show_lines(lines, done)
        self.ticked = self.list.ticked
        close = QDialogButtonBox(QDialogButtonBox.StandardButton.Close)
        close.rejected.connect(self.reject)
        column = QVBoxLayout(self)
        column.addWidget(self.words)
        column.addWidget(self.list, 1)
        column.addWidget(close)
        self.ticked.connect(self._say)
        self._say()

    def _say(self) -> None:
        left = self.list.count() - len(self.list.lines_done())
        if not self.list.count():
            self.words.setText("Nothing to put back: the plan changes nothing.")
        else:
            self.words.setText(f"{left} of {self.list.count()} still to do." if left else "All is put back.")
