"""Words that wrap: no line between a figure and its unit, and what was said is what is read."""

from __future__ import annotations

import pytest
from PySide6.QtWidgets import QLabel

from nimbleload.app.look.prose import Prose


@pytest.mark.parametrize(
    ("said", "shown"),
    [
        ("up to 62 % too high", "up to 62_% too high"),
        ("69.6 µs of 5.33 ms, in 2 min: 48 kHz", "69.6_µs of 5.33_ms, in 2_min: 48_kHz"),
        ("12 steps, 3 minutes, 4 sends, track 5 s", "12 steps, 3 minutes, 4 sends, track 5_s"),
        ("no % at all", "no % at all"),
    ],
)
def test_a_figure_stays_with_its_unit(qtbot, said, shown):
    label = Prose(said)
    qtbot.addWidget(label)
    assert QLabel.text(label) == shown.replace("_", "\N{NO-BREAK SPACE}")
    assert label.text() == said and label.wordWrap()
    label.setText("")
    assert (label.text(), QLabel.text(label)) == ("", "")
