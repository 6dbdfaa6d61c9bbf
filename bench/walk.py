"""Walks through the window at random: keys, clicks, drags, wheels, menus, sizes, files.

    .venv/bin/python -m bench.walk [SEED] [EVENTS]

What must not be: an exception (the log and the hook are listened to), a stall of the event loop above 100 ms, memory
that grows, two pages that show different figures. Dialogs are answered at random, files are those of a folder that is
thrown away. What would hold a core in real time (measuring, rehearsing, test loads) is not begun: it would be
the stall. The events of a seed are always the same; what threads do meanwhile is not.
"""

from __future__ import annotations

import faulthandler
import logging
import os
import random
import resource
import sys
import tempfile
import time
import traceback
from collections import Counter
from pathlib import Path

os.environ["QT_QPA_PLATFORM"] = "offscreen"

from PySide6.QtCore import QEvent, QObject, QPoint, QPointF, Qt, QTimer
from PySide6.QtGui import QDesktopServices, QDrag, QKeyEvent, QMouseEvent, QWheelEvent
from PySide6.QtWidgets import (
    QAbstractScrollArea,
    QApplication,
    QDialog,
    QFileDialog,
    QMenu,
    QMessageBox,
    QWidget,
)

STALL = 0.1
KEYS = [
    *(getattr(Qt.Key, f"Key_{name}") for name in (
        "Tab", "Backtab", "Return", "Escape", "Space", "Delete", "Backspace", "Up", "Down", "Left", "Right", "Home",
        "End", "PageUp", "PageDown", "F1", "F2", "Menu", "Plus", "Minus", "BracketLeft", "BracketRight",
    )),
    *(Qt.Key(ord(letter)) for letter in "ABCDEFGHIJKLMNOPRSTUVWXYZ0123456789"),
]  # fmt: skip
NOT_TAKEN = ("&Quit", "Quit")


class StaysOpen(QObject):
    """Lets nobody close the window while it is walked through."""

    def eventFilter(self, of: QObject, event: QEvent) -> bool:
        if event.type() == QEvent.Type.Close:
            event.ignore()
            return True
        return False


