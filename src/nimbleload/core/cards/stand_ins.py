"""Figures that were not measured here: readings of a host's meter, and cards that stand in for others."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import msgspec

from ..session.computer import deadline
from ..session.plugins import PluginUse
from .card import Cell, CostCard


class Reading(NamedTuple):
    """What a meter showed for one plugin at a buffer size (samples): `share` of one core, which is of the deadline."""

    buffer: int
    share: float


def from_readings(use: PluginUse, readings: Sequence[Reading], rate: int) -> CostCard:
    """A card with a typed cell for each reading. ValueError if there is none, or one is negative."""
    if not readings or any(reading.share < 0 for reading in readings):
        raise ValueError("a reading must be there, and not be negative")
    cells = tuple(
        Cell(rate, each.buffer, "sounding", each.share * deadline(each.buffer, rate), provenance="typed")
        for each in readings
    )
    return CostCard(use.card_key(), use.label, cells)


def standing_in(use: PluginUse, other: CostCard) -> CostCard:
    """The card of another plugin or setting, for this use: every figure of it counts as a stand-in's.

    It lends its cost, never its truth: neither latency, tail nor null tests are this plugin's.
    """
    cells = tuple(msgspec.structs.replace(cell, provenance="stand-in") for cell in other.cells)
    return msgspec.structs.replace(
        other, key=use.card_key(), name=use.label, cells=cells, failure=None, sweep=None, truth=None, latency=0,
        tail=None, listened=None, positions=(), nulls=(),
    )  # fmt: skip
