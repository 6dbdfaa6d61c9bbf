"""Measuring a session: what is known is left out, failures do not end the run, real plugins from a real file."""

from __future__ import annotations

import shutil
import subprocess
from itertools import pairwise

import msgspec
import pytest

from nimbleload.core.cards.card import METHOD, Cell, CostCard, Made, Paced
from nimbleload.core.cards.doubt import most_shared
from nimbleload.core.cards.slowing import Slowing
from nimbleload.core.decisions.decision import Plan
from nimbleload.core.session.computer import BUFFER_SIZES, Machine
from nimbleload.core.session.plugins import PluginRef, PluginUse, Setting
from nimbleload.core.session.strips import Strip
from nimbleload.core.survey import instant, survey
from nimbleload.probe import catalogue, session_run
from nimbleload.probe.effort import Effort
from nimbleload.probe.isolation import Failure
from nimbleload.probe.messages import Again, CellMessage
from nimbleload.store import dawproject
from tests.helpers import exchange as x
from tests.helpers.rogue import rogue_use, zam_library
from tests.helpers.sessions import card, session

QUICK = Effort(2, 0.01, rounds=0)


def strip(name: str, *uses: PluginUse) -> Strip:
    return Strip(name, name, inserts=uses, output="main")


def house_use(name: str, use_id: str, **values: float) -> PluginUse:
    return PluginUse(use_id, PluginRef("house", f"house.{name}", name), Setting(tuple(values.items())))


def run(of, known=None, buffers=(64, 256), details=True, **more):
    todo = [job._replace(details=job.details and details) for job in session_run.jobs(of, known or {}, buffers)]
    cards = {}
    for step in session_run.run(todo, known or {}, effort=QUICK, **more):
        cards[step.job.key] = step.card
    return todo, cards


def test_equal_settings_are_measured_once_and_the_most_used_first():
    eq = [house_use("shoreline", f"e{k}", bands=3) for k in range(3)]
    of = session(strip("a", house_use("tar", "t"), eq[0]), strip("b", eq[1]), strip("c", eq[2]))
    todo = session_run.jobs(of, {})
    assert [(job.use.plugin.identifier, job.uses) for job in todo] == [("house.shoreline", 3), ("house.tar", 1)]
    assert todo[0].buffers == BUFFER_SIZES


def test_what_was_measured_here_is_not_measured_again_but_samples_are():
    use = house_use("shoreline", "e")
    of = session(strip("a", use))
    measured = card(use, 1e-5)
    assert session_run.jobs(of, {use.card_key(): measured}) == []
    partly = msgspec.structs.replace(measured, cells=tuple(c for c in measured.cells if c.buffer != 512))
    assert session_run.jobs(of, {use.card_key(): partly})[0].buffers == (512,)
    # Of what an earlier version did not ask only that is asked: the cells stay.
    (job,) = session_run.jobs(of, {use.card_key(): msgspec.structs.replace(measured, slowing=())})
    assert (job.buffers, job.details) == ((), True)
    sample = tuple(msgspec.structs.replace(c, provenance="sample") for c in measured.cells)
    assert len(session_run.jobs(of, {use.card_key(): msgspec.structs.replace(measured, cells=sample)})) == 1
    assert len(session_run.jobs(of, {use.card_key(): measured}, again=True)) == 1


def test_figures_of_an_earlier_way_are_measured_again_and_so_are_those_of_another_file(tmp_path):
    use = house_use("shoreline", "e")
    of, measured = session(strip("a", use)), card(use, 1e-5)
    earlier = tuple(msgspec.structs.replace(c, provenance="earlier") for c in measured.cells)
    assert session_run.jobs(of, {use.card_key(): msgspec.structs.replace(measured, cells=earlier)})[0].details
    bundle = tmp_path / "eq.vst3"
    (bundle / "inside").mkdir(parents=True)
    (bundle / "inside" / "eq.so").write_bytes(b"one")
    size, modified = session_run.fingerprint(str(bundle))
    assert (size, modified > 0) == (3, True)
    known = msgspec.structs.replace(measured, made=Made(path=str(bundle), size=size, modified=modified))
    assert session_run.jobs(of, {use.card_key(): known}) == []
    (bundle / "inside" / "eq.so").write_bytes(b"other")
    (job,) = session_run.jobs(of, {use.card_key(): known})
    assert (job.buffers, job.details) == (BUFFER_SIZES, True)
    # What failed in that file may go well in this one; nothing of the old figures is kept beside the new.
    assert session_run.jobs(of, {use.card_key(): msgspec.structs.replace(known, failure="crashed: SIGSEGV")})
    assert session_run.begun(job, known, str(bundle)).cells == ()
    # A file that is gone says nothing of the figures.
    gone = msgspec.structs.replace(known, made=Made(path=str(tmp_path / "gone"), size=1, modified=1))
    assert session_run.jobs(of, {use.card_key(): gone}) == []


