"""Three plans on the trade-off curve, side by side."""

from __future__ import annotations

from ..survey import Survey
from .candidates import Weights, Wishes
from .search import Suggestion, suggest


def alternatives(of: Survey, wishes: Wishes) -> dict[str, Suggestion]:
    """Three plans on the trade-off curve: least given up, fewest decisions, most headroom."""
    same = Weights(freeze=1.0, source=1.0, suspend=1.0, lighten=1.0, share=1.0, disk=0.0)
    return {
        "least given up": suggest(of, wishes),
        "fewest decisions": suggest(of, wishes._replace(weights=same)),
        "most headroom": suggest(of, wishes._replace(limit=wishes.limit - 0.1)),
    }
