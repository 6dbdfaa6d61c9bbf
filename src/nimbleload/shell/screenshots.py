"""Pictures of every main view, taken from the example without a display."""

from __future__ import annotations

import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path

from PySide6.QtCore import QCoreApplication, QDeadlineTimer, QEventLoop

from ..app.edit.how_many_dialog import HowManyDialog
from ..app.frame import log_file
from ..app.frame.application import application
from ..app.frame.window import BALANCE, CARRY, EDIT, MACHINE, MEASURE, PROVE, START, WATCH, MainWindow
from ..app.look.theme import theme
from ..core.decisions.decision import Decision
from ..core.decisions.price import Weights
from ..core.optimise.candidates import KINDS
from ..demo import computer as demo_computer
from ..demo.recording import SECOND
from ..probe.choosing import choices
from ..store.this_computer import this_computer
from .common import demo_saved

SIZE = (1280, 800)
QUIET_SECOND = 10.0


def settle(window: MainWindow, seconds: float = 30.0) -> None:
    """Waits until everything asked for has been computed and painted, for a time at most."""
    until = QDeadlineTimer(int(seconds * 1000))
    while not until.hasExpired():
        QCoreApplication.processEvents(QEventLoop.ProcessEventsFlag.AllEvents, 20)
        desk = window.desk
        # What helps most, the band above the load and the steps of a plan come after the load.
        is_told = None not in (desk.outlook, desk.steps) and desk.band is not None
        if desk.is_idle and desk.survey is not None and window.balance.is_shown and is_told:
            # What has come in is laid out in one turn of the loop, and painted in the next.
            for _ in range(3):
                QCoreApplication.processEvents()
            return


def example_window(where: Path) -> MainWindow:
    """The example in a window of its own, with sample figures only and none of the user's choices."""
    from ..app.frame.remembered import Remembered
    from ..store.recovery import Recovery

    theme.apply(application(), "night", 100)
    log_file.take_qt()
    window = MainWindow(demo_saved, None, Remembered(where / "window.ini"), Recovery(where))
    window.resize(*SIZE)
    window.show()
    window.hints.close(*window.hints.by_place)
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
    # Pictures show the example's computer, whatever was found on this one by then.
    window.looking.close()
    window.machine.show_facts(demo_computer.facts())
    window.machine.show_ceilings(demo_computer.ceilings())
    window.looking.lasts.emit(demo_computer.lasting())
    window.go(START)
    window.start.show_recent([])
    yield _shoot(window, folder / "start.png")
    yield from _computer(window, folder)
    strips = {strip.name: strip.id for strip in window.desk.document.session.strips} if window.desk.document else {}
    window.balance.tracks.choose(strips["Choir low"])
    settle(window)
    yield _shoot(window, folder / "balance.png")
    window.balance.suggest()
    wait_for(lambda: window.desk.steps is not None and bool(window.desk.steps), 60)
    wait_for(lambda: window.desk.outlook is not None and window.desk.band is not None, 60)
    settle(window)
    yield _shoot(window, folder / "balance-plan.png")
    window.choose_theme("paper")
    settle(window)
    wait_for(lambda: window.desk.steps is not None and window.desk.band is not None, 60)
    settle(window)
    yield _shoot(window, folder / "balance-paper.png")
    window.choose_theme("night")
    yield from _session(window, folder, strips)
    window.go(MEASURE)
    window.measure.table.selectRow(4)
    settle(window)
    yield _shoot(window, folder / "measure.png")
    window.measure.keep_beside()
    window.measure.table.selectRow(2)
    settle(window)
    yield _shoot(window, folder / "measure-cards.png")
    window.measure.put_away()
    yield from _carried_out(window, folder)
    yield from _rehearsed(window, folder)
    window.go(BALANCE)


def _session(window: MainWindow, folder: Path, strips: dict[str, str]) -> Iterator[Path]:
    """The Session page with a plugin chosen; and how many more of a track fit with the plan that was suggested."""
    # Pictures show no plugins but our own, whatever is installed here.
    window.edit.plugins.close_down()
    window.go(EDIT)
    window.edit.plugins.show_plugins(choices([]))
    window.edit.choose(strips["Widow"])
    window.edit.view.step_box(1)
    window.edit.view.step_box(1)
    wait_for(lambda: window.edit.inspector.values.rowCount() > 1, 60)
    settle(window)
    yield _shoot(window, folder / "session.png")
    window.edit.choose(strips["Boots on deck"])
    window.edit.ask_how_many()
    dialog = window.findChild(HowManyDialog)
    assert dialog is not None
    wait_for(lambda: bool(dialog.fits), 60)
    QCoreApplication.processEvents()
    dialog.grab().save(str(folder / "how-many.png"))
    yield folder / "how-many.png"
    dialog.reject()


def _computer(window: MainWindow, folder: Path) -> Iterator[Path]:
    """The example's computer, and a recording of a host that plays the example."""
    window.go(MACHINE)
    settle(window)
    yield _shoot(window, folder / "machine.png")
    window.go(WATCH)
    window.desk.move_to(SECOND)  # what the host in the recording plays
    window.watching.show_example()
    wait_for(lambda: window.watch.shown is not None, 60)
    settle(window)
    yield _shoot(window, folder / "watch.png")
    window.desk.move_to(None)
    window.go(BALANCE)
    settle(window)


def _carried_out(window: MainWindow, folder: Path) -> Iterator[Path]:
    """A few short tracks of the example, rendered and proven; one that cannot be."""
    assert window.desk.document is not None
    ids = {strip.name: strip.id for strip in window.desk.document.session.strips}
    window.desk.clear_plan()
    names = ("Market 1", "Market 2", "Bailiff", "Quay water", "Choir")
    window.desk.decide("freeze", [Decision("freeze", ids[name]) for name in names])
    window.go(CARRY)
    # The example's audio is made for it, once.
    wait_for(lambda: window.carry.prepared is not None and bool(window.carry.prepared.jobs), 120)
    window.carry.start()
    wait_for(lambda: len(window.carry.rendered) == 2, 120)
    settle(window)
    yield _shoot(window, folder / "carry-out.png")
    window.carrying.stop()
    wait_for(lambda: not window.carrying.is_running, 60)


def _rehearsed(window: MainWindow, folder: Path) -> Iterator[Path]:
    """The example brought down for this computer's cores, and rehearsed; whatever comes of it is the picture."""
    window.desk.choose_machine(this_computer())
    window.desk.choose_buffer(1024)
    settle(window)
    told: list[object] = []
    window.desk.suggested.connect(told.append)
    window.desk.suggest(Weights(), KINDS)
    wait_for(lambda: bool(told), 120)
    settle(window)
    window.desk.move_to(QUIET_SECOND)
    settle(window)
    window.go(PROVE)
    window.prove.seconds.setValue(4.0)
    window.prove.start()
    wait_for(lambda: not window.rehearsing.is_running, 120)
    settle(window)
    yield _shoot(window, folder / "prove.png")


def wait_for(condition: Callable[[], bool], seconds: float) -> None:
    """Lets the window work until a condition holds, for a time at most."""
    until = QDeadlineTimer(int(seconds * 1000))
    while not until.hasExpired() and not condition():
        QCoreApplication.processEvents(QEventLoop.ProcessEventsFlag.AllEvents, 20)


def _shoot(window: MainWindow, path: Path) -> Path:
    if not window.grab().save(str(path), "PNG"):
        raise OSError(f"{path} could not be written")
    return path