def test_a_card_says_how_it_was_made(rogue):
    use = rogue_use("good")
    _, cards = run(session(strip("a", use)), buffers=(64,))
    made = cards[use.card_key()].made
    assert (made.method, made.path, made.version) == (METHOD, str(rogue), "3.1")
    assert (made.size, made.modified) == session_run.fingerprint(str(rogue))


def test_what_failed_is_not_tried_again_unless_asked():
    use = house_use("shoreline", "e")
    failed = CostCard(use.card_key(), failure="crashed: SIGSEGV")
    assert session_run.jobs(session(strip("a", use)), {use.card_key(): failed}) == []
    assert len(session_run.jobs(session(strip("a", use)), {use.card_key(): failed}, again=True)) == 1


def test_measured_cells_replace_samples_and_give_a_load():
    use = house_use("mist", "m", lines=8)
    of = session(strip("a", use))
    cells = tuple(msgspec.structs.replace(c, provenance="sample") for c in card(use, 123.0).cells)
    _, cards = run(of, {use.card_key(): msgspec.structs.replace(card(use, 123.0), cells=cells)})
    found = cards[use.card_key()]
    assert {c.provenance for c in found.cells} == {"measured"}
    assert found.cost(48000, 256, "sounding").seconds < 1.0
    at = instant(survey(of, Plan(), cards, Machine(2), 256))
    assert at.shares == {"measured": 1.0}
    assert at.block.work > 0


def test_a_run_goes_on_after_a_crash_a_hang_and_a_flood(rogue):
    uses = [rogue_use(name, voices=0) for name in ("crash", "hang", "flood", "good")]
    of = session(strip("a", *uses), strip("b", PluginUse("v", PluginRef("vst2", "x", "Other"))))
    _, cards = run(of, quiet_seconds=12)
    reasons = {card.key.identifier: card.failure for card in cards.values()}
    assert "SIGSEGV" in reasons["test.crash"]
    assert "did not return" in reasons["test.hang"]
    assert "flooded" in reasons["test.flood"]
    assert "not run" in reasons["x"]
    assert reasons["test.good"] is None
    good = cards[uses[3].card_key()]
    assert len(good.cells) == 6
    assert good.latency == 77


def test_first_figures_of_all_come_before_anything_is_measured_thoroughly(rogue):
    uses = [rogue_use("good"), rogue_use("crash"), house_use("tar", "t")]
    of = session(strip("a", *uses))
    todo = [job._replace(details=False) for job in session_run.jobs(of, {}, (64,))]
    steps = list(session_run.run(todo, {}, effort=QUICK, first=256))
    kinds = [step.cell.provenance for step in steps if step.cell is not None]
    assert kinds.index("measured") == 4
    assert set(kinds[4:]) == {"measured"}
    quick = [step.cell for step in steps[:5] if step.cell is not None]
    assert [(c.buffer, c.condition) for c in quick] == [(256, "sounding"), (256, "silent")] * 2
    # It takes 20 µs a call and 20 ns a sample, and 100 µs more in every 16th block.
    good = steps[-1].card if steps[-1].card.key.identifier == "test.good" else steps[0].card
    first = good.cell(48000, 256, "sounding")
    assert first.mean > 20e-6 + 256 * 20e-9 + 100e-6 / 16 - 1e-7
    # What crashed in the first round is not run once more, and is told once.
    crashed = [step for step in steps if step.card.key.identifier == "test.crash"]
    assert [step.finished for step in crashed] == [False, True]
    assert "SIGSEGV" in crashed[-1].card.failure
    # A size that was measured thoroughly needs no first figure; one of the first stands beside what is measured.
    cards = {step.job.key: step.card for step in steps}
    todo = [job._replace(details=False) for job in session_run.jobs(of, cards, (64, 128))]
    again = session_run.run(todo, cards, effort=QUICK, first=64)
    assert {step.cell.provenance for step in again if step.cell is not None} == {"measured"}
    assert {c.provenance for c in cards[uses[2].card_key()].cells} == {"measured", "first"}


