"""One plugin of known cost in four standards: whatever it does by the clock is found, in every one of them.

It waits for the clock itself, so what is asserted holds on a machine of any speed: the least of several runs is never
below what it waits for, and what it adds is many times the noise of a comparison within one run.
"""

from __future__ import annotations

import shutil
import subprocess
import sys

import msgspec
import numpy as np
import pytest

from nimbleload.core.session.strips import Strip
from nimbleload.core.told.card import card_sentences
from nimbleload.probe import session_run
from nimbleload.probe.effort import Effort
from nimbleload.probe.loading import load
from nimbleload.probe.messages import Request
from nimbleload.probe.sweep import trials
from tests.helpers import known
from tests.helpers.searching import apart
from tests.helpers.sessions import session

EFFORT = Effort(4, 0.02, rounds=1)


@pytest.fixture(params=["ladspa", "lv2", "clap", "vst3"])
def plugin(request, tmp_path, monkeypatch):
    return known.installed(tmp_path, request.param, monkeypatch)


def measured(use, buffers=(64, 1024), details=True):
    of = session(Strip("a", "a", inserts=(use,), output="main"))
    card = None
    jobs = [job._replace(details=details) for job in session_run.jobs(of, {}, buffers)]
    for step in session_run.run(jobs, {}, effort=EFFORT):
        card = step.card
    assert card is not None
    return card


def test_every_figure_is_the_one_it_waits_for(plugin):
    card = measured(plugin.use())
    assert card.failure is None
    for buffer in (64, 1024):
        least = known.CALL + known.SAMPLE * buffer
        cell = card.cell(48000, buffer, "sounding")
        own = cell.sequence_ns() / 1e9
        # It cannot take less than it waits for, but for the clock's own reading.
        assert own.min() > least - 1e-7
        at = np.flatnonzero(own > least + known.BURST * 0.9)
        # One block in sixteen, from the first to the last; how many blocks were timed depends on the machine.
        assert set(np.diff(at)) <= {known.PERIOD}
        assert at[0] < known.PERIOD and len(own) - at[-1] <= known.PERIOD
        waking = card.cell(48000, buffer, "waking").sequence_ns() / 1e9
        assert waking[0] > least + known.WAKE - 1e-7
    assert card.latency == 77
    assert card.truth.latency == 0
    assert card.truth.null_db == pytest.approx(
        0, abs=0.1
    )  # the small blocks are half as loud: what is missing is as loud as what is there
    assert card.tail == pytest.approx(known.TAIL_SECONDS, abs=0.02)
    # 512 samples: the tail's tenth of a second is dearer by what it waits for in it.
    assert card.silence.dearest > card.silence.after[2] + 0.9 * known.TAIL
    # In silence it goes on waiting (whether that counts as sleeping is told from figures of a quiet machine only).
    assert min(card.silence.after) > known.CALL
    assert [c.buffer for c in card.company] == [64, 2048]
    assert card.upkeep.load > 0
    said = " ".join(card_sentences(card, 48000, 64))
    for words in ("Works in bursts", "every 16 blocks", "Waking up costs", "true latency is 0 samples, not 77",
                  "Sounds different at another buffer size"):  # fmt: skip
        assert words in said


def test_its_parameters_are_found_and_can_be_set(plugin):
    def loaded(use):
        return load(Request(use, 48000, (64,), str(plugin.path)))

    if plugin.standard == "lv2":
        pytest.skip("liblilv looks for bundles once a process; tried through a worker below")
    found = {p.name: p for p in loaded(plugin.use()).parameters()}
    assert [found[name].kind for name in ("Extra", "Quality")] == ["number", "switch"]
    most = 1.0 if plugin.standard == "vst3" else 100.0
    assert (found["Extra"].least, found["Extra"].most, found["Extra"].value) == (0.0, most, 0.0)
    assert {(t.key, t.value) for t in trials(loaded(plugin.use()).parameters())} == {
        (found["Quality"].key, 1.0), (found["Extra"].key, most / 2), (found["Extra"].key, most),
    }  # fmt: skip
    for name in ("Extra", found["Extra"].key):
        changed = {p.name: p.value for p in loaded(plugin.use(**{name: most / 2})).parameters()}
        assert changed["Extra"] == pytest.approx(most / 2)


def test_settings_are_ranked_by_what_they_cost(plugin):
    *_, last = session_run.sweep(plugin.use(), 48000, 1024)
    assert last.failure is None
    sweep = last.sweep
    assert sweep.skipped == 0
    assert [e.words.split()[0] for e in sweep.ranked()] == ["Quality", "Extra", "Extra"]
    cheapest, *extras = sweep.ranked()
    assert cheapest.seconds > sweep.base
    # What 50 and 100 µs more wait for, by the clock.
    assert extras[1].seconds - extras[0].seconds > 40e-6


