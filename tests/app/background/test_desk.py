"""The desk: nothing of the model is computed in the window's process."""

from __future__ import annotations

import subprocess
import sys

PROGRAM = """
import sys, tempfile
from pathlib import Path
from PySide6.QtCore import QCoreApplication, Qt
from PySide6.QtTest import QTest
from nimbleload.app.frame.application import application
from nimbleload.app.frame.remembered import Remembered
from nimbleload.app.frame.window import WATCH, MainWindow
from nimbleload.store.recovery import Recovery
from tests.helpers.few_tracks import fewer_saved

app, folder = application(), Path(tempfile.mkdtemp())
window = MainWindow(fewer_saved, None, Remembered(folder / "w.ini"), Recovery(folder))
window.resize(1280, 800)
window.show()
window.open_example()

def settle():
    desk = window.desk
    QTest.qWait(300)
    while not desk.survey or not desk.is_idle or None in (desk.outlook, desk.steps) or desk.band is None:
        QTest.qWait(20)

settle()
track = next(s.id for s in window.desk.document.session.strips if s.clips and not s.armed and s.kind == "track")
for key in (Qt.Key.Key_Period, Qt.Key.Key_BracketRight, Qt.Key.Key_2, Qt.Key.Key_C, Qt.Key.Key_C, Qt.Key.Key_Right):
    window.balance.tracks.choose(track)
    QTest.keyClick(window, key)
    QTest.qWait(50)
for kind in window.balance.kinds.values():
    kind.click()
for page in set(range(8)) - {WATCH}:  # that loads it as soon as a host runs
    window.go(page)
    QTest.qWait(50)
window.balance.drawer.suggest.click()
while not window.desk.document.plan.decisions:
    QTest.qWait(20)
settle()
for name in ("plan.html", "plan.csv"):
    path = Path(tempfile.mkdtemp()) / name
    window.deciding.write_report(path)
    while not path.exists():
        QTest.qWait(20)
window.desk.undo()
QTest.qWait(500)
print(*[name for name in list(sys.modules) if name.startswith(("numba", "llvmlite"))])
window.shut_down()
"""


def test_the_window_works_without_the_compiler(monkeypatch):
    monkeypatch.setenv("QT_QPA_PLATFORM", "offscreen")
    ran = subprocess.run([sys.executable, "-c", PROGRAM], capture_output=True, text=True, timeout=300)
    assert ran.returncode == 0, ran.stderr
    assert ran.stdout.strip() == ""