class Walk:
    """One walk; `found` are the sentences on what must not be."""

    def __init__(self, window: QWidget, seed: int, events: int, folder: Path) -> None:
        self.window, self.random, self.events, self.folder = window, random.Random(seed), events, folder
        self.found: Counter[str] = Counter()
        self.stalls: list[tuple[float, str]] = []
        self.memory: list[float] = []
        self.done = 0
        self._last, self._doing = time.perf_counter(), "start"
        self._answers()
        self._stays = StaysOpen()
        window.installEventFilter(self._stays)

    def _answers(self) -> None:
        """Dialogs that wait in a loop of their own are answered at once."""
        files = [
            str(self.folder / name) for name in ("a.nimbleload", "b.nimbleload", "c.dawproject", "gone/x.nimbleload")
        ]

        def file(*_: object) -> tuple[str, str]:
            return self.random.choice(["", *files, str(self.folder / "stems" / "a.wav"), "/proc/x.svg"]), ""

        QFileDialog.getOpenFileName = staticmethod(file)  # type: ignore[method-assign]
        QFileDialog.getSaveFileName = staticmethod(file)  # type: ignore[method-assign]
        QFileDialog.getOpenFileNames = staticmethod(lambda *_: ([], ""))  # type: ignore[method-assign]
        QFileDialog.getExistingDirectory = staticmethod(lambda *_: str(self.folder / "stems"))  # type: ignore[method-assign]
        kinds = QMessageBox.StandardButton
        for kind in ("question", "warning", "information", "critical"):
            answer = staticmethod(lambda *_: self.random.choice([kinds.Save, kinds.Discard, kinds.Cancel]))
            setattr(QMessageBox, kind, answer)
        # Without a window system nobody would let go of what is dragged.
        QDrag.exec = lambda *_: Qt.DropAction.IgnoreAction  # type: ignore[method-assign]
        QDesktopServices.openUrl = staticmethod(lambda *_: True)  # type: ignore[method-assign]

    def run(self) -> None:
        """Walks until all events are done."""
        self.listen()
        self.walk_on(self.events)

    def walk_on(self, events: int) -> None:
        """So many events, each from the event loop: a menu or a dialog that waits in a loop of its own gets them, too.
        """
        until = self.done + events
        timer = QTimer()
        timer.setInterval(0)
        timer.timeout.connect(self.step)
        timer.start()
        while self.done < until:
            QApplication.processEvents()
        timer.stop()

    def listen(self) -> None:
        """From now on an exception that nobody has caught, or that is only in the log, is a finding."""
        faulthandler.enable()
        sys.excepthook = lambda kind, value, trace: self.blame("".join(traceback.format_exception(kind, value, trace)))
        handler = logging.Handler(logging.ERROR)
        handler.emit = self._heard  # type: ignore[method-assign]
        logging.getLogger().addHandler(handler)

    def _heard(self, record: logging.LogRecord) -> None:
        """Takes in what goes to the log. An error of the program's own is a refusal, and has a sentence; files that the
        system does not give have one, too."""
        kind = record.exc_info[0] if record.exc_info else None
        if kind is None or not (kind.__module__.startswith("nimbleload.") or issubclass(kind, OSError)):
            self.blame(self._logged(record))

    @staticmethod
    def _logged(record: logging.LogRecord) -> str:
        trace = "".join(traceback.format_exception(*record.exc_info)) if record.exc_info else ""
        return f"{record.getMessage()}\n{trace}"

    def blame(self, what: str) -> None:
        """Notes what must not be; the same only once."""
        if not self.found[what]:
            print(f"--- event {self.done}, {self._doing}\n{what}", flush=True)
        self.found[what] += 1

    def step(self) -> None:
        """One event, and what the last one took."""
        now = time.perf_counter()
        if now - self._last > STALL:
            self.stalls.append((now - self._last, self._doing))
        self.done += 1
        try:
            self._one()
        except Exception:
            self.blame(traceback.format_exc())
        if self.done % 500 == 0:
            self.compare()
            self.memory.append(rss())
            kept = Counter(type(each).__name__ for each in self.window.findChildren(QDialog))
            left = ", ".join(f"{count} {name}" for name, count in sorted(kept.items())) or "no"
            print(
                f"{self.done:7} events, {self.memory[-1]:5.0f} MB, {left} dialogs kept, {len(self.stalls)} stalls",
                flush=True,
            )
        self._last = time.perf_counter()

    def _one(self) -> None:
        target = QApplication.activePopupWidget() or QApplication.activeModalWidget() or self.window
        visible = [each for each in target.findChildren(QWidget) if each.isVisibleTo(target) and each.isEnabled()]
        widget = self.random.choice(visible or [target])
        kind = self.random.random()
        if isinstance(target, QMenu | QDialog) and kind < 0.1:
            self._doing = f"close {type(target).__name__}"
            target.close()
        elif kind < 0.45:
            self._key(QApplication.focusWidget() or widget)
        elif kind < 0.85:
            self._mouse(widget)
        elif kind < 0.92:
            self._wheel(widget)
        elif kind < 0.96 and target is self.window:
            actions = [each for each in self.window.commands() if each.isEnabled() and each.text() not in NOT_TAKEN]
            action = self.random.choice(actions)
            self._doing = f"command {action.text()}"
            QTimer.singleShot(0, action, action.trigger)
        elif target is self.window:
            size = self.random.choice([(1280, 800), (1000, 600), (640, 400), (1600, 1000), (300, 200)])
            self._doing = f"size {size}"
            self.window.resize(*size)

    def _key(self, widget: QWidget) -> None:
        key = self.random.choice(KEYS)
        none, held = Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier
        modifiers = self.random.choice([none, none, none, held.ShiftModifier, held.ControlModifier, held.AltModifier])
        if key == Qt.Key.Key_Q and modifiers == held.ControlModifier:
            return
        self._doing = f"key {key.name} {modifiers.name} in {type(widget).__name__}"
        text = chr(key.value) if 32 <= key.value < 127 else ""
        for kind in (QEvent.Type.ShortcutOverride, QEvent.Type.KeyPress, QEvent.Type.KeyRelease):
            QApplication.postEvent(widget, QKeyEvent(kind, key.value, modifiers, text))
        # Shortcuts come from the window system: sent events do not reach them.
        if modifiers != none:
            for action in self.window.commands():
                wanted = action.shortcut()
                if wanted.count() == 1 and action.isEnabled() and action.text() not in NOT_TAKEN:
                    combined = wanted[0]
                    if combined.key() == key and combined.keyboardModifiers() == modifiers:
                        self._doing = f"key for {action.text()}"
                        QTimer.singleShot(0, action, action.trigger)
                        break

    def _mouse(self, widget: QWidget) -> None:
        if isinstance(widget, QAbstractScrollArea):
            widget = widget.viewport()
        at = QPointF(
            self.random.randint(0, max(widget.width() - 1, 0)), self.random.randint(0, max(widget.height() - 1, 0))
        )
        button = Qt.MouseButton.RightButton if self.random.random() < 0.06 else Qt.MouseButton.LeftButton
        held = self.random.choice([Qt.KeyboardModifier.NoModifier] * 4 + [Qt.KeyboardModifier.ShiftModifier])
        self._doing = f"{button.name} at {at.toPoint().toTuple()} of {type(widget).__name__} {widget.accessibleName()}"
        kinds = [QEvent.Type.MouseButtonPress, QEvent.Type.MouseButtonRelease]
        if self.random.random() < 0.1:
            kinds = [*kinds, QEvent.Type.MouseButtonDblClick, QEvent.Type.MouseButtonRelease]
        elif self.random.random() < 0.1 and button == Qt.MouseButton.LeftButton:
            kinds = [kinds[0], *[QEvent.Type.MouseMove] * 4, kinds[1]]
        for kind in kinds:
            if kind == QEvent.Type.MouseMove:
                at += QPointF(self.random.randint(-40, 40), self.random.randint(-20, 20))
            buttons = Qt.MouseButton.NoButton if kind == QEvent.Type.MouseButtonRelease else button
            where = QPointF(widget.mapToGlobal(at.toPoint()))
            QApplication.postEvent(widget, QMouseEvent(kind, at, where, button, buttons, held))
        if button == Qt.MouseButton.RightButton:
            # What runs in a loop of its own must not run within this step: there would be no other.
            QTimer.singleShot(0, widget, lambda: widget.customContextMenuRequested.emit(at.toPoint()))

    def _wheel(self, widget: QWidget) -> None:
        if isinstance(widget, QAbstractScrollArea):
            widget = widget.viewport()
        at = QPointF(widget.rect().center())
        turn = QPoint(0, self.random.choice([-120, 120, 480, -480]))
        held = self.random.choice([Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier.ControlModifier])
        self._doing = f"wheel over {type(widget).__name__}"
        QApplication.postEvent(widget, QWheelEvent(
            at, QPointF(widget.mapToGlobal(at.toPoint())), QPoint(), turn, Qt.MouseButton.NoButton, held,
            Qt.ScrollPhase.NoScrollPhase, False,
        ))  # fmt: skip

    def compare(self) -> None:
        """Figures that stand on several pages must be the same everywhere."""
        from nimbleload.app.frame.window import BALANCE, EDIT
        from nimbleload.core.units import count, percent

        desk, places = self.window.desk, self.window.places.buttons
        of, document = desk.survey, desk.document
        if of is None or document is None or of.session is not document.session or of.plan != document.plan:
            return  # it is being computed
        worst = percent(float(of.after.load.max()))
        if desk.instant is not None and desk.instant.judged.kind == "unknown":
            worst = "not known"  # no plugin of it has a figure: what the host takes is no load to go by
        if worst not in places[BALANCE].state:
            self.blame(f"Balance says {places[BALANCE].state!r}, its load is {worst}")
        tracks = count(sum(strip.kind == "track" for strip in document.session.strips), "track")
        if tracks not in places[EDIT].state:
            self.blame(f"Session says {places[EDIT].state!r}, it has {tracks}")


