"""A plugin of one channel on a wider strip: an instance for each channel, each like one that stands by itself."""

from __future__ import annotations

import msgspec
import numpy as np
import pytest

from nimbleload.core.session.strips import Strip
from nimbleload.core.told.card import card_sentences
from nimbleload.probe import loading, session_run
from nimbleload.probe.effort import Effort
from nimbleload.probe.formats.hosted import Move, PluginError, wired
from nimbleload.probe.formats.per_channel import MOST, PerChannel, load_wide
from nimbleload.probe.messages import Request
from nimbleload.probe.timed import TimedLoop
from tests.helpers import known
from tests.helpers.sessions import session

# LV2's, for which liblilv looks once a process, is tried where it is rendered.
STANDARDS = ("ladspa", "clap", "vst3")
RATE, FRAMES, BLOCKS = 48000, 256, 12


def loaded(built, channels, sidechain=None):
    use = msgspec.structs.replace(built.use(), channels=channels, sidechain=sidechain)
    return loading.load(Request(use, RATE, (FRAMES,), str(built.path)))


def noise(rows, seed=0):
    return np.random.default_rng(seed).uniform(-0.5, 0.5, (rows, BLOCKS * FRAMES)).astype(np.float32)


def played(hosted, sound, listens=0, **more):
    loop = TimedLoop(hosted, sound, listens)
    loop.refresh(FRAMES)
    return loop.capture(FRAMES, BLOCKS, source=sound, **more)


@pytest.mark.parametrize("standard", STANDARDS)
@pytest.mark.parametrize("channels", [2, 3, MOST + 1])
def test_each_channel_goes_through_an_instance_of_its_own(standard, channels, tmp_path, monkeypatch):
    """Of a plugin that delays by what its side-chain is multiplied with: it remembers."""
    built = known.installed(tmp_path, standard, monkeypatch, "KEYED")
    sound, side = noise(channels), noise(2, seed=1)
    wide = loaded(built, channels, "kick")
    assert isinstance(wide, PerChannel)
    made = played(wide, np.concatenate((sound, side)), 2)
    wide.settled()
    assert wide.latency == 77 and len(made) == min(channels, MOST) and np.abs(made).max() > 0.01
    for k, channel in enumerate(made):
        alone = loaded(built, 1, "kick")
        assert not isinstance(alone, PerChannel)
        # Each hears its own channel of what is listened to, as far as there are some.
        (expected,) = played(alone, np.stack((sound[k], side[k % 2])), 1)
        assert np.array_equal(channel, expected)
        alone.close()
    # From a fresh state it is the same again.
    assert np.array_equal(played(wide, np.concatenate((sound, side)), 2), made)
    wide.close()


@pytest.mark.parametrize("standard", STANDARDS)
def test_what_is_set_while_it_runs_is_set_in_each(standard, tmp_path, monkeypatch):
    built = known.installed(tmp_path, standard, monkeypatch, "MOVES")
    hosted, sound = loaded(built, 2), noise(2)
    (number,) = [p.key for p in hosted.parameters() if p.name == "Extra"]
    move = (Move(number, 50.0 if standard != "vst3" else 0.5, 0),)
    made = played(hosted, sound, moves=move)
    assert np.allclose(made[:, FRAMES:], 0.5 * sound[:, FRAMES:], atol=1e-6)
    hosted.close()


def test_blocks_in_which_one_of_them_fails_have_failed(tmp_path, monkeypatch):
    built = known.installed(tmp_path, "clap", monkeypatch, "FAILS")
    hosted = loaded(built, 2)
    loop = TimedLoop(hosted, noise(2))
    loop.refresh(FRAMES)
    loop.run(FRAMES, 5)
    assert loop.failed == 5
    # CLAP's 0 is a failure, 1 is none: the first fails in the first block, the second in the last two.
    assert hosted.failures(np.array([0x10, 0x11, 0x01, 0x01], np.int32)) == 2
    hosted.close()


class Fake:
    """What stands for a plugin with so many main inputs and outputs, which counts how many of it are there."""

    def __init__(self, there, ins, outs, rows):
        self.there = there
        self.inputs, self.outputs = rows(ins, 8), rows(outs, 8)
        self.wiring = wired(msgspec.structs.replace(known.Known("clap", "", ("", "")).use(), channels=2), [False] * ins)
        self.call = self.handle = 0
        self.moves, self.is_turned, self.expresses = "between", True, frozenset()
        there.append(self)

    def close(self):
        self.there.remove(self)


@pytest.mark.parametrize(
    ("channels", "ins", "outs", "instances"),
    [(2, 1, 1, 2), (1, 1, 1, 1), (0, 1, 1, 1), (2, 2, 2, 1), (2, 1, 2, 1), (2, 2, 1, 1), (2, 0, 1, 1), (4, 1, 1, 4)],
)
def test_only_what_has_one_channel_is_there_for_each(channels, ins, outs, instances):
    there = []
    found = load_wide(lambda rows: Fake(there, ins, outs, rows), channels)
    assert len(there) == instances and isinstance(found, PerChannel) == (instances > 1)
    # What goes into and comes out of all lies in one place.
    assert all(np.shares_memory(found.inputs, each.inputs) for each in there)
    assert [len(found.inputs), len(found.outputs)] == [max(ins, 1) * instances, outs * instances]
    for number, each in enumerate(there):
        each.inputs[:] = number
    assert instances == 1 or found.inputs[:, 0].tolist() == list(range(instances))
    found.close()
    assert there == []


def test_where_the_second_does_not_load_the_first_is_closed():
    there = []

    def load(rows):
        if there:
            raise PluginError("one at a time")
        return Fake(there, 1, 1, rows)

    with pytest.raises(PluginError, match="one at a time"):
        load_wide(load, 2)
    assert there == []


@pytest.mark.parametrize(("channels", "instances", "hears"), [(1, 1, 1), (2, 2, 2)])
def test_its_card_says_how_many_of_it_there_were(channels, instances, hears, tmp_path, monkeypatch):
    built = known.installed(tmp_path, "clap", monkeypatch)
    use = msgspec.structs.replace(built.use(), channels=channels)
    of = session(Strip("a", "A", inserts=(use,)))
    *_, last = session_run.run(session_run.jobs(of, {}, (64,)), {}, effort=Effort(2, 0.01, rounds=0))
    made = last.card.made
    assert (made.instances, made.hears) == (instances, hears)
    said = "Has one channel: there is one of it for each of the track's 2, counted here."
    assert (said in card_sentences(last.card, of.rate, 64)) is (instances == 2)
    # A plugin with one input and two outputs is there once.
    alone = msgspec.structs.replace(last.card, made=msgspec.structs.replace(made, instances=1, hears=1))
    said = "Hears 1 of its track's 2 channels here: hosts give it that, or all together."
    assert (said in card_sentences(alone, of.rate, 64)) is (channels == 2)
