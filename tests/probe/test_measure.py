"""What is measured again: cells during which the computer was not quiet, and only if they are better then."""

from __future__ import annotations

import pytest

from nimbleload.core.session.plugins import PluginRef, PluginUse
from nimbleload.probe.effort import Effort
from nimbleload.probe.measure import Measurement
from tests.helpers.run_house import load


@pytest.mark.parametrize(
    ("then", "factor", "better"), [(True, 1.0, True), (True, 2.0, True), (False, 0.5, True), (False, 2.0, False)]
)
def test_what_was_not_quiet_is_measured_again_and_taken_if_it_is_better(monkeypatch, then, factor, better):
    use = PluginUse("u", PluginRef("house", "house.shoreline", "Shoreline"))
    measurement = Measurement(load("shoreline"), use, 48_000, Effort(2, 0.002))
    measured, calls = measurement._witnessed.runs, []

    def runs(run, blocks, wanted):
        """The first size is quiet throughout; the second is not, at first. All blocks take the same."""
        calls.append(blocks)
        made = measured(run, blocks, wanted)
        is_again, flat = len(calls) > 4, 100_000 * (factor if len(calls) > 4 else 1.0)
        made.times[:] = made.own[:] = round(flat)
        return made._replace(quiet=then if is_again else len(calls) <= 2)

    monkeypatch.setattr(measurement._witnessed, "runs", runs)
    first = list(measurement.cells((64, 128)))
    assert [(c.buffer, c.condition, c.quiet) for c in first] == [
        (size, condition, size == 64) for size in (64, 128) for condition in ("sounding", "waking", "silent")
    ]
    again = list(measurement.again())
    # Of the size that was quiet nothing is run again.
    assert len(calls) == 6
    wanted = [(128, "sounding"), (128, "silent")] if better else []
    assert [(c.buffer, c.condition) for c in again] == wanted
    assert all(c.mean == pytest.approx(factor * 1e-4, rel=1e-3) and c.quiet == then for c in again)
