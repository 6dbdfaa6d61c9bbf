"""What memory instances keep, of plugins of which that is known."""

from __future__ import annotations

import subprocess
import sys

import msgspec
import pytest

from nimbleload.core.cards.upkeep import Upkeep
from nimbleload.core.decisions.decision import Plan
from nimbleload.core.load.memory import ROOM
from nimbleload.core.session.computer import Machine
from nimbleload.core.session.strips import Clip, Strip
from nimbleload.core.survey import instant, prediction, survey
from nimbleload.probe import isolation, rehearsal, session_run
from nimbleload.probe.effort import Effort
from nimbleload.probe.memory_kept import Instances
from nimbleload.probe.messages import Request
from nimbleload.probe.spare import spare
from tests.helpers import keeps
from tests.helpers.keeps import MB
from tests.helpers.sessions import card, session

# What each of them keeps, what all of them together, and what one takes more a second (MB).
KNOWN = {
    "own": (8, 0, 0), "pool": (1, 64, 0), "line": (48, 0, 0), "samples": (0, 40, 0), "child": (24, 0, 0),
    "grows": (None, 0, 6), "wide": (1, 0, 0), "passing": (0, 0, 0),
}  # fmt: skip
LOOKS = """
import sys, msgspec
from nimbleload.probe.loading import load
from nimbleload.probe.measure import begin, kept_by
from nimbleload.probe.memory_kept import find_instances, kept
from nimbleload.probe.messages import Request
from nimbleload.probe.signal import musical
from nimbleload.probe.timed import TimedLoop, warm_up
request = msgspec.json.decode(sys.stdin.buffer.read(), type=Request)
warm_up()
sound = musical(1, request.rate)
silence = 0 * sound
before = kept()
first = kept_by(load(request), 0, before)
before = kept()
loop = TimedLoop(load(request), sound, silence=silence)
begin(loop, ())
found = find_instances(first, before, lambda stretch: loop.run(512, round(stretch * request.rate / 512)), 20.0)
sys.stdout.buffer.write(msgspec.json.encode(found))
"""


def looked(use):
    """What a process finds that has nothing else to do."""
    path = session_run.path_of(use, session_run.installed_for([use]))
    asked = msgspec.json.encode(Request(use, 48000, (512,), path or ""))
    found = subprocess.run([sys.executable, "-c", LOOKS], input=asked, capture_output=True, check=True, timeout=120)
    return msgspec.json.decode(found.stdout, type=Instances)


@pytest.mark.parametrize("label", KNOWN)
def test_what_is_kept_by_each_and_by_all_together_is_told_apart(label, tmp_path, monkeypatch):
    keeps.installed(tmp_path, monkeypatch)
    found = looked(keeps.use(label))
    each, pool, grows = KNOWN[label]
    # Beside that there are what describes an instance, and whole pages.
    more = 0.5 * MB
    if each is not None:
        assert each * MB <= found.each < each * MB + more
    assert pool * MB <= found.pool < pool * MB + 2 * more
    assert found.grows == pytest.approx(grows * MB, rel=0.1)
    assert found.code < 3 * MB


def test_the_card_has_it(tmp_path, monkeypatch):
    keeps.installed(tmp_path, monkeypatch)
    of = session(Strip("a", "a", inserts=(keeps.use("pool"),), output="main"))
    jobs = [job._replace(details=True) for job in session_run.jobs(of, {}, (512,))]
    *_, last = session_run.run(jobs, {}, effort=Effort(2, 0.02, rounds=1))
    assert last.card is not None and last.card.failure is None
    up = last.card.upkeep
    assert MB <= up.memory < 1.5 * MB and 64 * MB <= up.pool < 66 * MB and up.grows == 0
    assert session_run.has_details(last.card)
    before = msgspec.structs.replace(up, pool=None)
    assert not session_run.has_details(msgspec.structs.replace(last.card, upkeep=before))


def test_the_first_instance_and_one_beside_it_are_timed_while_they_are_made(tmp_path, monkeypatch):
    keeps.installed(tmp_path, monkeypatch)
    uses = [msgspec.structs.replace(keeps.use("slowly"), id=f"slowly{k}") for k in range(3)]
    of = session(Strip("a", "a", inserts=tuple(uses), output="main", clips=(Clip(0.0, 10.0),)))
    jobs = [job._replace(details=True) for job in session_run.jobs(of, {}, (512,))]
    *_, last = session_run.run(jobs, {}, effort=Effort(2, 0.02, rounds=1))
    up = last.card.upkeep
    assert 0.5 <= up.load < 1.0 and 0.1 <= up.again < 0.5
    at = survey(of, Plan(), {last.job.key: last.card}, Machine(1), 512)
    outcome = list(rehearsal.run(at, instant(at, 5.0), 0.2))[-1].rehearsal
    assert 0.7 <= outcome.loaded_in < 1.7
    assert prediction(at, instant(at, 5.0)).loaded_in == pytest.approx(up.load + 2 * up.again)


@pytest.mark.parametrize("room", [600 * MB, 0])
def test_what_takes_more_memory_than_can_be_spared_is_ended(room, tmp_path, monkeypatch):
    keeps.installed(tmp_path, monkeypatch)
    monkeypatch.setattr(isolation, "spare", lambda: room)
    of = session(Strip("a", "a", inserts=(keeps.use("grows"),), output="main"))
    *_, last = session_run.run(session_run.jobs(of, {}, (64,)), {}, effort=Effort(2, 0.1, rounds=1))
    # It takes 6000 MB in as many seconds of sound, and sounds for some in all that is measured.
    reason = "took more memory than this computer can spare, so it was ended"
    assert last.card.failure == (reason if room else None)


def test_a_worker_may_have_most_of_what_is_free(tmp_path):
    assert spare(tmp_path) == 0
    (tmp_path / "proc").mkdir()
    (tmp_path / "proc/meminfo").write_text("MemTotal: 16000 kB\nMemAvailable: 10000 kB\n")
    assert spare(tmp_path) == int(ROOM * 10000 * 1024)


def test_a_rehearsal_keeps_what_was_predicted(tmp_path, monkeypatch):
    keeps.installed(tmp_path, monkeypatch)
    kept = {"own": (8, 0), "pool": (1, 64), "samples": (0, 40), "child": (24, 0)}
    uses = [msgspec.structs.replace(keeps.use(label), id=f"{label}{k}") for label in kept for k in range(3)]
    of = session(Strip("a", "a", inserts=tuple(uses), output="main", clips=(Clip(0.0, 10.0),)))
    cards = {}
    for each in uses:
        memory, pool = (MB * size for size in kept[each.plugin.identifier.partition(":")[2]])
        upkeep = Upkeep(memory, 0, 0.0, 0.0, 0.0, pool=pool)
        cards[each.card_key()] = msgspec.structs.replace(card(each, 1e-6), upkeep=upkeep)
    at = survey(of, Plan(), cards, Machine(1), 512)
    outcome = list(rehearsal.run(at, instant(at, 5.0), 0.5))[-1].rehearsal
    assert prediction(at, instant(at, 5.0)).memory == 3 * (8 + 1 + 24) * MB + 64 * MB + 40 * MB
    assert outcome.memory == pytest.approx(203 * MB, rel=0.03)