def rss() -> float:
    return int(Path("/proc/self/statm").read_text().split()[1]) * resource.getpagesize() / 2**20


def opened_window(folder: Path) -> QWidget:
    """The real window on the example, with all that it keeps in a folder, and files to be opened there."""
    from nimbleload.app.frame.application import application
    from nimbleload.app.frame.remembered import Remembered
    from nimbleload.app.frame.window import MainWindow
    from nimbleload.app.look.theme import theme
    from nimbleload.shell.common import demo_saved
    from nimbleload.store import session_file
    from nimbleload.store.library import Library
    from nimbleload.store.recovery import Recovery
    from tests.helpers import stems

    for name in ("CONFIG", "DATA", "STATE", "CACHE"):
        os.environ[f"XDG_{name}_HOME"] = str(folder / name.lower())
    (folder / "stems").mkdir()
    (folder / "stems" / "a.wav").write_bytes(stems.wave(stems.noise()))
    session_file.write(folder / "b.nimbleload", demo_saved())
    stems.written(folder / "c.dawproject", stems.x.clip(0, 2, stems.audio()))
    theme.apply(application(), "night", 100)
    choices, recovery = Remembered(folder / "w.ini"), Recovery(folder / "r")
    window = MainWindow(demo_saved, Library(folder / "l.sqlite"), choices, recovery)
    window.show()
    window.activateWindow()
    window.open_example()
    return window


def main() -> None:
    seed = int(sys.argv[1]) if len(sys.argv) > 1 else 1
    events = int(sys.argv[2]) if len(sys.argv) > 2 else 20_000
    with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as scratch:
        folder = Path(scratch)
        from nimbleload.probe import catalogue

        catalogue.catalogue = lambda *_, **__: []  # type: ignore[assignment]
        window = opened_window(folder)
        for each in (window.measuring, window.rehearsing):
            each.start = lambda *_, **__: None
        window.looking.find = lambda *_, **__: None
        window.machine.load.begin = lambda *_: None
        walk = Walk(window, seed, events, folder)
        begun = time.monotonic()
        walk.run()
        print(f"{walk.done} events in {time.monotonic() - begun:.0f} s, {len(walk.found)} findings")
        print(f"{len(walk.stalls)} stalls above {STALL * 1e3:.0f} ms, the longest:")
        for seconds, doing in sorted(walk.stalls, reverse=True)[:20]:
            print(f"  {seconds * 1e3:6.0f} ms  {doing}")
        if walk.memory:
            third = max(len(walk.memory) // 3, 1)
            print(
                f"memory {walk.memory[0]:.0f} MB first, {walk.memory[third]:.0f} after a third, "
                f"{walk.memory[-1]:.0f} last"
            )
        window.shut_down()
        os._exit(1 if walk.found else 0)


if __name__ == "__main__":
    main()
