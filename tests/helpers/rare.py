"""A host whose blocks are late now and then, and what else runs then: all of it is known."""

from __future__ import annotations

from collections.abc import Collection, Sequence

from nimbleload.core.watching.records import HOST, Others, Recording

from .recordings import recording, thread

PERIOD, BEGUN, LOOK = 5_000_000, 1_000_000_000, 1_000_000


def rare(
    blocks: int, late: Collection[int], took: tuple[int, int], beside: Sequence[tuple[int, int]] = (),
    others: Sequence[Others] = (), usual: int = 1_500_000,
) -> Recording:  # fmt: skip
    """A plugin takes `usual` in each block, another one `took[0]`, or `took[1]` in `late` ones (ns); a thread "saver"
    is at work in these stretches `beside`. One look falls into each millisecond of what is computed."""
    stretches, looks, free, spent = [], [], 0, 0
    for k in range(blocks):
        at = start = max(BEGUN + k * PERIOD, free)
        for owner, taken in ((1, usual), (2, took[k in late]), (HOST, 50_000)):
            looks += [(at + step - spent % LOOK, owner) for step in range(LOOK, spent % LOOK + taken + 1, LOOK)]
            spent += taken
            at += taken
        if stretches and start == free:
            stretches[-1] = (stretches[-1][0], at)
        else:
            stretches.append((start, at))
        free = at
    leader = thread(1, stretches, "engine", looks=looks, waited=0.0)
    saver = thread(2, beside, "saver", real_time=False)
    made = recording(leader, saver, files=("/plugins/Reed.so", "/plugins/Stone.so"), begun=BEGUN - PERIOD)
    return made._replace(others=tuple(others))
