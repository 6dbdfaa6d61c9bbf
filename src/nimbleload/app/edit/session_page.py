"""Session: the tracks with their chains and clips, and everything that can be changed of them, each change one step."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtCore import QItemSelectionModel, QPoint, Qt, Signal
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import (
    QHBoxLayout,
    QLineEdit,
    QMenu,
    QPushButton,
    QSplitter,
    QWidget,
)

from ...core.session import chain_edits, edits, time_edits
from ...core.session.plugins import PluginUse
from ...core.session.session import Session, SessionError
from ...core.session.strips import StripKind
from ...core.told.session import held, to_do
from ...core.units import as_sentence, count, microseconds
from ..background.desk import Desk
from ..look.emptied import emptied
from ..look.panels import headed, panel
from ..look.picture import scrolled
from ..look.rows import choose_rows
from ..look.sentence import NOTHING_OPEN, Sentence
from ..look.theme import theme
from ..look.words import Words
from .ask import ask_clip, ask_how_often, ask_send, ask_timing
from .chosen_clips import STEP, ChosenClips
from .commands import COMMANDS, MENUS, make_actions
from .how_many_dialog import HowManyDialog
from .inspector import Inspector
from .pared_dialog import ParedDialog
from .plugin_list import PluginList
from .plugin_settings import PluginSettings
from .sections import Sections
from .strip_model import StripModel
from .strip_view import StripView
from .taking_along import TakingAlong

Edit = Callable[[Session], Session]


class SessionPage(QWidget):
    """The page. `state_changed` tells its state in a word; `adding_wanted` asks for a folder (True) or a file to add;
    `card_wanted` for the cost card of a plugin (a use's id)."""

    state_changed = Signal(str, str)
    adding_wanted = Signal(bool)
    card_wanted = Signal(str)
    new_wanted = Signal()

    def __init__(self, desk: Desk, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._desk = desk
        self.sentence = Sentence()
        self.model = StripModel(lambda strip, name: self.edit("rename", lambda s: edits.rename(s, strip, name)))
        self.view = StripView(self.model)
        self.filter, self.news = QLineEdit(), Words()
        self.inspector, self.plugins = Inspector(), PluginList()
        self.settings, self.along = PluginSettings(self.inspector, self), TakingAlong(self)
        self.middle = QSplitter(Qt.Orientation.Horizontal)
        self._is_choosing_again = False
        self._noted: tuple[list[str], str | None] = [], None
        self.sections = Sections(self.view, desk, self.edit)
        self._make_actions()
        self._lay_out()
        self._connect()

    def _lay_out(self) -> None:
        self.filter.setPlaceholderText("Find")
        self.filter.setAccessibleName("Find tracks and plugins")
        self.filter.setToolTip("Tracks and plugins by their names")
        self.filter.setClearButtonEnabled(True)
        theme.fit(self.filter, lambda field: field.setMaximumWidth(theme.px(230)))
        self.news.setProperty("role", "quiet")
        self.news.setWordWrap(True)
        top = QHBoxLayout()
        for action in self._in_sight:
            button = QPushButton(action.text().replace("&", "").rstrip("…"))
            button.setToolTip(f"{action.text().replace('&', '')} ({action.shortcut().toString()})")
            button.clicked.connect(action.trigger)
            top.addWidget(button)
        top.addStretch(1)
        top.addWidget(self.filter)
        left, column = panel()
        column.setContentsMargins(10, 8, 6, 8)
        column.addLayout(top)
        column.addWidget(self.view, 1)
        column.addWidget(self.news)
        right, column = panel()
        halves = QSplitter(Qt.Orientation.Vertical)
        halves.addWidget(scrolled(self.inspector))
        halves.addWidget(self.plugins)
        halves.setChildrenCollapsible(False)
        halves.setSizes([420, 240])
        column.addWidget(halves)
        self.middle.addWidget(left)
        self.middle.addWidget(right)
        self.middle.setStretchFactor(0, 1)
        self.middle.setSizes([960, 300])
        self.middle.setChildrenCollapsible(False)
        headed(self, self.sentence).addWidget(self.middle, 1)

    def _connect(self) -> None:
        self.filter.textChanged.connect(self._find)
        self.view.selectionModel().selectionChanged.connect(self._tell_chosen)
        self.model.modelAboutToBeReset.connect(self._note_rows)
        self.model.modelReset.connect(lambda: self._choose_again(*self._noted))
        self.view.plugins_chosen.connect(self._show_chosen)
        self.view.plugins_dropped.connect(self._drop_plugins)
        self.view.new_dropped.connect(
            lambda number, strip, place: self.put_in(self.plugins.plugins[number], strip, place)
        )
        self.view.tracks_dropped.connect(self._drop_tracks)
        self.view.drawn.connect(self._draw)
        self.clips = ChosenClips(self.view, self.edit)
        self.view.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.view.customContextMenuRequested.connect(self._show_menu)
        self.inspector.wanted.connect(self.edit)
        self.settings.told.connect(self._show_chosen)
        self.settings.wanted.connect(self.edit)
        self.settings.news.connect(self.news.setText)
        self.plugins.wanted.connect(self.put_in)
        self.sentence.pressed.connect(lambda: self.new_wanted.emit() if self._desk.document is None else None)
        self._desk.opened.connect(self._take_opened)
        self._desk.recomputed.connect(self.refresh)
        self._desk.saved_changed.connect(self.refresh)
        self._desk.failed.connect(self.news.setText)
        self._show_sentence()

    # Actions: in the menus of the window and of the tree, and on the keyboard

    def _make_actions(self) -> None:
        calls: dict[str, Callable[[], object]] = {
            "track": lambda: self.add("track"), "bus": lambda: self.add("bus"), "return": lambda: self.add("return"),
            "folder": lambda: self.adding_wanted.emit(True), "file": lambda: self.adding_wanted.emit(False),
            "rename": self._rename, "duplicate": lambda: self.duplicate(1), "times": self._ask_duplicate,
            "up": lambda: self.move_tracks(-1), "down": lambda: self.move_tracks(1), "send": self._ask_send,
            "unsend": self._unsend, "clip": self._ask_clip, "clear": self._clear, "section": self.sections.ask,
            "unsection": self.sections.remove,
            "next clip": lambda: self.view.step_clip(1), "clip before": lambda: self.view.step_clip(-1),
            "next as well": lambda: self.view.step_clip(1, as_well=True),
            "timing": self._ask_timing,
            "pared": self.ask_pared, "how many": self.ask_how_many, "bypass": self._bypass,
            "left": lambda: self._step(-1), "right": lambda: self._step(1), "replace": self._replace,
            "card": self._ask_card, "window": self.settings.open_window, "keep": self.along.keep,
            "shelf": self.along.open_shelf, "copy": self.along.copy, "cut": self.along.cut,
            "paste": self.along.paste, "remove": self.remove,
        }  # fmt: skip
        made = make_actions(self, self.view, calls)
        self.menus = {menu: [made[each.name] for each in COMMANDS if each.menu == menu] for menu in MENUS}
        self._menu = QMenu(self)
        self._in_sight = [made[name] for name in ("track", "bus", "return", "how many")]

    def _show_menu(self, at: QPoint) -> None:
        menu = emptied(self._menu)
        names = ("Plugins", "Both", "Tracks") if self.view.chosen else ("Tracks", "Both", "Add")
        for number, name in enumerate(names):
            if number:
                menu.addSeparator()
            for action in self.menus[name]:
                menu.addAction(action)
        menu.exec(self.view.viewport().mapToGlobal(at))

    # Changing

    def edit(self, what: str, change: Edit) -> Session | None:
        """Makes an edit one step of the document; why it cannot be is said below the tree. The session after it."""
        document = self._desk.document
        if document is None:
            return None
        try:
            made = change(document.session)
        except SessionError as error:
            self.news.setText(f"{as_sentence(str(error))} Nothing was changed.")
            self._show_chosen()
            return None
        self.news.setText("")
        self._desk.edit(what, made)
        return made

    def add(self, kind: StripKind) -> None:
        """Adds a strip right behind the last chosen one, feeding what that feeds; a return at the end."""
        strips = [] if kind == "return" else self.view.selected_strips()
        output, behind = (strips[-1].output, strips[-1].id) if strips else (None, "")
        self.adding(
            f"add a {edits.WORDS[kind]}", lambda session: edits.add(session, kind, output=output, behind=behind)
        )

    def adding(self, what: str, change: Edit) -> None:
        """Makes an edit, and chooses the first track that it has added."""
        known = {strip.id for strip in self.model.strips}
        made = self.edit(what, change)
        added = [strip.id for strip in made.strips if strip.id not in known] if made is not None else []
        if added:
            self.choose(added[0])

    def duplicate(self, times: int) -> None:
        """Copies the chosen tracks; of a bus with all that feeds it."""
        ids = self.view.selected()
        if ids:
            self.adding("duplicate", lambda session: edits.duplicate(session, ids, times, members=True))

    def move_tracks(self, by: int) -> None:
        ids = self.view.selected()
        if ids:
            self.edit("move", lambda session: edits.move(session, ids, by))

    def put_in(self, use: PluginUse, strip: str | None = None, place: int | None = None) -> None:
        """Puts a plugin into a strip's chain: the one that has the cursor, behind the chosen plugin."""
        strips = self.view.selected_strips()
        target = strip or (strips[0].id if strips else None)
        if target is None:
            self.news.setText("Choose a track first: it goes into that one's chain.")
            return
        if place is None and self.view.chosen and strips:
            places = {each.id: k for k, each in strips[0].places()}
            place = max((places[each] + 1 for each in self.view.chosen if each in places), default=None)
        known = {each.id for each in self._all_uses}
        made = self.edit(f"insert {use.label}", lambda session: chain_edits.insert(session, target, [use], place))
        if made is not None:
            added = [each.id for each in made.strip(target).uses() if each.id not in known]
            self.view.choose_plugins(added)

    def remove(self) -> None:
        """Takes out the chosen plugins or clips; with none chosen, the chosen tracks."""
        uses, ids = list(self.view.chosen), self.view.selected()
        if self.clips.are_there:
            self.clips.remove()
        elif uses:
            self.edit("take out plugins", lambda session: chain_edits.take_out(session, uses))
        elif ids:
            self.edit("remove tracks", lambda session: edits.remove(session, ids))

    def _drop_plugins(self, ids: list[str], strip: str, place: int, copy: bool) -> None:
        name = "copy plugins" if copy else "move plugins"
        self.edit(name, lambda session: chain_edits.put(session, ids, strip, place, copy))

    def _drop_tracks(self, ids: list[str], onto: str) -> None:
        """Tracks dropped onto a bus, a return or the main output feed it; onto a track, they feed what it feeds."""
        ids = [each for each in ids if each != onto]

        def dropped(session: Session) -> Session:
            target = session.strip(onto)
            return edits.route(session, ids, target.output if target.kind == "track" else onto)

        if ids:
            self.edit("feed", dropped)

    def _draw(self, strip: str, start: float, end: float, clears: bool) -> None:
        start, end = round(start, 1), round(end, 1)
        if clears:
            self.edit("clear", lambda session: time_edits.clear(session, [strip], start, end))
        else:
            self.edit("clip", lambda session: time_edits.add_clip(session, strip, start, end))

    def _step(self, by: int) -> None:
        """Moves the chosen clips along the piece, or the chosen plugin within its chain."""
        if self.clips.are_there:
            self.clips.move(by * STEP)
            return
        uses = [use.id for use in self.chosen_uses()]
        if len(uses) != 1:
            return

        def stepped(session: Session) -> Session:
            strip = chain_edits.holder(session, uses[0])
            place = strip.place_of(uses[0])
            if place < 0 or not 0 <= place + by < len(strip.inserts):
                return session
            return chain_edits.put(session, uses, strip.id, place + (2 if by > 0 else -1))

        self.edit("move a plugin", stepped)

    def _bypass(self) -> None:
        uses = self.chosen_uses()
        if uses:
            on = any(use.enabled for use in uses)
            self.edit("bypass" if on else "bypass off",
                      lambda session: chain_edits.bypass(session, [use.id for use in uses], on))  # fmt: skip

    def _replace(self) -> None:
        """Puts the plugin that has the cursor in the list in the place of the chosen ones."""
        uses, item = [use.id for use in self.chosen_uses()], self.plugins.rows.currentItem()
        if not uses or item is None:
            self.news.setText("Choose plugins in the chain, and in the list the one that is to take their place.")
            return
        other = self.plugins.plugins[item.data(Qt.ItemDataRole.UserRole)]
        self.edit(f"replace by {other.label}", lambda session: chain_edits.replace(session, uses, other))

    def _rename(self) -> None:
        index = self.view.currentIndex()
        if index.isValid():
            self.view.edit(index.siblingAtColumn(0))

    def _unsend(self) -> None:
        ids = self.view.selected()
        self.edit("no sends", lambda session: edits.unsend(session, ids))

    def _clear(self) -> None:
        ids = self.view.selected()
        self.edit("clear clips", lambda session: time_edits.clear(session, ids))

    # What is asked first

    def _ask_duplicate(self) -> None:
        if self.view.selected():
            ask_how_often(self, self.duplicate)

    def _ask_send(self) -> None:
        document, ids = self._desk.document, self.view.selected()
        if document is not None and ids:
            ask_send(
                self, [s for s in document.session.strips if s.kind in ("bus", "return") and s.id not in ids],
                lambda target, level, pre: self.edit("send", lambda s: edits.send(s, ids, target, level, pre)),
            )  # fmt: skip

    def _ask_clip(self) -> None:
        strips = [strip for strip in self.view.selected_strips() if strip.kind == "track"]

        def add(start: float, end: float, voices: int) -> None:
            def added(session: Session) -> Session:
                for strip in strips:
                    session = time_edits.add_clip(session, strip.id, start, end, voices)
                return session

            self.edit("clip", added)

        if strips:
            ask_clip(self, any(strip.instrument is not None for strip in strips), add)

    def _ask_timing(self) -> None:
        document = self._desk.document
        if document is not None:
            ask_timing(self, document.session, lambda made: self.edit("tempo, bars and length", lambda _: made))

    def _ask_card(self) -> None:
        if self.view.chosen:
            self.card_wanted.emit(self.view.chosen[0])

    def ask_how_many(self) -> None:
        """How many more of what is chosen fit at each buffer size."""
        of, strips, uses = self._desk.survey, self.view.selected_strips(), self.chosen_uses()
        if of is None or not (strips or uses):
            self.news.setText("Choose tracks, a bus or a plugin: how many more of them fit is computed.")
            return
        HowManyDialog(of, [strip.id for strip in strips], uses[0] if uses else None, self).open()

    def ask_pared(self) -> None:
        """A copy of the session with the chosen tracks and what they need alone."""
        strips = self.view.selected_strips()
        if not strips:
            self.news.setText("Choose tracks or buses: a copy is made of them and of what they lead to.")
        elif self._desk.survey is not None:
            ParedDialog(self._desk, [strip.id for strip in strips], self).open()

    # What is shown

    @property
    def _all_uses(self) -> list[PluginUse]:
        return [use for strip in self.model.strips for use in strip.uses()]

    def chosen_uses(self) -> list[PluginUse]:
        """The chosen plugins, in their order."""
        return [use for use in self._all_uses if use.id in self.view.chosen] if self.view.chosen else []

    def choose(self, strip_id: str) -> None:
        """Shows and chooses one strip."""
        index = self.model.index_of(strip_id)
        if index.isValid():
            # Said outright: else a key that is held, like Ctrl in a shortcut, adds to what is chosen.
            flags = QItemSelectionModel.SelectionFlag
            self.view.selectionModel().setCurrentIndex(index, flags.ClearAndSelect | flags.Rows)
            self.view.scrollTo(index)
            own = {use.id for use in self.model.strip(index).uses()}
            self.view.choose_plugins([each for each in self.view.chosen if each in own])

    def _take_opened(self) -> None:
        self.view.choose_plugins([])
        self.filter.clear()
        self.news.setText("")
        self.refresh()
        self.view.expandAll()

    def refresh(self) -> None:
        """Shows the session that is on the desk; what was chosen stays chosen if it is still there."""
        document = self._desk.document
        if document is None:
            return
        self.sections.show(document.session)
        if self.model.strips is document.session.strips and self.model.length == document.session.length:
            if self.isVisible():
                self._show_chosen()
            return
        self._is_choosing_again = True
        self.model.show(document.session)
        self._is_choosing_again = False
        if self.view.chosen:
            known = {use.id for use in self._all_uses}
            self.view.choose_plugins([each for each in self.view.chosen if each in known])
        self._show_sentence()
        self._show_chosen()

    def restyle(self) -> None:
        """Everything as the theme and text size in force want it."""
        self.view.size_columns()
        self._show_sentence()

    def _note_rows(self) -> None:
        """Before all rows are others: what is chosen, and has the cursor."""
        current = self.view.currentIndex()
        cursor = self.model.strip(current).id if current.isValid() else None
        self._noted = self.view.selected(), cursor

    def _choose_again(self, ids: Sequence[str], cursor: str | None = None) -> None:
        """Chooses what was chosen before, here or on another page: nobody has to be told."""
        selection, flags = self.view.selectionModel(), QItemSelectionModel.SelectionFlag
        before, self._is_choosing_again = self._is_choosing_again, True
        if cursor is not None and (at := self.model.index_of(cursor)).isValid():
            selection.setCurrentIndex(at, flags.NoUpdate)
        choose_rows(selection, map(self.model.index_of, ids))
        self._is_choosing_again = before

    def _find(self, words: str) -> None:
        self.model.set_filter(words)
        self.view.expandAll()
        self._show_chosen()

    def _show_chosen(self) -> None:
        document = self._desk.document
        if document is None:
            return
        uses, of, at = self.chosen_uses(), self._desk.survey, self._desk.instant
        costs = ""
        if len(uses) == 1 and of is not None and at is not None and uses[0].id in at.use_costs:
            cost = at.use_costs[uses[0].id]
            runs = uses[0].enabled and all(strip.enabled for strip in self.view.selected_strips())
            says = "costs" if runs else "would cost"
            costs = f"It {says} {microseconds(cost)} a block here." if cost > 0 else "What it costs is not measured."
        rate = document.session.rate
        known = self.settings.known(uses, rate) if self.isVisible() else ()
        self.inspector.show_chosen(document.session, self.view.selected_strips(), uses, costs, known)
        on = next((strip.name for strip in self.model.strips if uses[0] in strip.uses()), "") if uses else ""
        self.settings.show(uses, rate, on)

    def _tell_chosen(self) -> None:
        """What is chosen here is chosen on the other pages."""
        if not self._is_choosing_again:
            self._show_chosen()
            if self.isVisible():
                self._desk.select(self.view.selected())

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self.plugins.look()
        wanted = self._desk.selection
        if set(wanted) != set(self.view.selected()):
            self._choose_again(wanted, wanted[0] if wanted else None)
        self._show_chosen()

    def _show_sentence(self) -> None:
        document = self._desk.document
        if document is None:
            self.sentence.say(
                NOTHING_OPEN,
                "Begin with an empty one and add a folder of audio, a MIDI file or a table to it; or open one.",
                "quiet", "New session",
            )  # fmt: skip
            return
        session = document.session
        self.sentence.say(held(session), to_do(session), "quiet")
        tracks = sum(1 for strip in session.strips if strip.kind == "track")
        self.state_changed.emit(count(tracks, "track"), "quiet")

    def close_down(self) -> None:
        """Ends what is being looked for; nothing is told after."""
        self.plugins.close_down()
        self.settings.close_down()