def test_a_value_that_crashes_is_noted_and_the_rest_is_tried(monkeypatch, tmp_path):
    source = known.SOURCE.read_text().replace(
        "if (v->header.type == 5)", "if (v->param == 11) *(volatile int *)0 = 1;\n    if (v->header.type == 5)"
    )
    (tmp_path / "crash.c").write_text(source)
    monkeypatch.setattr(known, "SOURCE", tmp_path / "crash.c")
    built = known.installed(tmp_path, "clap", monkeypatch)
    *_, last = session_run.sweep(built.use(), 48000, 256)
    failed = [e for e in last.sweep.effects if e.failure]
    assert [(e.words, e.failure) for e in failed] == [("Quality 1", "crashed: SIGSEGV")]
    assert len(last.sweep.ranked()) == 2


class TestLv2State:
    @pytest.fixture
    def lv2(self, tmp_path, monkeypatch):
        return known.installed(tmp_path, "lv2", monkeypatch)

    STATE = b"""@prefix lv2: <http://lv2plug.in/ns/lv2core#> . @prefix pset: <http://lv2plug.in/ns/ext/presets#> .
        <urn:s> a pset:Preset ; lv2:appliesTo <urn:nimble-test:known> ;
        lv2:port [ lv2:symbol "extra" ; pset:value 50.0 ] ."""

    @pytest.mark.parametrize("state", [STATE, b"urn:nimble-test:known-preset"], ids=["text", "preset"])
    def test_a_saved_state_or_a_preset_is_what_runs(self, lv2, state):
        own = measured(lv2.use(state), (64,), False).cell(48000, 64, "sounding").sequence_ns() / 1e9
        assert own.min() > 50e-6 + known.CALL

    def test_a_value_goes_before_the_state(self, lv2):
        own = measured(lv2.use(self.STATE, extra=90.0), (64,), False).cell(48000, 64, "sounding").sequence_ns() / 1e9
        assert own.min() > 90e-6 + known.CALL

    @pytest.mark.parametrize(
        ("state", "words"),
        [
            (b"not a state at all", "neither an LV2 state nor an installed preset"),
            (b"urn:nobody:knows", "neither an LV2 state nor an installed preset"),
            (STATE.replace(b"test:known>", b"test:other>"), "belongs to another plugin: urn:nimble-test:other"),
        ],
    )
    def test_what_is_no_state_of_it_is_refused(self, lv2, state, words):
        assert words in measured(lv2.use(state), (64,), False).failure


def test_an_instrument_is_tried_with_more_and_more_notes(tmp_path, monkeypatch):
    built = known.installed(tmp_path, "clap", monkeypatch)
    card = measured(msgspec.structs.replace(built.use(), voices=3), (256,))
    assert [(c.rate, c.buffer, c.voices) for c in card.polyphony] == [(48000, b, (1, 2, 3)) for b in (256, 2048)]
    for curve in card.polyphony:
        # It cannot take less than it waits for; what noise adds is little against fifty microseconds a note.
        for notes, seconds in zip(curve.voices, curve.seconds, strict=True):
            least = known.CALL + known.SAMPLE * curve.buffer + known.NOTE * notes
            assert seconds > least - 1e-7
        assert list(curve.seconds) == sorted(curve.seconds)
    full, fewer = (card.with_notes(48000, 256, (n,))[0] for n in (3, 1))
    assert full == 1.0
    assert fewer < 0.7
    of = session(Strip("a", "a", inserts=(msgspec.structs.replace(built.use(), voices=3),), output="main"))
    without = msgspec.structs.replace(card, polyphony=())
    jobs = [session_run.jobs(of, {card.key: each}, (256,)) for each in (card, without)]
    assert [[(job.buffers, job.details) for job in found] for found in jobs] == [[], [((), True)]]


def test_what_can_compute_on_a_graphics_card_is_said_to_be_out_of_sight(tmp_path, monkeypatch):
    compiler = shutil.which("gcc")
    if compiler is None:
        pytest.skip("no C compiler to build the test plugins with")
    # Beside the plugin: it reaches no other folder of the user's.
    library, drawing = tmp_path / "ladspa" / "libOpenCL.so.1.0.0", tmp_path / "ladspa" / "libGL.so.1"
    library.parent.mkdir()
    for each in (library, drawing):
        subprocess.run([compiler, "-shared", "-o", str(each), "-x", "c", "/dev/null"], check=True)
    plugin = known.build(tmp_path, "ladspa", f'GRAPHICS="{library}"')
    apart(tmp_path, monkeypatch)
    monkeypatch.setenv(*plugin.search)
    card = measured(plugin.use(), (64,))
    assert card.failure is None and card.upkeep.graphics == "OpenCL"
    said = " ".join(card_sentences(card, 48000, 64))
    assert "Can compute on a graphics card (OpenCL): what it takes there cannot be seen." in said
    # What only draws is brought along for a window, and tells nothing.
    words = f"import ctypes; ctypes.CDLL({str(drawing)!r}); from nimbleload.probe.upkeep import graphics; "
    words += "print(repr(graphics()))"
    assert subprocess.run([sys.executable, "-c", words], capture_output=True, text=True).stdout == "''\n"
