"""Pieces of work begin when what they wait for has ended, end in their order, and at the first fault all do."""

from __future__ import annotations

import random
import threading
import time

import pytest

from nimbleload.deliver import in_order as module
from nimbleload.deliver.asked import Asked
from nimbleload.deliver.in_order import CORES, Work, in_order


class Run:
    """Pieces that note when they begin, run and end."""

    def __init__(self, waits, fails=None):
        self.waits, self.fails, self.asked = waits, fails, Asked()
        self.begun, self.ran, self.ended, self.running, self.most = [], [], [], 0, 0
        self.lock = threading.Lock()

    def begin(self, number):
        assert self.waits[number] <= set(self.ended), "all that it waits for has ended"
        self.begun.append(number)

        def run():
            self.ran.append(number)
            with self.lock:
                self.running += 1
                self.most = max(self.most, self.running)
            yield 0.5
            time.sleep(0.002 * (number % 3))
            with self.lock:
                self.running -= 1
            if number == self.fails:
                raise ValueError(f"piece {number}")

        return run

    def all(self, has_room=lambda: True):
        pieces = [
            Work(waits, lambda number=number: self.begin(number), lambda number=number: self.ended.append(number))
            for number, waits in enumerate(self.waits)
        ]  # fmt: skip
        return list(in_order(pieces, has_room, self.asked))


@pytest.mark.parametrize("cores", [1, 2, 5])
def test_all_is_done_in_order_whoever_is_through_first(monkeypatch, cores):
    monkeypatch.setattr(module, "CORES", cores)
    for seed in range(20):
        rng = random.Random(seed)
        waits = [set(rng.sample(range(k), rng.randint(0, min(k, 3)))) for k in range(rng.randint(1, 12))]
        run = Run(waits)
        shares = run.all()
        assert run.ended == list(range(len(waits))) == sorted(run.begun)
        assert 1 <= run.most <= cores
        assert shares == sorted(shares) and shares[-1] == 1.0


def test_what_has_no_room_waits_but_for_the_first(monkeypatch):
    monkeypatch.setattr(module, "CORES", 4)
    run = Run([set() for _ in range(8)])
    run.all(has_room=lambda: False)
    assert run.most == 1 and run.ended == list(range(8))
    assert CORES >= 1


def test_a_fault_stops_all_and_is_raised():
    run = Run([set(), set(), {1}, {2}], fails=1)
    with pytest.raises(ValueError, match="piece 1"):
        run.all()
    assert run.asked.is_stopped() and run.running == 0 and 3 not in run.begun


def test_what_has_not_begun_to_run_at_a_fault_never_does(monkeypatch):
    monkeypatch.setattr(module, "CORES", 1)
    run = Run([set() for _ in range(5)], fails=0)
    with pytest.raises(ValueError, match="piece 0"):
        run.all()
    assert len(run.begun) == 5 and len(run.ran) < 5


def test_what_waits_is_passed_by(monkeypatch):
    monkeypatch.setattr(module, "CORES", 2)
    run = Run([set(), {0}, {0}, set(), {3}])
    run.all()
    assert run.begun[:2] == [0, 3] and run.ended == [0, 1, 2, 3, 4]


def test_who_no_longer_listens_stops_all():
    run = Run([set() for _ in range(6)])
    pieces = [Work(set(), lambda k=k: run.begin(k), lambda: None) for k in range(6)]
    shares = in_order(pieces, lambda: True, run.asked)
    next(shares)
    shares.close()
    assert run.asked.is_stopped() and run.running == 0
