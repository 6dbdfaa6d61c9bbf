"""What a plugin takes once it has sounded for a while, against one that gets dearer by a known time as it does."""

from __future__ import annotations

import numpy as np
import pytest

from nimbleload.core.decisions.decision import Plan
from nimbleload.core.session.computer import Machine
from nimbleload.core.session.strips import Clip, Strip
from nimbleload.core.survey import instant, survey
from nimbleload.core.told.card import card_sentences
from nimbleload.probe import rehearsal, session_run
from nimbleload.probe.company import LEVELS, find_company
from nimbleload.probe.effort import Effort
from nimbleload.probe.filling import LONGEST, Heard, find_filling, has_grown
from nimbleload.probe.loading import load
from nimbleload.probe.messages import Request
from nimbleload.probe.pace import Pace
from nimbleload.probe.paced import Turns
from nimbleload.probe.signal import musical
from nimbleload.probe.sweep import Meter
from nimbleload.probe.timed import TimedLoop, overhead_ns
from nimbleload.store.library import Library
from tests.helpers import known
from tests.helpers.sessions import session

SIZES = (64, 512)


def own(size: int, period: int = known.PERIOD) -> float:
    """What a usual block takes, with its part of the bursts, when nothing has filled up."""
    return known.CALL + known.SAMPLE * size + known.BURST / period


def measured(plugin: known.Known, effort: Effort):
    of = session(Strip("a", "a", inserts=(plugin.use(),), clips=(Clip(0.0, 10.0),), output="main"))
    *_, last = session_run.run(session_run.jobs(of, {}, SIZES), {}, effort=effort)
    assert last.card.failure is None
    return of, last.card


def hosted_loop(plugin: known.Known, frames: int):
    hosted = load(Request(plugin.use(), 48000, (frames,), str(plugin.path)))
    return hosted, TimedLoop(hosted, musical(1, 48000))


@pytest.fixture
def fills(tmp_path, monkeypatch):
    return known.installed(tmp_path, "clap", monkeypatch, "FILLS")


def test_what_gets_dearer_as_it_sounds_is_measured_and_rehearsed_when_it_is_full(fills, tmp_path):
    # To see it takes longer than its own tail lasts, and two seconds of it are a third of a second of computing.
    of, card = measured(fills, Effort(2, 0.02, 4.0, 1))
    assert known.FULL_SECONDS <= card.filled < 2.5 * known.FULL_SECONDS
    for size in SIZES:
        times = card.cell(48000, size, "sounding").sequence_ns() / 1e9
        assert times.min() > known.CALL + known.SAMPLE * size + known.FULL - 1e-6
        waking = card.cell(48000, size, "waking").sequence_ns() / 1e9
        assert np.median(waking) < own(size) + 0.7 * known.FULL
    for curve in card.company:
        assert min(curve.seconds) > known.CALL + known.SAMPLE * curve.buffer + known.FULL - 1e-6
    for each in card.paced:
        assert min(each.row, each.paced) > own(each.buffer) + 0.98 * known.FULL
    assert f"Costs less at first: the figures here are those after {card.filled:.1f} s of sound." in card_sentences(
        card, 48000, 64
    )
    library = Library(tmp_path / "library.sqlite")
    library.store(card, card.cells)
    assert library.cards([card.key])[card.key].filled == card.filled
    at = survey(of, Plan(), {card.key: card}, Machine(1), 512)
    *_, played = rehearsal.run(at, instant(at, 5.0), 0.5)
    assert played.rehearsal.uses["known"] > own(512) + 0.98 * known.FULL
    # Without the card nobody knows, and it begins as it does when it is loaded.
    *_, played = rehearsal.run(of_none := survey(of, Plan(), {}, Machine(1), 512), instant(of_none, 5.0), 0.5)
    assert played.rehearsal.uses["known"] < own(512) + 0.7 * known.FULL


