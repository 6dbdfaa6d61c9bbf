"""What the Decide menu opens: three plans, findings, the restore list, the report; and a look without the plan."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QEvent, QObject, Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QFileDialog, QWidget

from ...core.decisions.decision import Decision
from ...core.optimise.suggest import Suggestion
from ...core.survey import kept_load
from ...core.told.findings import weighed
from ...core.told.restore_list import restore_list
from ...deliver.report import write_report
from ..background.desk import Desk
from ..balance.balance_page import BalancePage
from ..decide.decide_dialogs import FindingsDialog, KeptDialog, PlansDialog, RestoreDialog
from ..decide.tracking_dialog import TrackingDialog

PEEK = Qt.Key.Key_C


class Deciding(QObject):
    """Opens the dialogs over a window. `failed` brings a sentence when something could not be written.

    While the key C is held on Balance, everything is shown without the plan.
    """

    failed = Signal(str)

    def __init__(self, desk: Desk, balance: BalancePage, window: QWidget) -> None:
        super().__init__(window)
        self._desk, self._balance, self._window = desk, balance, window
        desk.compared.connect(self._show_plans)
        for part in (window, balance.tracks.view, balance.timeline):
            part.installEventFilter(self)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if isinstance(event, QKeyEvent) and event.key() == PEEK and not event.modifiers() and self._balance.isVisible():
            if not event.isAutoRepeat() and event.type() in (QEvent.Type.KeyPress, QEvent.Type.KeyRelease):
                self._desk.peek(event.type() == QEvent.Type.KeyPress)
            return event.type() in (QEvent.Type.KeyPress, QEvent.Type.KeyRelease)
        return super().eventFilter(watched, event)

    def peek(self) -> None:
        """Shows everything without the plan, or with it again."""
        self._desk.peek(not self._desk.is_peeking)

    def compare_plans(self) -> None:
        """Looks for three plans, and shows them side by side when they are there."""
        drawer = self._balance.drawer
        drawer.show_suggesting("Looking for three plans…")
        self._desk.compare(drawer.weights(), drawer.allowed())

    def _show_plans(self, found: dict[str, Suggestion]) -> None:
        of, document = self._desk.survey, self._desk.document
        self._balance.drawer.suggest.setEnabled(True)
        if of is None or document is None:
            return
        self._balance.show_plan()
        dialog = PlansDialog(of, found, self._window)
        dialog.chosen.connect(lambda plan: self._desk.change("chosen plan", document._replace(plan=plan.plan)))
        dialog.open()

    def show_findings(self) -> None:
        """What can be seen without any measurement, with what it saves at the moment."""
        of, at = self._desk.survey, self._desk.instant
        if of is None or at is None:
            return
        dialog = FindingsDialog(weighed(of, at), self._window)
        dialog.taken.connect(self._desk.decide)
        dialog.open()

    def show_kept(self) -> None:
        """The plans that were put by, and a name for the present one."""
        document, of = self._desk.document, self._desk.survey
        if document is None or of is None:
            return
        dialog = KeptDialog([(kept, kept_load(of, kept)) for kept in document.kept], self._window)
        dialog.kept.connect(self._desk.keep_plan)
        dialog.used.connect(self._desk.use_plan)
        dialog.forgotten.connect(self._desk.forget_plan)
        dialog.open()

    def show_restore(self) -> None:
        """What to put back before the final render."""
        document = self._desk.document
        if document is None:
            return
        dialog = RestoreDialog(restore_list(document.session, document.plan), document.plan.put_back, self._window)
        dialog.ticked.connect(self._desk.tick)
        dialog.open()

    def ask_report(self) -> None:
        """Asks where to write the plan, with its reasons and the restore list."""
        of, at = self._desk.survey, self._desk.instant
        if of is None or at is None:
            return
        name, _ = QFileDialog.getSaveFileName(
            self._window, "Write the plan", str(Path.home() / f"{of.session.name} plan.html"), "Reports (*.html)"
        )
        if name:
            self.write_report(Path(name))

    def write_report(self, path: Path) -> None:
        """Writes the report of what is on the desk, with its plan."""
        self._desk.peek(False)
        of, at = self._desk.survey, self._desk.instant
        if of is None or at is None:
            return
        try:
            write_report(path, of, at)
        except OSError as error:
            self.failed.emit(f"The report could not be written: {error}. Nothing else has changed.")

    def ask_tracking(self) -> None:
        """Asks how soon a musician must hear himself."""
        if self._desk.survey is None:
            return
        dialog = TrackingDialog(self._desk.survey, self._window)
        dialog.taken.connect(self.bypass)
        dialog.open()

    def bypass(self, uses: list[str]) -> None:
        """Takes plugins out while tracking, as decisions of the plan."""
        document = self._desk.document
        if document is not None:
            places = {use.id: strip.id for strip in document.session.strips for use in strip.uses()}
            self._desk.decide("bypass to track in time", [Decision("off", places[use], use) for use in uses])
