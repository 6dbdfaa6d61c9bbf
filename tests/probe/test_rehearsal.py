"""The rehearsal: real plugins on real threads, with a plugin that waits for the clock as the truth."""

from __future__ import annotations

import msgspec
import numpy as np
import pytest

from nimbleload.core.decisions.decision import Plan
from nimbleload.core.load.missed import COUNTED
from nimbleload.core.session.computer import Machine
from nimbleload.core.session.plugins import PluginRef, PluginUse, Setting
from nimbleload.core.session.routing import build, feeding
from nimbleload.core.session.strips import Clip, Strip
from nimbleload.core.survey import instant, survey
from nimbleload.core.told.rehearsal import why_late
from nimbleload.probe import performance, rehearsal
from nimbleload.probe.isolation import Failure
from nimbleload.probe.messages import LoadingMessage, PlayedMessage, StageRequest
from nimbleload.probe.signal import musical
from nimbleload.probe.stage import CLOCKED_EVERY, LOOKED_NS, Performed, Stage
from tests.helpers import known
from tests.helpers.rogue import rogue_use
from tests.helpers.run_house import load
from tests.helpers.sessions import session


def strip(name: str, *uses: PluginUse, output: str | None = "main", kind="track") -> Strip:
    clips = (Clip(0, 10),) if kind == "track" else ()
    return Strip(name, name, kind, inserts=uses, output=output, clips=clips)


def house_use(name: str, use_id: str, **values: float) -> PluginUse:
    return PluginUse(use_id, PluginRef("house", f"house.{name}", name), Setting(tuple(values.items())))


def play(of, buffer=256, cores=2, seconds=1.0, **more):
    at = survey(of, Plan(), {}, Machine(cores), buffer)
    moment = instant(at, 5.0)
    return list(rehearsal.run(at, moment, seconds, **more))


@pytest.fixture
def plugin(tmp_path, monkeypatch):
    return known.installed(tmp_path, "clap", monkeypatch)


def known_use(plugin, use_id: str, extra: float = 0.0) -> PluginUse:
    return msgspec.structs.replace(plugin.use(Extra=extra), id=use_id)


def test_plugins_that_wait_take_what_they_wait_for_in_their_places(plugin):
    uses = [known_use(plugin, f"u{k}", 100.0) for k in range(3)]
    of = session(strip("a", uses[0], uses[1]), strip("b", uses[2]))
    messages = play(of, 1024)
    assert [m.done for m in messages if isinstance(m, LoadingMessage)] == [0, 1, 2, 3]
    outcome = messages[-1].rehearsal
    least = known.CALL + 1024 * known.SAMPLE + 100e-6
    assert all(outcome.uses[f"u{k}"] > least - 1e-7 for k in range(3))
    assert outcome.strips["a"] > 2 * least - 2e-7
    assert outcome.strips["b"] > least - 1e-7
    assert outcome.strips["main"] < outcome.strips["a"]  # it has no plugins of its own
    # The strips wait for nobody but Main: a block takes what its longest chain does.
    assert min(outcome.loads) * 1024 / 48000 > 2 * least - 2e-7
    assert len(outcome.loads) >= 0.9 * 48000 / 1024
    assert outcome.refused == {}
    assert sum(outcome.busy) > 0


def test_work_beyond_the_deadline_is_missed_in_every_block(plugin):
    # 64 samples leave 1.3 ms; twelve times 122 µs one after the other do not fit.
    uses = [known_use(plugin, f"u{k}", 100.0) for k in range(12)]
    outcome = play(session(strip("a", *uses)), 64, cores=1)[-1].rehearsal
    assert outcome.missed == len(outcome.loads)
    assert min(outcome.loads) > 1.0


