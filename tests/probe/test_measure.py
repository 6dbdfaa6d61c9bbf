"""What is measured once more: cells that others disturbed, and nothing else of the plugin."""

from __future__ import annotations

import numpy as np
import pytest

from nimbleload.core.session.plugins import PluginRef, PluginUse
from nimbleload.probe import measure, session_run
from nimbleload.probe.effort import Effort
from nimbleload.probe.measure import Loaded, Measurement
from nimbleload.probe.memory_kept import kept
from nimbleload.probe.messages import Again
from tests.helpers.run_house import load


@pytest.mark.parametrize("filled", [0.0, 0.5])
def test_of_a_plugin_only_these_cells_are_run_again_and_as_full_as_before(filled):
    use = PluginUse("u", PluginRef("house", "house.shoreline", "Shoreline"))
    measurement = Measurement(load("shoreline"), use, 48_000, Effort(2, 0.002))
    cells = list(measurement.again(Again(((128, "silent"), (64, "sounding")), 0.2, filled)))
    assert [(c.buffer, c.condition, c.rate) for c in cells] == [(128, "silent", 48_000), (64, "sounding", 48_000)]
    assert all(c.mean > 0 and c.provenance == "measured" for c in cells)
    assert measurement._loop.filling == round(filled * 48_000)


def test_an_instrument_is_silent_when_its_voices_have_ended_not_when_they_are_no_longer_heard(monkeypatch):
    use = PluginUse("u", PluginRef("house", "house.cask", "Cask"), voices=10)
    measurement, seen = Measurement(load("cask"), use, 48_000, Effort(3, 0.3)), []
    tail = measurement.facts().tail
    assert tail is not None
    runs = measurement._witnessed.runs
    monkeypatch.setattr(measurement._witnessed, "runs", lambda *of: seen.append(runs(*of)) or seen[-1])
    list(measurement.again(Again(((256, "silent"), (512, "silent")), tail, 0.0)))
    sounding = np.median(measurement._sound(256, 100))
    # From the first block on that is timed.
    assert max(np.median(run[:20]) for of in seen for run in of.times) < sounding / 20


@pytest.mark.parametrize("quiet", [True, False])
def test_a_cell_says_whether_others_shared_the_core_and_how_much(monkeypatch, quiet):
    use = PluginUse("u", PluginRef("house", "house.shoreline", "Shoreline"))
    measurement = Measurement(load("shoreline"), use, 48_000, Effort(2, 0.002))
    runs = measurement._witnessed.runs
    monkeypatch.setattr(
        measurement._witnessed, "runs", lambda *of: runs(*of)._replace(quiet=quiet, shared=1.0 if quiet else 1.6)
    )
    for cell in measurement.cells((64,)):
        assert (cell.quiet, cell.shared) == (quiet, 1.0 if quiet else 1.6)
        assert cell.doubt == pytest.approx(0.0 if quiet else 0.375)


@pytest.mark.parametrize(
    ("seconds", "expected"),
    [(0.01, {"find_company": False, "find_slowing": 3, "find_footprint": 1}),
     (0.1, {"find_company": True, "find_slowing": 8, "find_footprint": 3})],
)  # fmt: skip
def test_details_wait_for_others_only_where_there_is_time_for_it(monkeypatch, seconds, expected):
    use = PluginUse("u", PluginRef("house", "house.shoreline", "Shoreline"))
    measurement, told = Measurement(load("shoreline"), use, 48_000, Effort(2, seconds)), {}
    for name in ("find_company", "find_slowing", "find_footprint", "find_paced", "find_silence", "find_inputs"):
        monkeypatch.setattr(measure, name, lambda *of, name=name: told.update({name: of[-1]}))
    measurement.details(4096, None, Loaded(0.0, kept()), lambda: load("shoreline"), lambda: None)
    assert {name: told[name] for name in expected} == expected


def test_how_often_what_others_disturbed_is_measured_again_goes_by_the_effort():
    assert session_run._Run([], Effort(rounds=2), lambda: False, 1.0, lambda: False).rounds == 2
