"""How a chain and a track's clips are drawn in their cells, and which box or second lies under a point."""

from __future__ import annotations

from collections.abc import Callable, Container, Hashable, Sequence
from typing import NamedTuple

from PySide6.QtCore import QPointF, QRect, QRectF, QSize, Qt
from PySide6.QtGui import QFontMetricsF, QPainter, QPen, QPixmap
from PySide6.QtWidgets import QStyle, QStyledItemDelegate, QStyleOptionViewItem, QWidget

from ...core.session.plugins import PluginUse
from ...core.session.strips import Strip
from ...core.session.time_edits import Placed
from ..look.picture import elided
from ..look.theme import theme
from .strip_model import Index, StripModel

GAP, WIDEST, NARROWEST = 3, 104, 16


class Box(NamedTuple):
    """A plugin in a cell: where it is painted."""

    use: PluginUse
    area: QRectF


def boxes(strip: Strip, cell: QRect) -> list[Box]:
    """The plugins of a strip side by side in a cell: as wide as their names, or no wider than some and then narrower
    where there is no room for that."""
    uses = strip.uses()
    if not uses:
        return []
    metrics = QFontMetricsF(theme.font(11))
    wanted = [metrics.horizontalAdvance(use.label) + theme.px(12) for use in uses]
    room = cell.width() - theme.px(4) - GAP * (len(uses) - 1)
    if sum(wanted) > room:
        wanted = [min(width, theme.px(WIDEST)) for width in wanted]
    share = min(1.0, room / max(sum(wanted), 1))
    left, found = float(cell.left() + theme.px(2)), []
    for use, width in zip(uses, wanted, strict=True):
        width = max(width * share, theme.px(3))
        found.append(Box(use, QRectF(left, cell.top() + theme.px(3), width, cell.height() - theme.px(6))))
        left += width + GAP
    return found


def use_at(strip: Strip, cell: QRect, at: QPointF) -> str | None:
    """The id of the plugin under a point; None if none is."""
    return next((box.use.id for box in boxes(strip, cell) if box.area.contains(at)), None)


def place_at(strip: Strip, cell: QRect, x: float) -> int:
    """In front of which insert a plugin goes that is dropped at x."""
    places = [box.area.center().x() for box in boxes(strip, cell) if box.use is not strip.instrument]
    return sum(1 for middle in places if middle < x)


def lane(cell: QRect) -> QRect:
    """What of a cell stands for the piece, from its beginning to its end."""
    return cell.adjusted(theme.px(4), 0, -theme.px(4), 0)


def second_at(cell: QRect, x: float, length: float) -> float:
    """The second of the piece at x in a track's lane."""
    inner = lane(cell)
    share = (x - inner.left()) / max(inner.width(), 1)
    return min(max(share, 0.0), 1.0) * length


def x_at(cell: QRect, second: float, length: float) -> float:
    """Where a second of the piece lies in a track's lane."""
    inner = lane(cell)
    return inner.left() + inner.width() * second / max(length, 1e-9)


class KeptPictures:
    """Cells as they were painted last. What a strip's cell shows follows from the strip and from what `draw` is given
    beside it, so it is painted once for all the times that the tree is painted."""

    # More than there are rows on a large screen; each takes some 40 kB.
    MOST = 100

    def __init__(self) -> None:
        self._kept: dict[str, tuple[Strip, Hashable, QPixmap]] = {}

    def draw(
        self, painter: QPainter, cell: QRect, strip: Strip, beside: Hashable, paint: Callable[[QPainter, QRect], object]
    ) -> None:
        """Draws a strip's cell: by `paint` into a picture, if none shows the same."""
        ratio = painter.device().devicePixelRatioF()
        shown = (cell.width(), cell.height(), ratio, theme.colours.name, theme.scale, beside)
        of, before, picture = self._kept.pop(strip.id, (None, None, QPixmap()))
        if of != strip or before != shown:
            picture = QPixmap(cell.size() * ratio)
            picture.setDevicePixelRatio(ratio)
            picture.fill(Qt.GlobalColor.transparent)
            own = QPainter(picture)
            own.setRenderHints(painter.renderHints())
            paint(own, QRect(0, 0, cell.width(), cell.height()))
            own.end()
        self._kept[strip.id] = strip, shown, picture
        if len(self._kept) > self.MOST:
            del self._kept[next(iter(self._kept))]
        painter.drawPixmap(cell.topLeft(), picture)