@pytest.mark.parametrize(
    ("what", "words"),
    [
        ("for (long until = now() + 15000000; now() < until;) {}", "took longer in Known on b"),
        ("struct timespec t = {0, 15000000}; nanosleep(&t, NULL);", "waited without computing (a lock, a file, "),
    ],
    ids=["computes", "sleeps"],
)
def test_what_a_plugin_does_now_and_then_in_a_block_is_why_that_is_late(tmp_path, monkeypatch, what, words):
    begun = "static void work(own_t *o, const float *in, float *out, uint32_t n) {"
    source = known.SOURCE.read_text()
    assert begun in source
    seldom = f"{begun} if (o->extra > 0 && o->calls % 40 == 39) {{{what}}}"
    (tmp_path / "seldom.c").write_text(source.replace(begun, seldom))
    monkeypatch.setattr(known, "SOURCE", tmp_path / "seldom.c")
    built = known.installed(tmp_path / "seldom", "clap", monkeypatch)
    of = session(strip("a", known_use(built, "u")), strip("b", known_use(built, "v"), known_use(built, "w", 1.0)))
    outcome = play(of, 512, seconds=4.0)[-1].rehearsal
    # One block in forty; whatever the machine does beside is counted as well, and as something else. Where it takes the
    # core of what computes for long, that is the computer's doing.
    why, often, found = outcome.why, len(outcome.loads) // 40, outcome.helped
    inside = why.longer_in if "longer" in words else why.slept_in
    assert often - 1 <= inside.get("w", 0) + why.taken and inside.get("w", 0) <= often + 1
    assert sum(inside.values()) <= 1.3 * inside.get("w", 0) + 2
    assert words in why_late(of, outcome)[0] or 2 * why.taken > often
    # Tried on these blocks: without it, and only without it, hardly one would have been late.
    assert found.late == outcome.missed and found.without["w"] <= found.late - often + 2
    assert found.frozen["b"] <= found.without["w"] and found.frozen["a"] >= often - 2
    assert min(found.without["u"], found.without["v"]) >= often - 2


def test_what_is_not_installed_or_refuses_is_left_out_and_said(plugin):
    missing = PluginUse("gone", PluginRef("clap", "org.nowhere", "Nowhere"))
    wrong = house_use("tar", "wrong", oversampling=99)
    of = session(strip("a", known_use(plugin, "u"), missing, wrong))
    outcome = play(of)[-1].rehearsal
    assert set(outcome.uses) == {"u"}
    assert "not installed here" in outcome.refused["gone"]
    assert "from 1 to 8" in outcome.refused["wrong"]


def test_what_is_suspended_is_not_played_while_it_is_silent(plugin):
    silent = msgspec.structs.replace(strip("a", known_use(plugin, "u")), clips=(Clip(8, 10),), suspended=True)
    of = session(silent, strip("b", known_use(plugin, "v")))
    assert set(play(of)[-1].rehearsal.uses) == {"v"}
    loud = msgspec.structs.replace(silent, clips=(Clip(0, 10),))
    assert set(play(session(loud))[-1].rehearsal.uses) == {"u"}


def test_a_crash_ends_the_rehearsal_with_its_reason(rogue):
    last = play(session(strip("a", rogue_use("crash"))))[-1]
    assert isinstance(last, Failure)
    assert last.reason == "crashed: SIGSEGV"


def test_what_ends_it_while_it_is_loaded_is_named(tmp_path, monkeypatch):
    source = known.SOURCE.read_text().replace("if (strcmp(id, D.id)) return NULL;", "abort();")
    (tmp_path / "abort.c").write_text(source)
    monkeypatch.setattr(known, "SOURCE", tmp_path / "abort.c")
    bad = known.installed(tmp_path / "bad", "clap", monkeypatch)
    of = session(strip("a", house_use("tar", "t")), strip("b", known_use(bad, "u")))
    last = play(of)[-1]
    assert isinstance(last, Failure)
    assert last.reason == "crashed: SIGABRT while Known on b was loaded"


def test_a_cancelled_rehearsal_brings_no_outcome(plugin):
    told: list[object] = []
    of = session(strip("a", known_use(plugin, "u")))
    at = survey(of, Plan(), {}, Machine(1), 256)
    moment = instant(at, 5.0)
    runs = rehearsal.run(at, moment, 30.0, lambda: len(told) >= 2)
    told.extend(iter(lambda: next(runs, None), None))
    assert not any(isinstance(m, PlayedMessage) for m in told)


