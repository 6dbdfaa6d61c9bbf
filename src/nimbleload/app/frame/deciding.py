"""What the Decide menu opens: three plans, findings, the restore list, the report; and a look without the plan."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QEvent, QObject, Qt, QTimer
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QFileDialog, QWidget

from ...core.decisions.decision import Decision, KeptPlan
from ...core.optimise.alternatives import Alternative
from ...core.told.findings import Weighted
from ...core.told.restore_list import restore_list
from ...core.units import as_file_name
from ...deliver.report import write_report, write_table
from ..background.desk import Desk
from ..balance.balance_page import BalancePage
from ..decide.decide_dialogs import FindingsDialog, KeptDialog, PlansDialog, RestoreDialog
from ..decide.tracking_dialog import TrackingDialog
from ..look.notice import written

PEEK = Qt.Key.Key_C
# A key that is held repeats, and not every repetition is known to be one: so long after its release it is let go.
LET_GO_MS = 80


class Deciding(QObject):
    """Opens the dialogs over a window, once what they show has been computed beside it.

    While the key C is held on Balance, everything is shown without the plan.
    """

    def __init__(self, desk: Desk, balance: BalancePage, window: QWidget) -> None:
        super().__init__(window)
        self._desk, self._balance, self._window = desk, balance, window
        desk.compared.connect(self._show_plans)
        self._let_go = QTimer(self)
        self._let_go.setSingleShot(True)
        self._let_go.setInterval(LET_GO_MS)
        self._let_go.timeout.connect(lambda: desk.peek(False))
        for part in (window, balance.tracks.view, balance.timeline):
            part.installEventFilter(self)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if isinstance(event, QKeyEvent) and event.key() == PEEK and not event.modifiers() and self._balance.isVisible():
            if event.type() == QEvent.Type.KeyPress:
                self._let_go.stop()
                if not event.isAutoRepeat():
                    self._desk.peek(True)
            elif event.type() == QEvent.Type.KeyRelease and not event.isAutoRepeat():
                if self._desk.is_peeking:
                    self._let_go.start()
                else:
                    self._desk.peek(False)
            return event.type() in (QEvent.Type.KeyPress, QEvent.Type.KeyRelease)
        return super().eventFilter(watched, event)

    def compare_plans(self) -> None:
        """Looks for three plans, and shows them side by side when they are there."""
        drawer = self._balance.drawer
        if self._desk.survey is None or not drawer.suggest.isEnabled():
            return  # nothing to look in, or it is being looked already, as the drawer says
        drawer.show_suggesting("Looking for three plans…")
        self._desk.compare(drawer.weights(), drawer.allowed(), drawer.disk())

    def _show_plans(self, found: dict[str, Alternative]) -> None:
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
        failure = "what the session gives away could not be looked for"
        self._desk.ask(lambda beside, of, at: beside.findings(of, at), self._open_findings, failure)

    def _open_findings(self, found: list[Weighted]) -> None:
        dialog = FindingsDialog(found, self._window)
        dialog.taken.connect(self._desk.decide)
        dialog.open()

    def show_kept(self) -> None:
        """The plans that were put by, and a name for the present one."""
        document = self._desk.document
        if document is not None:
            kept = document.kept
            self._desk.ask(
                lambda beside, of, _: list(zip(kept, beside.kept_loads(of, kept), strict=True)), self._open_kept,
                "the loads of the plans could not be computed",
            )  # fmt: skip

    def _open_kept(self, kept: list[tuple[KeptPlan, float]]) -> None:
        dialog = KeptDialog(kept, self._window)
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
        """Asks where to write the plan: as a report with its reasons and the restore list, or its steps as a table."""
        of = self._desk.survey
        if of is None:
            return
        kinds = "Reports (*.html);;The steps as a table (*.csv)"
        proposed = str(Path.home() / f"{as_file_name(of.session.name)} plan.html")
        name, kind = QFileDialog.getSaveFileName(self._window, "Write the plan", proposed, kinds)
        if name:
            path, wanted = Path(name), ".csv" if "csv" in kind else ".html"
            known = path.suffix.lower() in (".csv", ".html", ".htm")
            self.write_report(path if known else path.with_name(path.name + wanted))

    def write_report(self, path: Path) -> None:
        """Writes what is on the desk, with its plan: a table if the path ends in .csv, else the report."""
        self._desk.peek(False)
        of, at = self._desk.survey, self._desk.instant
        if of is None or at is None:
            return

        known = self._desk.plan_steps

        def write() -> Path:
            plan = known or self._desk.beside.steps(of)
            write_table(path, of, plan) if path.suffix.lower() == ".csv" else write_report(path, of, at, plan)
            return path

        self._desk.jobs.run(write, written.tell, "the plan could not be written")

    def ask_tracking(self) -> None:
        """Asks how soon a musician must hear himself."""
        if self._desk.survey is None:
            return
        dialog = TrackingDialog(self._desk, self._window)
        dialog.taken.connect(self.bypass)
        dialog.open()

    def bypass(self, uses: list[str]) -> None:
        """Takes plugins out while tracking, as decisions of the plan."""
        document = self._desk.document
        if document is not None:
            places = {use.id: strip.id for strip in document.session.strips for use in strip.uses()}
            self._desk.decide("bypass to track in time", [Decision("off", places[use], use) for use in uses])
