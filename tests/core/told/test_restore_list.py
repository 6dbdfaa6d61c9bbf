"""The restore list: everything that the plan took away, and nothing else."""

from __future__ import annotations

import msgspec

from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.session.plugins import Variant
from nimbleload.core.told.restore_list import restore_list
from tests.helpers.sessions import session, setting, track, use


def test_every_decision_has_its_way_back_in_session_order():
    of = session(track("a", "p"), track("b", "p", "q"), track("c", armed=True))
    of = msgspec.structs.replace(of, variants=(Variant(use("p").card_key(), "light", setting(q=0)),))
    plan = Plan((
        Decision("disarm", "c"), Decision("lighten", "b", "b/p", variant="light"), Decision("off", "b", "b/q"),
        Decision("suspend", "b"), Decision("freeze", "a"), Decision("off", "gone"),
    ))  # fmt: skip
    assert restore_list(of, plan) == [
        "Unfreeze a, or render from the freeze if nothing before it has changed.",
        "Let b run through, so that no tail is cut.",
        "Set p on b back: as it starts.",
        "Switch q on b on again.",
        "Arm c again if it is to be recorded.",
    ]
    assert restore_list(of, Plan()) == []
