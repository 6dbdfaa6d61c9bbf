"""Everything at once, for hours, in one window: does anything grow?

    .venv/bin/python -m bench.soak [MINUTES] [SEED]

A round: a session is opened; random keys, clicks, menus and edits (bench.walk); then it is measured anew for a while, a
running host is watched, a track is frozen and rendered, the session is rehearsed and saved. After each round: memory of
the window's process and of what it started, open files, threads, processes, Qt objects, size of the library and of the
folders. In the end how much each has grown an hour, after a third of the time.
"""

from __future__ import annotations

import contextlib
import os
import shutil
import sys
import tempfile
import time
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import NamedTuple

import numpy as np

from .walk import Walk, rss

PATIENCE = 120.0
MEASURING, WATCHING, REHEARSING = 25.0, 12.0, 3.0
EVENTS = 300


class Held(NamedTuple):
    """What the program held after a round, at a time since the beginning (s)."""

    second: float
    memory: float
    others: float
    files: int
    threads: int
    processes: int
    objects: int
    library: float
    folders: float


UNITS = ("s", "MB", "MB in other processes", "open files", "threads", "other processes", "Qt objects", "MB of library",
         "MB of files")  # fmt: skip


def started_by(process: int) -> list[int]:
    """The processes below one."""
    found = []
    for number in Path(f"/proc/{process}/task").glob("*/children"):
        with contextlib.suppress(OSError):
            for child in map(int, number.read_text().split()):
                found += [child, *started_by(child)]
    return found


def pages_of(process: int) -> int:
    """What a process holds for itself alone (pages)."""
    with contextlib.suppress(OSError):
        resident, shared = map(int, Path(f"/proc/{process}/statm").read_text().split()[1:3])
        return resident - shared
    return 0


def name_of(process: int) -> str:
    """What a process is: the module that it runs, or its program."""
    with contextlib.suppress(OSError):
        words = Path(f"/proc/{process}/cmdline").read_bytes().decode(errors="replace").split("\0")
        return words[words.index("-m") + 1] if "-m" in words else Path(words[0]).name
    return ""


def count(folder: str) -> int:
    return sum(1 for _ in Path(folder).iterdir())


def bytes_of(files: Iterable[Path]) -> float:
    """The size of files (MB); those that are gone meanwhile have none."""
    total = 0
    for path in files:
        with contextlib.suppress(OSError):
            total += path.stat().st_size
    return total / 2**20


