"""What a load rests on: where its figures come from, and how much of it may be the work of others."""

from __future__ import annotations

from ..cards.card import PROVENANCE_WORDS
from ..survey import Instant
from ..units import agreeing, percent

# Smaller shares of a load are not told.
LEAST, LEAST_DOUBT = 0.005, 0.02
OF_OTHERS = "the work of others, who shared the core when it was measured"
AS_ON_ALIKE = "as if all cores were alike: what pairs and slow cores do to these plugins was not measured"


def basis(at: Instant, all_of_it: bool = False) -> list[tuple[str, str]]:
    """Shares of a moment's load, and what they rest on; without what was measured on this computer, unless `all_of_it`
    is wanted. Then what counts as on other cores than these, and how much of it may be the work of others."""
    said = [
        (percent(share), PROVENANCE_WORDS[name])
        for name, share in at.shares.items()
        if share >= LEAST and (all_of_it or name != "measured")
    ]
    said += [(percent(at.as_on_alike), AS_ON_ALIKE)] if at.as_on_alike >= LEAST else []
    return [*said, (f"up to {percent(at.doubt)}", OF_OTHERS)] if at.doubt >= LEAST_DOUBT else said


def basis_words(at: Instant, updated: int = 0) -> list[str]:
    """The same in words, to be made sentences of; empty if all was measured on this computer. `updated` plugin settings
    were measured before their plugin was updated."""
    said = [f"{share} of this load: {words}" for share, words in basis(at)]
    return [*said, updated_words(updated)] if updated else said


def updated_words(updated: int) -> str:
    """That so many of the session's plugin settings (one at least) were measured before their plugin was updated."""
    one = "plugin setting was measured before its plugin was updated"
    return agreeing(updated, one, "plugin settings were measured before their plugins were updated")
