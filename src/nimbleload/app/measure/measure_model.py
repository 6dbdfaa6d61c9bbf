"""The cost cards of a session as a table: what is known of each, and what measuring has brought so far."""

from __future__ import annotations

from typing import Any, Literal

from PySide6.QtCore import QAbstractTableModel, QModelIndex, QObject, QPersistentModelIndex, Qt

from ...core.cards.card import CONDITIONS, Cards, CostCard, Made
from ...core.cards.doubt import most_shared
from ...core.load.memory import Keeps, keeps
from ...core.session.computer import BUFFER_SIZES
from ...core.session.plugins import CardKey, PluginUse
from ...core.session.session import Session
from ...core.told.memory import how_kept
from ...core.told.trouble import trouble_of
from ...core.units import compared, size
from ...probe import session_run

Index = QModelIndex | QPersistentModelIndex
COLUMNS = ("Plugin", "Setting", "Used", "State", "Sizes 32 … 4096", "At this buffer", "Memory")
PLUGIN, SETTING, USED, STATE, GRID, COST, MEMORY = range(len(COLUMNS))
Status = Literal[
    "measured", "sample", "elsewhere", "typed", "stand-in", "seen", "earlier", "updated", "measuring", "failed",
    "waiting", "partly", "missing",
]  # fmt: skip
# Figures that stand in until a plugin is measured here, if it can be.
BROUGHT: tuple[Status, ...] = ("elsewhere", "typed", "stand-in", "seen")
WORDS: dict[Status, str] = {
    "measured": "measured here",
    "sample": "sample figures",
    "elsewhere": "from elsewhere",
    "typed": "typed in",
    "stand-in": "a stand-in",
    "seen": "seen in a host",
    "earlier": "in an earlier way",
    "updated": "plugin updated since",
    "measuring": "measuring…",
    "failed": "failed",
    "waiting": "waiting",
    "partly": "partly measured",
    "missing": "not measured",
}


# How far a card is, for the order of states: what needs somebody first.
ORDER: tuple[Status, ...] = (
    "failed", "measuring", "waiting", "missing", "sample", *BROUGHT, "updated", "earlier", "partly", "measured",
)  # fmt: skip