def test_what_the_core_does_at_its_best_is_handed_on_from_the_first_figures_on(monkeypatch):
    """In a busy hour a plugin by itself may never see it, and would take what others share for the core's own."""
    asked = []

    class Asked(session_run.isolation.Worker):
        def __init__(self, request):
            asked.append(request)
            super().__init__(request)

    monkeypatch.setattr(session_run.isolation, "Worker", Asked)
    of = session(strip("a", *(house_use("shoreline", f"a{n}", bands=n) for n in (1, 2, 3))))
    todo = [job._replace(details=False) for job in session_run.jobs(of, {}, (64,))]
    list(session_run.run(todo, {}, effort=QUICK, first=64))
    # One is loaded while the one before it is measured.
    assert [each.best is None for each in asked[:6]] == [True, True, False, False, False, False]
    for earlier, later in pairwise(asked[2:6]):
        assert later.best.units <= earlier.best.units and later.best.pace <= earlier.best.pace


def test_what_costs_most_in_all_its_uses_is_measured_thoroughly_first(monkeypatch):
    """Six times 10 µs are less than once 80, which is less than three times 30."""
    names = {"few": (3, 30e-6), "many": (6, 10e-6), "once": (1, 80e-6)}
    uses = {name: [house_use("tar", f"{name}{k}", drive=mean) for k in range(n)] for name, (n, mean) in names.items()}
    of = session(strip("a", *(use for each in uses.values() for use in each)))
    first = {f"{name}0": [msgspec.structs.replace(cell(mean), provenance="first")] for name, (_, mean) in names.items()}
    rest = {f"{name}0": [cell(mean)] for name, (_, mean) in names.items()}
    for at, expected in ((64, ["few0", "once0", "many0"]), (None, ["many0", "few0", "once0"])):
        monkeypatch.setattr(session_run, "_Run", Scripted.brings(*([first] if at else []), rest))
        todo = [job._replace(details=False) for job in session_run.jobs(of, {}, (64,))]
        list(session_run.run(todo, {}, first=at))
        assert [job.use.id for job in Scripted.passes[1 if at else 0]] == expected


def test_a_plugin_that_is_not_installed_is_said(rogue):
    use = PluginUse("x", PluginRef("clap", "org.nowhere", "Nowhere"))
    _, cards = run(session(strip("a", use)))
    assert "not installed here" in cards[use.card_key()].failure


def test_figures_from_elsewhere_stay_where_a_plugin_cannot_be_measured_here():
    use = PluginUse("x", PluginRef("clap", "org.nowhere", "Nowhere"))
    theirs = msgspec.structs.replace(cell(3e-5), provenance="elsewhere")
    known = {use.card_key(): CostCard(use.card_key(), "Nowhere", (theirs,))}
    for first in (None, 64):
        todo = session_run.jobs(session(strip("a", use)), known, (64,))
        *_, last = session_run.run(todo, known, first=first)
        assert last.card.cells == (theirs,) and "not installed here" in last.card.failure
        assert last.lasting == ()


def test_of_what_fails_on_the_way_its_own_figures_stay(monkeypatch):
    use = house_use("tar", "x")
    theirs, own = msgspec.structs.replace(cell(9e-5), provenance="elsewhere"), cell(3e-5)
    known = {use.card_key(): CostCard(use.card_key(), "Tar", (theirs,))}
    monkeypatch.setattr(session_run, "_Run", Scripted.brings({"x": [own, Failure("crashed: SIGSEGV")]}))
    *_, last = session_run.run(session_run.jobs(session(strip("a", use)), known, (64,)), known)
    assert (last.card.cells, last.card.failure) == ((own,), "crashed: SIGSEGV")


def test_cancelling_keeps_what_was_done(rogue):
    of = session(strip("a", rogue_use("good"), house_use("tar", "t")))
    todo = session_run.jobs(of, {}, (64,))
    seen = []
    for step in session_run.run(todo, {}, lambda: len(seen) >= 2, QUICK):
        seen.append(step)
    assert not any(step.finished for step in seen)
    assert len({step.job.key for step in seen}) == 1


