"""How long the window takes to open and to show the load of the example, in a process of its own, again and again.

.venv/bin/python -m bench.start [TIMES]

With caches as `./nimble setup` leaves them. Seconds from the start of the process.
"""

from __future__ import annotations

import os
import subprocess
import sys
import time

CODE = """
import os, sys, tempfile, time
from pathlib import Path
begun = float(sys.argv[1])
from nimbleload.app.frame.application import application
from nimbleload.app.frame.remembered import Remembered
from nimbleload.app.look.theme import theme
from nimbleload.app.frame.window import MainWindow
from nimbleload.shell.common import demo_saved
from nimbleload.store.recovery import Recovery
from PySide6.QtCore import QCoreApplication
where = Path(tempfile.mkdtemp())
theme.apply(application(), "night", 100)
window = MainWindow(demo_saved, None, Remembered(where / "window.ini"), Recovery(where))
window.show()
QCoreApplication.processEvents()
shown = time.time() - begun
window.open_example()
while window.desk.survey is None:
    QCoreApplication.processEvents()
QCoreApplication.processEvents()
print(shown, time.time() - begun, flush=True)
os._exit(0)
"""


def main() -> None:
    times = int(sys.argv[1]) if len(sys.argv) > 1 else 5
    found = []
    for _ in range(times):
        environment = {**os.environ, "QT_QPA_PLATFORM": os.environ.get("QT_QPA_PLATFORM", "offscreen")}
        command = [sys.executable, "-c", CODE, str(time.time())]
        ran = subprocess.run(command, env=environment, capture_output=True, text=True)
        found.append([float(word) for word in ran.stdout.split()])
        print(f"window {found[-1][0]:.2f} s, its load {found[-1][1]:.2f} s")
    window, load = (sorted(each)[len(found) // 2] for each in zip(*found, strict=True))
    print(f"median: window {window:.2f} s (goal 1.0), its load {load:.2f} s (goal 1.5)")


if __name__ == "__main__":
    main()
