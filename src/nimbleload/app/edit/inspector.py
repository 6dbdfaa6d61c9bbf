"""What is chosen, to be changed in place: a track's routing, a plugin's values and what it listens to."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path
from typing import NamedTuple

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QAbstractItemView,
    QCheckBox,
    QComboBox,
    QFileDialog,
    QGridLayout,
    QHBoxLayout,
    QHeaderView,
    QMenu,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from ...core.session import chain_edits, edits
from ...core.session.plugins import PluginUse
from ...core.session.session import Session, SessionError
from ...core.session.strips import Strip
from ...core.units import count
from ...probe.describing import read_state, state_of
from ...probe.formats.hosted import Parameter, Preset
from ...probe.plugin_window import WITH_WINDOWS
from ..look.literal import literal
from ..look.panels import size_table
from ..look.theme import theme
from ..look.words import Words
from .parameters import key_of

# Standards whose plugins take a state that was saved elsewhere, and what such files are called.
TAKES_STATES = ("clap", "vst3", "lv2")
STATE_FILES = "Presets and states (*.vstpreset *.ttl *.clap-preset *.state *);;All files (*)"
OPEN_WINDOW, CLOSE_WINDOW = "Its own window", "Close its window"
NOTHING, SEVERAL = "nothing", "different ones"


class Inspector(QWidget):
    """Shows the chosen strips and plugins; `wanted` asks for an edit: its name, and what makes it. `state_wanted` asks
    for a state of the chosen plugins: its name, and what reads it. `window_wanted`: the plugin's own window is to open,
    or to close if it is open."""

    wanted = Signal(str, object)
    state_wanted = Signal(str, object)
    window_wanted = Signal()

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._strips: list[Strip] = []
        self._uses: list[PluginUse] = []
        self._rows: list[Row] = []
        self._offered: dict[QComboBox, list[tuple[str, str | None]]] = {}
        self.title, self.about = Words(), Words()
        self.title.setProperty("role", "title")
        self.about.setProperty("role", "quiet")
        self.about.setWordWrap(True)
        self.output, self.on = QComboBox(), QCheckBox("On")
        self.armed, self.mono = QCheckBox("Record-armed"), QCheckBox("Mono")
        self.output.setAccessibleName("What it feeds")
        self.plugin, self.plugin_about = Words(), Words()
        self.plugin.setProperty("role", "title")
        self.plugin_about.setProperty("role", "quiet")
        self.plugin_about.setWordWrap(True)
        self.bypassed, self.listens, self.asked = QCheckBox("Bypassed"), QComboBox(), Words()
        self.asked.setProperty("role", "quiet")
        self.asked.setWordWrap(True)
        self.listens.setAccessibleName("What its side-chain listens to")
        self.preset = QPushButton("Preset or state")
        self.preset.setMenu(QMenu(self.preset))
        self.own_window, self.window_told = QPushButton(OPEN_WINDOW), Words()
        self.own_window.clicked.connect(lambda: self.window_wanted.emit())
        self.window_told.setProperty("role", "quiet")
        self.window_told.setWordWrap(True)
        self.values = QTableWidget(0, 2)
        self.values.setHorizontalHeaderLabels(["Parameter", "Value"])
        self.values.verticalHeader().setVisible(False)
        size_table(self.values, 22)
        theme.fit(self.values, lambda table: table.setMinimumSize(theme.px(90), theme.px(120)))
        self.values.setShowGrid(False)
        self.values.setTabKeyNavigation(False)
        self.values.horizontalHeader().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        self.values.setEditTriggers(QAbstractItemView.EditTrigger.AllEditTriggers)
        self.values.setAccessibleName("Values of the plugin's parameters")
        self._lay_out()
        self.output.activated.connect(self._route)
        self.armed.clicked.connect(lambda on: self._ask("record-arm" if on else "disarm", edits.arm, self._ids(), on))
        self.on.clicked.connect(lambda on: self._ask("on" if on else "off", edits.switch, self._ids(), on))
        self.mono.clicked.connect(
            lambda on: self._ask("mono" if on else "stereo", edits.widen, self._ids(), 1 if on else 2)
        )
        self.bypassed.clicked.connect(
            lambda on: self._ask("bypass" if on else "bypass off", chain_edits.bypass, [u.id for u in self._uses], on)
        )
        self.listens.activated.connect(self._listen)
        self.values.itemChanged.connect(self._set_value)

    def _lay_out(self) -> None:
        form = QGridLayout()
        form.setColumnStretch(1, 1)
        form.addWidget(Words("Feeds"), 0, 0)
        form.addWidget(self.output, 0, 1)
        boxes = QHBoxLayout()
        boxes.addWidget(self.on)
        boxes.addWidget(self.armed)
        boxes.addWidget(self.mono)
        boxes.addStretch(1)
        form.addLayout(boxes, 1, 0, 1, 2)
        self._below = QWidget()
        below = QGridLayout(self._below)
        below.setContentsMargins(0, 0, 0, 0)
        below.setColumnStretch(1, 1)
        below.addWidget(self.plugin, 0, 0, 1, 2)
        below.addWidget(self.plugin_about, 1, 0, 1, 2)
        for row, part in enumerate((self.bypassed, self.preset, self.own_window, self.window_told), 2):
            below.addWidget(part, row, 0, 1, 2)
        below.addWidget(Words("Listens to"), 6, 0)
        below.addWidget(self.listens, 6, 1)
        below.addWidget(self.values, 7, 0, 1, 2)
        below.addWidget(self.asked, 8, 0, 1, 2)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(theme.px(4))
        column.addWidget(self.title)
        column.addWidget(self.about)
        column.addLayout(form)
        column.addWidget(self._below)
        column.setAlignment(Qt.AlignmentFlag.AlignTop)
        for box in (self.output, self.listens):
            # As wide as there is room, not as the longest name in it.
            box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
            box.setMinimumContentsLength(6)

    def show_chosen(
        self, session: Session, strips: Sequence[Strip], uses: Sequence[PluginUse], costs: str = "",
        known: Sequence[Parameter] | str | None = (),
    ) -> None:  # fmt: skip
        """Shows what is chosen; `costs` says what the plugin costs, `known` its parameters (see `Parameters`)."""
        self._strips, self._uses = list(strips), list(uses)
        some = bool(self._strips)
        self.title.setText(_title(self._strips))
        self.about.setText(_about(session, self._strips))
        others = [strip for strip in session.strips if strip.kind != "track" and strip.id not in self._ids()]
        self._fill(self.output, others, {strip.output for strip in self._strips})
        is_main = any(strip.kind == "main" for strip in self._strips)
        self.output.setEnabled(some and not is_main)
        self.on.setEnabled(some and not is_main)
        self.on.setChecked(some and all(strip.enabled for strip in self._strips))
        self.armed.setEnabled(some and all(strip.kind == "track" for strip in self._strips))
        self.armed.setChecked(some and all(strip.armed for strip in self._strips))
        self.mono.setEnabled(some)
        self.mono.setChecked(some and all(strip.channels == 1 for strip in self._strips))
        self._below.setVisible(bool(self._uses))
        if self._uses:
            self._show_plugin(session, costs, known)

    def _ids(self) -> list[str]:
        return [strip.id for strip in self._strips]

    def _fill(self, box: QComboBox, strips: Sequence[Strip], now: set[str | None]) -> None:
        """Offers strips, with the one that is in force (several, if not all that is chosen has the same)."""
        wanted = SEVERAL if len(now) > 1 else next(iter(now), None)
        lines = [(NOTHING, None), *((strip.name, strip.id) for strip in strips)]
        lines += [(SEVERAL, SEVERAL)] if len(now) > 1 else []
        if lines != self._offered.get(box):
            self._offered[box] = lines
            box.clear()
            for name, data in lines:
                box.addItem(name, data)
        box.setCurrentIndex(next((row for row, (_, data) in enumerate(lines) if data == wanted), 0))

    def _show_plugin(self, session: Session, costs: str, known: Sequence[Parameter] | str | None) -> None:
        first = self._uses[0]
        several = len(self._uses) > 1
        self.plugin.setText(f"{len(self._uses)} plugins" if several else first.label)
        kind = f"{first.family}, {first.plugin.made_as}"
        maker = f", {first.plugin.vendor}" if first.plugin.vendor else ""
        state = " It plays in a state that was saved in the session." if first.setting.state is not None else ""
        self.plugin_about.setText("" if several else f"{kind}{maker}. {costs}{state}".strip())
        self.bypassed.setChecked(all(not use.enabled for use in self._uses))
        self._fill(self.listens, session.strips, {use.sidechain for use in self._uses})
        alike = len({key_of(use) for use in self._uses}) == 1
        self._rows = rows_of(first, known) if alike else []
        self.values.blockSignals(True)
        self.values.setRowCount(len(self._rows))
        for row, each in enumerate(self._rows):
            name, value = QTableWidgetItem(each.name), Value(each)
            name.setFlags(Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable)
            if not each.is_set:
                value.setForeground(theme.colour("quiet"))
            for column, item in enumerate((name, value)):
                item.setToolTip(each.told)
                self.values.setItem(row, column, item)
        self.values.blockSignals(False)
        self.values.setVisible(bool(self._rows))
        self.asked.setText(_asked(first, known) if alike else "")
        self.asked.setVisible(bool(self.asked.text()))

    def show_presets(self, presets: Sequence[Preset]) -> None:
        """Fills the menu of what states the chosen plugin could take: its presets, a file, or as it starts."""
        menu = self.preset.menu()
        menu.clear()
        for each in presets:
            menu.addAction(literal(each.name), partial(self.state_wanted.emit, each.name, partial(state_of, each)))
        if presets:
            menu.addSeparator()
        file = menu.addAction("From a file…", self._ask_file)
        start = menu.addAction("As it starts", self._as_it_starts)
        start.setEnabled(any(use.setting.state is not None or use.setting.values for use in self._uses))
        alike = len({key_of(use) for use in self._uses}) == 1
        takes = alike and self._uses[0].plugin.standard in TAKES_STATES
        self.preset.setVisible(alike and (bool(presets) or takes or start.isEnabled()))
        file.setEnabled(takes)

    def show_window(self, words: str) -> None:
        """What there is to say of the chosen plugin's own window; nothing if it is not open."""
        self.own_window.setVisible(len(self._uses) == 1 and self._uses[0].plugin.standard in WITH_WINDOWS)
        self.own_window.setText(CLOSE_WINDOW if words else OPEN_WINDOW)
        self.window_told.setText(words)
        self.window_told.setVisible(bool(words))

    def _ask_file(self) -> None:
        """Asks for a preset or state file of the plugin's standard."""
        name, _ = QFileDialog.getOpenFileName(self, "A preset or state file", "", STATE_FILES)
        if name:
            self.state_wanted.emit(Path(name).name, partial(read_state, Path(name)))

    def _as_it_starts(self) -> None:
        self._ask("as it starts", chain_edits.set_state, [use.id for use in self._uses], None)

    # What is asked for

    def _ask(self, name: str, change: Callable[..., Session], *arguments: object) -> None:
        self.wanted.emit(name, lambda session: change(session, *arguments))

    def _route(self) -> None:
        if self.output.currentData() != SEVERAL:
            self._ask(f"feed {self.output.currentText()}", edits.route, self._ids(), self.output.currentData())

    def _listen(self) -> None:
        if self.listens.currentData() != SEVERAL:
            self._ask("side-chain", chain_edits.listen, [use.id for use in self._uses], self.listens.currentData())

    def _set_value(self, item: QTableWidgetItem) -> None:
        if item.column() == 1:
            row = self._rows[item.row()]
            self._ask(f"set {row.name}", _with_value, [use.id for use in self._uses], row, item.text())


