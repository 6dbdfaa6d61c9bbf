"""Sound servers of the tests' own, with real plugins in the LV2 standard's own command-line host."""

from __future__ import annotations

import os
import shutil
import subprocess
import time
from collections.abc import Callable, Sequence
from pathlib import Path

import pytest

from nimbleload.machine import sound_servers

START = 20.0
# Twelve LV2 processors of one Debian package, light and heavy ones.
NAMES = (
    "ZamVerb", "ZamTube", "ZamEQ2", "ZamComp", "ZamCompX2", "ZamGate", "ZamDelay", "ZamGEQ31", "ZaMultiComp",
    "ZaMaximX2", "ZamAutoSat", "ZamGateX2",
)  # fmt: skip
TWELVE = tuple(f"urn:zamaudio:{name}" for name in NAMES)


class SoundServer:
    """A server with a dummy device, under a name of its own; `add` starts hosts as its clients.

    `clients` are the hosts' processes by the names of their clients.
    """

    def __init__(self, words: Sequence[str], environment: dict[str, str], wrapper: Sequence[str], log: Path) -> None:
        self.environment = {**os.environ, **environment}
        self._wrapper, self._log = wrapper, log
        self.name = environment.get("JACK_DEFAULT_SERVER", "")
        self.clients: dict[str, subprocess.Popen[bytes]] = {}
        with log.open("wb") as file:
            self.process = subprocess.Popen(words, stdout=file, stderr=file, env=self.environment)

    def add(self, name: str, plugin: str) -> None:
        """Starts a host with one LV2 plugin; it goes on until it is ended."""
        with self._log.open("ab") as file:
            self.clients[name] = subprocess.Popen(
                [*self._wrapper, "jalv", "-n", name, plugin],
                stdin=subprocess.PIPE, stdout=file, stderr=file, env=self.environment,
            )  # fmt: skip

    def run(self, *words: str) -> str:
        """What one of the server's own programs says."""
        return subprocess.run(words, env=self.environment, capture_output=True, text=True, timeout=START).stdout

    def connect(self, source: str, target: str) -> None:
        self.run(*self._wrapper, "jack_connect", source, target)

    def __enter__(self) -> SoundServer:
        return self

    def __exit__(self, *_: object) -> None:
        # Politely: a server that is killed stays in its registry, which has room for eight.
        for process in (*self.clients.values(), self.process):
            process.terminate()
            try:
                process.wait(5)
            except subprocess.TimeoutExpired:
                process.kill()
                process.wait()
            if process.stdin is not None:
                process.stdin.close()
        if self.name:
            _forget(self.name)


def jack(folder: Path, buffer: int = 256) -> SoundServer:
    """JACK with its dummy device; without it, or the host, the tests that need it are skipped."""
    _need("jackd", "jalv", "jack_lsp")
    name = f"nimble{os.getpid()}"
    words = ["jackd", "-n", name, "-R", "-P", "70", "-d", "dummy", "-r", "48000", "-p", str(buffer)]
    environment = {"JACK_DEFAULT_SERVER": name, "JACK_NO_AUDIO_RESERVATION": "1"}
    server = SoundServer(words, environment, (), folder / "jackd.log")
    wait_for(lambda: "system:playback_1" in server.run("jack_lsp"))
    return server


def pipewire(folder: Path) -> SoundServer:
    """PipeWire in a folder of its own; without it, or the host, the tests that need it are skipped."""
    _need("pipewire", "pw-jack", "jalv", "jack_lsp")
    folder.chmod(0o700)
    environment = {"XDG_RUNTIME_DIR": str(folder), "PIPEWIRE_RUNTIME_DIR": str(folder)}
    server = SoundServer(["pipewire"], environment, ("pw-jack",), folder / "pipewire.log")
    wait_for(lambda: (folder / "pipewire-0").exists())
    return server


def _forget(name: str) -> None:
    """Removes what a server of JACK's that was killed leaves; its list of servers only if none runs."""
    shared = Path("/dev/shm")
    left = list(shared.glob(f"jack*_{name}_*"))
    if not any(each.kind == "JACK" for each in sound_servers.servers()):
        left.append(shared / "jack-shm-registry")
    for path in left:
        path.unlink(missing_ok=True)


def wait_for(is_there: Callable[[], bool], what: str = "the server") -> None:
    until = time.monotonic() + START
    while not is_there():
        if time.monotonic() > until:
            raise TimeoutError(f"{what} did not come")
        time.sleep(0.05)


def _need(*programs: str) -> None:
    missing = [program for program in programs if shutil.which(program) is None]
    if missing:
        pytest.skip(f"{', '.join(missing)}: not installed")
