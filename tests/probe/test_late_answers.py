"""Plugins that answer late, by a latency or by echoes far apart: not cut off, nor taken for ones that do nothing."""

from __future__ import annotations

import pytest

from nimbleload.core.session.strips import Strip
from nimbleload.core.told.card import card_sentences
from nimbleload.probe import session_run
from nimbleload.probe.effort import Effort
from nimbleload.probe.formats import ladspa
from nimbleload.probe.signal import musical
from nimbleload.probe.timed import TimedLoop
from nimbleload.probe.truth import null_against
from tests.helpers import echoes, known
from tests.helpers.sessions import session

EFFORT = Effort(2, 0.02, rounds=0)


@pytest.fixture
def plugin(tmp_path, monkeypatch):
    echoes.installed(tmp_path, monkeypatch)


def measured(use, buffers=(64, 1024), details=False):
    of = session(Strip("a", "a", inserts=(use,), output="main"))
    jobs = [job._replace(details=details) for job in session_run.jobs(of, {}, buffers)]
    *_, last = session_run.run(jobs, {}, effort=EFFORT)
    assert last.card.failure is None
    return last.card


@pytest.mark.usefixtures("plugin")
class TestEchoes:
    @pytest.mark.parametrize("apart", [0.3, 0.99, 1.5, 2.5, 3.9])
    def test_an_echo_is_waited_for_and_no_plugin_that_does_nothing(self, apart):
        # Softer by 46 dB each time: the second one is below −90 dBFS.
        card = measured(echoes.use(apart=apart, feedback=0.005))
        # What goes in for half a second comes again, whole, after so long.
        assert card.tail == pytest.approx(apart, abs=0.03)
        assert not card.truth.idle
        # A fader that rides comes before an echo, or after it: that is not the same.
        assert card.truth.ride_db > -60
        assert card.truth.linear_db < -100

    def test_a_tail_that_ends_shortly_before_it_would_not_be_listened_to_any_more_is_known(self):
        # Softer by 10.5 dB each time: the eighth echo is the last that is above −90 dBFS.
        assert measured(echoes.use(apart=1.5, feedback=0.3)).tail == pytest.approx(8 * 1.5 - 0.5, abs=0.5)

    def test_echoes_without_an_end_sound_beyond_what_is_listened_for(self):
        card = measured(echoes.use(apart=2.0, feedback=0.9))
        assert (card.tail, card.listened) == (None, 15.0)

    def test_what_only_passes_on_does_nothing(self):
        assert measured(echoes.use()).truth.idle


@pytest.mark.usefixtures("plugin")
class TestLatencies:
    @pytest.mark.parametrize("late", [0, 5000, 16384, 30000, 60000, 150000])
    def test_one_of_seconds_is_true_and_changes_nothing_of_what_is_found(self, late):
        truth = measured(echoes.use(late=late)).truth
        assert truth.latency == late
        assert truth.finite and truth.idle and not truth.silent
        assert max(truth.null_db, truth.linear_db, truth.ride_db) < -100

    def test_what_comes_later_than_any_echo_is_waited_for_if_it_is_told(self):
        assert measured(echoes.use(late=250_000)).tail == pytest.approx(250_000 / 48000, abs=0.02)

    def test_one_that_goes_by_the_block_size_is_known_at_each(self):
        card = measured(echoes.use(late=echoes.BY_BLOCK))
        assert card.latencies(48000) == {64: 64, 1024: 1024}
        assert [card.latency_at(48000, size) for size in (32, 64, 544, 1024, 4096)] == [64, 64, 544, 1024, 1024]
        # It sounds the same at any, and is as late as it says.
        assert card.truth.null_db < -100
        assert card.truth.latency == card.latency == 512
        assert "true latency" not in " ".join(card_sentences(card, 48000, 64))

    def test_two_settings_are_compared_on_time(self):
        loops = []
        for late in (0, 40000):
            path = session_run.request_for(echoes.use(), 48000, 512).path
            hosted = ladspa.load(echoes.use(late=late), path, 48000, 512)
            loops.append(TimedLoop(hosted, musical(len(hosted.inputs), 48000)))
            loops[-1].refresh(512)
            loops[-1].run(512, 1)
        assert loops[1].latency == 40000
        assert null_against(loops[0], loops[1]) < -100


def test_what_can_be_there_only_once_is_measured_all_the_same(tmp_path, monkeypatch):
    plugin = known.installed(tmp_path, "clap", monkeypatch, "ALONE")
    card = measured(plugin.use(), (64,), details=True)
    assert session_run.has_details(card)
    assert card.upkeep.refused
    said = f"A second instance beside it could not be loaded: {card.upkeep.refused}"
    assert said in card_sentences(card, 48000, 64)
    assert card.silence is not None and card.cell(48000, 64, "silent") is not None
