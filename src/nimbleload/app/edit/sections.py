"""The sections of the piece on the Session page: named, moved and taken away, above the lanes or by keys."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QObject, QPoint
from PySide6.QtWidgets import QMenu

from ...core.session import time_edits
from ...core.session.session import Section, Session
from ..background.desk import Desk
from ..look.emptied import emptied
from ..look.literal import literal
from .ask import ask_section
from .strip_view import StripView

# What makes an edit: its name, and the change.
Editing = Callable[[str, Callable[[Session], Session]], object]


class Sections(QObject):
    """What is done with sections on the Session page."""

    def __init__(self, view: StripView, desk: Desk, edit: Editing) -> None:
        super().__init__(view)
        self._view, self._desk, self._edit = view, desk, edit
        self._menu = QMenu(view)
        view.sections.asked.connect(self._ask_at)
        view.sections.moved.connect(self._move)
        view.sections.menu_wanted.connect(self._show_menu)

    def show(self, of: Session) -> None:
        self._view.sections.show_sections(of.sections, of.length)

    def _move(self, start: float, to: float) -> None:
        self._edit("move section", lambda session: time_edits.move_section(session, start, to))

    @property
    def _second(self) -> float:
        """The chosen moment."""
        return self._desk.instant.second if self._desk.instant is not None else 0.0

    def _holding(self, second: float) -> Section | None:
        """The section in which a second lies."""
        return self._desk.document.session.section_at(second) if self._desk.document is not None else None

    def ask(self) -> None:
        """Asks for a section that begins at the chosen moment."""
        self._ask_at(self._second)

    def _ask_at(self, second: float) -> None:
        if self._desk.document is None:
            return
        there = self._holding(second)
        name = there.name if there is not None and there.start == second else ""
        ask_section(self._view, second, name, lambda called, start: self._edit(
            "section", lambda s: time_edits.add_section(s, called, start)
        ))  # fmt: skip

    def remove(self) -> None:
        """Takes the section away in which the chosen moment lies; what it holds stays."""
        there = self._holding(self._second)
        self._remove(there.start if there is not None else self._second)

    def _remove(self, start: float) -> None:
        self._edit("take section away", lambda session: time_edits.remove_section(session, start))

    def _show_menu(self, second: float, at: QPoint) -> None:
        self.menu(second).exec(at)

    def menu(self, second: float) -> QMenu:
        """What can be done at a second."""
        menu, there = emptied(self._menu), self._holding(second)
        menu.addAction("Section that begins here…", lambda: self._ask_at(second))
        if there is not None:
            menu.addAction(f"Rename {literal(there.name)}…", lambda: self._ask_at(there.start))
            menu.addAction(f"Take {literal(there.name)} away", lambda: self._remove(there.start))
        return menu
