"""A plugin that waits for the clock, in four standards: how near every measured figure comes to the known one.

    .venv/bin/python -m bench.known_cost

It takes 20 µs a call, 20 ns a sample, 100 µs more in every 16th block, 200 µs more in its first one and 30 µs more in
the second after its input ends. Waiting for the clock overshoots by up to one reading of it, about 30 ns.
"""

from __future__ import annotations

import os
import tempfile
from pathlib import Path

import numpy as np

from nimbleload.core.cards.card import CostCard, fit_line
from nimbleload.core.cards.rhythm import rhythm
from nimbleload.core.session.computer import BUFFER_SIZES
from nimbleload.core.session.session import Session
from nimbleload.core.session.strips import Strip
from nimbleload.probe import session_run
from tests.helpers import known

RATE = 48000
GOAL, SLACK = 0.03, 200e-9


def measured(built: known.Known) -> CostCard:
    """Its card, measured as any session's plugin is."""
    of = Session("known", RATE, 1.0, (Strip("a", "a", inserts=(built.use(),)),))
    *_, last = session_run.run(session_run.jobs(of, {}), {})
    return last.card


def figures(card: CostCard) -> list[tuple[str, float, float]]:
    """Name, known and measured value of everything that is known, in seconds."""
    found = []
    cells = [card.cell(RATE, buffer, "sounding") for buffer in BUFFER_SIZES]
    for buffer, cell in zip(BUFFER_SIZES, cells, strict=True):
        assert cell is not None
        block = known.CALL + known.SAMPLE * buffer
        burst = rhythm(cell.sequence_ns())
        assert burst is not None
        assert burst.period == known.PERIOD, f"a burst every {burst.period} blocks at {buffer} samples"
        waking, silent = card.cell(RATE, buffer, "waking"), card.cell(RATE, buffer, "silent")
        assert waking is not None
        assert silent is not None
        found.append((f"sounding, {buffer} samples", block + known.BURST / known.PERIOD, cell.mean))
        found.append((f"silent, {buffer} samples", block + known.BURST / known.PERIOD, silent.mean))
        found.append((f"burst, {buffer} samples", block + known.BURST, burst.burst))
        found.append((f"waking, {buffer} samples", block + known.WAKE, waking.sequence_ns()[0] / 1e9))
    line = fit_line(cell for cell in cells if cell is not None)
    found.append(("fixed part", known.CALL + known.BURST / known.PERIOD, line.fixed))
    found.append(("a thousand samples", 1000 * known.SAMPLE, 1000 * line.per_sample))
    silence = card.silence
    assert silence is not None
    steady = known.CALL + known.SAMPLE * silence.buffer + known.BURST / known.PERIOD
    found.append(("dearest part of its tail", steady + known.TAIL, silence.dearest))
    found.append(("after ten seconds of silence", steady, silence.after[2]))
    return found


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        os.environ["XDG_CACHE_HOME"] = folder
        for standard in ("ladspa", "lv2", "clap", "vst3"):
            built = known.build(Path(folder), standard)
            assert built is not None, "a C compiler is needed"
            os.environ.update([built.search])
            card = measured(built)
            assert card.failure is None, card.failure
            off = [(abs(b - a) / a, abs(b - a), name, a, b) for name, a, b in figures(card)]
            missed = [o for o in off if o[0] > GOAL and o[1] > SLACK]
            worst = max(off)
            noise = np.median([c.jitter / c.mean for c in card.cells if c.condition == "sounding"])
            truth, latency = card.truth, card.latency
            assert truth is not None
            print(
                f"{standard:6}  {len(off) - len(missed)} of {len(off)} figures within 3 % or 200 ns; furthest off "
                f"{100 * worst[0]:.2f} % ({worst[2]}: known {worst[3] * 1e6:.2f}, measured {worst[4] * 1e6:.2f} µs)"
            )
            print(
                f"        latency {latency} said, {truth.latency} true; tail {card.tail:.2f} s; other sound "
                f"{truth.null_db:.0f} dB; noise kept apart {100 * noise:.1f} %"
            )
            for share, _, name, known_seconds, seconds in missed:
                print(f"        {name}: {known_seconds * 1e6:.2f} known, {seconds * 1e6:.2f} µs, {100 * share:.1f} %")


if __name__ == "__main__":
    main()
