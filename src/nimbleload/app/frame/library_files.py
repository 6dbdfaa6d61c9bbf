"""The cost library as a table: written for a spreadsheet, and taken in from one, off the window's thread."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtWidgets import QFileDialog, QWidget

from ...core.cards.card import Cards
from ...core.units import count
from ...store import atomic, spreadsheet
from ...store.library import Library
from ...store.opening import known_cards
from ..background.desk import Desk
from ..look.notice import written

KIND = "Tables (*.csv)"
NO_LIBRARY = "There is no cost library: it could not be opened when the program began."


class LibraryFiles:
    """Asks over a window. `complain` is told what cannot be done."""

    def __init__(
        self, desk: Desk, library: Library | None, complain: Callable[[str], object], window: QWidget
    ) -> None:
        self._desk, self._library, self._complain, self._window = desk, library, complain, window

    def ask_write(self) -> None:
        """Asks where to write every figure of the library."""
        name, _ = QFileDialog.getSaveFileName(
            self._window, "Write the cost library as a table", str(Path.home() / "costs.csv"), KIND
        )
        if name:
            path = Path(name)
            self.write(path if path.suffix else path.with_suffix(".csv"))

    def write(self, path: Path) -> None:
        """Writes every figure of the library."""
        library = self._library
        if library is None:
            self._complain(NO_LIBRARY)
            return

        def work() -> Path:
            atomic.write(path, spreadsheet.export(library).encode())
            return path

        self._desk.jobs.run(work, written.tell, "the cost library could not be written")

    def ask_take_in(self) -> None:
        """Asks which table to take in."""
        name, _ = QFileDialog.getOpenFileName(self._window, "Take figures into the cost library", "", KIND)
        if name:
            self.take_in(Path(name))

    def take_in(self, path: Path) -> None:
        """Takes a table in; what the open session can use of it is used at once."""
        library, document, cards = self._library, self._desk.document, self._desk.cards
        if library is None:
            self._complain(NO_LIBRARY)
            return

        def work() -> tuple[int, Cards | None]:
            figures = spreadsheet.read(path, library)
            return figures, known_cards(document.session, library, dict(cards)) if document is not None else None

        self._desk.jobs.run(work, lambda found: self._took_in(path, *found), f"{path.name} was not taken in")

    def _took_in(self, path: Path, figures: int, cards: Cards | None) -> None:
        taken = count(figures, "figure")
        written.say(f"{taken} of {path.name} taken into the cost library, marked with their computer.")
        if cards is not None:
            self._desk.take_cards(cards)
            self._desk.refresh()
