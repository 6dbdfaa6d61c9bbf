"""Screens that come and go between two starts of the program."""

from __future__ import annotations

import json
import os
import subprocess
import sys

START = """
import sys
from PySide6.QtWidgets import QApplication
from nimbleload.shell.windows import make_window, show_on_screen
window = make_window()
window.show()
QApplication.processEvents()
if len(sys.argv) > 2:
    window.move(*map(int, sys.argv[1:3]))
    window.resize(*map(int, sys.argv[3:]))
    QApplication.processEvents()
if "as at the start" in sys.argv:
    window.hide()
    show_on_screen(window)
    QApplication.processEvents()
    print(json.dumps([window.isMaximized(), window.width(), window.height()]))
    sys.exit()
print(json.dumps([window.screen().name(), *window.frameGeometry().getRect()]))
window.close()
"""


def started(tmp_path, screens, *place):
    """On which screen the window is in the end, and where; it is closed then. Screens are side by side."""
    described = [
        {"name": f"screen {k}", "x": 1280 * k, "y": 0, "width": width, "height": height, "logicalDpi": 96,
         "logicalBaseDpi": 96, "dpr": 1} for k, (width, height) in enumerate(screens)
    ]  # fmt: skip
    (tmp_path / "screens.json").write_text(json.dumps({"screens": described}))
    environment = {**os.environ, "QT_QPA_PLATFORM": f"offscreen:configfile={tmp_path / 'screens.json'}"}
    words = [sys.executable, "-c", f"import json{START}", *map(str, place)]
    done = subprocess.run(words, env=environment, capture_output=True, text=True, timeout=120)
    assert done.returncode == 0, done.stderr
    return json.loads(done.stdout.splitlines()[-1])


def test_a_window_comes_back_from_a_screen_that_is_gone(tmp_path):
    both, one = [(1280, 800), (1280, 800)], [(1280, 800)]
    assert started(tmp_path, both, 1400, 60, 1100, 700) == ["screen 1", 1400, 60, 1104, 704]
    assert started(tmp_path, both) == ["screen 1", 1400, 60, 1104, 704]
    name, left, top, width, height = started(tmp_path, one)
    assert name == "screen 0" and (width, height) == (1104, 704)
    assert left >= 0 and left + width <= 1284 and top >= 0 and top + height <= 804


def test_a_window_fits_a_smaller_screen_than_it_was_closed_on(tmp_path):
    started(tmp_path, [(2560, 1440)], 100, 100, 2000, 1200)
    _, left, top, width, height = started(tmp_path, [(1280, 800)])
    assert left >= 0 and top >= 0 and left + width <= 1290 and top + height <= 810


def test_a_window_without_room_for_its_frame_is_as_large_as_the_screen(tmp_path):
    assert started(tmp_path, [(1280, 800)], "as at the start")[0] is True
    assert started(tmp_path, [(1920, 1080)], "as at the start") == [False, 1280, 800]
    assert started(tmp_path, [(1024, 768)], "as at the start") in ([True, 1024, 768], [True, 1020, 764])