def test_what_costs_the_same_from_the_beginning_fills_nothing(tmp_path, monkeypatch):
    plugin = known.installed(tmp_path, "clap", monkeypatch)
    hosted, loop = hosted_loop(plugin, 512)
    assert find_filling(loop, (), 48000, 512, 1.0, 1.0) == 0
    assert loop.fill(512) == () and loop.called > 0
    hosted.close()


def test_it_is_listened_no_longer_than_is_allowed_and_as_long_as_it_grows(fills):
    hosted, loop = hosted_loop(fills, 512)
    assert find_filling(loop, (), 48000, 512, 1.0, 0.0) == 0
    found = find_filling(loop, (), 48000, 512, 1.0, 30.0) / 48000
    assert known.FULL_SECONDS <= found < 2.5 * known.FULL_SECONDS
    # Asked from longer on, it is full by then.
    assert find_filling(loop, (), 48000, 512, 3.0, 30.0) / 48000 == pytest.approx(3.0, abs=0.3)
    assert find_filling(loop, (), 48000, 512, LONGEST + 1, 30.0) == 0
    loop.filling = round(known.FULL_SECONDS * 48000)
    loop.fill(512)
    assert loop.run(512, 4).min() / 1e9 > known.CALL + known.SAMPLE * 512 + known.FULL - 1e-6
    loop.refresh(512)
    assert loop.run(512, 4)[1:].min() / 1e9 < own(512) + 0.2 * known.FULL
    hosted.close()


def test_blocks_in_turns_and_values_tried_out_begin_full(fills):
    hosted, loop = hosted_loop(fills, 512)
    loop.filling = round(known.FULL_SECONDS * 48000)
    times, _ = Turns(hosted, loop, (), 48000, 512).play(True)
    assert times.min() / 1e9 > known.CALL + known.SAMPLE * 512 + known.FULL - 1e-6
    asked = {filling: Meter(48000, 512, filling).cost(hosted, 0) for filling in (0.0, 5.0)}
    assert asked[0.0] < own(512) + 0.5 * known.FULL < own(512) + 0.98 * known.FULL < asked[5.0]
    hosted.close()


def test_bursts_count_at_every_level_of_company_whatever_their_period(tmp_path, monkeypatch):
    """Rounds that do not follow each other in whole cycles have their bursts in other blocks: the least has none."""
    plugin = known.installed(tmp_path, "clap", monkeypatch, "PERIOD=64")
    hosted, loop = hosted_loop(plugin, 64)
    found = find_company(loop, Pace(), (), 48000, 64, 1 << 18, overhead_ns())
    assert len(found.seconds) == len(LEVELS)
    assert min(found.seconds) > own(64, 64) - 2e-7
    hosted.close()


@pytest.mark.parametrize("factor", [1.0, 1.5])
def test_others_on_the_core_are_not_taken_for_what_grows(factor):
    """Whoever shares it for the whole of one side makes all its blocks dearer, and the witness tells so; what has grown
    is found even then, by the few blocks that were alone."""
    calm, others = np.full((3, 16, 2), 1000), np.full((3, 16, 2), (1000, 1500))
    base = np.tile(np.where(np.arange(16) % 4, 1000, 9000), (3, 1))
    before = Heard(base, calm)
    shared, told = (base * factor * 1.4).astype(np.int64), others.copy()
    shared[1, ::2], told[1, ::2] = factor * base[1, ::2], 1000
    assert has_grown(before, Heard(shared, told)) == (factor > 1)
    # The other way round: a dear beginning hides nothing.
    once = np.arange(3)[:, None] == 1
    before = Heard(np.where(once, base, 2 * base), np.where(once[..., None], calm, others))
    assert has_grown(before, Heard((factor * base).astype(np.int64), calm)) == (factor > 1)
    # Where none was alone the least of all blocks is what there is.
    assert has_grown(Heard(base, others), Heard((factor * base).astype(np.int64), calm)) == (factor > 1)
