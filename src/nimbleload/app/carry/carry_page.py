"""Carry out: what of the plan has to be rendered, how far it is, how well each file was proven, and the new session."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Qt, QTimer, QUrl, Signal
from PySide6.QtGui import QDesktopServices, QShowEvent
from PySide6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QFileDialog,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QWidget,
)

from ...core.told import carrying as told
from ...core.told.as_known import is_unknown, load_words
from ...core.told.restore_list import restore_list
from ...core.units import clock, percent
from ...deliver import carrying
from ...deliver.carrying import MIX, Prepared
from ...deliver.exchange_out import Written
from ...deliver.render import THERE_ALREADY, Job, Proof, Rendered, Step
from ...deliver.sharing import Check
from ...deliver.stems import OF_STEM, is_stem
from ...deliver.there import There
from ...store.audio import FORMATS
from ..background.desk import Desk
from ..look.notice import written
from ..look.panels import dress_table, headed, panel, size_table
from ..look.restore_view import RestoreView
from ..look.sentence import Sentence
from .carrying_out import CarryingOut
from .stems_dialog import StemsDialog

HEADINGS = ("Track", "Through", "Length", "Where it stands", "Level", "Proof")
STANDS = 3
WORKING_OUT = "Working out what there is to do…"
NO_PLAN = "There is no plan to carry out yet."


class CarryPage(QWidget):
    """The page. `state_changed` tells its state in a word, and a colour for it; `kind_chosen` the kind of file."""

    state_changed = Signal(str, str)
    kind_chosen = Signal(str)

    def __init__(self, desk: Desk, work: CarryingOut, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._desk, self.work = desk, work
        self.prepared: Prepared | None = None
        self.rendered: dict[str, Rendered] = {}
        self.compared: dict[str, Proof] = {}
        self.ended: dict[str, str] = {}
        # The changed session, once it is written, whose mix can be proven then.
        self.written: Path | None = None
        self._plan: tuple[object, ...] | None = None
        self.stems: tuple[str, ...] = ()
        # Rows are fitted once the columns are as wide as they are going to be.
        self._fitting = QTimer(self, singleShot=True, interval=0)
        self.sentence = Sentence()
        self.table = QTableWidget(0, len(HEADINGS))
        self.ask_stems, self.stop, self.listen, self.hear_left, self.show_folder, self.write = map(QPushButton, (
            "Stems…", "Stop", "Listen", "Hear the difference", "Show in folder", "Write the changed session…",
        ))  # fmt: skip
        self.kind = QComboBox()
        self.kind.setAccessibleName("In which kind of file audio is written")
        for name, form in FORMATS.items():
            self.kind.addItem(form.words, name)
        self.news, self.back_title, self.back = QLabel(), QLabel("Before the final render"), RestoreView()
        self._lay_out()
        size_table(self.table, 22, dict(enumerate((190, 130, 70, 150, 150))))
        self._connect()

    def _lay_out(self) -> None:
        name = "What has to be rendered, and how far it is"
        dress_table(self.table, HEADINGS, name, Qt.AlignmentFlag.AlignLeft)
        self.table.setShowGrid(False)
        self.table.horizontalHeader().setSectionResizeMode(5, QHeaderView.ResizeMode.Stretch)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.news.setWordWrap(True)
        self.news.setProperty("role", "quiet")
        self.back_title.setProperty("role", "title")
        row = QHBoxLayout()
        row.addWidget(self.news, 1)
        row.addWidget(self.kind)
        for part in (self.ask_stems, self.stop, self.listen, self.hear_left, self.show_folder, self.write):
            row.addWidget(part)
        frame, inside = panel()
        inside.addWidget(self.table, 3)
        inside.addLayout(row)
        inside.addWidget(self.back_title)
        inside.addWidget(self.back, 2)
        headed(self, self.sentence).addWidget(frame, 1)
        self._show_buttons()

    def _connect(self) -> None:
        self.sentence.pressed.connect(self.start)
        self.ask_stems.clicked.connect(self.choose_stems)
        self._fitting.timeout.connect(self._fit_rows)
        self.table.horizontalHeader().sectionResized.connect(lambda *_: self._fitting.start())
        self.kind.activated.connect(lambda _: self._take_kind())
        self.stop.clicked.connect(self.work.stop)
        self.listen.clicked.connect(self.play)
        self.hear_left.clicked.connect(self.play_difference)
        self.show_folder.clicked.connect(self.open_folder)
        self.write.clicked.connect(self.ask_write)
        self.table.itemSelectionChanged.connect(self._show_buttons)
        self.back.ticked.connect(self._desk.tick)
        self.work.prepared.connect(self._take_prepared)
        self.work.stepped.connect(self._take_step)
        self.work.ended.connect(self._take_end)
        self.work.wrote.connect(self._take_written)
        self.work.failed.connect(self.news.setText)
        self.sentence.follow_opening(self._desk)
        self._desk.opened.connect(self._show_opening)
        self._desk.recomputed.connect(self._look)
        self._desk.saved_changed.connect(self._follow_file)

    # What the user does

    def start(self) -> None:
        """Renders and proves what is not rendered and proven yet; writes the session where nothing has to be."""
        if self.prepared is None or self.work.is_running:
            return
        todo, checks = self._todo()
        if not todo and self._can_prove_mix():
            self._prove_mix()
            return
        if not todo and not checks:
            self.ask_write()
            return
        self.ended.clear()
        files = {strip: of.file for strip, of in self.rendered.items()}
        self.work.start(self.prepared, todo, checks, self.folder, files, str(self.kind.currentData()))
        self.news.setText(f"Files go to {self.folder}.")
        self._show_sentence()

    def _todo(self) -> tuple[list[Job], list[Check]]:
        """What is not rendered yet, and which shared buses are not proven."""
        of = self.prepared
        if of is None:
            return [], []
        jobs = [job for job in of.jobs if job.strip.id not in self.rendered]
        return jobs, [check for check in of.checks if check.bus.id not in self.compared]

    def _can_prove_mix(self) -> bool:
        """Whether the changed session is written, and its mix not proven yet."""
        return self.written is not None and MIX.id not in self.compared

    def _prove_mix(self) -> None:
        """Has the mix before and after compared, in a row of its own, the last."""
        document = self._desk.document
        if document is None or self.written is None:
            return
        self.ended.clear()
        rows = self._rows()
        self.table.setRowCount(len(rows))
        self._fill(rows.index(MIX.id), MIX.name, "the main output", clock(document.session.length), "to prove", "", "")
        self.work.prove_mix(document.session, document.buffer, self._desk.path, self.written, self.folder)
        self._show_sentence()
        self._show_buttons()

    def write_as(self, kind: str) -> None:
        """The kind of file that was chosen the last time."""
        self.kind.setCurrentIndex(self.kind.findData(kind))

    def _take_kind(self) -> None:
        """Another kind of file: what was rendered in the one before is not that."""
        self.kind_chosen.emit(str(self.kind.currentData()))
        self._plan = None
        self._look()

    def choose_stems(self) -> None:
        """Asks of which strips there are to be stems; they stand in the table with what the plan renders."""
        document = self._desk.document
        if document is None or self.work.is_running:
            return
        dialog = StemsDialog(document.session, self.stems, self)
        dialog.accepted.connect(lambda: self._take_stems(dialog.chosen()))
        dialog.open()

    def _take_stems(self, chosen: tuple[str, ...]) -> None:
        self.stems = chosen
        self._look()

    @property
    def folder(self) -> Path:
        """Where the rendered files lie."""
        return carrying.folder_of(self.prepared.beside) if self.prepared is not None else Path.home()

    def _rows(self) -> list[str]:
        """What each row is about, by the ids of the jobs' strips: what is to be done, what is refused (""), the mix."""
        of = self.prepared
        return [*(job.strip.id for job in of.all_jobs), *("" for _ in of.refused), MIX.id] if of is not None else []

    def _chosen_id(self) -> str:
        rows, row = self._rows(), self.table.currentRow()
        return rows[row] if 0 <= row < len(rows) else ""

    def _chosen(self) -> Rendered | None:
        return self.rendered.get(self._chosen_id())

    def play(self) -> None:
        """Plays the chosen file with the system's player."""
        chosen = self._chosen()
        if chosen is not None:
            QDesktopServices.openUrl(QUrl.fromLocalFile(str(self.folder / chosen.file)))

    def _residual(self) -> str:
        """The file with what differs, of the row that is chosen; empty without one."""
        of = self._chosen_id()
        rendered = self.rendered.get(of)
        proof = rendered.proof if rendered is not None else self.compared.get(of)
        return proof.residual if proof is not None else ""

    def play_difference(self) -> None:
        """Plays what the chosen row's two renderings differ by, with the system's player."""
        if self._residual():
            QDesktopServices.openUrl(QUrl.fromLocalFile(str(self.folder / self._residual())))

    def open_folder(self) -> None:
        QDesktopServices.openUrl(QUrl.fromLocalFile(str(self.folder)))

    def ask_write(self) -> None:
        """Asks where the changed session goes; never over the original."""
        document = self._desk.document
        if self.prepared is None or document is None:
            return
        proposed = str(carrying.file_of(self.prepared.beside))
        name, _ = QFileDialog.getSaveFileName(
            self, "Write the changed session", proposed, "Exchange files (*.dawproject)"
        )
        if name:
            target = Path(name if name.endswith(carrying.SUFFIX) else name + carrying.SUFFIX)
            self.work.write(
                target, self.prepared.source, document.session, document.plan, self.rendered, self.folder,
                self._desk.cards,
            )  # fmt: skip

    # What is shown

    def _show_opening(self) -> None:
        """Nothing of another session, until it is known what there is to do in this one."""
        if not self.work.is_running:
            self.prepared, self._plan, self.stems = None, None, ()
            self._forget()
            self.state_changed.emit("—", "quiet")
            self._show_buttons()

    def _forget(self) -> None:
        """What was rendered, proven and shown."""
        for known in (self.rendered, self.compared, self.ended):
            known.clear()
        self.written = None
        self.table.setRowCount(0)

    def _look(self) -> None:
        """Looks what there is to do, if the plan or the session is another one now."""
        document = self._desk.document
        if document is None or self._desk.is_peeking:
            return
        self._show_back()
        there = {strip.id for strip in document.session.strips}
        self.stems = tuple(each for each in self.stems if each in there)
        asked = (document.session, document.plan.decisions, document.buffer, self.stems, self._desk.path)
        if asked != self._plan and not self.work.is_running:
            self._plan = asked
            if (document.plan.decisions or self.stems) and (self.prepared is None or not self.table.rowCount()):
                # What stands there speaks of no plan; the audio of the example is made first, which takes a while.
                self.sentence.say(WORKING_OUT, "What can be rendered, and what is proven on a bus.", "quiet")
                self.state_changed.emit("…", "quiet")
            kind = str(self.kind.currentData())
            self.work.prepare(document.session, document.plan, document.buffer, kind, self.stems, self._desk.path)

    def _follow_file(self) -> None:
        """What is rendered may go beside another file, if the session was saved as one."""
        if self._plan is not None and self._plan[-1] != self._desk.path:
            self._look()

    def _take_prepared(self, found: Prepared | str, lies: There) -> None:
        self._forget()
        self.prepared = found if isinstance(found, Prepared) else None
        if self.prepared is None:
            has_plan = not self._has_no_plan() or bool(self.stems)
            title = "Nothing can be rendered here." if has_plan else NO_PLAN
            self.sentence.say(title, str(found) if has_plan else "Balance finds one, or makes it by hand.", "quiet")
            self.state_changed.emit("by hand" if has_plan else "no plan", "quiet")
            self._show_buttons()
            return
        jobs, shared = self.prepared.all_jobs, {check.bus.id: len(check.members) for check in self.prepared.checks}
        self.table.setRowCount(len(jobs) + len(self.prepared.refused))
        whole = self.prepared.together
        for row, job in enumerate(jobs):
            last = job.strip.inserts[job.through].label if job.strip.inserts and job.through >= 0 else "the source"
            stands = f"to prove, on {shared[job.strip.id]} tracks" if job.strip.id in shared else "to render"
            if is_stem(job):
                last = "its fader"
            elif whole is not None and job is whole.job:
                last, stands = "", "to prove"
            self._fill(row, job.name, last, clock(job.samples / job.rate), stands, "", "")
            self._show_lying(row, job, lies)
        for row, (name, reason) in enumerate(self.prepared.refused, len(jobs)):
            self._fill(row, name, "", "", "not rendered", "", reason)
        self._fitting.start()
        self._show_sentence()
        self._show_buttons()

    def _show_lying(self, row: int, job: Job, lies: There) -> None:
        """What was rendered before stands as it is, if it would come out the same."""
        known, when = lies.rendered.get(job.strip.id), lies.older.get(job.strip.id)
        if known is not None:
            self._show_rendered(row, known, THERE_ALREADY)
        elif when is not None:
            self._fill(row, told.AGAIN, "", told.older_words(when), first=STANDS)

    def _show_rendered(self, row: int, of: Rendered, stands: str) -> None:
        self.rendered[of.strip] = of
        self._fill(row, stands, told.levels(of.peak_db, of.lufs), "; ".join(carrying.told_of(of)), first=STANDS)

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self._fitting.start()

    def _fit_rows(self) -> None:
        """Why something is not rendered is read in full, however wide its column is just now."""
        first = len(self.prepared.all_jobs) if self.prepared is not None else 0
        for row in range(first, self.table.rowCount()):
            self.table.resizeRowToContents(row)

    def _has_no_plan(self) -> bool:
        document = self._desk.document
        return document is None or not document.plan.decisions

    def _fill(self, row: int, *texts: str, first: int = 0) -> None:
        """Writes texts into a row, from the column `first` on."""
        for column, text in enumerate(texts, first):
            item = QTableWidgetItem(text)
            item.setToolTip(text)
            self.table.setItem(row, column, item)

    def _take_step(self, step: Step) -> None:
        rows = self._rows()
        if self.prepared is None or step.job.strip.id not in rows:
            return
        row = rows.index(step.job.strip.id)
        if step.trouble:
            self.ended[step.job.name] = step.trouble
            stands = "not proven" if step.job.strip.id == MIX.id else "ended early"
            self._fill(row, stands, "", step.trouble, first=STANDS)
            self.table.resizeRowToContents(row)
        elif step.rendered is not None:
            self._show_rendered(row, step.rendered, step.doing)
        elif step.compared is not None:
            self.compared[step.job.strip.id] = proof = step.compared
            words = carrying.compared_words(self.prepared, step)
            self._fill(row, step.doing, told.level(proof.peak_db), words, first=STANDS)
        else:
            self._fill(row, f"{step.doing}: {percent(step.share)}", "", "", first=STANDS)
        self._show_sentence()
        self._show_buttons()

    def _take_end(self) -> None:
        self._show_sentence()
        self._show_buttons()
        self._look()

    def _take_written(self, of: Written) -> None:
        hand = f" Left to do by hand: {'; '.join(of.by_hand)}." if of.by_hand else ""
        self.news.setText(f"Written to {of.path}.{hand}")
        written.tell(Path(of.path))
        self.written = Path(of.path)
        self.compared.pop(MIX.id, None)
        self.table.setRowCount(len(self._rows()) - 1)

    def _show_sentence(self) -> None:
        if self.prepared is None:
            return
        total, done, refused = len(self.prepared.jobs), len(self.rendered), len(self.prepared.refused)
        running = self.work.is_running
        headline = told.headline(done, total, len(self.ended), refused, self.prepared.is_written, len(self.stems))
        of = self._desk.survey
        load = ""
        # Stems by themselves change nothing of the load.
        if of is not None and not self._has_no_plan() and not is_unknown(of):
            load = f" With all of it the worst moment takes {load_words(of, float(of.after.load.max()))}."
        advice = f"The original is never changed; files are written beside it.{load}"
        if self._has_no_plan() and not total and not refused:
            headline, advice = NO_PLAN, "Balance finds one, or makes it by hand. Stems can be rendered without one."
        mix = self.compared.get(MIX.id)
        if mix is not None:
            headline, advice = told.mix_headline(mix.verdict), f"{headline} {advice}"
        proofs = [*(each.proof for each in self.rendered.values()), *self.compared.values()]
        odd = [proof for proof in proofs if proof is not None and proof.verdict not in ("same", "rounded")]
        jobs, checks = self._todo()
        left, all_of = len(jobs) + len(checks), total + len(self.prepared.checks)
        tone = "overload" if self.ended else "tight" if odd else "fits" if all_of and not left else "quiet"
        self.sentence.say(headline, advice, tone, "" if running else self._button(bool(jobs), bool(checks)))
        words = (
            "rendering" if running else "done" if all_of and not left else f"{left} to do" if all_of
            else "to write" if self.prepared.is_written else "no plan" if self._has_no_plan() and not self.stems
            else "nothing"
        )  # fmt: skip
        colour = "brass" if running else "brick" if self.ended else "teal" if all_of and not left else "quiet"
        self.state_changed.emit(words, colour)

    def _button(self, renders: bool, proves: bool) -> str:
        """What comes next."""
        if renders:
            return "Render the rest" if self.rendered else "Render"
        # It is heard in the mix, too.
        if self._can_prove_mix():
            return "Prove the mix"
        if proves:
            return "Prove the sharing"
        return "Write the changed session…" if self._can_write() and not self.rendered else ""

    def _can_write(self) -> bool:
        changes = [strip for strip in self.rendered if not strip.endswith(OF_STEM)]
        return bool(changes) or (self.prepared is not None and self.prepared.is_written)

    def _show_buttons(self) -> None:
        running, chosen = self.work.is_running, self._chosen() is not None
        self.stop.setVisible(running)
        self.ask_stems.setVisible(not running)
        self.kind.setEnabled(not running)
        self.ask_stems.setEnabled(self._desk.document is not None)
        for part in (self.listen, self.show_folder):
            part.setVisible(bool(self.rendered))
        self.listen.setEnabled(chosen)
        self.hear_left.setVisible(bool(self._residual()))
        self.write.setVisible(self._can_write() and not running and self.sentence.button.text() != self.write.text())

    def _show_back(self) -> None:
        """The restore list, ticked off here as in its dialog."""
        document = self._desk.document
        assert document is not None
        lines = restore_list(document.session, document.plan)
        self.back.show_lines(lines, document.plan.put_back)
        for part in (self.back, self.back_title):
            part.setVisible(bool(lines))