class TestCatalogue:
    def test_files_are_looked_into_once_until_they_change(self, rogue, tmp_path, monkeypatch):
        looked = []
        real = catalogue.scan
        monkeypatch.setattr(catalogue, "scan", lambda files: looked.extend(files) or real(files))
        cache = tmp_path / "cache.json"
        first = catalogue.catalogue([rogue], cache)
        assert catalogue.catalogue([rogue], cache) == first
        assert looked == [str(rogue)]
        assert len(first[0].plugins) == 7
        rogue.touch()
        catalogue.catalogue([rogue], cache)
        assert len(looked) == 2

    def test_a_file_that_cannot_be_read_is_remembered_with_its_reason(self, tmp_path):
        bad = tmp_path / "bad.clap"
        bad.write_text("nothing")
        found = catalogue.catalogue([bad], tmp_path / "cache.json")
        assert found[0].plugins == ()
        assert "cannot be loaded as CLAP" in (found[0].failure or "")

    def test_a_file_that_crashes_is_named_and_the_others_are_still_read(self, rogue, tmp_path):
        compiler = shutil.which("gcc")
        bad = tmp_path / "bad.clap"
        source = tmp_path / "bad.c"
        source.write_text(
            "__attribute__((constructor)) static void now(void) { *(volatile int *)0 = 1; }\nint clap_entry;"
        )
        subprocess.run([compiler, "-shared", "-fPIC", "-o", str(bad), str(source)], check=True)
        found = {s.path: s for s in catalogue.catalogue([bad, rogue], tmp_path / "cache.json")}
        assert found[str(bad)].failure == "crashed: SIGSEGV"
        assert len(found[str(rogue)].plugins) == 7

    def test_a_damaged_cache_is_made_anew(self, rogue, tmp_path):
        cache = tmp_path / "cache.json"
        cache.write_text("{{{")
        assert len(catalogue.catalogue([rogue], cache)[0].plugins) == 7

    def test_the_first_file_found_wins(self):
        one, two = (catalogue.Installed("clap", "a", n, "", "", (), n) for n in ("one", "two"))
        found = catalogue.paths_by_identifier([catalogue.Scanned("x", 0, (one,)), catalogue.Scanned("y", 0, (two,))])
        assert found["clap", "a"].path == "one"


def test_a_real_session_with_real_plugins_gets_a_load(tmp_path):
    """From an exchange file with plugins of Debian's zam-plugins to a load, all measured here."""
    for name in ("ZamEQ2", "ZamComp", "ZamTube"):
        zam_library(name)
    eq = x.plugin("ClapPlugin", "com.zamaudio.ZamEQ2", "ZamEQ2")
    comp = x.plugin("ClapPlugin", "com.zamaudio.ZamComp", "ZamComp")
    tube = x.plugin("ClapPlugin", "com.zamaudio.ZamTube", "ZamTube")
    structure = (
        x.track("t1", "Voice", x.channel("c1", destination="cb", devices=eq + comp + tube, channels=1))
        + x.track("t2", "Fiddle", x.channel("c2", destination="cb", devices=eq, channels=1))
        + x.track("b", "Group", x.channel("cb", "submix", "cm", devices=comp))
        + x.main_track()
    )
    arrangement = x.lanes("t1", x.clip(0, 16)) + x.lanes("t2", x.clip(8, 16))
    imported = dawproject.read(x.write(tmp_path / "real.dawproject", x.project(structure, arrangement)))
    todo, cards = run(imported.session, details=False)
    assert [card.failure for card in cards.values()] == [None] * len(todo)
    of = survey(imported.session, Plan(), cards, Machine(2), 256)
    at = instant(of)
    assert at.shares == {"measured": 1.0}
    assert at.judged.kind != "unknown"
    assert at.block.work == pytest.approx(sum(at.use_costs.values()))
    # The valve simulation is by far the heaviest of the three, on any machine.
    assert max(at.use_costs, key=lambda u: at.use_costs[u]).startswith("t1/2")


class Scripted:
    """In place of workers: brings these cells for the jobs of each pass, and writes down which they were."""

    rounds = Effort().rounds
    passes: list[list[session_run.Job]]
    script: list[dict[str, list[Cell]]]

    def __init__(self, *_):
        self.installed = {}

    @classmethod
    def brings(cls, *script):
        cls.passes, cls.script = [], list(script)
        return cls

    def passed(self, jobs, first=None):
        self.passes.append(list(jobs))
        cells = self.script.pop(0) if jobs else {}
        for job in jobs:
            told = (each if isinstance(each, Failure) else CellMessage(each) for each in cells[job.use.id])
            yield from ((job, each) for each in told)
            yield job, None


def cell(mean: float, shared: float = 1.0, condition="sounding", clock: float = 1e-6) -> Cell:
    return Cell(48000, 64, condition, mean, quiet=shared == 1.0, shared=shared, clock=clock)


