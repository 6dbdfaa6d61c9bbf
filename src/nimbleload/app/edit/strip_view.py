"""The tree of strips under mouse and keys: boxes are chosen and dragged, clips drawn, tracks dropped into buses."""

from __future__ import annotations

import json
from collections.abc import Callable

from PySide6.QtCore import QMimeData, QModelIndex, QPoint, Qt, Signal
from PySide6.QtGui import QDrag, QDragMoveEvent, QDropEvent, QKeyEvent, QMouseEvent, QPalette, QResizeEvent
from PySide6.QtWidgets import QAbstractItemView, QApplication, QTreeView, QWidget

from ...core.session.strips import Strip
from ...core.session.time_edits import Placed
from ..look.theme import theme
from .chain_painter import ChainDelegate, LaneDelegate, NameDelegate, RowDelegate, place_at, second_at, use_at
from .sections_header import SectionsHeader
from .strip_model import CHAIN, FEEDS, NAME, WHEN, StripModel

PLUGINS, TRACKS, NEW = (f"application/x-nimble-load-{what}" for what in ("plugins", "tracks", "new"))
# Shares of the width; the rest is for when it sounds.
WIDTHS = ((NAME, 0.205), (CHAIN, 0.36), (FEEDS, 0.14))


def _stepped(chosen: list[int], by: int, count: int) -> int:
    """The place beside those that are chosen, among so many: later (1) or earlier (−1), from the end if none is."""
    if not chosen:
        return 0 if by > 0 else count - 1
    return min(max((chosen[-1] if by > 0 else chosen[0]) + by, 0), count - 1)


