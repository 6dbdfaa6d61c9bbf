"""How many more of a track, a bus or a plugin fit at each buffer size: computed off the window's thread, and drawn."""

from __future__ import annotations

import logging
import threading
from collections.abc import Sequence

from PySide6.QtCore import QRectF, QSize, Qt, Signal
from PySide6.QtGui import QPaintEvent
from PySide6.QtWidgets import QCheckBox, QDialogButtonBox, QPushButton, QVBoxLayout, QWidget

from ...core.decisions.decision import Plan
from ...core.load.how_many import Copies, Fit, how_many, of_plugin, of_strips, unmeasured
from ...core.load.memory import room_for
from ...core.load.rehearsal import Prediction, Rehearsal
from ...core.session.plugins import PluginUse
from ...core.session.session import Session, SessionError
from ...core.survey import Survey
from ...core.told.how_many import how_often, not_known, sentence
from ...core.told.memory import room_words
from ...core.told.rehearsal import missed_words, tried_words
from ...core.units import milliseconds, percent, told_by
from ...store.this_computer import this_computer
from ..background.rehearsing import Rehearsing
from ..background.to_window_thread import ToWindowThread
from ..look.panels import Dialog
from ..look.picture import Picture
from ..look.theme import theme
from ..look.words import Words

log = logging.getLogger(__name__)

TRY = "Try it in a rehearsal"
SECONDS = 10.0