class Row(NamedTuple):
    """A parameter as it is shown: `key` names it in a setting, `told` is all that is known of it, `least` and `most`
    bound what it can be; `is_set` says that the session sets it; `text` is the value as the plugin writes
    it, if that is known."""

    key: str
    name: str
    value: float
    is_set: bool
    told: str
    least: float = -1e300
    most: float = 1e300
    text: str = ""


class Value(QTableWidgetItem):
    """A parameter's value: as the plugin writes it, and as a number when it is typed over."""

    def __init__(self, row: Row) -> None:
        super().__init__(f"{row.value:g}")
        self._written = row.text

    def data(self, role: int) -> object:
        if role == Qt.ItemDataRole.DisplayRole and self._written:
            return self._written
        return super().data(role)


def rows_of(use: PluginUse, known: Sequence[Parameter] | str | None) -> list[Row]:
    """The parameters of a plugin as it tells them, with the values of its setting; else what the setting names."""
    values = dict(use.setting.values)
    rows = []
    for each in known if known is not None and not isinstance(known, str) else ():
        is_set, value = each.key in values, values.pop(each.key, each.value)
        texts = each.texts or ("",) * len(each.choices)
        named = [f"{c:g}{f' ({t})' if t else ''}" for c, t in zip(each.choices, texts, strict=True)]
        kind = f"one of {', '.join(named)}" if named else each.kind
        told = f"{each.name} ({each.key}): {value:g}; {kind}, from {each.least:g} to {each.most:g}"
        # It was asked about the value that it had then.
        text = shorter(each.text) if value == each.value else ""
        rows.append(Row(each.key, each.name or each.key, value, is_set, told, each.least, each.most, text))
    rows += [Row(name, name, value, True, f"{name}, as the session has it") for name, value in values.items()]
    return rows