class MeasureModel(QAbstractTableModel):
    """A row for each cost card, the most used first or in the order that was asked for."""

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.rows: list[tuple[CardKey, PluginUse, int]] = []
        self.cards: Cards = {}
        self.session: Session | None = None
        self.rate = 48000
        self.buffer = 256
        self.waiting: set[CardKey] = set()
        # How cards were made whose plugin's file has changed since.
        self.outdated: dict[CardKey, Made] = {}
        self._current: CardKey | None = None
        self._numbers: dict[CardKey, int] = {}
        self._full: dict[CardKey, tuple[CostCard, bool]] = {}
        self._sorted: tuple[int, Qt.SortOrder] = (USED, Qt.SortOrder.DescendingOrder)

    @property
    def current(self) -> CardKey | None:
        """The card that is being measured; the row of the one before shows what it is now."""
        return self._current

    @current.setter
    def current(self, key: CardKey | None) -> None:
        before, self._current = self._current, key
        for each in {before, key} - {None}:
            self.show_cards(self.cards, each)

    def show_session(self, session: Session, cards: Cards, buffer: int) -> None:
        self.beginResetModel()
        needed = session.cards_needed()
        self.rows = [(key, use, count) for key, (use, count) in needed.items()]
        self.session = session
        self.cards, self.rate, self.buffer = cards, session.rate, buffer
        self._full = {}
        self._sort_rows()
        self.endResetModel()

    def sort(self, column: int, order: Qt.SortOrder = Qt.SortOrder.AscendingOrder) -> None:
        """Puts the rows in the order of a column; where it says the same, they stay in the order of before."""
        self._sorted = column, order
        self.sort_again()

    def sort_again(self) -> None:
        """Puts them in that order by what is known now; while it is measured, none moves."""
        self.beginResetModel()
        self._sort_rows()
        self.endResetModel()

    def _sort_rows(self) -> None:
        column, order = self._sorted
        ranks = {key: self._rank(row, column) for row, (key, *_) in enumerate(self.rows)}
        down = order == Qt.SortOrder.DescendingOrder
        self.rows.sort(key=lambda row: ranks[row[0]], reverse=down)
        self._numbers = {key: number for number, (key, _, _) in enumerate(self.rows)}

    def _rank(self, row: int, column: int) -> str | float:
        """What a row is sorted by."""
        if column == USED:
            return self.rows[row][2]
        if column == STATE:
            return ORDER.index(self.status(row))
        if column == GRID:
            return sum(self.is_filled(row, buffer) for buffer in BUFFER_SIZES)
        if column == COST:
            card = self.card(row)
            return card.cost(self.rate, self.buffer, "sounding").seconds if card is not None else 0.0
        if column == MEMORY:
            kept = self.kept(row)
            return kept.bytes if kept is not None else -1
        return self._text(row, column).casefold()

    def show_cards(self, cards: Cards, key: CardKey | None = None) -> None:
        """The cards have changed; only the row of `key`, if one is named."""
        self.cards = cards
        if not self.rows:
            return
        first = self._numbers.get(key, 0) if key else 0
        last = first if key else len(self.rows) - 1
        self.dataChanged.emit(self.index(first, 0), self.index(last, len(COLUMNS) - 1))

    def has(self, key: CardKey) -> bool:
        """Whether it has a row."""
        return key in self._numbers

    def row_of(self, key: CardKey) -> int:
        return self._numbers.get(key, 0)

    def card(self, row: int) -> CostCard | None:
        return self.cards.get(self.rows[row][0])

    def kept(self, row: int) -> Keeps | None:
        """What memory its instances keep; None if that is not known. A variant counts as one."""
        _, use, used = self.rows[row]
        return keeps(use, max(used, 1), self.card(row))

    def status(self, row: int) -> Status:
        key = self.rows[row][0]
        if key == self.current:
            return "measuring"
        if key in self.waiting:
            return "waiting"
        card = self.card(row)
        if card is None:
            return "missing"
        if card.made is not None and self.outdated.get(key) == card.made:
            return "updated"
        if card.failure:
            return "failed"
        if not card.cells:
            return "missing"
        of_cells = {cell.provenance for cell in card.cells}
        for status in ("sample", *BROUGHT, "earlier"):
            if status in of_cells:
                return status
        known = self._full.get(key)
        if known is None or known[0] is not card:
            known = self._full[key] = (card, all(self.is_filled(row, b) for b in BUFFER_SIZES))
        return "measured" if known[1] else "partly"

    def is_filled(self, row: int, buffer: int) -> bool:
        """Whether both conditions of a size are in the card."""
        card = self.card(row)
        return card is not None and all(card.cell(self.rate, buffer, c) is not None for c in CONDITIONS)

    def is_measured(self, row: int, buffer: int) -> bool:
        """Whether both conditions of a size were measured on this computer."""
        card = self.card(row)
        return card is not None and session_run.is_measured(card, self.rate, buffer)

    def doubt(self, row: int) -> float:
        """How many times too high a figure that was measured here may be at most, since others shared the core; 1: none
        is."""
        card = self.card(row)
        if card is None or self.status(row) not in ("measured", "partly"):
            return 1.0
        return most_shared(card, self.rate)

    def counts(self) -> dict[Status, int]:
        """How many cards are in which state."""
        found: dict[Status, int] = {}
        for row in range(len(self.rows)):
            status = self.status(row)
            found[status] = found.get(status, 0) + 1
        return found

    # What the view asks

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else len(self.rows)

    def columnCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else len(COLUMNS)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if orientation != Qt.Orientation.Horizontal:
            return None
        if role == Qt.ItemDataRole.DisplayRole:
            return f"At {self.buffer} samples" if section == COST else COLUMNS[section]
        if role == Qt.ItemDataRole.TextAlignmentRole:
            return Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
        return None

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if not index.isValid():
            return None
        row, column = index.row(), index.column()
        if role == Qt.ItemDataRole.DisplayRole:
            return self._text(row, column)
        if role in (Qt.ItemDataRole.ToolTipRole, Qt.ItemDataRole.AccessibleTextRole):
            return self._in_full(row, column)
        return None

    def _in_full(self, row: int, column: int) -> str:
        """What a cell says to who asks for more."""
        kept = self.kept(row) if column == MEMORY else None
        if kept is not None:
            return how_kept(kept)
        return self.reason(row) if column == STATE else self._text(row, column)

    def reason(self, row: int) -> str:
        """The state of a card with its reason, as a sentence."""
        card = self.card(row)
        status = self.status(row)
        if status == "failed" and card is not None:
            return trouble_of(card.name or self.rows[row][1].label, card.failure or "")
        doubt = self.doubt(row)
        if doubt > 1:
            return f"up to {compared(doubt - 1)} too high: others shared the core"
        return WORDS[status]

    def _text(self, row: int, column: int) -> str:
        _, use, used = self.rows[row]
        if column == PLUGIN:
            return use.label
        if column == SETTING:
            return use.words()
        if column == USED:
            return f"{used} ×" if used else "variant"
        if column == STATE:
            return self.reason(row) if self.doubt(row) <= 1 else self.reason(row).partition(":")[0]
        if column == GRID:
            filled = sum(self.is_filled(row, b) for b in BUFFER_SIZES)
            return f"{filled} of {len(BUFFER_SIZES)}"
        if column == MEMORY:
            kept = self.kept(row)
            return size(kept.bytes) if kept is not None else "—"
        card = self.card(row)
        cost = card.cost(self.rate, self.buffer, "sounding") if card else None
        if cost is None or cost.provenance == "unknown":
            return "—"
        return f"{cost.seconds * 1e6:.1f} µs" if cost.seconds < 1e-3 else f"{cost.seconds * 1e3:.2f} ms"
