"""The host and the audio device: what they do with the work, typed in or fitted to readings of the host's meter."""

from __future__ import annotations

import logging
import threading
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialogButtonBox,
    QDoubleSpinBox,
    QFileDialog,
    QFormLayout,
    QGroupBox,
    QHBoxLayout,
    QPushButton,
    QSpinBox,
    QVBoxLayout,
    QWidget,
)

from ...core.load.host_fit import HostFit, MeterReading
from ...core.load.host_seen import HostSeen
from ...core.session.computer import BUFFER_SIZES, Device, Host
from ...core.session.panning import LAWS
from ...core.told.host_fit import PAN_LAWS, seen_sentence, sentence
from ...core.units import as_sentence, told_by
from ...store.recording_file import SUFFIX, RecordingFileError
from ..background.to_window_thread import ToWindowThread
from ..look.panels import Dialog
from ..look.words import Words

log = logging.getLogger(__name__)

READINGS = 3
AHEAD = (0, 512, 1024, 2048, 4096)
PARTS = (1, 2, 4, 8)
Fitter = Callable[[list[MeterReading]], HostFit]
Looker = Callable[[list[Path]], HostSeen]


class HostDialog(Dialog):
    """`chosen` brings the host and the device.

    `fit` works out a fit for readings of the host's meter, `look` what recordings of it tell; ValueError says why they
    cannot, RecordingFileError what is wrong with a file.
    """

    chosen = Signal(object, object)

    def __init__(self, host: Host, device: Device, fit: Fitter, look: Looker, parent: QWidget | None = None) -> None:
        super().__init__("The host and the audio device", parent)
        self._fit, self._look = fit, look
        self._to_window = ToWindowThread(self)
        self.finished.connect(self._to_window.close)
        self.free, self.periods, self.safety = QSpinBox(), QSpinBox(), QSpinBox()
        self.strip, self.plugin, self.factor = QDoubleSpinBox(), QDoubleSpinBox(), QDoubleSpinBox()
        self.converters, self.heard = QDoubleSpinBox(), QDoubleSpinBox()
        self.ahead, self.parts, self.law = QComboBox(), QComboBox(), QComboBox()
        self.suspends = QCheckBox("leaves out plugins of tracks that are silent")
        self.tails, self.outboard = QDoubleSpinBox(), QSpinBox()
        self.listed = QCheckBox("takes tracks in the order of the session, not the longest path first")
        self.words = Words("Two readings at different buffer sizes are enough; a third shows whether they fit.")
        self.words.setWordWrap(True)
        self.readings = [(QComboBox(), QDoubleSpinBox()) for _ in range(READINGS)]
        self._fill(host, device)
        column = QVBoxLayout(self)
        column.addWidget(self._host_box())
        column.addWidget(self._fit_box())
        column.addWidget(self._device_box())
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        column.addWidget(buttons)

    def _fill(self, host: Host, device: Device) -> None:
        self.free.setRange(0, 64)
        self.free.setValue(host.cores_left_free)
        for box, value, most, suffix in (
            (self.strip, host.strip_overhead * 1e6, 10_000, " µs"),
            (self.plugin, host.plugin_overhead * 1e6, 10_000, " µs"),
            (self.factor, host.plugin_factor * 100, 1000, " %"), (self.converters, device.converters * 1e3, 100, " ms"),
            (self.heard, device.heard_within * 1e3, 1000, " ms"),
        ):  # fmt: skip
            box.setRange(0, most)
            box.setDecimals(2)
            box.setSuffix(suffix)
            box.setValue(value)
        for size in AHEAD:
            self.ahead.addItem(f"{size} samples" if size else "not at all", size)
        if host.read_ahead not in AHEAD:
            self.ahead.addItem(f"{host.read_ahead} samples", host.read_ahead)
        self.ahead.setCurrentIndex(self.ahead.findData(host.read_ahead))
        for count in sorted({*PARTS, host.parts}):
            self.parts.addItem(f"in {count} parts" if count > 1 else "as a whole", count)
        self.parts.setCurrentIndex(self.parts.findData(host.parts))
        for law in ("", *LAWS):
            self.law.addItem(PAN_LAWS[law], law)
        self.law.setCurrentIndex(self.law.findData(host.pan_law))
        self.suspends.setChecked(host.suspends)
        self.listed.setChecked(host.listed)
        self.tails.setRange(0, 600)
        self.tails.setSuffix(" s")
        self.tails.setValue(host.tail_limit)
        self.heard.setSpecialValueText("does not matter")
        self.outboard.setRange(0, 256)
        self.outboard.setSpecialValueText("there is none")
        self.outboard.setValue(device.outboard)
        self.periods.setRange(1, 16)
        self.periods.setValue(device.periods)
        self.safety.setRange(0, 8192)
        self.safety.setValue(device.safety)
        self.safety.setSuffix(" samples")

    def _host_box(self) -> QGroupBox:
        box = QGroupBox("The host")
        form = QFormLayout(box)
        form.addRow("leaves free so many cores", self.free)
        form.addRow("takes for each track", self.strip)
        form.addRow("takes for each plugin", self.plugin)
        form.addRow("plugins cost, of what was measured", self.factor)
        form.addRow("computes ahead what is not live", self.ahead)
        form.addRow("computes each block", self.parts)
        form.addRow("", self.suspends)
        form.addRow("lets tails sound, before it suspends, for", self.tails)
        form.addRow("", self.listed)
        form.addRow("pans by", self.law)
        self.law.setToolTip("Only what is printed goes by it: panned tracks on a bus, with the bus")
        return box

    def _fit_box(self) -> QGroupBox:
        box = QGroupBox("Fit to its meter, at the chosen moment")
        column = QVBoxLayout(box)
        for number, (size, share) in enumerate(self.readings):
            size.addItems([f"{each} samples" for each in BUFFER_SIZES])
            size.setCurrentIndex(min(1 + 2 * number, len(BUFFER_SIZES) - 1))
            share.setRange(0, 1000)
            share.setSuffix(" %")
            share.setSpecialValueText("none")
            size.setAccessibleName(f"Reading {number + 1}, buffer size")
            share.setAccessibleName(f"Reading {number + 1}, load")
            row = QHBoxLayout()
            row.addWidget(size)
            row.addWidget(share)
            column.addLayout(row)
        self.fit, self.seen = QPushButton("Fit"), QPushButton("From recordings of it…")
        self.fit.clicked.connect(self.fit_readings)
        self.seen.clicked.connect(self.ask_recordings)
        self.seen.setToolTip("What Watch has kept: one recording, or several at other buffer sizes")
        column.addWidget(self.words)
        row = QHBoxLayout()
        row.addWidget(self.fit)
        row.addWidget(self.seen)
        column.addLayout(row)
        return box

    def _device_box(self) -> QGroupBox:
        box = QGroupBox("The audio device")
        form = QFormLayout(box)
        form.addRow("buffers from input to output", self.periods)
        form.addRow("safety buffer", self.safety)
        form.addRow("converters", self.converters)
        form.addRow("outboard device, room for plugins", self.outboard)
        form.addRow("whoever records must hear himself within", self.heard)
        return box

    def fit_readings(self) -> None:
        """Works out the host's own time from the readings, and fills it in."""
        given = [
            MeterReading(BUFFER_SIZES[size.currentIndex()], share.value() / 100)
            for size, share in self.readings
            if share.value() > 0
        ]
        try:
            found = self._fit(given)
        except ValueError as error:
            self.words.setText(as_sentence(str(error)))
            return
        self.words.setText(sentence(found, given))
        self.strip.setValue(found.strip_overhead * 1e6)
        self.plugin.setValue(0.0)
        self.factor.setValue(found.factor * 100)

    def ask_recordings(self) -> None:
        """Asks for recordings of the host, made while it played the chosen moment."""
        paths, _ = QFileDialog.getOpenFileNames(self, "Recordings of the host", "", f"Recordings (*{SUFFIX})")
        if paths:
            self.words.setText("Reading …")
            self.seen.setEnabled(False)
            threading.Thread(target=self._read, args=([Path(path) for path in paths],), daemon=True).start()

    def _read(self, paths: list[Path]) -> None:
        try:
            found: HostSeen | str = self._look(paths)
        except (ValueError, RecordingFileError) as error:
            found = as_sentence(str(error))
        except Exception as error:
            log.exception("recordings could not be read for the host")
            found = f"The recordings could not be read: {told_by(error)}."
        self._to_window.last(self._take_seen, found)

    def _take_seen(self, found: HostSeen | str) -> None:
        """Fills in what recordings tell."""
        self.seen.setEnabled(True)
        if isinstance(found, str):
            self.words.setText(found)
            return
        self.words.setText(seen_sentence(found))
        self.strip.setValue(found.strip_overhead * 1e6)
        self.plugin.setValue(0.0)
        self.factor.setValue(found.factor * 100)
        self.free.setValue(found.cores_left_free)
        if self.ahead.findData(found.read_ahead) < 0:
            self.ahead.addItem(f"{found.read_ahead} samples", found.read_ahead)
        self.ahead.setCurrentIndex(self.ahead.findData(found.read_ahead))

    def accept(self) -> None:
        host = Host(
            self.free.value(), self.strip.value() / 1e6, self.plugin.value() / 1e6, int(self.ahead.currentData()),
            self.suspends.isChecked(), self.factor.value() / 100, self.listed.isChecked(), self.tails.value(),
            int(self.parts.currentData()), self.law.currentData(),
        )  # fmt: skip
        device = Device(
            self.periods.value(), self.safety.value(), self.converters.value() / 1e3, self.outboard.value(),
            self.heard.value() / 1e3,
        )  # fmt: skip
        self.chosen.emit(host, device)
        super().accept()
