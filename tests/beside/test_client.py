"""The process beside the window: the same answers as here, to the bit; killed, closed and asked wrongly."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import threading
import time
from concurrent.futures import CancelledError
from contextlib import contextmanager
from itertools import pairwise
from pathlib import Path

import msgspec
import numpy as np
import pytest

from nimbleload.beside import client
from nimbleload.beside.client import Beside, BesideError, GoneError, Process
from nimbleload.beside.messages import NotWantedError
from nimbleload.core.decisions.decision import KeptPlan, Plan
from nimbleload.core.optimise.alternatives import alternatives
from nimbleload.core.optimise.candidates import Wishes
from nimbleload.core.optimise.steps import stepped
from nimbleload.core.optimise.suggest import suggest
from nimbleload.core.optimise.weigh import weigh
from nimbleload.core.session.computer import Machine
from nimbleload.core.survey import instant, kept_load, survey, tracking
from nimbleload.core.told.findings import weighed
from nimbleload.core.told.outlook import band, outlook

WISHES = Wishes(limit=0.8, kinds=("off",))


@contextmanager
def asked(process, question):
    """Asks in a thread, and goes on once the process is waited for; at the end, what came of it or why nothing did."""
    ended: list[object] = []

    def ask():
        try:
            ended.append(question())
        except (CancelledError, GoneError, NotWantedError) as error:
            ended.append(error)

    thread = threading.Thread(target=ask)
    thread.start()
    while not process._waiting:
        time.sleep(0.005)
    yield ended
    thread.join(20)
    assert not thread.is_alive()


def same(one, other):
    """Whether two results are equal, arrays and all."""
    if isinstance(one, np.ndarray):
        return isinstance(other, np.ndarray) and one.dtype == other.dtype and np.array_equal(one, other, equal_nan=True)
    if isinstance(one, msgspec.Struct):
        return type(one) is type(other) and all(same(getattr(one, f), getattr(other, f)) for f in one.__struct_fields__)
    if isinstance(one, dict):
        return one.keys() == other.keys() and all(same(one[key], other[key]) for key in one)
    if isinstance(one, (list, tuple)):
        return type(one) is type(other) and len(one) == len(other) and all(map(same, one, other))
    return type(one) is type(other) and (one == other or one != one)


def test_every_answer_is_the_one_that_is_found_here(of, beside):
    at = instant(of, 100.0)
    chosen = ("track-3", "track-9")
    assert same(beside.weigh(of, at, chosen, None), weigh(of, at, chosen, None))
    assert same(beside.weigh(of, at, chosen[:1], (60.0, 90.0)), weigh(of, at, chosen[:1], (60.0, 90.0)))
    assert same(beside.steps(of), stepped(of))
    assert same(beside.outlook(of, at), outlook(of, at))
    assert same(beside.band(of), band(of))
    assert same(beside.suggest(of, WISHES), suggest(of, WISHES))
    assert same(beside.alternatives(of, WISHES), alternatives(of, WISHES))
    assert same(beside.findings(of, at), weighed(of, at))
    kept = [KeptPlan("as it is", of.plan, 256), KeptPlan("bare", Plan(), 64)]
    assert beside.kept_loads(of, kept) == [kept_load(of, each) for each in kept]
    for limit, waits in ((0.012, True), (0.02, False)):
        assert same(beside.tracking(of, limit, waits), tracking(of, limit, waits))


def test_it_follows_the_session_the_plan_the_cards_and_the_computer(of, beside):
    found = [beside.band(of)]
    other = msgspec.structs.replace(of.session, strips=tuple(
        msgspec.structs.replace(strip, enabled=strip.id != "track-5") for strip in of.session.strips
    ))  # fmt: skip
    dearer = {
        key: msgspec.structs.replace(card, cells=tuple(
            msgspec.structs.replace(cell, mean=cell.mean * 2, p99=cell.p99 * 2) for cell in card.cells
        )) for key, card in of.now.cards.items()
    }  # fmt: skip
    for changed in (
        survey(of.session, Plan(), of.now.cards, of.machine, 256, of),
        survey(of.session, Plan(), of.now.cards, of.machine, 512),
        survey(of.session, Plan(), of.now.cards, Machine(4), 512),
        survey(other, Plan(), of.now.cards, Machine(4), 512),
        survey(other, Plan(), dearer, Machine(4), 512),
        of,
    ):
        found.append(beside.band(changed))
        assert same(found[-1], band(changed))
    assert not any(same(one, other) for one, other in pairwise(found))


def test_several_windows_have_surveys_of_their_own(of, process):
    bare = survey(of.session, Plan(), of.now.cards, of.machine, 256)
    one, other = Beside(process), Beside(process)
    for _ in range(2):
        assert same(one.band(of), band(of)) and same(other.band(bare), band(bare))
    one.close()
    assert other.steps(bare).steps == []
    other.close()


@pytest.mark.parametrize("name", ["last_steps", "outlook", "band"])
def test_what_only_the_last_survey_wants_is_not_worked_out_for_one_before_it(of, process, name):
    """Another window, or another question about the same survey, leaves it to be worked out."""
    at, one, other = instant(of, 100.0), Beside(process), Beside(process)
    question = getattr(one, name)
    given = (of, at) if name == "outlook" else (of,)
    unknown = (survey(of.session, of.plan, of.now.cards, of.machine, 64), *given[1:])
    expected = {"last_steps": stepped, "outlook": outlook, "band": band}[name](*given)
    with asked(process, lambda: question(*given)) as ended:
        other.survey(of.session, Plan(), of.now.cards, of.machine, 128)
        one.instant(of, 90.0)
    assert same(ended[0], expected)
    os.kill(process.id, signal.SIGSTOP)  # so that it gets both questions at once
    with asked(process, lambda: question(*unknown)) as ended:
        goes_on = threading.Timer(0.3, lambda: os.kill(process.id, signal.SIGCONT))
        goes_on.start()
        one.survey(of.session, Plan(), of.now.cards, of.machine, 128)
        goes_on.join()
    assert isinstance(ended[0], NotWantedError)
    assert same(question(*given), expected)
    for each in (one, other):
        each.close()


def test_what_fails_there_is_told_with_its_reason_and_the_next_question_is_answered(of, beside):
    with pytest.raises(BesideError) as told:
        beside._asked(of, "outlook", "when?")
    assert "when?" in str(told.value) and "ValueError" in told.value.__notes__[0]
    assert beside.steps(of)


def test_a_process_that_is_killed_is_started_anew_under_the_question(of, process, beside):
    assert beside.steps(of)
    before = process.generation
    child = process.id
    os.kill(child, signal.SIGSTOP)  # so that it is under the question for certain when it is killed
    killed = threading.Timer(0.3, lambda: os.kill(child, signal.SIGKILL))
    killed.start()
    assert same(beside.steps(of), stepped(of))
    killed.join()
    assert process.generation == before + 1 and process.id != child


def test_one_that_cannot_live_is_an_error_and_not_a_wait_for_ever(of, monkeypatch):
    monkeypatch.setattr("sys.executable", "/bin/false")
    made = Process()
    asking = Beside(made)
    with pytest.raises(GoneError):
        asking.steps(of)
    asking.close()
    made.end()


def test_closing_lets_go_at_once_whoever_waits(of, process):
    asking = Beside(process)
    assert asking.steps(of)
    with asked(process, lambda: asking.alternatives(of, WISHES._replace(limit=0.5))) as ended:
        asking.close()
    assert isinstance(ended[0], CancelledError)
    with pytest.raises(CancelledError):
        asking.steps(of)


def test_one_that_is_stopped_and_does_not_listen_holds_nobody_up(of, monkeypatch):
    monkeypatch.setattr(client, "LISTENS_WITHIN", 0.3)
    made = Process()
    asking = Beside(made)
    assert asking.steps(of)
    os.kill(made.id, signal.SIGSTOP)
    strips = tuple(msgspec.structs.replace(s, name="x" * 100_000) for s in of.session.strips)
    large = survey(msgspec.structs.replace(of.session, strips=strips), of.plan, of.now.cards, of.machine, of.buffer)
    with asked(made, lambda: asking.steps(large)) as ended:
        asking.close()
    assert isinstance(ended[0], (CancelledError, GoneError))
    made.end()


PROGRAM = """
import os, signal, sys
from nimbleload.beside.client import SHARED
SHARED.ready()
print(SHARED.id, flush=True)
os.kill(os.getpid(), signal.SIGKILL)
"""


def test_it_ends_with_the_program_that_started_it():
    program = subprocess.run([sys.executable, "-c", PROGRAM], stdout=subprocess.PIPE, text=True, check=False)
    child = Path(f"/proc/{int(program.stdout)}")
    until = time.monotonic() + 30
    while child.exists() and "beside" in (child / "cmdline").read_text():
        assert time.monotonic() < until, "it has outlived its program"
        time.sleep(0.05)
