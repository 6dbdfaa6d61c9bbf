"""A pared-down copy: which tracks stay with what they need, of which stretch of the piece, and what load is left."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialogButtonBox,
    QFileDialog,
    QFormLayout,
    QVBoxLayout,
    QWidget,
)

from ...beside.client import Beside
from ...core.decisions.after_edit import after_edit
from ...core.session.pared import Stretch, kept_with, pared
from ...core.session.session import Session, SessionError
from ...core.units import as_file_name, as_sentence, clock, count, percent
from ...deliver import pared as copies
from ...demo.audio import made_aside
from ...store.session_file import SUFFIX
from ..background.desk import Desk
from ..look.latest import Latest
from ..look.notice import written
from ..look.panels import Dialog
from ..look.theme import theme
from ..look.words import Words


class ParedDialog(Dialog):
    """Shows what a copy with some strips would be, and writes it."""

    def __init__(self, desk: Desk, ids: Sequence[str], parent: QWidget | None = None) -> None:
        super().__init__("A pared-down copy", parent)
        assert desk.document is not None
        self._desk, self._ids, self._session = desk, tuple(ids), desk.document.session
        self.stretch, self.off = QComboBox(), QCheckBox("without plugins that are switched off")
        self.kept, self.words = Words(), Words("Working out its load…")
        for label in (self.kept, self.words):
            label.setWordWrap(True)
            label.setMinimumWidth(theme.px(420))
        self._fill_stretches()
        self.kept.setText(self._kept_words())
        form = QFormLayout()
        form.addRow("Of the piece", self.stretch)
        form.addRow("", self.off)
        kinds = QDialogButtonBox.StandardButton
        self.buttons = QDialogButtonBox(kinds.Save | kinds.Cancel)
        self.save = self.buttons.button(kinds.Save)
        self.save.setText("Write it…")
        self.buttons.accepted.connect(self.ask_where)
        self.buttons.rejected.connect(self.reject)
        column = QVBoxLayout(self)
        column.addWidget(self.kept)
        column.addLayout(form)
        column.addWidget(self.words)
        column.addWidget(self.buttons)
        self._latest = Latest(self, self._ask_load)
        self.stretch.currentIndexChanged.connect(self._latest.soon)
        self.off.toggled.connect(self._latest.soon)
        self._ask_load()

    def _fill_stretches(self) -> None:
        """The whole piece, its sections, and the stretch that is drawn on Balance."""
        self.stretch.addItem("all of it", None)
        for section, begin, end in self._session.section_spans():
            if end > begin:
                self.stretch.addItem(f"{section.name}, {clock(begin)} to {clock(end)}", (begin, end))
        drawn = self._desk.stretch
        if drawn is not None:
            self.stretch.addItem(f"the stretch drawn on Balance, {clock(drawn[0])} to {clock(drawn[1])}", drawn)

    def _kept_words(self) -> str:
        """Who stays: what was chosen, and what that needs."""
        kept = kept_with(self._session, self._ids)
        names = [strip.name for strip in self._session.strips if strip.id in kept and strip.id not in self._ids]
        chosen = [self._session.strip(each).name for each in self._ids]
        shown = ", ".join(chosen[:6]) + (f" and {len(chosen) - 6} more" if len(chosen) > 6 else "")
        return f"It keeps {shown}, and what is needed for that: {', '.join(names)}." if names else f"It keeps {shown}."

    def chosen(self) -> tuple[Stretch | None, bool]:
        """The stretch that is chosen, and whether what is off goes."""
        stretch = self.stretch.currentData()
        return (float(stretch[0]), float(stretch[1])) if stretch is not None else None, self.off.isChecked()

    def _ask_load(self) -> None:
        document, cards, (stretch, off) = self._desk.document, self._desk.cards, self.chosen()
        if document is None:
            return

        def work(beside: Beside) -> str:
            try:
                made = pared(document.session, self._ids, stretch, off)
                plan = after_edit(document.plan, document.session, made)
                found = beside.survey(made, plan, cards, document.machine, document.buffer)[0].after
            except SessionError as error:
                return as_sentence(str(error))
            return self._load_words(made, float(found.load.max()), document.buffer)

        show = self._latest.only(self.words.setText)
        self._desk.ask(lambda beside, *_: work(beside), show, "the load of the copy could not be computed")

    @staticmethod
    def _load_words(made: Session, load: float, buffer: int) -> str:
        plugins = sum(len(strip.uses()) for strip in made.strips)
        rows = f"{count(len(made.strips), 'row')}, {count(plugins, 'plugin')}"
        return f"{rows}; {percent(load)} at worst at {buffer} samples."

    def ask_where(self) -> None:
        """Asks where to write it; the kind of file is chosen by its name."""
        kinds = f"Exchange files (*{copies.SUFFIX});;Sessions (*{SUFFIX})"
        proposed = str(Path.home() / f"{as_file_name(self._session.name)}, pared down{copies.SUFFIX}")
        name, kind = QFileDialog.getSaveFileName(self, "Write the copy", proposed, kinds)
        if name:
            path = Path(name)
            suffix = SUFFIX if SUFFIX in kind else copies.SUFFIX
            self.write(path if path.suffix in (SUFFIX, copies.SUFFIX) else path.with_name(path.name + suffix))

    def write(self, path: Path) -> None:
        """Writes the copy, off the window's thread, and closes."""
        saved, (stretch, off), ids = self._desk.saved(), self.chosen(), self._ids
        if saved is None:
            return

        def work() -> copies.Pared:
            made_aside(saved.session.source)
            return copies.copy(path, saved, ids, stretch, off)

        self._desk.jobs.run(work, lambda made: written.tell(path, made.words()), "the copy was not written")
        self.accept()
