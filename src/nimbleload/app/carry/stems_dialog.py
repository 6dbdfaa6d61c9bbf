"""Of which strips there are to be stems."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QDialogButtonBox, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from ...core.session.session import Session
from ...core.units import count
from ...deliver.stems import choices, leading
from ..look.panels import Dialog
from ..look.theme import theme
from ..look.words import Words

WORDS = (
    "What each of these gives, behind its fader, as a file that begins with the piece. Those that lead to the main "
    "output are together the mix, and that is proven with the files themselves."
)


class StemsDialog(Dialog):
    """The choice; at first those that lead to the main output, or what was chosen before."""

    def __init__(self, session: Session, before: Sequence[str], parent: QWidget) -> None:
        super().__init__("Stems", parent)
        self._ids, there, usual = list[str](), choices(session), before or leading(session)
        names = {strip.id: strip.name for strip in session.strips}
        self.list = QListWidget()
        self.list.setAccessibleName("What there can be stems of")
        for strip in there:
            self._ids.append(strip.id)
            leads = f"{strip.kind} into {names[strip.output]}" if strip.output is not None else "the whole mix"
            item = QListWidgetItem(f"{strip.name} ({leads})")
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Checked if strip.id in usual else Qt.CheckState.Unchecked)
            self.list.addItem(item)
        self.words, self.counted = Words(WORDS), Words()
        self.words.setWordWrap(True)
        self.words.setProperty("role", "quiet")
        self.counted.setProperty("role", "quiet")
        kinds = QDialogButtonBox.StandardButton
        self.buttons = QDialogButtonBox(kinds.Ok | kinds.Cancel)
        self.buttons.accepted.connect(self.accept)
        self.buttons.rejected.connect(self.reject)
        column = QVBoxLayout(self)
        for part in (self.words, self.list, self.counted, self.buttons):
            column.addWidget(part)
        self.setMinimumSize(theme.px(420), theme.px(380))
        self.list.itemChanged.connect(self._count)
        self._count()

    def chosen(self) -> tuple[str, ...]:
        """The ids of the strips that are ticked."""
        ticked = Qt.CheckState.Checked
        return tuple(each for row, each in enumerate(self._ids) if self.list.item(row).checkState() == ticked)

    def _count(self) -> None:
        self.counted.setText(f"{count(len(self.chosen()), 'stem')} of {len(self._ids)}")
