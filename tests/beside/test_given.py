"""Answers that were given before are given again, of the same question about the same survey only."""

from __future__ import annotations

import subprocess
import sys
from multiprocessing import Pipe

import msgspec
import pytest

from nimbleload.beside import given
from nimbleload.beside.given import Given
from nimbleload.beside.messages import Question, asked_of, parts_of, receive
from nimbleload.core.decisions.decision import Plan
from nimbleload.core.session.computer import Machine

PROGRAM = """
from nimbleload.beside import answers, worker

def told(name, answer):
    def tell(of, *arguments):
        print(name, of.buffer, flush=True)
        return answer(of, *arguments)
    return tell

for name in ("band", "outlook", "last_steps", "tracking"):
    answers.ANSWERS[name] = told(name, answers.ANSWERS[name])
worker.main()
"""


def test_what_is_known_is_not_worked_out_again_and_the_oldest_is_forgotten_first(monkeypatch):
    monkeypatch.setattr(given, "KEPT", 2)
    of, worked_out = Given(), []

    def ask(*key):
        return of.answer(*key, lambda: worked_out.append(key) or len(worked_out))

    one, other, third = (b"one", "band", ()), (b"one", "outlook", (3.0,)), (b"other", "band", ())
    assert [ask(*one), ask(*other), ask(*one), ask(*third), ask(*one), ask(*other)] == [1, 2, 1, 3, 1, 4]
    with pytest.raises(ZeroDivisionError):
        of.answer(b"new", "band", (), lambda: 1 / 0)
    assert of.answer(b"new", "band", (), lambda: 7) == 7


def test_whoever_goes_back_is_answered_at_once_and_whoever_changes_anything_with_what_is_so_now(of):
    """Of every question that the window asks of the last survey, in a real process."""
    renamed = msgspec.structs.replace(of.session, name="Another")
    dearer = {
        key: msgspec.structs.replace(card, cells=tuple(
            msgspec.structs.replace(cell, mean=cell.mean * 2) for cell in card.cells
        )) for key, card in of.now.cards.items()
    }  # fmt: skip
    first = asked_of(of)
    changes = [first._replace(buffer=512), first._replace(machine=Machine(3)), first._replace(plan=Plan()),
               first._replace(session=renamed), first._replace(cards=dearer)]  # fmt: skip
    ours, its = Pipe()
    with subprocess.Popen(
        [sys.executable, "-c", PROGRAM, str(its.fileno())], pass_fds=[its.fileno()], stdout=subprocess.PIPE, text=True
    ) as process:
        its.close()
        numbers, before = iter(range(1, 1000)), None

        def answered(asked, name, *arguments, client=1):
            nonlocal before
            ours.send(Question(next(numbers), client, parts_of(asked, before), name, arguments))
            before = asked
            answer = receive(ours)
            assert not answer.failure, answer.trace
            return msgspec.json.encode(answer.result, enc_hook=lambda array: array.tolist())

        def all_of(asked):
            return [answered(asked, "band"), answered(asked, "outlook", 100.0), answered(asked, "last_steps")]

        once = all_of(first)
        others = [all_of(each) for each in changes]
        assert all_of(first) == once and [all_of(each) for each in changes] == others
        answered(first, "outlook", 90.0)
        answered(first, "tracking", 0.012, True)
        answered(first, "tracking", 0.012, True)
        before = None
        assert answered(first, "band", client=2) == once[0]
        ours.close()
        told = process.stdout.read().splitlines()
    each = ["band", "outlook", "last_steps"]
    buffers = [256, 512, 256, 256, 256, 256]
    assert told == [f"{name} {size}" for size in buffers for name in each] + ["outlook 256"] + ["tracking 256"] * 2