@pytest.mark.parametrize(
    ("later", "kept"),
    [
        (cell(2e-5), 2e-5),  # quiet now, and less
        (cell(3.2e-5), 3.2e-5),  # quiet now, and nearly the same
        (cell(4e-5), 3e-5),  # what the witness takes for quiet may not be
        (cell(2e-5, 1.4), 2e-5),  # disturbed, but less than before
        (cell(4e-5, 1.4), 3e-5),
        (cell(3.2e-5, 1.4, clock=2e-6), 3.2e-5),  # at half the clock that is less
    ],
)
def test_what_others_disturbed_is_measured_once_more_at_the_end_and_the_better_is_kept(monkeypatch, later, kept):
    uses = house_use("shoreline", "a"), house_use("tar", "b")
    of = session(strip("a", *uses))
    # Disturbed a little is not worth the while, and the first blocks are no figure of a load.
    first = {
        "a": [cell(3e-5, 1.5), cell(1e-6, 1.02, "silent"), cell(5e-5, 1.5, "waking")],
        "b": [cell(7e-5), cell(1e-6, 1.0, "silent")],
    }
    monkeypatch.setattr(session_run, "_Run", Scripted.brings(first, {"a": [later]}))
    todo = [job._replace(details=False) for job in session_run.jobs(of, {}, (64,))]
    steps = list(session_run.run(todo, {}))
    nothing_asked, (again,) = Scripted.passes[1:]
    assert ([job.use.id for job in Scripted.passes[0]], nothing_asked) == (["a", "b"], [])
    assert again.again is not None and again.again.places == ((64, "sounding"),)
    last = steps[-1]
    assert (last.job.use.id, last.finished, last.again) == ("a", False, 1)
    assert last.card.cell(48000, 64, "sounding").mean == kept
    # What is stored is the cell that took another's place, and nothing where none did.
    assert [c.mean for c in last.lasting] == ([kept] if kept == later.mean else [])
    # Jobs are told to be finished once.
    assert sorted(step.job.use.id for step in steps if step.finished) == ["a", "b"]


def test_rounds_go_on_while_each_leaves_clearly_fewer_doubtful(monkeypatch):
    of, conditions = session(strip("a", house_use("shoreline", "a"))), ("sounding", "silent")
    disturbed = {"a": [cell(3e-5, 1.5, each) for each in conditions]}
    one = {"a": [cell(2e-5, 1.0, "sounding"), cell(2e-5, 1.5, "silent")]}
    none = {"a": [cell(2.1e-5, 1.5, "silent")]}
    monkeypatch.setattr(session_run, "_Run", Scripted.brings(disturbed, one, none))
    todo = [job._replace(details=False) for job in session_run.jobs(of, {}, (64,))]
    *_, last = session_run.run(todo, {})
    # Of two one was left, and so it was asked for again; nothing came of that.
    assert [len(job.again.places) for jobs in Scripted.passes[2:] for job in jobs] == [2, 1]
    assert last.again == 3 and not last.card.cell(48000, 64, "silent").quiet
    # Whoever cancels gets no more of them.
    monkeypatch.setattr(session_run, "_Run", Scripted.brings(disturbed))
    assert not any(step.again for step in session_run.run(todo, {}, lambda: len(Scripted.passes) > 1))


@pytest.mark.parametrize(("better", "visited"), [(0, 12), (2, 12), (3, 13), (4, 16)])
def test_a_round_that_brings_nothing_is_not_gone_on_with(monkeypatch, better, visited):
    """Of 32 figures it is seen after 24: whoever shares the core has not gone."""
    names, conditions = [f"u{k:02}" for k in range(16)], ("sounding", "silent")
    of = session(strip("a", *(house_use("shoreline", name, bands=k + 1) for k, name in enumerate(names))))
    first = {name: [cell(3e-5, 1.5, each) for each in conditions] for name in names}
    script = {name: [cell(2e-5, 1.0 if k < better else 1.5, c) for c in conditions] for k, name in enumerate(names)}
    monkeypatch.setattr(session_run, "_Run", Scripted.brings(first, script, script))
    todo = [job._replace(details=False) for job in session_run.jobs(of, {}, (64,))]
    again = [step.job.use.id for step in session_run.run(todo, {}) if step.again == 32]
    assert list(dict.fromkeys(again)) == names[:visited]
    # Another one comes only after a whole one.
    assert len(Scripted.passes) == 3 + (visited == 16)


