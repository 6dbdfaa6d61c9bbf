"""What there is to carry out as a table: a row for each thing, how far it is, and what came of it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from PySide6.QtCore import Qt, QTimer
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import QAbstractItemView, QHeaderView, QTableWidget, QTableWidgetItem

from ...core.told import carrying as told
from ...core.units import clock, percent
from ...deliver import carrying
from ...deliver.carrying import MIX, Prepared
from ...deliver.lasting import Effort
from ...deliver.render import THERE_ALREADY, Job, Rendered, Step
from ...deliver.stems import is_stem
from ...deliver.there import There
from ..look.panels import dress_table, size_table

HEADINGS = ("Track", "Through", "Length", "Takes", "Size", "Where it stands", "Level", "Proof")
TAKES, SIZE, STANDS, LEVEL, PROOF = 3, 4, 5, 6, 7
WIDTHS = (170, 120, 60, 60, 60, 155, 150)


class JobTable(QTableWidget):
    """Rows for what is to be done, then for what is refused; the proof of a mix is the last."""

    def __init__(self) -> None:
        super().__init__(0, len(HEADINGS))
        self._prepared: Prepared | None = None
        name = "What has to be rendered, and how far it is"
        dress_table(self, HEADINGS, name, Qt.AlignmentFlag.AlignLeft)
        self.setShowGrid(False)
        self.horizontalHeader().setSectionResizeMode(PROOF, QHeaderView.ResizeMode.Stretch)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        size_table(self, 22, dict(enumerate(WIDTHS)))
        # Rows are fitted once the columns are as wide as they are going to be.
        self._fitting = QTimer(self, singleShot=True, interval=0)
        self._fitting.timeout.connect(self._fit_rows)
        self.horizontalHeader().sectionResized.connect(lambda *_: self._fitting.start())

    def _ids(self) -> list[str]:
        """What each row is about, by the ids of the jobs' strips: what is to be done, what is refused (""), the mix."""
        of = self._prepared
        return [*(job.strip.id for job in of.all_jobs), *("" for _ in of.refused), MIX.id] if of is not None else []

    def chosen(self) -> str:
        """The id of the chosen row's strip; empty if none is chosen."""
        ids, row = self._ids(), self.currentRow()
        return ids[row] if 0 <= row < len(ids) else ""

    def clear_all(self) -> None:
        """Nothing stands there."""
        self._prepared = None
        self.setRowCount(0)

    def show_all(self, prepared: Prepared, lies: There, takes: Mapping[str, Effort]) -> None:
        """What there is to do and how long each `takes`, what lies there already, and what cannot be done."""
        self._prepared = prepared
        jobs, shared = prepared.all_jobs, {check.bus.id: len(check.members) for check in prepared.checks}
        self.setRowCount(len(jobs) + len(prepared.refused))
        whole = prepared.together
        for row, job in enumerate(jobs):
            last = job.strip.inserts[job.through].label if job.strip.inserts and job.through >= 0 else "the source"
            stands = f"to prove, on {shared[job.strip.id]} tracks" if job.strip.id in shared else "to render"
            if is_stem(job):
                last = "its fader"
            elif whole is not None and job is whole.job:
                last, stands = "", "to prove"
            of = takes[job.strip.id]
            length, time = clock(job.samples / job.rate), told.takes_words(of.alone, of.known)
            self._fill(row, (job.name, last, length, time, "", stands, "", ""))
            self._show_lying(row, job, lies)
        for row, (name, reason) in enumerate(prepared.refused, len(jobs)):
            self._fill(row, (name, "", "", "", "", "not rendered", "", reason))
        self._fitting.start()

    def _show_lying(self, row: int, job: Job, lies: There) -> None:
        """What was rendered before stands as it is, if it would come out the same."""
        known, when = lies.rendered.get(job.strip.id), lies.older.get(job.strip.id)
        if known is not None:
            self._show_rendered(row, known, THERE_ALREADY)
        elif when is not None:
            self._fill(row, (told.AGAIN, "", told.older_words(when)), STANDS)

    def _show_rendered(self, row: int, of: Rendered, stands: str) -> None:
        words = "; ".join(carrying.told_of(of))
        self._fill(row, (told.megabytes(of.size),), SIZE)
        self._fill(row, (stands, told.levels(of.peak_db, of.lufs), words), STANDS)

    def begin_mix(self, seconds: float) -> None:
        """A row for the proof of a mix that lasts so long."""
        ids = self._ids()
        self.setRowCount(len(ids))
        words = (MIX.name, "the main output", clock(seconds), "", "", "to prove", "", "")
        self._fill(ids.index(MIX.id), words)

    def drop_mix(self) -> None:
        """No row for it."""
        self.setRowCount(len(self._ids()) - 1)

    def take(self, step: Step) -> bool:
        """How far something is; whether it has a row here."""
        ids = self._ids()
        if self._prepared is None or step.job.strip.id not in ids:
            return False
        row = ids.index(step.job.strip.id)
        if step.trouble:
            stands = "not proven" if step.job.strip.id == MIX.id else "ended early"
            self._fill(row, (stands, "", step.trouble), STANDS)
            self.resizeRowToContents(row)
        elif step.rendered is not None:
            self._show_rendered(row, step.rendered, step.doing)
        elif step.compared is not None:
            words = carrying.compared_words(self._prepared, step)
            self._fill(row, (step.doing, told.level(step.compared.peak_db), words), STANDS)
        else:
            self._fill(row, (f"{step.doing}: {percent(step.share)}", "", ""), STANDS)
        return True

    def _fill(self, row: int, texts: Iterable[str], first: int = 0) -> None:
        """Writes texts into a row, from the column `first` on."""
        for column, text in enumerate(texts, first):
            item = QTableWidgetItem(text)
            item.setToolTip(text)
            self.setItem(row, column, item)

    def _fit_rows(self) -> None:
        """Why something is not rendered is read in full, however wide its column is just now."""
        first = len(self._prepared.all_jobs) if self._prepared is not None else 0
        for row in range(first, self.rowCount()):
            self.resizeRowToContents(row)

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self._fitting.start()
