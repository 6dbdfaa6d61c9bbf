"""How long `nimble-load demo` takes to open its window and to show the load of the example, again and again.

    .venv/bin/python -m bench.start [TIMES]

With caches as `./nimble setup` leaves them, no file of the user's own, the way a user starts it. Seconds from the start
of the process.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

CODE = """
import os, sys, time
begun = float(sys.argv.pop(1))
sys.argv[1:] = ["demo"]
from nimbleload.__main__ import main

def through(app):
    from PySide6.QtWidgets import QApplication
    app.processEvents()
    shown = time.time() - begun
    window = next(each for each in QApplication.topLevelWidgets() if hasattr(each, "desk"))
    while window.desk.survey is None:
        app.processEvents()
    app.processEvents()
    print(shown, time.time() - begun, flush=True)
    os._exit(0)

from PySide6.QtWidgets import QApplication
QApplication.exec = through
main()
"""


def main() -> None:
    times = int(sys.argv[1]) if len(sys.argv) > 1 else 5
    found = []
    with tempfile.TemporaryDirectory() as folder:
        own = {f"XDG_{name}_HOME": str(Path(folder) / name) for name in ("CONFIG", "DATA", "STATE")}
        environment = {**os.environ, **own, "QT_QPA_PLATFORM": os.environ.get("QT_QPA_PLATFORM", "offscreen")}
        for _ in range(times):
            command = [sys.executable, "-c", CODE, str(time.time())]
            ran = subprocess.run(command, env=environment, capture_output=True, text=True)
            if ran.returncode or not ran.stdout:
                raise SystemExit(ran.stderr)
            found.append([float(word) for word in ran.stdout.split()])
            print(f"window {found[-1][0]:.2f} s, its load {found[-1][1]:.2f} s")
    window, load = (sorted(each)[len(found) // 2] for each in zip(*found, strict=True))
    print(f"median: window {window:.2f} s (goal 1.0), its load {load:.2f} s (goal 1.5)")


if __name__ == "__main__":
    main()