class TestStage:
    """The threads themselves, in this process, with house processors whose sound is known."""

    def stage(self, of, frames=64, cores=(0,), blocks=40):
        graph = build(of)
        plugins = [
            [(load(u.plugin.identifier.removeprefix("house."), **dict(u.setting.values)), (), -1) for u in s.inserts]
            for s in of.strips
        ]
        sounds = np.array([s.kind == "track" for s in of.strips])
        source = musical(2, 48000, 0.5)
        made = Stage(graph, plugins, feeding(of), sounds, np.arange(len(of.strips), dtype=float), source, frames)
        performed, _ = made.perform(48000, blocks, cores, lambda core: False, lambda so_far: True)
        return made, performed, source

    def test_signals_flow_from_tracks_through_their_bus_to_the_main_output(self):
        of = session(
            strip("a", house_use("shoreline", "e", gain=0), output="bus"), strip("b", output="bus"),
            strip("bus", kind="bus"),
        )  # fmt: skip
        made, performed, source = self.stage(of)
        last = 39 * 64 % (source.shape[1] - 64)
        heard = source[:, last : last + 64]
        ids = [s.id for s in of.strips]
        # Two equal signals, each at half power: what comes out is louder by the root of two.
        assert made._buses[ids.index("bus")] == pytest.approx(heard * np.sqrt(2), rel=1e-4, abs=1e-6)
        assert made._buses[ids.index("main")] == pytest.approx(heard * np.sqrt(2), rel=1e-4, abs=1e-6)
        assert performed.done == 40

    @pytest.mark.parametrize("cores", [(0,), (0, 1), (0, 1, 0, 1)])
    def test_every_task_runs_once_a_block_and_never_before_those_that_feed_it(self, cores):
        of = session(
            *(strip(f"t{k}", house_use("tar", f"u{k}"), output=f"b{k % 3}") for k in range(9)),
            *(strip(f"b{k}", output="main", kind="bus") for k in range(3)),
        )
        _, made, _ = self.stage(of, cores=cores, blocks=60)
        graph = build(of)
        assert made.done == 60
        assert (made.task_end >= made.task_begin).all()
        assert (made.task_end > 0).all()
        for task in range(len(of.strips)):
            for target in graph.successors[graph.first[task] : graph.first[task + 1]]:
                assert (made.task_begin[:, target] >= made.task_end[:, task]).all()
        assert (made.begin >= made.due).all()
        assert (made.end >= made.task_end.max(axis=1)).all()
        # On one core nothing runs at the same time.
        for core in range(len(cores)):
            for block in range(60):
                on = made.task_core[block] == core
                order = np.argsort(made.task_begin[block][on])
                begin, end = made.task_begin[block][on][order], made.task_end[block][on][order]
                assert (begin[1:] >= end[:-1]).all()

    def test_after_a_late_block_the_next_is_due_as_soon_as_has_been_looked(self):
        of = session(strip("a", *(house_use("tar", f"u{k}", oversampling=8) for k in range(120))))
        _, made, _ = self.stage(of, frames=16, blocks=30)
        late = made.end[:-1] > made.due[:-1] + round(16 / 48000 * 1e9)
        assert late.any()
        assert (made.due[1:][late] == made.end[:-1][late] + LOOKED_NS).all()
        # What held up a block that left no time is known all the same: nearly all of them were late.
        assert late.mean() > 0.9 and (made.witnessed > 0).all(axis=(1, 2)).mean() > 0.5


def test_an_instrument_is_given_as_many_notes_as_it_plays_at_the_moment():
    synth = msgspec.structs.replace(house_use("pipework", "synth", partials=8), voices=8)
    parts = [strip(name) for name in "abc"]
    profiles = ((0.0, 2),), ((0.0, 8),), ((0.0, 8), (4.0, 0))
    of = session(*(
        msgspec.structs.replace(part, instrument=synth, clips=(Clip(0, 10, "notes", voices=profile),))
        for part, profile in zip(parts, profiles, strict=True)
    ))  # fmt: skip
    moment = instant(survey(of, Plan(), {}, Machine(1), 256), 5.0)
    request = StageRequest(
        of, tuple(moment.sounding.tolist()), tuple(moment.notes.tolist()), (0.0,) * 4, 5.0, 256, (0,), 1.0,
        {"synth": ""}, {},
    )  # fmt: skip
    plugins, *_ = performance.load_all(request, {}, musical(2, 48000), lambda message: None)
    assert [[len(notes) for _, notes, _ in loaded] for loaded in plugins] == [[2], [8], [0], []]


