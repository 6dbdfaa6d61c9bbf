"""How long a new user waits for the first answers, driven in the real window.  python -m bench.first_path [PATH …]

host: from starting the program to the name of the plugin that costs most in a host that runs.
file: from starting it with an exchange file to a sentence that rests on nothing but figures of this computer.
plan: from starting it with the example to its plan written as a session, and to the proof of what it shares.

Each in a process and a home of its own, the clock from before the process: what is compiled is set up before. The plan
is the one that is suggested; what is rendered goes where the program puts it.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

GOALS = {"host": 20.0, "file": 30.0, "plan": 300.0}
PATIENCE = 900.0


def spin(until: Callable[[], object], what: str) -> None:
    """Lets the window live until something is so."""
    from PySide6.QtWidgets import QApplication

    end = time.monotonic() + PATIENCE
    while not until():
        QApplication.processEvents()
        time.sleep(0.002)
        if time.monotonic() > end:
            raise SystemExit(f"it took too long until {what}")


def drive(path: str, begun: float, given: str) -> None:
    """In the program's own process: what a user does, and what is on the screen then."""
    from PySide6.QtWidgets import QApplication, QFileDialog

    from nimbleload.app.carry.job_table import PROOF
    from nimbleload.app.frame.window import BALANCE, CARRY, MEASURE, START, WATCH
    from nimbleload.shell.windows import make_window

    def said(what: str) -> None:
        print(f"  {time.time() - begun:6.1f} s  {what}", flush=True)

    window = make_window()
    window.show()
    window.go(START)
    QApplication.processEvents()
    said("the window is there")
    if path == "host":
        window.start.buttons["watch"].click()
        spin(lambda: window.watch.hosts.count() and window.watch.sentence.button.isEnabled(), "a host was found")
        said(f"a host is offered: {window.watch.hosts.currentText()}")
        assert window.pages.currentIndex() == WATCH
        window.watch.sentence.button.click()
        spin(lambda: window.watch.table.rowCount() > 0, "a plugin was seen")
        said(f"dearest: {window.watch.table.item(0, 0).text()}")
    elif path == "file":
        window.open_path(Path(given))
        spin(lambda: window.desk.survey is not None, "the session was computed")
        said(window.balance.sentence.headline.text())
        window.go(MEASURE)
        window.measure.sentence.button.click()
        spin(lambda: not window.desk.survey.case.costs.missing, "all plugins had a figure")
        window.go(BALANCE)
        said(window.balance.sentence.headline.text())
    else:
        window.open_example()
        spin(lambda: window.desk.survey is not None, "the example was computed")
        said(window.balance.sentence.headline.text())
        window.balance.suggest()
        spin(lambda: window.desk.survey.plan.decisions, "a plan was found")
        said(window.balance.sentence.headline.text())
        window.go(CARRY)
        spin(lambda: window.carry.prepared is not None, "it was known what there is to do")
        said(window.carry.sentence.headline.text())
        target = Path(given) / "changed.dawproject"
        QFileDialog.getSaveFileName = staticmethod(lambda *_: (str(target), ""))  # type: ignore[method-assign]
        window.carry.ask_write()
        spin(lambda: target.exists() or "not written" in window.carry.news.text(), "the session was written")
        said(f"written: {target.stat().st_size / 1e6:.1f} MB" if target.exists() else window.carry.news.text())
        done: list[int] = []
        window.carrying.ended.connect(lambda *_: done.append(1))
        if todo := len(window.carry.prepared.all_jobs):
            window.carry.sentence.button.click()
            spin(lambda: done, "all was rendered and proven")
            said(f"{todo} proven: {window.carry.table.item(0, PROOF).text()}")
    window.shut_down()
    os._exit(0)


def exchange_file(folder: Path) -> Path:
    """Twelve tracks with plugins of Debian's, where they are installed, and house processors."""
    from nimbleload.house.catalogue import PROCESSORS
    from nimbleload.probe.catalogue import catalogue
    from tests.helpers import exchange as x
    from tests.helpers import stems

    here = {plugin.name: plugin for file in catalogue() for plugin in file.plugins if plugin.standard == "clap"}
    wanted = [here[name] for name in ("ZamEQ2", "ZamComp", "ZamVerb", "ZamDelay", "ZamGate", "ZamTube") if name in here]
    house = [name for name in PROCESSORS if name in ("house.sluice", "house.tar", "house.vault")]
    tracks, lanes = "", ""
    for number in range(12):
        chosen = wanted[number % 3 :: 3] if wanted else []
        devices = "".join(x.plugin("ClapPlugin", each.identifier, each.name) for each in chosen)
        devices += "".join(x.plugin("BuiltinDevice", name, name) for name in house[number % 3 :][:1])
        tracks += x.track(f"t{number}", f"Track {number + 1}", x.channel(f"c{number}", devices=devices))
        lanes += x.lanes(f"t{number}", x.clip(0, 60, stems.audio()), unit="seconds")
    project = x.project(tracks + x.main_track(), lanes)
    return x.write(folder / "twelve.dawproject", project, {"audio/a.wav": stems.wave(stems.noise())})


def main() -> None:
    if len(sys.argv) > 2 and sys.argv[1] == "--drive":
        drive(sys.argv[2], float(sys.argv[3]), sys.argv[4])
    for path in sys.argv[1:] or GOALS:
        with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as scratch:
            home = {f"XDG_{name}_HOME": str(Path(scratch) / name) for name in ("CONFIG", "DATA", "STATE", "CACHE")}
            environment = {**os.environ, **home, "QT_QPA_PLATFORM": "offscreen"}
            given, host = scratch, None
            if path == "file":
                given = str(exchange_file(Path(scratch)))
            if path == "host":
                from tests.helpers.host import Host, Plugin

                known = [Plugin("small", 60_000), Plugin("middle", 180_000), Plugin("large", 360_000)]
                host = Host(Path(scratch), known, 5_333_333, 30_000)
            print(path, flush=True)
            begun = time.time()
            words = [sys.executable, "-m", "bench.first_path", "--drive", path, str(begun), given]
            subprocess.run(words, env=environment, check=True, stderr=subprocess.DEVNULL)
            if host is not None:
                host.process.kill()
            print(f"{path}: {time.time() - begun:.1f} s in all, goal {GOALS[path]:.0f} s", flush=True)


if __name__ == "__main__":
    main()
