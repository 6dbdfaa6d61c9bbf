"""Small questions of the Session page; each calls what it was given with the answer."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialogButtonBox,
    QDoubleSpinBox,
    QFormLayout,
    QLineEdit,
    QSpinBox,
    QWidget,
)

from ...core.session.computer import RATES
from ...core.session.edits import MOST_COPIES
from ...core.session.meter import BEATS, UNITS
from ...core.session.session import Meter, Session, TempoPoint
from ...core.session.strips import Strip
from ...core.session.time_edits import set_length, set_meters, set_tempo
from ..look.clock_box import ClockBox
from ..look.panels import Dialog


class Question(Dialog):
    """A form with fields; `answered` is called when it is accepted."""

    def __init__(self, title: str, parent: QWidget, answered: Callable[[], object], **fields: QWidget) -> None:
        super().__init__(title, parent)
        self.fields = fields
        form = QFormLayout(self)
        for label, field in fields.items():
            words = label.replace("_", " ").capitalize()
            form.addRow(words, field)
            field.setAccessibleName(words)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        form.addRow(buttons)
        self.accepted.connect(answered)


def _bpm(value: float) -> QDoubleSpinBox:
    field = QDoubleSpinBox()
    field.setRange(1.0, 999.0)
    field.setSuffix(" bpm")
    field.setValue(value)
    return field


def ask_how_often(parent: QWidget, answered: Callable[[int], object]) -> None:
    """Asks how many copies."""
    times = QSpinBox()
    times.setRange(1, MOST_COPIES)
    times.setValue(8)
    Question("Duplicate", parent, lambda: answered(times.value()), copies=times).open()


def ask_send(parent: QWidget, targets: Sequence[Strip], answered: Callable[[str, float, bool], object]) -> None:
    """Asks where a send goes, how loud, and whether before the fader."""
    target, level, pre = QComboBox(), QDoubleSpinBox(), QCheckBox("Before the fader")
    for strip in targets:
        target.addItem(strip.name, strip.id)
    level.setRange(-120.0, 24.0)
    level.setSuffix(" dB")

    def done() -> None:
        if target.currentData() is not None:
            answered(target.currentData(), 10 ** (level.value() / 20), pre.isChecked())

    Question("Send", parent, done, to=target, level=level, where=pre).open()


def ask_clip(parent: QWidget, notes: bool, answered: Callable[[float, float, int], object]) -> None:
    """Asks from when to when a track sounds, and with how many notes at once."""
    start, end, voices = ClockBox(0.0), ClockBox(10.0), QSpinBox()
    voices.setRange(0, 4096)
    voices.setSpecialValueText("not known")
    fields: dict[str, QWidget] = {"from": start, "to": end}
    if notes:
        fields["notes_at_once"] = voices
    Question("Clip", parent, lambda: answered(start.value(), end.value(), voices.value()), **fields).open()


def ask_section(parent: QWidget, at: float, called: str, answered: Callable[[str, float], object]) -> None:
    """Asks what a section is called (`called`, so far) and where it begins."""
    name, start = QLineEdit(called), ClockBox(at)
    Question("Section", parent, lambda: answered(name.text(), start.value()), name=name, begins=start).open()


def ask_timing(parent: QWidget, of: Session, answered: Callable[[Session], object]) -> None:
    """Asks for tempo, bars and length; what is not changed stays as it is, with all its changes along the piece."""
    bpm, length = _bpm(of.tempo[0].bpm if of.tempo else 120.0), ClockBox(of.length)
    beats, unit = QSpinBox(), QComboBox()
    first = of.meters[0] if of.meters else Meter()
    beats.setRange(*BEATS)
    beats.setValue(first.beats)
    for each in UNITS:
        unit.addItem(f"/ {each}", each)
    unit.setCurrentIndex(UNITS.index(first.unit) if first.unit in UNITS else UNITS.index(4))
    for field, number, word in ((bpm, len(of.tempo), "tempi"), (beats, len(of.meters), "time signatures")):
        if number > 1:
            field.setToolTip(f"The first of {number} {word}. Another one here takes the place of all of them.")
    before = bpm.value(), (beats.value(), unit.currentData()), length.value()

    def done() -> None:
        found = of
        if bpm.value() != before[0]:
            found = set_tempo(found, [TempoPoint(0.0, bpm.value())])
        if (beats.value(), unit.currentData()) != before[1]:
            found = set_meters(found, [Meter(0.0, beats.value(), unit.currentData())])
        if length.value() != before[2]:
            found = set_length(found, length.value())
        answered(found)

    Question("Tempo, bars and length", parent, done, tempo=bpm, beats_a_bar=beats, each_a=unit, length=length).open()


def ask_new(parent: QWidget, answered: Callable[[str, int, float], object]) -> None:
    """Asks what a new session is called, its sample rate and its tempo."""
    name, rate, bpm = QLineEdit("New session"), QComboBox(), _bpm(120.0)
    for each in RATES:
        rate.addItem(f"{each / 1000:g} kHz", each)
    rate.setCurrentIndex(1)
    name.selectAll()
    Question(
        "New session", parent, lambda: answered(name.text(), rate.currentData(), bpm.value()),
        name=name, sample_rate=rate, tempo=bpm,
    ).open()  # fmt: skip