class RowDelegate(QStyledItemDelegate):
    """What all columns share: the height of a row, and how one that is chosen looks."""

    def __init__(self, model: StripModel, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.model = model

    def sizeHint(self, option: QStyleOptionViewItem, index: Index) -> QSize:
        return QSize(theme.px(120), theme.px(26))

    def ground(self, painter: QPainter, option: QStyleOptionViewItem) -> QRect:
        """Paints what lies under a cell; its area."""
        cell: QRect = option.rect  # type: ignore[attr-defined]
        if option.state & QStyle.StateFlag.State_Selected:  # type: ignore[attr-defined]
            painter.fillRect(cell.adjusted(0, 1, 0, -1), theme.colour("raised"))
        return cell

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: Index) -> None:
        painter.save()
        self.write(painter, self.ground(painter, option), str(index.data()), self.model.strip(index).enabled)
        painter.restore()

    def write(self, painter: QPainter, cell: QRect, text: str, is_on: bool, bold: bool = False) -> None:
        painter.setFont(theme.font(12, bold))
        painter.setPen(theme.colour("text" if is_on else "quiet"))
        inner = cell.adjusted(theme.px(4), 0, -theme.px(6), 0)
        painter.drawText(inner, Qt.AlignmentFlag.AlignVCenter, elided(painter, text, inner.width()))


class NameDelegate(RowDelegate):
    """The name, and in a word what else is to be known of a track."""

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: Index) -> None:
        painter.save()
        cell, strip = self.ground(painter, option), self.model.strip(index)
        word = "armed" if strip.armed else "" if strip.enabled else "off"
        word = word or ("return" if strip.kind == "return" else "")
        if option.state & QStyle.StateFlag.State_HasFocus:  # type: ignore[attr-defined]
            painter.setPen(QPen(theme.colour("brass"), 1))
            painter.drawLine(cell.topLeft(), cell.bottomLeft())
        if word:
            painter.setFont(theme.font(11))
            painter.setPen(theme.colour("text" if strip.armed else "quiet"))
            painter.drawText(cell.adjusted(0, 0, -theme.px(6), 0),
                             Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, word)  # fmt: skip
            cell = cell.adjusted(0, 0, -int(QFontMetricsF(theme.font(11)).horizontalAdvance(word)) - theme.px(8), 0)
        self.write(painter, cell, strip.name, strip.enabled, strip.kind != "track")
        painter.restore()