class Soak(Walk):
    """Rounds in one window, until the time is over."""

    def __init__(self, window, seed: int, seconds: float, folder: Path, host) -> None:  # type: ignore[no-untyped-def]
        super().__init__(window, seed, 0, folder)
        self.seconds, self.host, self.begun = seconds, host, time.monotonic()
        self.held: list[Held] = []
        self.counts: dict[str, int] = {}
        self.listen()

    def until(self, so: Callable[[], object], what: str, seconds: float = PATIENCE) -> bool:
        """Lets the window live until something is so; what never comes is a finding."""
        from PySide6.QtWidgets import QApplication

        self._doing, end = what, time.monotonic() + seconds
        while not so():
            QApplication.processEvents()
            time.sleep(0.002)
            if time.monotonic() > end:
                self.blame(f"it took too long until {what}")
                return False
        self.counts[what] = self.counts.get(what, 0) + 1
        return True

    def wait(self, seconds: float, what: str) -> None:
        end = time.monotonic() + seconds
        self.until(lambda: time.monotonic() > end, what, seconds + PATIENCE)

    def walk(self) -> None:
        """Random events; then all that they began is ended, and all that they opened closed."""
        from PySide6.QtWidgets import QApplication, QDialog

        self.walk_on(EVENTS)
        while (popup := QApplication.activePopupWidget()) is not None:
            popup.close()
            QApplication.processEvents()
        for dialog in self.window.findChildren(QDialog):
            if dialog.isVisible():
                dialog.close()
        self.end_all()

    def end_all(self) -> None:
        of = self.window
        of.measuring.cancel()
        of.rehearsing.cancel()
        of.watching.stop()
        of.carrying.stop()
        working = (of.measuring, of.rehearsing, of.watching, of.carrying)
        self.until(lambda: not any(each.is_running for each in working), "everything stood still")

    def open(self, path: Path) -> bool:
        """Opens a session, whatever is answered to the question about the one before."""
        of, wanted = self.window, time.monotonic() + PATIENCE
        while time.monotonic() < wanted:
            of.open_path(path)
            self.wait(3.0, "a session was opened")
            if of.desk.document is not None and of.desk.document.session.name.startswith("fresh"):
                return self.until(lambda: of.desk.survey is not None and of.desk.is_idle, "a session was computed")
        self.blame("a session could not be opened")
        return False

    def round(self, number: int) -> None:
        """One round of everything."""
        from nimbleload.app.frame.window import BALANCE, CARRY, MEASURE, PROVE, WATCH

        of = self.window
        of.open_example() if number % 2 else of.open_path(self.folder / "b.nimbleload")
        self.wait(2.0, "the example was opened")
        self.walk()
        fresh = self.folder / f"fresh{number}.dawproject"
        shutil.copy(self.folder / "twelve.dawproject", fresh)
        if not self.open(fresh):
            return
        of.go(MEASURE)
        of.measure.start(again=True)
        self.until(lambda: of.measuring.is_running, "measuring began", 10)
        self.wait(MEASURING, "it was measured")
        self.end_all()
        of.go(WATCH)
        of.watching.start((self.host.pid,), True)
        self.wait(WATCHING, "a host was watched")
        if of.watch.shown is None:
            self.blame("nothing was seen of the host")
        of.watching.stop()
        self.end_all()
        of.go(BALANCE)
        of.desk.select([of.desk.document.session.strips[number % 12].id])
        self.wait(1.0, "a track was chosen")
        self.until(lambda: of.balance.options.options and of.desk.is_idle, "options were there")
        options = enumerate(of.balance.options.options, 1)
        possible = [digit for digit, each in options if each.isEnabled() and not each.weighed.taken]
        of.decide(self.random.choice(possible))
        self.until(lambda: of.desk.document.plan.decisions and of.desk.is_idle, "it was decided")
        of.go(CARRY)
        said = of.carry.sentence.headline
        known = "it was known what there is to do"
        if not self.until(lambda: of.carry.prepared is not None or said.text().startswith("Nothing can"), known):
            self.blame(f"Carry out said: {said.text()} {of.carry.sentence.advice.text()}")
        elif of.carry.prepared is not None:
            of.carry.start()
            self.until(lambda: not of.carrying.is_running, "it was rendered")
            shutil.rmtree(of.carry.folder, ignore_errors=True)
        of.go(PROVE)
        of.rehearsing.start(of.desk.survey, of.desk.instant.second, 1, REHEARSING)
        self.until(lambda: not of.rehearsing.is_running, "it was rehearsed")
        of._save_to(self.folder / "kept.nimbleload")
        self.until(lambda: not of.desk.has_unsaved, "it was saved", 30)
        fresh.unlink()

    def look(self) -> Held:
        """What is held now."""
        from PySide6.QtCore import QObject

        others = started_by(os.getpid())
        return Held(
            time.monotonic() - self.begun, rss(), sum(map(pages_of, others)) * os.sysconf("SC_PAGE_SIZE") / 2**20,
            count("/proc/self/fd"), count("/proc/self/task"), len(others), len(self.window.findChildren(QObject)),
            bytes_of(self.folder.glob("l.sqlite*")), bytes_of(self.folder.rglob("*")),
        )  # fmt: skip

    def run(self) -> None:
        number = 0
        while time.monotonic() < self.begun + self.seconds:
            self.round(number)
            number += 1
            self.end_all()
            self.wait(3.0, "a round had ended")
            self.held.append(self.look())
            told = ", ".join(f"{v:.1f} {unit}" if isinstance(v, float) else f"{v} {unit}"
                             for v, unit in zip(self.held[-1], UNITS, strict=True))  # fmt: skip
            each = {name_of(p): pages_of(p) * os.sysconf("SC_PAGE_SIZE") >> 20 for p in started_by(os.getpid())}
            print(f"round {number}: {told}\n  {each}", flush=True)

    def told(self) -> list[str]:
        """First, after a third, last, and growth an hour after the third, of everything held."""
        rows = np.array(self.held)
        third = len(rows) // 3
        lines = [f"{len(rows)} rounds in {rows[-1, 0] / 60:.0f} minutes, {self.done} random events"]
        for column, unit in enumerate(UNITS[1:], 1):
            late = rows[third:]
            slope = np.polyfit(late[:, 0] / 3600, late[:, column], 1)[0] if len(late) > 2 else float("nan")
            first, middle, last = rows[0, column], rows[third, column], rows[-1, column]
            grown = f"{first:.1f} first, {middle:.1f} after a third, {last:.1f} last; {slope:+.1f} an hour"
            lines.append(f"{unit}: {grown}")
        lines += [f"{count} times: {what}" for what, count in sorted(self.counts.items())]
        return lines


def main() -> None:
    minutes = float(sys.argv[1]) if len(sys.argv) > 1 else 120.0
    seed = int(sys.argv[2]) if len(sys.argv) > 2 else 1
    with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as scratch:
        folder = Path(scratch)
        os.environ["HOME"] = scratch
        from tests.helpers.host import Host, Plugin

        from .first_path import exchange_file
        from .walk import opened_window

        (folder / "host").mkdir()
        known = [Plugin("small", 60_000), Plugin("middle", 180_000), Plugin("large", 360_000)]
        host = Host(folder / "host", known, 5_333_333, int(minutes * 60 * 200) + 60_000, real_time=False)
        window = opened_window(folder)
        exchange_file(folder)
        # What holds a core in real time for as long as it is wanted would only slow all the rest.
        window.machine.load.begin = lambda *_: None
        soak = Soak(window, seed, minutes * 60, folder, host)
        soak.run()
        print("\n".join(soak.told()))
        print(f"{len(soak.found)} findings")
        host.process.kill()
        window.shut_down()
        sys.stdout.flush()
        os._exit(1 if soak.found else 0)


if __name__ == "__main__":
    main()
