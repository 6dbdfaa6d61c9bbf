"""Carry out: what of the plan has to be rendered, how far it is, how well each file was proven, and the new session."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path

from PySide6.QtCore import QUrl, Signal
from PySide6.QtGui import QDesktopServices, QShowEvent
from PySide6.QtWidgets import QComboBox, QFileDialog, QHBoxLayout, QPushButton, QWidget

from ...core.told import carrying as told
from ...core.told.as_known import is_unknown, load_words
from ...core.told.restore_list import restore_list
from ...core.units import count
from ...deliver import carrying
from ...deliver.carrying import MIX, Prepared
from ...deliver.exchange_out import Written
from ...deliver.lasting import Effort, TimeLeft
from ...deliver.proof import Proof
from ...deliver.render import Job, Rendered, Step
from ...deliver.sharing import Check
from ...deliver.stems import OF_STEM
from ...deliver.there import There
from ...store.audio import FORMATS
from ..background.desk import Desk
from ..look.notice import written
from ..look.panels import Message, headed, panel
from ..look.restore_view import RestoreView
from ..look.sentence import Sentence
from ..look.words import Words
from .carrying_out import CarryingOut
from .job_table import JobTable
from .stems_dialog import StemsDialog

WORKING_OUT = "Working out what there is to do…"
MAKING = "The audio of the example is made first, once: this takes some seconds."
NO_PLAN = "There is no plan to carry out yet."
# Of what is left to do by hand so many lines stand on the page, and in the box that has all of them in its details.
BY_HAND, SHOWN = 3, 12


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
        self.takes: Mapping[str, Effort] = {}
        # The changed session, once it is written, whose mix can be proven then.
        self.written: Path | None = None
        self._plan: tuple[object, ...] | None = None
        self._state = "—", "quiet"
        self.stems: tuple[str, ...] = ()
        self.sentence = Sentence()
        self.table = JobTable()
        self.ask_stems, self.only, self.pause, self.stop = map(QPushButton, ("Stems…", "Only this", "Pause", "Stop"))
        self.listen, self.hear_left, self.show_folder, self.write = map(QPushButton, (
            "Listen", "Hear the difference", "Show in folder", "Write the changed session…",
        ))  # fmt: skip
        self.hear_before, self.hear_after = QPushButton("Hear before"), QPushButton("Hear after")
        self.kind = QComboBox()
        self.kind.setAccessibleName("In which kind of file audio is written")
        for name, form in FORMATS.items():
            self.kind.addItem(form.words, name)
        self.news, self.back_title, self.back = Words(), Words("Before the final render"), RestoreView()
        self._lay_out()
        self._connect()

    def _lay_out(self) -> None:
        self.news.setWordWrap(True)
        self.news.setProperty("role", "quiet")
        self.back_title.setProperty("role", "title")
        row = QHBoxLayout()
        row.addWidget(self.news, 1)
        row.addWidget(self.kind)
        for part in (
            self.ask_stems, self.only, self.pause, self.stop, self.listen, self.hear_before, self.hear_after,
            self.hear_left, self.show_folder, self.write,
        ):  # fmt: skip
            row.addWidget(part)
        frame, inside = panel()
        inside.addWidget(self.table, 3)
        inside.addLayout(row)
        inside.addWidget(self.back_title)
        inside.addWidget(self.back, 2)
        headed(self, self.sentence).addWidget(frame, 1)
        self._show_buttons()

    def _connect(self) -> None:
        self.sentence.pressed.connect(lambda: self.start())
        self.only.clicked.connect(lambda: self.start(self.table.chosen()))
        self.pause.clicked.connect(self.stand_still)
        self.ask_stems.clicked.connect(self.choose_stems)
        self.kind.activated.connect(lambda _: self._take_kind())
        self.stop.clicked.connect(self.work.stop)
        self.listen.clicked.connect(self.play)
        self.hear_left.clicked.connect(self.play_difference)
        self.hear_before.clicked.connect(lambda: self.play_side(0))
        self.hear_after.clicked.connect(lambda: self.play_side(1))
        self.show_folder.clicked.connect(self.open_folder)
        self.write.clicked.connect(self.ask_write)
        self.table.itemSelectionChanged.connect(self._show_buttons)
        self.back.ticked.connect(self._desk.tick)
        self.work.making.connect(lambda: self.sentence.say(WORKING_OUT, MAKING, "quiet"))
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

    def start(self, only: str = "") -> None:
        """Renders and proves what is not rendered and proven yet, of all or of one thing; writes the session where
        nothing has to be."""
        if self.prepared is None or self.work.is_running:
            return
        todo, checks = self._todo(only)
        if not todo and self._can_prove_mix():
            self._prove_mix()
            return
        if not todo and not checks:
            self.ask_write()
            return
        self.ended.clear()
        files = {strip: of.file for strip, of in self.rendered.items()}
        whole = [self.prepared.together.job.strip.id] if self.prepared.together is not None and not only else []
        takes = {each: self.takes[each] for each in (*_ids(todo, checks), *whole)}
        self.work.start(
            self.prepared, todo, checks, self.folder, files, takes, self._desk.cards, str(self.kind.currentData())
        )
        self.news.setText(f"Files go to {self.folder}.")
        self._show_sentence()

    def stand_still(self) -> None:
        """Makes what is being rendered stand still, or go on."""
        self.work.pause(not self.work.is_paused)
        self._show_sentence()
        self._show_buttons()

    def _todo(self, only: str = "") -> tuple[list[Job], list[Check]]:
        """What is not rendered yet, and which shared buses are not proven: of all, or of one (its strip's id)."""
        of = self.prepared
        if of is None:
            return [], []
        jobs = [job for job in of.jobs if job.strip.id not in self.rendered and only in ("", job.strip.id)]
        return jobs, [each for each in of.checks if each.bus.id not in self.compared and only in ("", each.bus.id)]

    def _can_prove_mix(self) -> bool:
        """Whether the changed session is written, and its mix not proven yet."""
        return self.written is not None and MIX.id not in self.compared

    def _prove_mix(self) -> None:
        """Has the mix before and after compared, in a row of its own, the last."""
        document = self._desk.document
        if document is None or self.written is None:
            return
        self.ended.clear()
        self.table.begin_mix(document.session.length)
        self.work.prove_mix(
            document.session, document.buffer, self._desk.path, self.written, self.folder, self._desk.cards
        )
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

    def _chosen(self) -> Rendered | None:
        return self.rendered.get(self.table.chosen())

    def play(self) -> None:
        """Plays the chosen file with the system's player."""
        chosen = self._chosen()
        if chosen is not None:
            self._play(chosen.file)

    def _play(self, file: str) -> None:
        QDesktopServices.openUrl(QUrl.fromLocalFile(str(self.folder / file)))

    def _proof(self) -> Proof | None:
        """What was found of the row that is chosen."""
        of = self.table.chosen()
        rendered = self.rendered.get(of)
        return rendered.proof if rendered is not None else self.compared.get(of)

    def play_difference(self) -> None:
        """Plays what the chosen row's two renderings differ by, with the system's player."""
        proof = self._proof()
        if proof is not None and proof.residual:
            self._play(proof.residual)

    def play_side(self, side: int) -> None:
        """Plays one of the two that the chosen row compares."""
        proof = self._proof()
        if proof is not None and proof.sides:
            self._play(proof.sides[side].file)

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
            self._tell_state("—", "quiet")
            self._show_buttons()

    def _forget(self) -> None:
        """What was rendered, proven and shown."""
        for known in (self.rendered, self.compared, self.ended):
            known.clear()
        self.written = None
        self.table.clear_all()

    def _look(self) -> None:
        """Looks what there is to do, if the plan or the session is another one now and somebody is here to see it:
        the exchange file is read for it, which would make every decision on another page late."""
        document = self._desk.document
        if document is None or self._desk.is_peeking:
            return
        self._show_back()
        there = {strip.id for strip in document.session.strips}
        self.stems = tuple(each for each in self.stems if each in there)
        asked = (document.session, document.plan.decisions, document.buffer, self.stems, self._desk.path)
        if self.work.is_running:
            return
        if asked == self._plan:
            # Another one may have been in force meanwhile, of which only that was said.
            self.state_changed.emit(*self._state)
            return
        has_work = bool(document.plan.decisions or self.stems)
        if not self.isVisible():
            self.state_changed.emit("plan" if has_work else "no plan", "quiet")
            return
        self._plan, self.prepared = asked, None
        if has_work:
            # What stands there speaks of another plan.
            self.sentence.say(WORKING_OUT, "What can be rendered, and what is proven on a bus.", "quiet")
            self._tell_state("…", "quiet")
        kind = str(self.kind.currentData())
        self.work.prepare(
            document.session, document.plan, document.buffer, kind, self._desk.cards, self.stems, self._desk.path
        )

    def _tell_state(self, words: str, colour: str) -> None:
        """How it stands with the plan that was looked at."""
        self._state = words, colour
        self.state_changed.emit(words, colour)

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self._look()

    def _follow_file(self) -> None:
        """What is rendered may go beside another file, if the session was saved as one."""
        if self._plan is not None and self._plan[-1] != self._desk.path:
            self._look()

    def _take_prepared(self, found: Prepared | str, lies: There, takes: Mapping[str, Effort]) -> None:
        self._forget()
        self.takes = takes
        self.prepared = found if isinstance(found, Prepared) else None
        if self.prepared is None:
            has_plan = not self._has_no_plan() or bool(self.stems)
            title = "Nothing can be rendered here." if has_plan else NO_PLAN
            self.sentence.say(title, str(found) if has_plan else "Balance finds one, or makes it by hand.", "quiet")
            self._tell_state("by hand" if has_plan else "no plan", "quiet")
            self._show_buttons()
            return
        self.rendered |= lies.rendered
        self.table.show_all(self.prepared, lies, takes)
        self._show_sentence()
        self._show_buttons()

    def _has_no_plan(self) -> bool:
        document = self._desk.document
        return document is None or not document.plan.decisions

    def _take_step(self, step: Step) -> None:
        if not self.table.take(step):
            return
        if step.trouble:
            self.ended[step.job.name] = step.trouble
        elif step.rendered is not None:
            self.rendered[step.rendered.strip] = step.rendered
        elif step.compared is not None:
            self.compared[step.job.strip.id] = step.compared
        self._show_sentence()
        self._show_buttons()

    def _take_end(self) -> None:
        self._show_sentence()
        self._show_buttons()
        self._look()

    def _take_written(self, of: Written) -> None:
        some, more = of.by_hand[:BY_HAND], of.by_hand[BY_HAND:]
        rest = f"; and {count(len(more), 'more line')}" if more else ""
        hand = f" Left to do by hand: {'; '.join(some)}{rest}." if some else ""
        self.news.setText(f"Written to {of.path}.{hand}")
        if more:
            box = Message(self)
            box.setText(f"Left to do by hand in {Path(of.path).name}:")
            box.setInformativeText("\n".join(f"• {line}" for line in of.by_hand[:SHOWN]))
            box.setDetailedText("\n".join(of.by_hand))
            box.open()
        written.tell(Path(of.path))
        self.written = Path(of.path)
        self.compared.pop(MIX.id, None)
        self.table.drop_mix()

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
            load = f" With all of it the worst moment takes {load_words(of, of.after.highest)}."
        advice = f"The original is never changed; files are written beside it.{load}"
        if self._has_no_plan() and not total and not refused:
            headline, advice = NO_PLAN, "Balance finds one, or makes it by hand. Stems can be rendered without one."
        mix = self.compared.get(MIX.id)
        if mix is not None:
            headline, advice = told.mix_headline(mix.verdict), f"{headline} {advice}"
        proofs = [*(each.proof for each in self.rendered.values()), *self.compared.values()]
        odd = [proof for proof in proofs if proof is not None and proof.verdict not in ("same", "rounded")]
        jobs, checks = self._todo()
        if running:
            advice = f"{told.left_words(self.work.seconds_left, self.work.is_paused)} {advice}"
        else:
            takes = {each: self.takes[each] for each in _ids(jobs, checks)}
            advice = f"{told.todo_words(TimeLeft(takes, {}).seconds(), bool(jobs))} {advice}".strip()
        left, all_of = len(jobs) + len(checks), total + len(self.prepared.checks)
        tone = "overload" if self.ended else "tight" if odd else "fits" if all_of and not left else "quiet"
        self.sentence.say(headline, advice, tone, "" if running else self._button(bool(jobs), bool(checks)))
        words = (
            "paused" if self.work.is_paused else "rendering" if running
            else "done" if all_of and not left else f"{left} to do" if all_of
            else "to write" if self.prepared.is_written else "no plan" if self._has_no_plan() and not self.stems
            else "nothing"
        )  # fmt: skip
        colour = "brass" if running else "brick" if self.ended else "teal" if all_of and not left else "quiet"
        self._tell_state(words, colour)

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
        self.pause.setVisible(running)
        self.pause.setText("Go on" if self.work.is_paused else "Pause")
        todo = _ids(*self._todo())
        self.only.setVisible(not running and len(todo) > 1 and self.table.chosen() in todo)
        self.ask_stems.setVisible(not running)
        self.kind.setEnabled(not running)
        self.ask_stems.setEnabled(self._desk.document is not None)
        proof = self._proof()
        sides = proof is not None and bool(proof.sides)
        for part in (self.hear_before, self.hear_after):
            part.setVisible(sides)
        self.listen.setVisible(bool(self.rendered) and not sides)
        self.show_folder.setVisible(bool(self.rendered))
        self.listen.setEnabled(chosen)
        self.hear_left.setVisible(proof is not None and bool(proof.residual))
        self.write.setVisible(self._can_write() and not running and self.sentence.button.text() != self.write.text())

    def _show_back(self) -> None:
        """The restore list, ticked off here as in its dialog."""
        document = self._desk.document
        assert document is not None
        lines = restore_list(document.session, document.plan)
        self.back.show_lines(lines, document.plan.put_back)
        for part in (self.back, self.back_title):
            part.setVisible(bool(lines))


def _ids(jobs: Sequence[Job], checks: Sequence[Check]) -> list[str]:
    """The ids of what is to be done, as its rows have them."""
    return [*(job.strip.id for job in jobs), *(check.bus.id for check in checks)]
