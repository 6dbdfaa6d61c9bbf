"""The fullest block that was seen, or those of a dropout: a lane for each thread, when it had a core, and who computed
there."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QEvent, QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QColor, QHelpEvent, QIcon, QPainter, QPaintEvent, QPen, QPixmap
from PySide6.QtWidgets import QToolTip, QWidget

from ...core.told.watching import owner_words
from ...core.units import count, microseconds, milliseconds, percent
from ...core.watching.blocks import Lane
from ..look.picture import elided
from ..look.theme import theme
from ..look.walking import Piece, WalkedPicture
from .watching import Snapshot, Worst

MOST_LANES = 24


def owner_colour(owner: int) -> QColor:
    """The colour of a plugin in the pictures of a host: the quiet hues in turn; what is not a plugin stands back."""
    hues = [hue for name, hue in theme.colours.families.items() if name not in ("analyser", "other")]
    return QColor(hues[(owner - 1) % len(hues)]) if owner > 0 else theme.colour("before")


def swatch(owner: int | None) -> QIcon:
    """A small field of an owner's colour, for the table; empty for none."""
    field = QPixmap(theme.px(10), theme.px(10))
    field.fill(Qt.GlobalColor.transparent if owner is None else owner_colour(owner))
    return QIcon(field)


class LanesView(WalkedPicture):
    """One block of a watched host. Between looks a stretch is drawn as the nearest look says."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__("The fullest block seen", parent)
        self._of: Snapshot | None = None
        self._worst: Worst | None = None

    def show_block(self, of: Snapshot | None, other: Worst | None = None) -> None:
        """Shows the fullest block of what was seen, or the `other` one of it."""
        before = self._what()
        self._of, self._worst = of, other or (of.worst if of is not None else None)
        # The fullest block stays the same for many seconds.
        if self._what() == before:
            return
        if self._worst is not None:
            threads = min(len(self._worst.lanes), MOST_LANES)
            self.describe(
                f"{self._worst.called} took {percent(self._worst.load)} of {milliseconds(self._worst.length / 1e9)}, "
                f"on {count(threads, 'thread')}."
            )
        self.changed()

    def _what(self) -> tuple[object, ...]:
        """What is shown, by what tells it from anything else."""
        names = self._of.names if self._of is not None else {}
        return (*self._worst._replace(lanes=()), len(self._worst.lanes), id(names)) if self._worst is not None else ()

    def figures(self) -> list[list[str]]:
        if self._of is None or self._worst is None:
            return []
        rows = [["thread", "from (µs)", "to (µs)", "ended since"]]
        for lane in self._worst.lanes:
            for begin, end, gave_way, read in zip(lane.begin, lane.end, lane.gave_way, lane.read, strict=True):
                times = ((int(t) - self._worst.begin) / 1e3 for t in (begin, end))
                why = "it gave way" if gave_way else "memory was read from the disk" if read else ""
                rows.append([self._name(lane), *(f"{t:.1f}" for t in times), why])
        return rows

    def sizeHint(self) -> QSize:
        return QSize(600, theme.px(210))

    def minimumSizeHint(self) -> QSize:
        return QSize(theme.px(260), theme.px(120))

    def _name(self, lane: Lane) -> str:
        assert self._of is not None
        return self._of.seen.recording.threads[lane.thread].name

    def _words(self, owner: int) -> str:
        assert self._of is not None
        return owner_words(owner, self._of.seen.recording.files, self._of.names)

    def _lanes(self) -> QRectF:
        return QRectF(theme.px(92), theme.px(24), self.width() - theme.px(104), self.height() - theme.px(46))

    def _scale(self) -> float:
        """Pixels for each nanosecond."""
        assert self._worst is not None
        return self._lanes().width() / (self._worst.length * max(1.06, 1.03 * self._worst.load))

    def _row(self, place: int, count: int) -> QRectF:
        area = self._lanes()
        height = min(area.height() / max(count, 1), theme.px(30))
        return QRectF(area.left(), area.top() + place * height + 1, area.width(), height - 2)

    def paintEvent(self, event: QPaintEvent) -> None:
        if self._of is None or self._worst is None:
            return
        painter, worst, area = self.pen(), self._worst, self._lanes()
        shown = worst.lanes[:MOST_LANES]
        due = area.left() + worst.length * self._scale()
        bottom = self._row(len(shown) - 1, len(shown)).bottom() if shown else area.top()
        for place, lane in enumerate(shown):
            self._paint_lane(painter, lane, self._row(place, len(shown)), due)
        painter.setPen(QPen(theme.colour("text"), 2))
        painter.drawLine(QPointF(due, area.top() - 3), QPointF(due, bottom + 3))
        painter.setFont(theme.font(11, True))
        label = f"deadline {milliseconds(worst.length / 1e9)}"
        width = painter.fontMetrics().horizontalAdvance(label)
        painter.drawText(QPointF(min(due - width / 2, self.width() - width - 4), theme.px(14)), label)
        painter.setFont(theme.font(11))
        painter.setPen(theme.colour("quiet"))
        words = f"{worst.called}: {percent(worst.load)}"
        if len(worst.lanes) > len(shown):
            words += f"; {len(worst.lanes) - len(shown)} more threads ran in it"
        line = QRectF(theme.px(8), bottom + theme.px(4), self.width() - theme.px(16), theme.px(16))
        painter.drawText(line, Qt.AlignmentFlag.AlignLeft, words)
        self.paint_walked(painter)

    def pieces(self) -> list[Piece]:
        if self._worst is None:
            return []
        shown = self._worst.lanes[:MOST_LANES]
        return [
            Piece(place, self._box(begin, end, self._row(place, len(shown))))
            for place, lane in enumerate(shown) for begin, end, _ in self._pieces(lane)
        ]  # fmt: skip

    def words_of(self, piece: int) -> str:
        return self._told_at(self.pieces()[piece].place.center())

    def _box(self, begin: int, end: int, row: QRectF) -> QRectF:
        """Where a piece of a lane lies."""
        assert self._worst is not None
        left, right = (row.left() + (t - self._worst.begin) * self._scale() for t in (begin, end))
        return QRectF(left, row.top(), max(right - left, 1.0), row.height())

    def _paint_lane(self, painter: QPainter, lane: Lane, row: QRectF, due: float) -> None:
        assert self._worst is not None
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("ground"))
        painter.drawRoundedRect(row, 2, 2)
        painter.setBrush(theme.hatch(theme.colour("brick"), 7))
        painter.drawRect(QRectF(due, row.top(), max(row.right() - due, 0), row.height()))
        for begin, end, owner in self._pieces(lane):
            box = self._box(begin, end, row)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(owner_colour(owner) if owner is not None else theme.colour("line"))
            painter.drawRect(box)
            if owner is not None and box.width() > theme.px(34) and row.height() >= theme.px(12):
                painter.setPen(QColor("#14110a") if owner > 0 else theme.colour("text"))
                name = elided(painter, self._words(owner), box.width() - theme.px(6))
                painter.drawText(box.adjusted(theme.px(4), 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, name)
        for begin, end in self._readings(lane):
            # From one stretch to the next, since the thread would have gone on.
            box = self._box(begin, end, row)
            painter.setPen(QPen(theme.colour("brick"), 1, Qt.PenStyle.DotLine))
            painter.drawLine(QPointF(box.left(), box.center().y()), QPointF(box.right(), box.center().y()))
        painter.setPen(QPen(theme.colour("brick"), 2))
        for time in lane.end[lane.gave_way]:
            x = row.left() + (int(time) - self._worst.begin) * self._scale()
            painter.drawLine(QPointF(x, row.top()), QPointF(x, row.bottom()))
        painter.setPen(theme.colour("quiet"))
        words = QRectF(0, row.top(), row.left() - theme.px(7), max(row.height(), theme.px(12)))
        align = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        painter.drawText(words, align, elided(painter, self._name(lane), words.width() - theme.px(4)))

    def _pieces(self, lane: Lane) -> list[tuple[int, int, int | None]]:
        """What is drawn of a lane: from when to when, and whose code; None where nobody looked."""
        found: list[tuple[int, int, int | None]] = []
        for begin, end in zip(lane.begin.tolist(), lane.end.tolist(), strict=True):
            inside = (lane.look_time >= begin) & (lane.look_time < end)
            looks, owners = lane.look_time[inside], lane.look_owner[inside]
            if not len(looks):
                found.append((begin, end, None))
                continue
            borders = [begin, *((looks[1:] + looks[:-1]) // 2).tolist(), end]
            for k, owner in enumerate(owners.tolist()):
                if found and found[-1][1] == borders[k] and found[-1][2] == owner:
                    found[-1] = (found[-1][0], borders[k + 1], owner)
                else:
                    found.append((borders[k], borders[k + 1], owner))
        return found

    @staticmethod
    def _readings(lane: Lane) -> list[tuple[int, int]]:
        """When the thread waited until memory was read from the disk."""
        at = np.flatnonzero(lane.read[:-1])
        return list(zip(lane.end[at].tolist(), lane.begin[at + 1].tolist(), strict=True))

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ToolTip and isinstance(event, QHelpEvent):
            text = self._told_at(QPointF(event.pos()))
            if text:
                QToolTip.showText(event.globalPos(), text, self)
            else:
                QToolTip.hideText()
            return True
        return super().event(event)

    def _told_at(self, point: QPointF) -> str:
        """What is to be said of what lies under the pointer."""
        if self._worst is None:
            return ""
        shown = self._worst.lanes[:MOST_LANES]
        for place, lane in enumerate(shown):
            row = self._row(place, len(shown))
            if not row.contains(point):
                continue
            time = self._worst.begin + (point.x() - row.left()) / self._scale()
            at = np.flatnonzero((lane.begin <= time) & (lane.end > time))
            if not len(at):
                reads = any(begin <= time < end for begin, end in self._readings(lane))
                return f"{self._name(lane)}: waits{' for memory that lies on the disk' if reads else ''}"
            took = int(lane.end[at[0]] - lane.begin[at[0]]) / 1e9
            owner = next((o for b, e, o in self._pieces(lane) if b <= time < e), None)
            who = f", here {self._words(owner)} as far as the looks tell" if owner is not None else ""
            return f"{self._name(lane)}: had its core for {microseconds(took)}{who}"
        return ""
