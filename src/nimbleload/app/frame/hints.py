"""The hints of all pages: which are shown, and that those which were closed stay closed."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from PySide6.QtWidgets import QBoxLayout

from ...core.told.hints import HINTS
from ..look.hint import Hint
from .remembered import Remembered


class Hints:
    """Puts a hint under the sentence of each page, which is the first thing in its column and in the order of keys."""

    def __init__(self, pages: Mapping[str, Any], choices: Remembered) -> None:
        self._choices = choices
        self.by_place: dict[str, Hint] = {}
        for place, page in pages.items():
            column, hint = page.layout(), Hint(HINTS[place])
            assert isinstance(column, QBoxLayout)
            column.insertWidget(1, hint)
            # Made last it would come last: who closes it by key would be taken to the first place.
            page.setTabOrder(page.sentence.button, hint.button)
            hint.closed.connect(lambda place=place: self.close(place))
            self.by_place[place] = hint
        self.refresh()

    def refresh(self) -> None:
        """Shows those that were not closed."""
        closed = self._choices.closed_hints
        for place, hint in self.by_place.items():
            hint.setVisible(place not in closed)

    def close(self, *places: str) -> None:
        """These are not wanted any more."""
        self._choices.closed_hints = self._choices.closed_hints | set(places)
        self.refresh()

    def show_again(self) -> None:
        """All of them come back."""
        self._choices.closed_hints = set()
        self.refresh()
