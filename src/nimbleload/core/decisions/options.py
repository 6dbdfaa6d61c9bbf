"""What it would take: every decision that a strip allows, and why the others are not possible."""

from __future__ import annotations

from collections.abc import Sequence

from ..session.session import Session
from ..session.strips import Strip
from .alike import Group
from .apply import KINDS
from .decision import DecisionKind
from .kind import Asked, Option

# In the order in which they are offered.
OFFERED: tuple[DecisionKind, ...] = (
    "live", "freeze", "suspend", "disarm", "off", "bounce", "share", "lighten", "outboard"
)  # fmt: skip


def options(
    strip: Strip, session: Session, sharing: Sequence[Group] = (), stretch: tuple[float, float] | None = None
) -> list[Option]:
    """Every decision about a strip, in a fixed order. Sharing is known of the groups `sharing` only.

    With a `stretch` (seconds) that part alone can be bounced.
    """
    asked = Asked(session, sharing, stretch)
    return [option for kind in OFFERED for option in KINDS[kind].options(strip, asked)]
