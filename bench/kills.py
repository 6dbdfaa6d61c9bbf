"""Kills the program at random instants while it saves, stores figures, measures and carries out.

    .venv/bin/python -m bench.kills [--saves 500] [--stores 400] [--measures 50] [--renders 50] [--seed 1]

What must hold after each kill: a session file is one of those that were written, whole; every figure that was told to
be stored is there; rendered files are whole or have another name; nothing of it runs on. Prints what did not hold.
"""

from __future__ import annotations

import argparse
import os
import random
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from pathlib import Path

import soundfile

from nimbleload.core.decisions.decision import Plan
from nimbleload.deliver import carrying
from nimbleload.store import session_file
from nimbleload.store.library import Library
from nimbleload.store.scratch import PREFIX
from nimbleload.store.session_file import Saved
from tests.helpers import stems
from tests.helpers.sessions import card, random_session, use

SECONDS = 20


@contextmanager
def child(work: Callable[[int], None]) -> Iterator[tuple[int, int]]:
    """A process that does some work over and over, told through a pipe: its number, and the pipe's other end."""
    heard, tells = os.pipe()
    number = os.fork()
    if not number:
        os.close(heard)
        try:
            work(tells)
        finally:
            os._exit(1)
    os.close(tells)
    try:
        yield number, heard
    finally:
        os.close(heard)


def killed(number: int, heard: int, after: float) -> list[bytes]:
    """Kills it so many seconds after it has begun; the lines that it has told."""
    told = os.read(heard, 1)
    time.sleep(after)
    os.kill(number, signal.SIGKILL)
    os.waitpid(number, 0)
    while found := os.read(heard, 1 << 16):
        told += found
    # The last line may have been cut off.
    return told[: told.rfind(b"\n") + 1].splitlines()


def saves(folder: Path, chance: random.Random) -> str:
    """Kills a process that saves two sessions in turns over each other."""
    versions = [Saved(random_session(random.Random(seed), 40), Plan()) for seed in range(2)]
    path = folder / "a.nimbleload"

    def work(tells: int) -> None:
        os.write(tells, b"0\n")
        while True:
            for each in versions:
                session_file.write(path, each)

    with child(work) as (number, heard):
        killed(number, heard, chance.uniform(0.0, 0.06))
    for each in (path, path.with_name(path.name + ".bak")):
        if each.exists() and session_file.read(each).session not in [version.session for version in versions]:
            return f"{each.name} is none of what was written"
    return ""


def stores(folder: Path, chance: random.Random) -> str:
    """Kills a process that stores a card's cells one by one, and tells each that is stored."""
    path, name = folder / "costs.sqlite", f"plugin {chance.random()}"

    def work(tells: int) -> None:
        library, one = Library(path, "here"), card(use(name), 1e-4)
        for count, cell in enumerate(one.cells, 1):
            library.store(one, [cell])
            os.write(tells, f"{count}\n".encode())
        time.sleep(60)

    with child(work) as (number, heard):
        told = killed(number, heard, chance.uniform(0.0, 0.02))
    with closing(Library(path, "here")) as library:
        key = use(name).card_key()
        there = library.cards([key])
    stored = len(there[key].cells) if key in there else 0
    return "" if stored >= len(told) else f"{len(told)} cells were told to be stored, {stored} are there"


def started(folder: Path, *words: str) -> subprocess.Popen[bytes]:
    """The program with its data in a folder."""
    homes = {f"XDG_{kind}_HOME": str(folder / kind.lower()) for kind in ("CACHE", "DATA", "CONFIG", "STATE")}
    command = [sys.executable, "-m", "nimbleload", *words]
    quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
    return subprocess.Popen(command, env={**os.environ, **homes, "TMPDIR": str(folder / "tmp")}, **quiet)


def left_of(folder: Path) -> str:
    """What still runs of a program that was killed a moment ago; all of it is ended with it."""
    until = time.monotonic() + 5
    while time.monotonic() < until:
        running = []
        for each in Path("/proc").glob("[0-9]*/environ"):
            try:
                if str(folder / "tmp").encode() in each.read_bytes():
                    running.append(each.parent.name)
            except OSError:
                continue
        if not running:
            return ""
        time.sleep(0.05)
    return f"{len(running)} processes run on 5 s after it"


def measures(folder: Path, chance: random.Random) -> str:
    """Kills the program while it measures the example."""
    with started(folder, "measure", str(folder / "house.nimbleload")) as process:
        time.sleep(chance.uniform(0.5, 6.0))
        process.kill()
    said = left_of(folder)
    files = [*(folder / "data").rglob("*.sqlite")]
    for each in files:
        with closing(Library(each)) as library:
            library.cards()
    return said


def renders(folder: Path, chance: random.Random) -> str:
    """Kills the program while it carries three freezes out."""
    if chance.random() < 0.3:
        # From the beginning now and then.
        for each in carrying.folder_of(folder / "mix.dawproject").glob("*"):
            each.unlink()
    with started(folder, "carry-out", str(folder / "mix.nimbleload"), "--no-session") as process:
        time.sleep(chance.uniform(0.5, 5.0))
        process.kill()
    for each in carrying.folder_of(folder / "mix.dawproject").glob("*.wav"):
        if soundfile.info(each).frames < SECONDS * stems.RATE:
            return f"{each.name} is not whole"
    return left_of(folder)


def prepared(folder: Path) -> None:
    """The sessions that are measured and carried out."""
    for name in ("tmp", "data", "cache"):
        (folder / name).mkdir()
    stems.three_freezes(folder, SECONDS)
    edits = ["add track A 2", "insert 'A 1' tar", "insert 'A 2' Sluice", "insert 'A 2' Vault", "clip 'A 1' 0 10"]
    for words in (["new", str(folder / "house.nimbleload")], ["edit", str(folder / "house.nimbleload"), *edits]):
        subprocess.run([sys.executable, "-m", "nimbleload", *words], check=True, stdout=subprocess.DEVNULL)


def main() -> None:
    parser = argparse.ArgumentParser()
    kinds = {"saves": (saves, 500), "stores": (stores, 400), "measures": (measures, 50), "renders": (renders, 50)}
    for name, (_, count) in kinds.items():
        parser.add_argument(f"--{name}", type=int, default=count)
    parser.add_argument("--seed", type=int, default=1)
    asked = parser.parse_args()
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        prepared(folder)
        for name, (kill, _) in kinds.items():
            chance, wrong, begun = random.Random(asked.seed), list[str](), time.monotonic()
            for _ in range(getattr(asked, name)):
                said = kill(folder, chance)
                if said:
                    wrong.append(said)
                    print(f"  {name}: {said}", flush=True)
            took = time.monotonic() - begun
            print(f"{name}: {getattr(asked, name)} kills in {took:.0f} s, {len(wrong)} went wrong", flush=True)
        rests = [each.name for each in (folder / "tmp").iterdir() if each.name.startswith(PREFIX)]
        print(f"folders of killed programs that are left until the next start: {len(rests)}")


if __name__ == "__main__":
    main()