def shorter(text: str) -> str:
    """A value as a plugin writes it, without the zeros that some fill it up with: "10.000000 ms" is "10 ms"."""
    return re.sub(r"(\.\d*?)0+(?!\d)", r"\1", text).replace(". ", " ").removesuffix(".")


def _asked(use: PluginUse, known: Sequence[Parameter] | str | None) -> str:
    """What became of asking the plugin for its parameters."""
    if known is None:
        return "The plugin is asked for its parameters…"
    if isinstance(known, str):
        return f"Its parameters are not known: it {known.rstrip('.')}."
    return "" if known or use.setting.values else "It has no parameters."


def _with_value(session: Session, use_ids: list[str], row: Row, text: str) -> Session:
    """The session with a value as it was typed in. SessionError if it is no number, or cannot be."""
    try:
        value = float(text.replace(",", "."))
    except ValueError:
        raise SessionError(f"{row.name} is “{text}”, which is no number") from None
    if not row.least <= value <= row.most:
        raise SessionError(f"{row.name} can be from {row.least:g} to {row.most:g}, not {value:g}")
    return chain_edits.set_values(session, use_ids, {row.key: value})


def _title(strips: Sequence[Strip]) -> str:
    if not strips:
        return "No track is chosen"
    return strips[0].name if len(strips) == 1 else f"{len(strips)} tracks"


def _about(session: Session, strips: Sequence[Strip]) -> str:
    if len(strips) != 1:
        return ""
    (strip,) = strips
    names = {each.id: each.name for each in session.strips}
    fed = [each.name for each in session.strips if strip.id in (each.output, *(s.target for s in each.sends))]
    held = f"{count(len(strip.uses()), 'plugin')}, {count(len(strip.clips), 'clip')}"
    parts = [f"{edits.WORDS[strip.kind]}, {held}"]
    if strip.sends:
        told = [f"{names.get(s.target, '?')} ({'pre' if s.pre_fader else 'post'}, {s.level:.2g})" for s in strip.sends]
        parts.append(f"sends to {', '.join(told)}")
    if fed:
        parts.append(f"fed by {len(fed)}: {', '.join(fed[:4])}{' …' if len(fed) > 4 else ''}")
    return "; ".join(parts) + "."
