"""Which sound servers run, and which processes their clients are: from the sockets that they have open, or as PipeWire
tells it."""

from __future__ import annotations

import contextlib
import os
import re
import subprocess
from pathlib import Path
from typing import Any, NamedTuple

import msgspec

from ..core.watching.server import ServerKind
from ..native.decoding import decoded
from .processes import PROC

# A server of JACK's listens at jack_NAME_USER_NUMBER; each client once listened at a socket of its own name.
_NAMED = re.compile(r"/jack_(.+)_(\d+)_\d+$")
_LISTENS = "01"
LONGEST_LIST = 3.0


class Running(NamedTuple):
    """A sound server that runs: what it is, its name and its process (0: not found)."""

    kind: ServerKind
    name: str
    process: int


def servers(root: Path = PROC) -> list[Running]:
    """The sound servers of this user that run, JACK's first."""
    holders, found = _holders(root), []
    for inode, state, path in _sockets(root):
        named = _NAMED.search(path)
        if named and state == _LISTENS and int(named[2]) == os.getuid() and inode in holders:
            found.append(Running("JACK", named[1], holders[inode]))
        elif path.endswith("/pipewire-0") and state == _LISTENS and inode in holders:
            found.append(Running("PipeWire", path, holders[inode]))
    return sorted(dict.fromkeys(found))


def jack_clients(root: Path = PROC) -> dict[str, int]:
    """The processes of JACK's clients by the clients' names."""
    holders, found = _holders(root), {}
    for inode, state, path in _sockets(root):
        named = _NAMED.search(path)
        if named and state != _LISTENS and inode in holders:
            found[named[1]] = holders[inode]
    return found


def pipewire_clients(remote: str) -> dict[str, int]:
    """The processes of PipeWire's clients by their nodes' names, as its own program lists them; empty without that."""
    environment = {**os.environ, "PIPEWIRE_REMOTE": remote}
    try:
        told = subprocess.run(["pw-dump"], capture_output=True, timeout=LONGEST_LIST, env=environment, check=True)
        objects = decoded(told.stdout, list[_Object])
    except (OSError, subprocess.SubprocessError, msgspec.MsgspecError):
        return {}
    found = [(each.id, each.info.props) for each in objects if each.info is not None]
    processes = {number: int(props["pipewire.sec.pid"]) for number, props in found if "pipewire.sec.pid" in props}
    nodes = [(props["node.name"], props["client.id"]) for _, props in found if {"node.name", "client.id"} <= set(props)]
    return {str(name): processes[client] for name, client in nodes if client in processes}


class _Info(msgspec.Struct, frozen=True):
    props: dict[str, Any] = {}


class _Object(msgspec.Struct, frozen=True):
    """One object of PipeWire's list; only what is needed here."""

    id: int
    info: _Info | None = None


def _sockets(root: Path) -> list[tuple[str, str, str]]:
    """Every socket of the system that has a path: its inode, its state, the path."""
    try:
        lines = (root / "net/unix").read_text(errors="surrogateescape").splitlines()[1:]
    except OSError:
        return []
    rows = [line.split(maxsplit=7) for line in lines]
    return [(row[6], row[5], row[7]) for row in rows if len(row) == 8]


def _holders(root: Path) -> dict[str, int]:
    """Which process of this user has each socket open: the first of several, since children have it from parents."""
    found: dict[str, int] = {}
    for folder in sorted(root.iterdir(), key=lambda each: (len(each.name), each.name)):
        if folder.name.isdigit():
            with contextlib.suppress(OSError):
                for each in (folder / "fd").iterdir():
                    with contextlib.suppress(OSError):
                        target = str(each.readlink())
                        if target.startswith("socket:["):
                            found.setdefault(target[8:-1], int(folder.name))
    return found