def test_the_clock_of_blocks_that_were_alone_is_told_apart(monkeypatch):
    """Whoever shares a core may lower its clock as well: here from the 200th of 400 blocks on."""
    for name in ("slowdown", "after_rest"):
        monkeypatch.setattr(performance, name, lambda *_: 1.0)
    count = 400
    times = np.zeros((count, 2), np.int64)
    begin = np.arange(count) * 5_000_000
    witnessed, clocks = np.full((count, 1, 2), 1000), np.full((count // CLOCKED_EVERY, 1), 1150)
    witnessed[200:, :, 1], clocks[: 200 // CLOCKED_EVERY] = 1500, 1000
    # The first blocks are no part of it. Of a few blocks it is the clock of a core that was alone at any time, before
    # them or behind one: here 0.9 µs before, when now and then another took half of the units and lowered the clock.
    before = np.array([[900, 900]] * 8 + [[1150, 1800]] * 80)
    for lead, alone in ((96, 1e-6), (176, 0.9e-6)):
        made = Performed(
            times, times + 1000, times.astype(np.int8), np.zeros((count, 0), np.int32), begin, begin, begin + 1000,
            witnessed, clocks, np.zeros((count, 1, COUNTED), np.int64), count,
        )  # fmt: skip
        request = StageRequest(session(strip("a")), (True,) * 2, (0, 0), (0.0,) * 2, 0.0, 256, (0,), 1.0, {}, {})
        found = performance.outcome(request, made, lead, [], True, True, {}, before)
        assert found.undisturbed.clock == pytest.approx(alone)
        assert found.clock == pytest.approx(1.075e-6)
    assert performance.usual_clock(np.full((3, 1), 1000)) == 0
    # Who paused whenever the units were asked, but had lowered the clock before, is known by that.
    witnessed[:] = 1000
    for low, share in ((160, 0.58), (392, 1.0)):
        clocks[:] = 1000
        clocks[: low // CLOCKED_EVERY] = 1150
        took = np.where(np.arange(count) < low, 2000, 1000)
        made = made._replace(end=begin + took, witnessed=witnessed, clocks=clocks)
        found = performance.outcome(request, made, 0, [], True, True, {}, before).undisturbed
        assert found.share == pytest.approx(share, abs=0.03) and found.is_telling
        # With next to none left, all count, at the clock that is told behind them.
        assert found.clock == pytest.approx(1e-6)
        assert len(set(found.loads)) == (1 if low == 160 else 2)
    # Who shares a core is at it in every rest, and pauses in the blocks: what is told behind them is their clock. And
    # what the plugins themselves do to it is told behind every block, and in no rest; or behind most and in all rests.
    for behind, rest, seldom in ((1000, 1150, 1000), (1150, 1000, 1150), (1150, 1150, 1150), (1150, 1150, 1000)):
        witnessed[:], clocks[:] = behind, rest
        witnessed[::6] = seldom
        made = made._replace(witnessed=witnessed, clocks=clocks)
        found = performance.outcome(request, made, 0, [], True, True, {}, before).undisturbed
        assert found.share == 1 and found.clock == pytest.approx(min(behind, rest, seldom) / 1e9)
    # Or behind all of them, as far as can be seen: what it was before any was played is known.
    witnessed[:] = clocks[:] = 1150
    made = made._replace(witnessed=witnessed, clocks=clocks)
    found = performance.outcome(request, made, 0, [], True, True, {}, np.full((400, 2), 1000)).undisturbed
    assert found.clock == pytest.approx(1e-6)
