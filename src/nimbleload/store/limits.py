"""What numbers can be at all in a session or a cost card that comes from a file: checked once, at the border."""

from __future__ import annotations

import itertools
import math
from collections.abc import Iterator
from typing import Any

import msgspec

from ..core.cards.card import Cell, Company, CostCard, Inputs, Made, Paced, Polyphony
from ..core.cards.slowing import Slowing
from ..core.cards.upkeep import Upkeep
from ..core.session.computer import Device, Host, Machine
from ..core.session.plugins import PluginUse
from ..core.session.session import LEAST_LIMIT, MOST_LIMIT, Meter, Session, TempoPoint
from ..core.session.strips import Clip, Send, Strip

LONGEST = 1e7  # seconds: four months
COST = (0.0, 1000.0)
RANGES: dict[type, dict[str, tuple[float, float]]] = {
    Session: {"rate": (1000, 1_000_000), "length": (0, LONGEST), "limit": (LEAST_LIMIT, MOST_LIMIT)},
    Host: {
        "cores_left_free": (0, 1024), "strip_overhead": (0, 1), "plugin_overhead": (0, 1), "read_ahead": (0, 1 << 22),
        "plugin_factor": (0.001, 1000), "tail_limit": (0, 86_400), "parts": (1, 256),
    },
    Device: {
        "periods": (0, 64), "safety": (0, 1 << 22), "converters": (0, 10), "outboard": (0, 100_000),
        "heard_within": (0, 60),
    },
    Machine: {"cores": (1, 1024), "speed": (0.001, 1000), "measured_cores": (0, 1024), "memory": (0, 1e15)},
    Meter: {"beat": (0, 1e9), "beats": (1, 99), "unit": (1, 64)},
    TempoPoint: {"beat": (0, 1e9), "bpm": (1, 10_000)},
    Strip: {
        "volume": (0, 1e6), "pan": (-1, 1), "post_fader": (0, 100_000), "frozen_through": (-1, 100_000),
        "channels": (1, 1024),
    },
    Send: {"level": (0, 1e6), "after": (-1, 100_000)},
    Clip: {"start": (0, LONGEST), "end": (0, LONGEST), "rate": (0, 1_000_000), "bits": (0, 64), "offset": (0, LONGEST)},
    PluginUse: {"channels": (0, 1024), "voices": (0, 4096)},
    Cell: {
        "rate": (1000, 1_000_000), "buffer": (1, 1 << 20), "mean": COST, "median": COST, "p95": COST, "p99": COST,
        "p999": COST, "largest": COST, "jitter": COST, "watched": (0, LONGEST), "interruptions": (0, 1e12),
        "aside": COST, "clock": (0, 1), "shared": (1, 1e6), "latency": (0, 1e9),
    },
    Inputs: {"rate": (1000, 1_000_000), "buffer": (1, 1 << 20), "dense": COST, "short": COST, "hot": COST},
    Paced: {"rate": (1000, 1_000_000), "buffer": (1, 1 << 20), "row": COST, "paced": COST},
    Slowing: {
        "rate": (1000, 1_000_000), "buffer": (1, 1 << 20), "by": (1, 100), "seconds": (0, 1), "row": (0.01, 100),
    },
    Made: {"instances": (1, 1024), "hears": (0, 1024)},
    CostCard: {"latency": (0, 1e9), "tail": (0, 1e6), "listened": (0, 1e6), "filled": (0, 1e6)},
    Upkeep: {
        "memory": (0, 1e15), "footprint": (0, 1e15), "load": (0, 1e6), "faults": (0, 1e12), "read": (0, 1e15),
        "beside": (0.01, 1000), "paired": (0.01, 1000), "slower": (0.01, 1000), "others": (0, 4096),
        "pool": (0, 1e15), "code": (0, 1e15), "grows": (0, 1e15),
    },
}  # fmt: skip


def impossible(value: Any, where: str = "") -> str | None:
    """What cannot be in something that was read, and where, in words; None if all of it can."""
    return next(_impossible(value, where), None)


def _impossible(value: Any, where: str) -> Iterator[str]:
    if isinstance(value, float):
        if not math.isfinite(value):
            yield f"{where} is {value}, which is not possible"
    elif isinstance(value, (tuple, list)):
        for number, each in enumerate(value):
            if not isinstance(each, (str, bytes, bool)):
                yield from _impossible(each, f"{where} {number + 1}".strip())
    elif isinstance(value, msgspec.Struct):
        ranges = RANGES.get(type(value), {})
        name = getattr(value, "name", None) or getattr(value, "label", None)
        here = f"{where} “{name}”".strip() if isinstance(name, str) else where
        for field in value.__struct_fields__:
            part = getattr(value, field)
            if part is None or isinstance(part, (str, bytes, bool)):
                continue
            least, most = ranges.get(field, (-math.inf, math.inf))
            called = f"{here}: {field.replace('_', ' ')}".removeprefix(": ")
            if isinstance(part, (int, float)) and not least <= part <= most:
                yield f"{called} is {part}; it can be from {least:g} to {most:g}"
            else:
                yield from _impossible(part, called)
        if isinstance(value, Strip) and value.part_of is not None:
            yield f"{here} is said to be a part of another one, which only a computation makes"
        if isinstance(value, (Company, Polyphony)):
            yield from _bad_curve(value, here)


def _bad_curve(of: Company | Polyphony, where: str) -> Iterator[str]:
    """A curve has as many costs as it has places, which ascend."""
    places = of.touched if isinstance(of, Company) else of.voices
    if not places or len(places) != len(of.seconds):
        yield f"{where}: a curve over {len(places)} places has {len(of.seconds)} costs"
    elif any(b <= a for a, b in itertools.pairwise(places)):
        yield f"{where}: the places of a curve do not ascend"
    elif any(not COST[0] <= each <= COST[1] for each in of.seconds):
        yield f"{where}: a curve has costs that are not possible"
