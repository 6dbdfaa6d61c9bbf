"""Side-chains: a plugin's further inputs hear what was led to them, and silence where nothing was."""

from __future__ import annotations

import msgspec
import numpy as np
import pytest

from nimbleload.core.decisions.decision import Plan
from nimbleload.core.session.computer import Machine
from nimbleload.core.session.plugins import PluginRef, PluginUse
from nimbleload.core.session.routing import build, feeding
from nimbleload.core.session.strips import Clip, Strip
from nimbleload.core.survey import instant, survey
from nimbleload.probe import rehearsal, session_run
from nimbleload.probe.effort import Effort
from nimbleload.probe.formats import ladspa, lv2
from nimbleload.probe.formats.hosted import wired
from nimbleload.probe.messages import PlayedMessage
from nimbleload.probe.signal import musical
from nimbleload.probe.stage import Stage
from tests.helpers import known
from tests.helpers.sessions import session

STANDARDS = ("ladspa", "lv2", "clap", "vst3")
SIZES = (64, 512)


def use(channels=2, sidechain=None):
    return PluginUse("u", PluginRef("clap", "x"), channels=channels, sidechain=sidechain)


@pytest.mark.parametrize(("channels", "keyed", "sides", "signals", "own"), [
    (2, False, (False, False), (0, 1), 2),
    (1, False, (False, False), (0, 0), 1),
    (2, False, (False,), (0,), 1),
    (2, False, (False,) * 4, (0, 1, -1, -1), 2),
    (4, False, (False,) * 4, (0, 1, 2, 3), 4),
    (2, True, (False, False, True), (0, 1, 2), 2),
    (2, False, (False, False, True, True), (0, 1, -1, -1), 2),
    (2, True, (True, False, False), (2, 0, 1), 2),
    (1, True, (False, False, True, True), (0, 0, 1, 2), 1),
    (2, True, (True, True), (0, 1), 2),
    (2, True, (), (-1,), 0),
])  # fmt: skip
def test_what_each_input_carries(channels, keyed, sides, signals, own):
    found = wired(use(channels, "kick" if keyed else None), sides)
    assert tuple(found.signals) == signals and found.own == own


def test_which_rows_of_a_source_they_take():
    stereo = wired(use(2, "kick"), (False, False, True))
    assert stereo.rows(3).tolist() == [0, 1, 2]
    assert stereo.rows(4, 2).tolist() == [0, 1, 2]
    # A mono source goes to both; without anything of its own the side-chain hears what the rest hears.
    assert stereo.rows(1).tolist() == [0, 0, 0]
    assert stereo.rows(2, 1).tolist() == [0, 0, 1]
    assert wired(use(2, "kick"), (False, False, True, True)).rows(3, 1).tolist() == [0, 1, 2, 2]
    assert wired(use(2), (False, False, True)).rows(4, 2).tolist() == [0, 1, -1]
    assert wired(use(1, "kick"), (False, True, True)).rows(4, 2).tolist() == [0, 2, 3]
    source = np.arange(6, dtype=np.float32).reshape(2, 3)
    assert wired(use(2), (False, False, True)).carried(source).tolist() == [[0, 1, 2], [3, 4, 5], [0, 0, 0]]


@pytest.mark.parametrize(("name", "is_one"), [
    ("Sidechain", True), ("Side-chain in", True), ("side chain left", True), ("Input", False), ("Side left", False),
])  # fmt: skip
def test_ladspa_says_so_in_a_name(name, is_one):
    assert ladspa.is_side_chain(name) is is_one


def listener(plugin: known.Known, heard: str | None) -> PluginUse:
    return msgspec.structs.replace(plugin.use(), sidechain=heard)


def kick_and_bass(plugin: known.Known, heard: str | None = "kick", **more):
    return session(
        Strip("kick", "Kick", clips=(Clip(0.0, 4.0),), output="main"),
        Strip("bass", "Bass", clips=(Clip(0.0, 10.0),), inserts=(listener(plugin, heard),), output="main"), **more,
    )  # fmt: skip


@pytest.mark.parametrize("standard", STANDARDS)
def test_the_card_is_that_of_a_plugin_which_hears_something_or_nothing(standard, tmp_path, monkeypatch):
    plugin = known.installed(tmp_path, standard, monkeypatch, "KEYED")
    found = {}
    for heard in ("kick", None):
        of = kick_and_bass(plugin, heard)
        jobs = [job._replace(details=False) for job in session_run.jobs(of, {}, SIZES)]
        assert [job.key.keyed for job in jobs] == [heard is not None]
        *_, last = session_run.run(jobs, {}, effort=Effort(3, 0.02, rounds=1))
        assert last.card.failure is None
        found[heard] = [last.card.cell(48000, size, "sounding").sequence_ns().min() / 1e9 for size in SIZES]
    for size, hearing, deaf in zip(SIZES, found["kick"], found[None], strict=True):
        own = known.CALL + known.SAMPLE * size
        assert own - 1e-7 < deaf < own + known.KEYED / 2
        assert own + known.KEYED - 1e-7 < hearing < own + 1.5 * known.KEYED


@pytest.mark.parametrize("standard", STANDARDS)
def test_in_a_rehearsal_it_hears_the_strip_that_it_listens_to(standard, tmp_path, monkeypatch):
    """While the kick plays it takes 200 µs more; once that is silent, or not listened to, it does not."""
    plugin = known.installed(tmp_path, standard, monkeypatch, "KEYED")
    own = known.CALL + known.SAMPLE * 512
    moments = [("kick", 2.0, True), ("kick", 8.0, False), (None, 2.0, False)]
    for heard, second, hears in moments if standard == "vst3" else moments[:1]:
        at = survey(kick_and_bass(plugin, heard), Plan(), {}, Machine(1), 512)
        last = list(rehearsal.run(at, instant(at, second), 0.5))[-1]
        assert isinstance(last, PlayedMessage)
        mean = last.rehearsal.uses["known"]
        assert (own + known.KEYED < mean) if hears else (own < mean < own + known.KEYED / 2)


def test_what_is_listened_to_is_not_added_up(tmp_path, monkeypatch):
    plugin = known.installed(tmp_path, "lv2", monkeypatch, "KEYED")
    of = kick_and_bass(plugin)
    hosted = lv2.load(of.strips[1].inserts[0], "", 48000, 64, 64)
    source = musical(2, 48000, 0.5)
    stage = Stage(
        build(of), [[], [(hosted, (), 0)], []], feeding(of), np.array([True, False, False]), np.arange(3.0), source, 64
    )  # fmt: skip
    stage.perform(48000, 20, (0,), lambda core: False, lambda so_far: True)
    # The bass plays nothing: times what it hears that is nothing still.
    assert np.abs(hosted.inputs[1, :64]).max() > 0
    assert not hosted.inputs[0, :64].any() and not stage._buses[1].any()
    hosted.close()
