"""The menus that a right click opens: on tracks, plugins, buffer sizes, moments and cost cards."""

from __future__ import annotations

from functools import partial
from typing import Any

from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtWidgets import QAbstractItemView, QMenu, QWidget

from ...core.session.strips import Strip
from ...core.units import clock, count
from ..look.emptied import emptied
from ..look.literal import literal

# More tracks than that are not named in a menu.
MOST_NAMED = 24


class TrackMenu(QMenu):
    """What is offered of the chosen tracks. What each decision would do is known a little later: it is filled then."""

    def __init__(self, window: Any, menus: Any, parent: QWidget) -> None:
        super().__init__(parent)
        self._window, self._menus = window, menus
        self._cards = QMenu("The cost card of", self)
        self.aboutToShow.connect(self.fill)
        window.desk.weighed.connect(self._fill_again)

    def _fill_again(self, *_: object) -> None:
        """What comes later comes last: nothing moves away under the pointer, unless the screen ends there."""
        if self.isVisible():
            self.fill()
            beyond = self.geometry().top() + self.sizeHint().height() - self.screen().availableGeometry().bottom()
            self.move(self.x(), self.y() - max(beyond, 0))

    def fill(self) -> None:
        window, menus = self._window, self._menus
        emptied(self._cards)
        emptied(self)
        menus.name_decisions()
        self.addActions(menus.pins)
        self.addMenu(menus.settled)
        self.addSeparator()
        self.addAction("On the page Session", partial(window.go, menus.place("Session")))
        chosen = self.chosen()
        if len(chosen) == 1:
            self.setTitle(literal(chosen[0].name))
            for use in chosen[0].uses():
                self._cards.addAction(literal(use.label), partial(window.show_card, use.id))
        if self._cards.actions():
            self.addMenu(self._cards)
        self.addSeparator()
        self.addActions(menus.decisions[: len(window.balance.options.options)])

    def chosen(self) -> list[Strip]:
        document = self._window.desk.document
        strips = document.session.strips if document is not None else ()
        return [strip for strip in strips if strip.id in self._window.desk.selection]


class Context:
    """They offer what the menu bar and keys do, for what was clicked; `menus` are those of the bar."""

    def __init__(self, window: Any, menus: Any) -> None:
        self._window, self._menus = window, menus
        balance, measure = window.balance, window.measure
        self._tracks = TrackMenu(window, menus, balance.tracks.view)
        self._in_block = TrackMenu(window, menus, balance.block)
        self._cards, self._used = QMenu(measure.table), QMenu(measure.table)
        for view, show in ((balance.tracks.view, self._show_tracks), (measure.table, self._show_cards)):
            view.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
            view.customContextMenuRequested.connect(show)
        balance.block.offer = self._offer_block
        balance.buffers.offer = self._offer_buffer
        balance.timeline.offer = self._offer_moment
        balance.options.card_wanted.connect(window.show_card)

    def _show_tracks(self, at: QPoint) -> None:
        """Of the chosen tracks, or of the one that was clicked, which is chosen then."""
        view = self._window.balance.tracks.view
        if _clicked(view, at):
            self._tracks.popup(view.viewport().mapToGlobal(at))

    def _offer_block(self, menu: QMenu, at: QPoint) -> None:
        """Of the track whose work was clicked, which is chosen then."""
        strip = self._window.balance.block.strip_at(QPointF(at))
        if strip is not None:
            self._window.balance.tracks.choose(strip)
            self._in_block.fill()
            menu.addMenu(self._in_block)

    def _offer_buffer(self, menu: QMenu, at: QPoint) -> None:
        window = self._window
        buffer = window.balance.buffers.buffer_at(QPointF(at))
        if buffer is not None:
            menu.addAction(f"Choose {buffer} samples", partial(window.desk.choose_buffer, buffer))

            def suggest() -> None:
                window.desk.choose_buffer(buffer)
                window.balance.suggest()

            menu.addAction(f"Suggest a plan at {buffer} samples", suggest)
            menu.addSeparator()
        menu.addActions(self._menus.sizes)

    def _offer_moment(self, menu: QMenu, at: QPoint) -> None:
        window, timeline = self._window, self._window.balance.timeline
        document = window.desk.document
        if document is None or window.desk.survey is None:
            return
        second = timeline.second_at(at.x())
        menu.addAction(f"Go to {clock(second)}", partial(window.desk.move_to, second))
        menu.addActions(self._menus.worst)
        menu.addSeparator()
        for section, start, end in document.session.section_spans():
            if start <= second < end:
                words = f"Choose the section {literal(section.name)}"
                menu.addAction(words, partial(timeline.take_stretch, (start, end)))
        if timeline.stretch is not None:
            menu.addAction("Choose no stretch", timeline.let_go)
        menu.addSeparator()
        menu.addActions(self._menus.looks)

    def _show_cards(self, at: QPoint) -> None:
        window, measure = self._window, self._window.measure
        document = window.desk.document
        if document is None or not _clicked(measure.table, at):
            return
        menu = emptied(self._cards)
        emptied(self._used)
        menu.addAction(measure.only.text(), measure.only.click).setEnabled(not measure.measuring.is_running)
        menu.addAction(measure.elsewhere.text(), measure.ask_elsewhere)
        menu.addAction("Keep its card beside", measure.keep_beside)
        keys = set(measure.table.chosen())
        on = [strip for strip in document.session.strips if any(use.card_key() in keys for use in strip.uses())]
        if on:
            self._used.setTitle(f"On {count(len(on), 'track')}")
            menu.addMenu(self._used)
            for strip in on[:MOST_NAMED]:
                self._used.addAction(literal(strip.name), partial(self._go_to, strip.id))
        menu.popup(measure.table.viewport().mapToGlobal(at))

    def _go_to(self, strip: str) -> None:
        """A track, on Balance."""
        self._window.go(self._menus.place("Balance"))
        self._window.balance.tracks.choose(strip)


def _clicked(view: QAbstractItemView, at: QPoint) -> bool:
    """Whether a row was clicked; it is chosen alone, unless it is chosen with others."""
    index = view.indexAt(at)
    if index.isValid() and not view.selectionModel().isRowSelected(index.row(), index.parent()):
        view.setCurrentIndex(index)
    return index.isValid()