def test_sizes_that_were_not_asked_for_are_not_measured_once_more(monkeypatch):
    use = house_use("shoreline", "a")
    of = session(strip("a", use))
    known = {use.card_key(): session_run.with_cell(card(use, 1e-5), cell(3e-5, 1.5))}
    known[use.card_key()] = msgspec.structs.replace(known[use.card_key()], slowing=())
    (job,) = session_run.jobs(of, known)
    monkeypatch.setattr(session_run, "_Run", Scripted.brings({"a": []}))
    *_, last = session_run.run([job], known)
    assert (job.buffers, last.finished, len(Scripted.passes[0])) == ((), True, 1)
    assert Scripted.passes[1:] == [[]]


def test_only_what_others_disturbed_is_measured_when_that_is_asked_for(monkeypatch):
    uses = house_use("shoreline", "a"), house_use("tar", "b"), house_use("mist", "c")
    of = session(strip("a", *uses))
    cards = {use.card_key(): card(use, 1e-5) for use in uses}
    a, b, _ = (use.card_key() for use in uses)
    cards[a] = session_run.with_cell(msgspec.structs.replace(cards[a], tail=0.4, filled=2.0), cell(3e-5, 1.5))
    cards[b] = msgspec.structs.replace(session_run.with_cell(cards[b], cell(3e-5, 1.5)), failure="crashed: SIGSEGV")
    (job,) = session_run.doubtful(of, cards)
    assert (job.use.id, job.details, job.buffers, job.steps) == ("a", False, (64,), 2)
    assert job.again == Again(((64, "sounding"),), 0.4, 2.0)
    usual = card(uses[0], 1e-5).cell(48000, 64, "sounding").mean
    monkeypatch.setattr(session_run, "_Run", Scripted.brings({"a": [cell(usual, clock=0.0)]}))
    *_, step, end = session_run.run([job], cards)
    assert (step.cell.mean, step.finished, end.finished) == (usual, False, True)
    # All else that is known of it stays.
    assert (end.card.tail, end.card.filled, end.card.made) == (0.4, 2.0, cards[a].made)
    assert len(end.card.cells) == len(cards[a].cells)


def test_cells_measured_once_more_come_from_a_real_worker():
    use = house_use("shoreline", "a")
    of = session(strip("a", use))
    known = {use.card_key(): session_run.with_cell(card(use, 1e-5), cell(1.0, 1.5))}
    steps = list(session_run.run(session_run.doubtful(of, known), known, effort=QUICK))
    assert [step.cell is not None for step in steps[:2]] == [True, False] and steps[1].finished
    assert 0 < steps[-1].card.cell(48000, 64, "sounding").mean < 1e-3


def test_what_was_disturbed_in_turns_is_measured_once_more_and_the_better_figures_stay():
    """By a real worker; of what it brings only what tells more takes the place of what was there."""
    use = house_use("shoreline", "a")
    of, key = session(strip("a", use)), use.card_key()
    sure = Slowing(48000, 512, 1.3, 1e-3, known=1.1)
    known = msgspec.structs.replace(
        card(use, 1e-5), paced=(Paced(48000, 64, 1.0, 2.0, 1.9), Paced(48000, 512, 1e-12, 2e-12)),
        slowing=(Slowing(48000, 64, 1.3, 1e-3, known=0.1), sure),
    )  # fmt: skip
    # Asked for again is what the Measure page counts as doubtful; what only stands out is not.
    odd = msgspec.structs.replace(known, paced=(Paced(48000, 64, 1.0, 2.0),))
    assert session_run.doubtful(of, {key: odd}) == [] and most_shared(odd, 48000) == 1
    (job,) = session_run.doubtful(of, {key: known})
    assert (job.again.places, job.again.sizes, job.buffers, job.steps) == ((), (64,), (64,), 2)
    wanted = job._replace(again=msgspec.structs.replace(job.again, sizes=(64, 512)), buffers=(64, 512))
    steps = list(session_run.run([wanted], {key: known}, effort=QUICK))
    last = steps[-1]
    small, large = last.card.paced
    assert small.row < 1e-3 and large == known.paced[1]
    assert last.card.slowing[0].known > 0.1 and last.card.slowing[1] == sure
    assert sum(step.finished for step in steps) == 1
    places = [(each.rate, each.buffer, each.condition) for each in known.cells]
    assert [(each.rate, each.buffer, each.condition) for each in last.card.cells] == places
