"""A block that the host computes in parts: the task graph of all of them."""

from __future__ import annotations

import numpy as np

from ..session.routing import Graph


def divided(graph: Graph, parts: int) -> Graph:
    """The graph of a block that is computed in parts: task p · S + i is part p of strip i.

    A part waits for the part before it of the same strip, and for the same part of all that feed the strip.
    """
    if parts == 1:
        return graph
    count = len(graph.ids)
    lengths = np.diff(graph.first)
    first, flat = [np.zeros(1, np.int64)], []
    for part in range(parts):
        to_next = part + 1 < parts
        fed = np.split(graph.successors + part * count, graph.first[1:-1])
        if to_next:
            fed = [np.append(each, (part + 1) * count + task) for task, each in enumerate(fed)]
        flat.append(np.concatenate(fed) if count else np.zeros(0))
        first.append(first[-1][-1] + np.cumsum(lengths + to_next))
    offsets = np.arange(parts, dtype=np.int32)[:, None] * count
    return Graph(
        graph.ids * parts,
        np.concatenate(first).astype(np.int32),
        np.concatenate(flat).astype(np.int32),
        (graph.waits + (offsets > 0)).ravel().astype(np.int32),
        (graph.order + offsets).ravel().astype(np.int32),
        (np.where(graph.goes_on >= 0, graph.goes_on + offsets, -1)).ravel().astype(np.int32),
        (graph.places + offsets).ravel().astype(np.int32),
        graph.listed,
    )
