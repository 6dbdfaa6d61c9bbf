"""Whose figures those of a session file are: measured on this computer, or elsewhere."""

from __future__ import annotations

import platform
from collections.abc import Iterable
from pathlib import Path

import msgspec

from ..core.cards.card import METHOD, Cell, CostCard, Made, Provenance

# What figures are called that were measured by whoever has them.
OWN: tuple[Provenance, ...] = ("measured", "first", "earlier")


def this_machine() -> str:
    """What tells this computer's figures from another's: its name and its processor."""
    model = platform.processor() or platform.machine()
    try:
        for line in Path("/proc/cpuinfo").read_text(errors="replace").splitlines():
            if line.startswith(("model name", "Model")):
                model = line.partition(":")[2].strip()
                break
    except OSError:
        pass
    return f"{platform.node()}: {model}"


def of_method(provenance: Provenance, made: Made | None) -> Provenance:
    """What figures are that were measured here, by the way in which they were."""
    is_earlier = provenance == "measured" and (made is None or made.method < METHOD)
    return "earlier" if is_earlier else provenance


def seen_here(cards: Iterable[CostCard], machine: str) -> tuple[CostCard, ...]:
    """Cards that came along with a session, as they are for this computer; `machine` is the one they were kept on. What
    that one has measured was measured elsewhere if it is another, or none is known; and so has failed what failed
    there."""
    is_here = machine == this_machine()
    return tuple(_seen(card, is_here) for card in cards)


def _seen(card: CostCard, is_here: bool) -> CostCard:
    def told(cell: Cell) -> Cell:
        own = of_method(cell.provenance, card.made) if is_here else "elsewhere"
        return msgspec.structs.replace(cell, provenance=own) if cell.provenance in OWN else cell

    cells = tuple(map(told, card.cells))
    return msgspec.structs.replace(card, cells=cells, failure=card.failure if is_here else None)