class StripView(QTreeView):
    """Shows a `StripModel`. Edits are only asked for, by signals; ids are those of strips and uses.

    `plugins_chosen`: other boxes are chosen. `plugins_dropped`: (use ids, strip, place, copy). `new_dropped`: (number
    in the list of plugins, strip, place). `tracks_dropped`: (strip ids, onto which). `drawn`: (strip, from,
    to, clears). `clips_moved`: the chosen ones by so many seconds, or copies of them.
    """

    plugins_chosen = Signal()
    plugins_dropped = Signal(list, str, int, bool)
    new_dropped = Signal(int, str, int)
    tracks_dropped = Signal(list, str)
    drawn = Signal(str, float, float, bool)
    clips_moved = Signal(float, bool)

    def __init__(self, model: StripModel, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._model = model
        self.chosen: list[str] = []
        self._clips: list[Placed] = []
        self._pressed: tuple[QPoint, int, str] | None = None
        self._drawn_by_hand = self._drags_clips = False
        self.sections = SectionsHeader(self)
        self.setHeader(self.sections)
        self.setModel(model)
        self._folded: set[str] = set()
        for before in (model.rowsAboutToBeInserted, model.layoutAboutToBeChanged, model.modelAboutToBeReset):
            before.connect(self._note_folded)
        for after in (model.rowsInserted, model.layoutChanged, model.modelReset):
            after.connect(self._unfold)
        self.chains = ChainDelegate(model, lambda: self.chosen, self)
        self.lanes = LaneDelegate(model, lambda: self._clips, self)
        for column, delegate in ((NAME, NameDelegate(model, self)), (CHAIN, self.chains),
                                 (FEEDS, RowDelegate(model, self)), (WHEN, self.lanes)):  # fmt: skip
            self.setItemDelegateForColumn(column, delegate)
        self.setUniformRowHeights(True)
        self.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setEditTriggers(QAbstractItemView.EditTrigger.EditKeyPressed)
        self.setVerticalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        self.setAcceptDrops(True)
        self.viewport().setAcceptDrops(True)
        self.setTabKeyNavigation(False)
        self.setAccessibleName("Tracks with their chains")
        self.header().setStretchLastSection(True)
        self.header().setSectionsMovable(False)
        self.header().sectionResized.connect(self._note_width)
        self.size_columns()

    def size_columns(self) -> None:
        """Columns and rows as the text size in force wants them."""
        self.setIndentation(theme.px(14))
        # Else the part of a chosen row that folds it is filled with the colour of what is chosen.
        palette = self.palette()
        palette.setColor(QPalette.ColorRole.Highlight, theme.colour("raised"))
        self.setPalette(palette)
        self._share_width()
        self.doItemsLayout()

    def _share_width(self) -> None:
        """Gives each column its share, until somebody has drawn one himself."""
        if not self._drawn_by_hand:
            for column, share in WIDTHS:
                self.setColumnWidth(column, round(self.viewport().width() * share))

    def _note_width(self) -> None:
        self._drawn_by_hand |= QApplication.mouseButtons() == Qt.MouseButton.LeftButton

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._share_width()

    def _note_folded(self) -> None:
        self._folded = {bus for bus, at in self._buses() if not self.isExpanded(at)}

    def _unfold(self) -> None:
        """Buses that come, or get their first track, are unfolded; those that were folded stay so."""
        for bus, at in self._buses():
            if bus not in self._folded:
                self.expand(at)

    def _buses(self) -> list[tuple[str, QModelIndex]]:
        """Those with tracks below them: ids, and where they stand."""
        shown = [(strip.id, self._model.index_of(strip.id)) for strip in self._model.strips if strip.kind == "bus"]
        return [(bus, at) for bus, at in shown if at.isValid() and self._model.hasChildren(at)]

    # Boxes

    def choose_plugins(self, ids: list[str]) -> None:
        if ids:
            self.choose_clips([])
        if ids != self.chosen:
            others = {*ids, *self.chosen}
            self.chosen = ids
            for strip in self._model.strips:
                if not others.isdisjoint(use.id for use in strip.uses()):
                    self.update(self._model.index_of(strip.id, CHAIN))
            self.plugins_chosen.emit()

    def _box_at(self, at: QPoint) -> tuple[QModelIndex, str | None]:
        index = self.indexAt(at)
        if not index.isValid() or index.column() != CHAIN:
            return index, None
        return index, use_at(self._model.strip(index), self.visualRect(index), at.toPointF())

    def step_box(self, by: int) -> None:
        """Chooses the next (1) or previous (−1) plugin of the track that has the cursor."""
        index = self.currentIndex()
        if not index.isValid():
            return
        ids = [use.id for use in self._model.strip(index).uses()]
        if not ids:
            return
        self.choose_plugins([ids[_stepped([k for k, each in enumerate(ids) if each in self.chosen], by, len(ids))]])

    # Clips

    def choose_clips(self, clips: list[Placed]) -> None:
        if clips != self._clips:
            before, self._clips = self._clips, clips
            self._update_lanes(before)
            self._update_lanes(clips)

    def _update_lanes(self, clips: list[Placed]) -> None:
        """Has the lanes painted that these clips lie in."""
        for strip in {strip for strip, _ in clips}:
            self.update(self._model.index_of(strip, WHEN))

    def chosen_clips(self) -> list[Placed]:
        """The chosen ones that are still there."""
        there = {strip.id: strip.clips for strip in self._model.strips}
        return [(strip, clip) for strip, clip in self._clips if clip in there.get(strip, ())]

    def _clip_at(self, index: QModelIndex, at: QPoint) -> Placed | None:
        """The clip under the mouse; of several one that is chosen, else the last, which is painted over the others."""
        if not index.isValid() or index.column() != WHEN:
            return None
        strip, second = self._model.strip(index), second_at(self.visualRect(index), at.x(), self._model.length)
        found = [(strip.id, clip) for clip in strip.clips if clip.start <= second <= clip.end]
        found.sort(key=lambda clip: clip in self._clips)
        return found[-1] if found else None

    def step_clip(self, by: int, as_well: bool = False) -> None:
        """Chooses the next (1) or previous (−1) clip of the track that has the cursor, in place of the others or as
        well."""
        index = self.currentIndex()
        clips = self._model.strip(index).clips if index.isValid() else ()
        if not clips:
            return
        strip, chosen = self._model.strip(index).id, self.chosen_clips()
        here = [place for place, clip in enumerate(clips) if (strip, clip) in chosen]
        clip = strip, clips[_stepped(here, by, len(clips))]
        self.choose_plugins([])
        self.choose_clips([*chosen, clip] if as_well and here else [clip])

    def _press_clip(self, clip: Placed | None, is_added: bool) -> None:
        """Chooses what is under the mouse: by itself, or beside the others; what is chosen stays, to be dragged."""
        chosen = self.chosen_clips()
        if clip is None:
            self.choose_clips([])
        elif is_added:
            self.choose_clips([c for c in chosen if c != clip] if clip in chosen else [*chosen, clip])
        elif clip not in chosen:
            self.choose_clips([clip])

    def keyPressEvent(self, event: QKeyEvent) -> None:
        none = (Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier.KeypadModifier)
        key, plain = event.key(), event.modifiers() in none
        if plain and key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            self.step_box(1 if key == Qt.Key.Key_Right else -1)
            return
        if plain and key in (Qt.Key.Key_Up, Qt.Key.Key_Down, Qt.Key.Key_Escape):
            self.choose_plugins([])
            self.choose_clips([])
        super().keyPressEvent(event)

    # Mouse

    def mousePressEvent(self, event: QMouseEvent) -> None:
        at = event.position().toPoint()
        index, use = self._box_at(at)
        if event.button() == Qt.MouseButton.LeftButton and index.isValid():
            self._pressed = (at, index.column(), self._model.strip(index).id)
            clears = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
            clip = None if clears else self._clip_at(index, at)
            is_added = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
            self._press_clip(clip, is_added)
            self._drags_clips = clip is not None and clip in self._clips
            if clip is not None and is_added:
                self.choose_plugins([])
                return
            if use is not None and event.modifiers() & Qt.KeyboardModifier.ControlModifier:
                self.choose_plugins([u for u in self.chosen if u != use] if use in self.chosen else [*self.chosen, use])
                self.setCurrentIndex(index)
                return
            if use is None:
                self.choose_plugins([])
            elif use not in self.chosen:
                self.choose_plugins([use])
            if index.column() == NAME and self.selectionModel().isSelected(index):
                return  # a press on what is chosen may be the beginning of a drag of all of it
        elif use is not None and use not in self.chosen:
            self.choose_plugins([use])
        super().mousePressEvent(event)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._pressed is None or not event.buttons() & Qt.MouseButton.LeftButton:
            super().mouseMoveEvent(event)
            return
        begun, column, strip = self._pressed
        at = event.position().toPoint()
        under_way = self.lanes.drawn is not None or self.lanes.moved
        if (at - begun).manhattanLength() < QApplication.startDragDistance() and not under_way:
            return
        if column == WHEN and self._drags_clips:
            cell = self.visualRect(self._model.index_of(strip, WHEN))
            first, last = (second_at(cell, point.x(), self._model.length) for point in (begun, at))
            self.lanes.moved = round(last - first, 1)
            self._update_lanes(self._clips)
        elif column == WHEN:
            self._draw(strip, begun, at, bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier))
        elif column == CHAIN and self.chosen:
            self._pressed = None
            self._drag(PLUGINS, self.chosen)
        elif column == NAME:
            self._pressed = None
            self._drag(TRACKS, self.selected())

    def _draw(self, strip: str, begun: QPoint, at: QPoint, clears: bool) -> None:
        cell = self.visualRect(self._model.index_of(strip, WHEN))
        first, last = (second_at(cell, point.x(), self._model.length) for point in (begun, at))
        self.lanes.drawn = (strip, first, last, clears)
        self.update(self._model.index_of(strip, WHEN))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        pressed, self._pressed = self._pressed, None
        if self.lanes.moved:
            by, self.lanes.moved = self.lanes.moved, 0.0
            self._update_lanes(self._clips)
            self.clips_moved.emit(by, bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier))
            return
        if self.lanes.drawn is not None:
            strip, first, last, clears = self.lanes.drawn
            self.lanes.drawn = None
            self.update(self._model.index_of(strip, WHEN))
            self.drawn.emit(strip, min(first, last), max(first, last), clears)
            return
        at = event.position().toPoint()
        index = self.indexAt(at)
        if pressed is not None and pressed[1] == NAME and index.isValid():
            if not event.modifiers():
                self.setCurrentIndex(index)
            elif event.modifiers() & Qt.KeyboardModifier.ControlModifier:
                return
        super().mouseReleaseEvent(event)

    def selected_strips(self) -> list[Strip]:
        """The chosen strips, from top to bottom."""
        chosen = sorted(self.selectionModel().selectedRows(), key=self._model.place)
        return [self._model.strip(index) for index in chosen]

    def selected(self) -> list[str]:
        """Their ids."""
        return [strip.id for strip in self.selected_strips()]

    # Dragging

    def _drag(self, kind: str, ids: list[str]) -> None:
        if not ids:
            return
        carried = QMimeData()
        carried.setData(kind, json.dumps(ids).encode())
        drag = QDrag(self)
        drag.setMimeData(carried)
        drag.exec(Qt.DropAction.CopyAction | Qt.DropAction.MoveAction, Qt.DropAction.MoveAction)

    def dragEnterEvent(self, event: QDragMoveEvent) -> None:  # type: ignore[override]
        self.dragMoveEvent(event)

    def dragMoveEvent(self, event: QDragMoveEvent) -> None:
        index = self.indexAt(event.position().toPoint())
        kinds = [kind for kind in (PLUGINS, TRACKS, NEW) if event.mimeData().hasFormat(kind)]
        if not kinds or not index.isValid():
            self._show_drop(None)
            event.ignore()
            return
        if kinds[0] != TRACKS:
            self._show_drop((self._model.strip(index).id, self._place(index, event.position().toPoint())))
        event.acceptProposedAction()

    def dragLeaveEvent(self, event: object) -> None:
        self._show_drop(None)

    def _show_drop(self, place: tuple[str, int] | None) -> None:
        if place != self.chains.drop:
            self.chains.drop = place
            self.viewport().update()

    def _place(self, index: QModelIndex, at: QPoint) -> int:
        strip = self._model.strip(index)
        if index.column() != CHAIN:
            return len(strip.inserts)
        return place_at(strip, self.visualRect(index), at.x())

    def dropEvent(self, event: QDropEvent) -> None:
        self._show_drop(None)
        at = event.position().toPoint()
        index, mime = self.indexAt(at), event.mimeData()
        if not index.isValid():
            return
        strip, place = self._model.strip(index).id, self._place(index, at)
        copy = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
        asked: dict[str, Callable[[list], None]] = {
            PLUGINS: lambda ids: self.plugins_dropped.emit(ids, strip, place, copy),
            TRACKS: lambda ids: self.tracks_dropped.emit(ids, strip),
            NEW: lambda ids: self.new_dropped.emit(ids[0], strip, place),
        }
        for kind, ask in asked.items():
            if mime.hasFormat(kind):
                event.acceptProposedAction()
                ask(json.loads(bytes(mime.data(kind).data())))