class FitPicture(Picture):
    """A bar for each buffer size: how many more fit."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__("How many more fit at each buffer size", parent)
        self._fits: Sequence[Fit] = ()
        self._rate, self._buffer = 48000, 0

    def show_fits(self, fits: Sequence[Fit], rate: int, buffer: int) -> None:
        self._fits, self._rate, self._buffer = fits, rate, buffer
        self.describe("; ".join(f"{fit.buffer} samples: {how_often(fit)}" for fit in fits))
        self.update()

    def figures(self) -> list[list[str]]:
        rows = [["buffer (samples)", "more fit", "load now", "load with them", "load with one more"]]
        for fit in self._fits:
            beyond = "" if fit.beyond is None else f"{fit.beyond:.4f}"
            rows.append([str(fit.buffer), how_often(fit), f"{fit.now:.4f}", f"{fit.load:.4f}", beyond])
        return rows

    def sizeHint(self) -> QSize:
        return QSize(theme.px(560), theme.px(230))

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = self.pen()
        if not self._fits:
            painter.end()
            return
        most = max(max(fit.more for fit in self._fits), 1)
        line, top, bottom = theme.px(18), theme.px(18), self.height() - theme.px(54)
        width = self.width() / len(self._fits)
        for k, fit in enumerate(self._fits):
            height = (bottom - top) * fit.more / most
            bar = QRectF(k * width + width * 0.2, bottom - height, width * 0.6, height)
            over = fit.now > 1 or fit.more == 0
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(theme.colour("brass" if fit.buffer == self._buffer else "teal"))
            painter.drawRect(bar)
            painter.setPen(theme.colour("brick" if over else "text"))
            centre = Qt.AlignmentFlag.AlignHCenter
            painter.drawText(QRectF(k * width, bar.top() - line, width, line), centre, how_often(fit))
            painter.setPen(theme.colour("text"))
            painter.setFont(theme.font(12, fit.buffer == self._buffer))
            painter.drawText(QRectF(k * width, bottom + theme.px(2), width, line), centre, str(fit.buffer))
            painter.setFont(theme.font(11))
            painter.setPen(theme.colour("quiet"))
            time = milliseconds(fit.buffer / self._rate)
            painter.drawText(QRectF(k * width, bottom + line, width, line), centre, time)
            load = percent(fit.load) if fit.more else f"now {percent(fit.now)}"
            painter.drawText(QRectF(k * width, bottom + 2 * line, width, line), centre, load)
        painter.setPen(theme.colour("line"))
        painter.drawLine(0, bottom, self.width(), bottom)
        painter.end()


class HowManyDialog(Dialog):
    """Asks for strips, or for one plugin; `found` brings what was computed, `rehearsed` what came of trying it."""

    found = Signal(list)
    rehearsed = Signal(str)

    def __init__(self, of: Survey, strips: Sequence[str], use: PluginUse | None, parent: QWidget | None = None) -> None:
        super().__init__("How many more fit", parent)
        self._of, self._strips, self._use = of, list(strips), use
        self.fits: list[Fit] = []
        self._to_window, self._stopped = ToWindowThread(self), False
        self._tried = 0  # with how many more it is rehearsed
        self._asked = 0
        self.words, self.mind, self.picture = Words(), Words(), FitPicture()
        self.words.setWordWrap(True)
        self.words.setProperty("role", "headline")
        self.mind.setWordWrap(True)
        self.mind.setProperty("role", "quiet")
        self.with_plan = QCheckBox("With the plan")
        self.with_plan.setChecked(bool(of.plan.decisions))
        self.with_plan.setVisible(bool(of.plan.decisions))
        self.tried = Words()
        self.tried.setWordWrap(True)
        self.tried.setVisible(False)
        self.rehearsing = Rehearsing(self)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Close)
        self.attempt = QPushButton(TRY)
        self.attempt.setEnabled(False)
        buttons.addButton(self.attempt, QDialogButtonBox.ButtonRole.ActionRole)
        buttons.rejected.connect(self.reject)
        column = QVBoxLayout(self)
        for part in (self.words, self.picture, self.mind, self.tried, self.with_plan, buttons):
            column.addWidget(part, 1 if part is self.picture else 0)
        self.resize(theme.px(680), theme.px(400))
        self.with_plan.toggled.connect(self._start)
        self.attempt.clicked.connect(self._try)
        self.rehearsing.loading.connect(lambda done, total, name: self._tell(f"Loading {done} of {total}: {name}"))
        self.rehearsing.playing.connect(self._tell_playing)
        self.rehearsing.failed.connect(self._through)
        self.rehearsing.ended.connect(self._take_rehearsal)
        self.finished.connect(self._stop)
        self._start()

    @property
    def name(self) -> str:
        """What is to be copied."""
        if self._use is not None:
            return self._use.label
        names = [self._of.session.strip(each).name for each in self._strips]
        return " and ".join(names) if len(names) < 4 else f"these {len(names)} tracks"

    def _session(self) -> Session:
        """The session with its plan carried out, or without it."""
        return self._of.planned.session if self.with_plan.isChecked() else self._of.session

    def _copies(self, session: Session) -> Copies:
        """Makes the session with so many more."""
        return of_plugin(session, self._use.id) if self._use is not None else of_strips(session, self._strips)

    def _here(self) -> Fit | None:
        """What fits at the session's own buffer size, once that is known."""
        return next((fit for fit in self.fits if fit.buffer == self._of.buffer), None)

    def _try(self) -> None:
        """Rehearses the session with as many more as fit; pressed again, ends that."""
        here = self._here()
        if self.rehearsing.is_running:
            self.rehearsing.cancel()
        elif here is not None:
            self._tell("The plugins are being loaded…")
            self.attempt.setText("Stop trying")
            self._tried = here.more
            made = self._copies(self._session())(here.more)
            cores = min(this_computer().cores, self._of.machine.cores)
            self.rehearsing.start_with(made, Plan(), self._of.planned.cards, self._of.buffer, None, cores, SECONDS)

    def _tell(self, words: str) -> None:
        self.tried.setVisible(True)
        self.tried.setText(words)

    def _tell_playing(self, done: int, total: int, missed: int, _: float) -> None:
        self._tell(f"Playing, {percent(done / max(total, 1))} done: {missed_words(missed)}.")

    def _through(self, words: str) -> None:
        self._tell(words)
        self.attempt.setText(TRY)
        self._show_attempt()
        self.rehearsed.emit(words)

    def _take_rehearsal(self, of: Rehearsal, predicted: Prediction, played: Survey) -> None:
        session = played.planned.session
        self._through(tried_words(self._tried, self._of.machine.cores, session, predicted, of))

    def _start(self) -> None:
        self._asked += 1
        self.fits = []
        self._show_attempt()
        self.words.setText("Working out how many more fit…")
        threading.Thread(target=self._work, args=(self._asked, self._session()), daemon=True).start()

    def _show_attempt(self) -> None:
        """It can be tried once it is known how many fit, and be stopped at any time."""
        self.attempt.setEnabled(self._here() is not None or self.rehearsing.is_running)

    def _work(self, asked: int, session: Session) -> None:
        of = self._of
        cards = of.planned.cards
        try:
            copies = self._copies(session)
            missing = unmeasured(session, cards, copies)
            fits = how_many(
                session, cards, of.machine, copies, of.session.limit, sorted(of.cases),
                cancelled=lambda: self._stopped or asked != self._asked,
            )  # fmt: skip
            room = room_for(copies, cards, of.machine.memory)
            self._to_window.post(self._take, asked, fits, missing, room)
        except SessionError as error:
            self._to_window.post(self.words.setText, f"That cannot be computed: {error}.")
        except Exception as error:
            log.exception("computing how many fit failed")
            said = f"That could not be computed: {told_by(error)}. Nothing was changed."
            self._to_window.post(self.words.setText, said)

    def _take(self, asked: int, fits: list[Fit], missing: list[str], room: int | None) -> None:
        if asked != self._asked:
            return
        self.fits = fits
        self._show_attempt()
        here = self._here()
        said = sentence(fits, self.name, self._of.session.limit, self._of.buffer)
        self.words.setText(f"{said} {room_words(room, here.more if here is not None else 0)}".strip())
        self.mind.setText(not_known(missing))
        self.picture.show_fits(fits, self._of.session.rate, self._of.buffer)
        self.found.emit(fits)

    def _stop(self) -> None:
        self._stopped = True
        self._to_window.close()
        self.rehearsing.close()