class ChainDelegate(RowDelegate):
    """Named boxes in their families' colours. `chosen` holds the ids of those that are; `drop` is where one would go:
    strip id and place."""

    def __init__(self, model: StripModel, chosen: Callable[[], Container[str]], parent: QWidget | None = None) -> None:
        super().__init__(model, parent)
        self._chosen = chosen
        self._kept = KeptPictures()
        self.drop: tuple[str, int] | None = None

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: Index) -> None:
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        cell, strip = self.ground(painter, option), self.model.strip(index)
        among = self._chosen()
        chosen = tuple(use.id for use in strip.uses() if use.id in among)
        self._kept.draw(painter, cell, strip, chosen, lambda own, area: self._paint_chain(own, area, strip, chosen))
        if self.drop is not None and self.drop[0] == strip.id:
            self._paint_drop(painter, cell, boxes(strip, cell), strip, self.drop[1])
        painter.restore()

    def _paint_chain(self, painter: QPainter, cell: QRect, strip: Strip, chosen: Container[str]) -> None:
        found = boxes(strip, cell)
        painter.setFont(theme.font(11))
        for box in found:
            self._paint_box(painter, box, strip, box.use.id in chosen)
        if 0 < strip.post_fader <= len(strip.inserts):
            self._paint_fader(painter, found, strip)

    def _paint_box(self, painter: QPainter, box: Box, strip: Strip, is_chosen: bool) -> None:
        colour = theme.family(box.use.family)
        is_on = box.use.enabled and strip.enabled
        painter.setPen(QPen(theme.colour("brass" if is_chosen else "line"), 2 if is_chosen else 1))
        painter.setBrush(theme.family_brush(box.use.family) if is_on else theme.hatch(colour, 5))
        painter.drawRoundedRect(box.area.adjusted(0.5, 0.5, -0.5, -0.5), 3, 3)
        if box.area.width() < theme.px(NARROWEST):
            return
        text = theme.colour("text")
        if is_on:
            text = theme.colour("ground") if theme.colours.name == "night" else theme.colour("text")
        painter.setPen(text)
        inner = box.area.adjusted(theme.px(4), 0, -theme.px(3), 0)
        shown = elided(painter, box.use.label, inner.width())
        painter.drawText(inner, Qt.AlignmentFlag.AlignVCenter, shown if len(shown) > 1 else box.use.label[:1])

    def _paint_fader(self, painter: QPainter, found: list[Box], strip: Strip) -> None:
        """A line where the fader is, if plugins come behind it."""
        after = found[len(found) - strip.post_fader].area
        painter.setPen(QPen(theme.colour("text"), 2))
        painter.drawLine(QPointF(after.left() - 2, after.top() - 2), QPointF(after.left() - 2, after.bottom() + 2))

    def _paint_drop(self, painter: QPainter, cell: QRect, found: list[Box], strip: Strip, place: int) -> None:
        inserts = [box for box in found if box.use is not strip.instrument]
        if place < len(inserts):
            x = inserts[place].area.left() - 2
        else:
            x = found[-1].area.right() + 2 if found else cell.left() + theme.px(4)
        painter.setPen(QPen(theme.colour("brass"), 3))
        painter.drawLine(QPointF(x, cell.top() + 2), QPointF(x, cell.bottom() - 2))


class LaneDelegate(RowDelegate):
    """When a track sounds, along the piece. `drawn` is what the mouse draws just now: strip id, from, to, whether it
    clears; `moved` by how much it moves the `chosen` clips (seconds)."""

    def __init__(
        self, model: StripModel, chosen: Callable[[], Sequence[Placed]], parent: QWidget | None = None
    ) -> None:
        super().__init__(model, parent)
        self._chosen, self.moved = chosen, 0.0
        self.drawn: tuple[str, float, float, bool] | None = None

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: Index) -> None:
        painter.save()
        cell, strip = self.ground(painter, option), self.model.strip(index)
        inner = QRectF(lane(cell).adjusted(0, theme.px(5), 0, -theme.px(5)))
        painter.fillRect(inner, theme.colour("ground"))

        def stretch(start: float, end: float) -> QRectF:
            left, right = (x_at(cell, second, self.model.length) for second in (start, end))
            return QRectF(left, inner.top(), max(right - left, 1.0), inner.height())

        colour = theme.colour("teal" if strip.enabled else "quiet")
        for clip in strip.clips:
            brush = colour if clip.kind == "audio" else theme.hatch(colour, 3)
            painter.fillRect(stretch(clip.start, clip.end), brush)
        chosen = [clip for owner, clip in self._chosen() if owner == strip.id and clip in strip.clips]
        painter.setPen(QPen(theme.colour("brass"), 2))
        for clip in chosen:
            painter.drawRect(stretch(clip.start + self.moved, clip.end + self.moved).adjusted(1, 1, -1, -1))
        if self.drawn is not None and self.drawn[0] == strip.id:
            _, begun, last, clears = self.drawn
            painter.setPen(QPen(theme.colour("brass"), 2))
            painter.setBrush(theme.hatch(theme.colour("brass"), 4) if clears else Qt.BrushStyle.NoBrush)
            painter.drawRect(stretch(min(begun, last), max(begun, last)))
        painter.restore()
