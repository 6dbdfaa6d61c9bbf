"""Pictures of every main view, taken from the example without a display."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from pathlib import Path

from PySide6.QtCore import QCoreApplication, QDeadlineTimer, QEventLoop

from ..core.plan import Decision
from .commands import application, demo_saved
from .theme import theme
from .window import BALANCE, MEASURE, MainWindow

SIZE = (1280, 800)
FROZEN = ("Choir low", "Choir high", "Thunder near", "Rain on water", "Breakers", "Storm ambience left",
          "Storm ambience right", "Rain on deck")  # fmt: skip


def settle(window: MainWindow, seconds: float = 30.0) -> None:
    """Waits until everything asked for has been computed and painted, for a time at most."""
    until = QDeadlineTimer(int(seconds * 1000))
    while not until.hasExpired():
        QCoreApplication.processEvents(QEventLoop.ProcessEventsFlag.AllEvents, 20)
        if window.desk.is_idle and window.desk.survey is not None:
            QCoreApplication.processEvents()
            return


def example_window(where: Path) -> MainWindow:
    """The example in a window of its own, with sample figures only and none of the user's choices."""
    from ..store.recovery import Recovery
    from .choices import Choices

    theme.apply(application(), "night", 100)
    window = MainWindow(demo_saved, None, Choices(where / "window.ini"), Recovery(where))
    window.resize(*SIZE)
    window.show()
    window.open_example()
    settle(window)
    return window


def take_all(folder: Path) -> Iterator[Path]:
    """Writes one PNG of each main view; yields their paths."""
    folder.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as scratch:
        window = example_window(Path(scratch))
        try:
            yield from _take(window, folder)
        finally:
            window.shut_down()


def _take(window: MainWindow, folder: Path) -> Iterator[Path]:
    strips = {strip.name: strip.id for strip in window.desk.document.session.strips} if window.desk.document else {}
    window.balance.tracks.choose(strips["Choir low"])
    settle(window)
    yield _shoot(window, folder / "balance.png")
    window.desk.decide("freeze", [Decision("freeze", strips[name]) for name in FROZEN])
    settle(window)
    yield _shoot(window, folder / "balance-plan.png")
    window.choose_theme("paper")
    settle(window)
    yield _shoot(window, folder / "balance-paper.png")
    window.choose_theme("night")
    window.go(MEASURE)
    window.measure.table.selectRow(4)
    settle(window)
    yield _shoot(window, folder / "measure.png")
    window.go(BALANCE)


def _shoot(window: MainWindow, path: Path) -> Path:
    if not window.grab().save(str(path), "PNG"):
        raise OSError(f"{path} could not be written")
    return path
