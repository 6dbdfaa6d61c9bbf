"""A process beside, for the tests of one file, and something to ask it of."""

from __future__ import annotations

import pytest

from nimbleload.beside.client import Beside, Process
from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.session.computer import Machine
from nimbleload.core.session.pared import pared
from nimbleload.core.survey import survey
from nimbleload.demo.cards import sample_cards
from nimbleload.demo.session import session


@pytest.fixture(scope="module")
def process():
    made = Process()
    yield made
    made.end()


@pytest.fixture
def beside(process):
    made = Beside(process)
    yield made
    made.close()


@pytest.fixture(scope="module")
def of():
    # A part of the example that has everything in it: what is asked is the same, and answered sooner.
    whole = session()
    made = pared(whole, [strip.id for strip in whole.strips if strip.kind == "track"][:24], (60.0, 240.0))
    frozen = [strip.id for strip in made.strips if strip.kind == "track" and strip.inserts and not strip.armed][:8]
    plan = Plan(tuple(Decision("freeze", strip) for strip in frozen))
    return survey(made, plan, sample_cards(), Machine(6), 256)
