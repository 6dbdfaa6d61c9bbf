"""The clients of a sound server as strips, connected as they were."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from ..session.strips import Clip, Send, Strip
from ..watching.server import DEVICE, Client, Server

MAIN = "main"


def as_clients(seen: Sequence[tuple[int, Strip]], server: Server, length: float) -> tuple[list[Strip], tuple[str, ...]]:
    """A strip for each client, with what was met in its process; and the connections that were left out.

    `seen` are strips by process. What was met in a process without a client keeps its own strip; of several clients of
    one process the first has its plugins. The first connection is a strip's output, the others are sends; the device
    is the main output. One that would close a circle is left out: "A → B". `length` in seconds.
    """
    clients = [client for client in server.clients if client.name != DEVICE]
    ids = {client.name: f"client{place}" for place, client in enumerate(clients, 1)} | {DEVICE: MAIN}
    strips, extra = [], []
    left = list(seen)
    for client in clients:
        mine = [strip for process, strip in left if process == client.process]
        left = [(process, strip) for process, strip in left if process != client.process]
        strips.append(_strip(client, ids[client.name], mine, length))
        # Only one instrument has its place in a strip: further ones feed it.
        more = (strip for strip in mine[1:] if strip.instrument is not None)
        extra += [msgspec.structs.replace(strip, inserts=(), output=ids[client.name]) for strip in more]
    routes, circles = _routes(clients)
    fed = {name for targets in routes.values() for name in targets} - {DEVICE}
    made = []
    for client, strip in zip(clients, strips, strict=True):
        targets = [ids[name] for name in routes[client.name]]
        is_bus = client.name in fed and strip.instrument is None
        made.append(
            msgspec.structs.replace(
                strip, kind="bus" if is_bus else "track", clips=() if is_bus else strip.clips,
                output=targets[0] if targets else None, sends=tuple(Send(target) for target in targets[1:]),
            )
        )  # fmt: skip
    return [*(strip for _, strip in left), *extra, *made], circles


def _strip(client: Client, strip_id: str, mine: Sequence[Strip], length: float) -> Strip:
    """The strip of a client: the first instrument that was met in its process, and all effects; mono if it gives one
    channel."""
    instrument = mine[0].instrument if mine else None
    inserts = tuple(use for strip in mine for use in strip.inserts)
    strip = Strip(strip_id, client.name, "track", instrument, inserts, clips=(Clip(0.0, length),))
    return strip.widened(1) if client.outputs == 1 else strip


def _routes(clients: Sequence[Client]) -> tuple[dict[str, list[str]], tuple[str, ...]]:
    """Whom each client feeds, without circles, and what was left out for that."""
    routes: dict[str, list[str]] = {client.name: [] for client in clients}
    circles = []
    for client in clients:
        for target in client.feeds:
            if target != DEVICE and (target not in routes or _reaches(routes, target, client.name)):
                circles.append(f"{client.name} → {target}")
            else:
                routes[client.name].append(target)
    return routes, tuple(circles)


def _reaches(routes: dict[str, list[str]], start: str, end: str) -> bool:
    """Whether what leaves one client comes to another."""
    waiting, met = [start], set()
    while waiting:
        name = waiting.pop()
        if name == end:
            return True
        if name not in met:
            met.add(name)
            waiting += routes.get(name, [])
    return False
