"""How long from the command to a window that shows the example's load, on a warm cache.

.venv/bin/python -m bench.start
"""

from __future__ import annotations

import os
import subprocess
import sys
import time

import numpy as np

SCRIPT = """
import time
from nimbleload.app.commands import make_window, application
from PySide6.QtCore import QTimer
app = application()
window = make_window()
window.show()
app.processEvents()
print("shown", time.time(), flush=True)
window.desk.recomputed.connect(lambda: (window.repaint(), print("load", time.time(), flush=True), app.quit()))
window.open_example()
app.exec()
import os; os._exit(0)
"""


def main() -> None:
    os.environ["QT_QPA_PLATFORM"] = "offscreen"
    shown, computed = [], []
    for _ in range(6):
        begun = time.time()
        done = subprocess.run([sys.executable, "-c", SCRIPT], capture_output=True, text=True, check=True)
        told = dict(line.split() for line in done.stdout.splitlines())
        shown.append(float(told["shown"]) - begun)
        computed.append(float(told["load"]) - begun)
    print(f"window after {np.median(shown[1:]):.2f} s, its load after {np.median(computed[1:]):.2f} s (goal 2)")


if __name__ == "__main__":
    main()
