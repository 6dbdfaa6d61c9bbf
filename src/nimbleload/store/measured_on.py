"""Whose figures those of a session file are: measured on this computer, or elsewhere."""

from __future__ import annotations

import platform
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


def seen_here(card: CostCard, machine: str) -> CostCard:
    """A card that came along with a session, as it is for this computer; `machine` is the one it was kept on. What that
    one has measured was measured elsewhere if it is another, or none is known; and so has failed what failed there."""
    is_here = machine == this_machine()

    def of(cell: Cell) -> Provenance:
        if cell.provenance not in OWN:
            return cell.provenance
        return of_method(cell.provenance, card.made) if is_here else "elsewhere"

    cells = tuple(cell if of(cell) == cell.provenance else msgspec.structs.replace(cell, provenance=of(cell))
                  for cell in card.cells)  # fmt: skip
    return msgspec.structs.replace(card, cells=cells, failure=card.failure if is_here else None)
