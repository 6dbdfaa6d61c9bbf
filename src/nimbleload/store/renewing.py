"""Taking in a newer export of the mix that a session came from."""

from __future__ import annotations

from pathlib import Path

import msgspec

from ..core.decisions.decision import Plan
from ..core.decisions.renewed import renewed
from ..core.told.newer import newer_words
from ..core.told.restore_list import restore_list
from . import dawproject
from .dawproject import ImportReport
from .session_file import Saved


class Renewal(msgspec.Struct, frozen=True):
    """A session with what a newer export brought. `said` tells what is new and gone, and what became of the plan."""

    saved: Saved
    report: ImportReport
    said: tuple[str, ...]


def renewal(saved: Saved, newer: Path) -> Renewal:
    """Reads a newer export in place of the one that a session came from: see `core.decisions.renewed`. Nothing is
    written. ImportRefusedError as `dawproject.read`."""
    found = dawproject.read(newer)
    made = renewed(saved.session, found.session, saved.plan, saved.kept)
    undone = [line for line in saved.plan.carried_out if line not in saved.plan.put_back]
    back = tuple(restore_list(saved.session, Plan(made.done, carried_out=tuple(undone))))

    def with_list(plan: Plan) -> Plan:
        return msgspec.structs.replace(plan, carried_out=back)

    wanted = made.session.cards_needed()
    after = msgspec.structs.replace(
        saved, session=made.session, plan=with_list(made.plan),
        # Whichever plan is in force, that was done to the session.
        kept=tuple(msgspec.structs.replace(each, plan=with_list(each.plan)) for each in made.kept),
        cards=tuple(card for card in saved.cards if card.key in wanted),
    )  # fmt: skip
    return Renewal(after, found.report, tuple(newer_words(saved.session, saved.plan, made)))
