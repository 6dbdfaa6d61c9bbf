"""The tracks as a model for a view: flat by cost, or folded by bus, filtered by name; one row a strip."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QAbstractItemModel, QModelIndex, QObject, QPersistentModelIndex, Qt

from ...core.load.ranking import Basis, Ranking, Stretch
from ...core.piece.moments import activity
from ...core.session.strips import Strip
from ...core.survey import Instant, Survey, ranked, without_plan
from ...core.told.as_known import share_words, takes_words

Index = QModelIndex | QPersistentModelIndex
TOP = -1
BUCKETS = 28
STRIP_ROLE = Qt.ItemDataRole.UserRole


class TrackModel(QAbstractItemModel):
    """Rows are strips by number. Order and nesting change with the moment without losing selection or folding."""

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.of: Survey | None = None
        self.at: Instant | None = None
        self.activity: NDArray[np.float64] = np.zeros((0, BUCKETS))
        self._by_bus = False
        self._by_cost = True
        self._filter = ""
        self._children: dict[int, list[int]] = {TOP: []}
        self._parents: list[int] = []
        self._rows: dict[int, int] = {}
        self._numbers: dict[str, int] = {}
        self._if_live: list[float] = []
        self._basis: Basis = "moment"
        self.stretch: Stretch | None = None
        self.ranking = Ranking(np.zeros(0), {})
        self._lacking: frozenset[str] = frozenset()

    # What is shown

    def show_survey(self, of: Survey, at: Instant) -> None:
        """Shows a survey at a moment; another session resets the model, the same one only moves rows."""
        self._lacking = of.lacking
        same = self.of is not None and [s.id for s in self.of.planned.session.strips] == [
            s.id for s in of.planned.session.strips
        ]
        if same:
            changed = self.of is None or of.planned.moments is not self.of.planned.moments
            self.of = of
            if changed:
                self.activity = activity(of.planned.moments, BUCKETS)
            self.show_instant(at)
            return
        self.beginResetModel()
        self.of, self.at = of, at
        self.activity = activity(of.planned.moments, BUCKETS)
        self._arrange()
        self.endResetModel()

    def show_instant(self, at: Instant) -> None:
        self.at = at
        self._rearrange()
        if self._children[TOP]:
            last = self.index(len(self._children[TOP]) - 1, 0)
            self.dataChanged.emit(self.index(0, 0), last)

    def set_order(self, by_cost: bool, by_bus: bool) -> None:
        self._by_cost = by_cost
        if by_bus != self._by_bus:
            self.beginResetModel()
            self._by_bus = by_bus
            self._arrange()
            self.endResetModel()
        else:
            self._rearrange()

    def set_basis(self, basis: Basis) -> None:
        """What the figures are of: the moment, each strip's own peak, or the piece or a stretch of it."""
        self._basis = basis
        if self.at is not None:
            self.show_instant(self.at)

    def set_filter(self, text: str) -> None:
        self.beginResetModel()
        self._filter = text.strip().lower()
        self._arrange()
        self.endResetModel()

    def _rearrange(self) -> None:
        self.layoutAboutToBeChanged.emit()
        old = self.persistentIndexList()
        self._arrange()
        new = [self.createIndex(self._rows.get(i.internalId(), 0), i.column(), i.internalId()) for i in old]
        self.changePersistentIndexList(old, new)
        self.layoutChanged.emit()

    def _arrange(self) -> None:
        """Puts the strips in order under their parents.

        By cost means by what they would take without the plan, so that no row runs away when it is frozen.
        """
        strips = self.of.planned.session.strips if self.of else ()
        numbers = self._numbers = {strip.id: i for i, strip in enumerate(strips)}
        nested = self._by_bus and not self._filter
        self._parents = [self._parent_of(strip, numbers) if nested else TOP for strip in strips]
        if self.of is not None and self.at is not None:
            self.ranking = ranked(self.of, self.at, self._basis, self.stretch)
            self._if_live = without_plan(self.of, self.ranking).tolist()
        order = list(range(len(strips)))
        if self._by_cost:
            order.sort(key=lambda i: -self._if_live[i])
        self._children = {TOP: []}
        self._rows = {}
        for i in order:
            if self._filter and self._filter not in strips[i].name.lower():
                continue
            siblings = self._children.setdefault(self._parents[i], [])
            self._rows[i] = len(siblings)
            siblings.append(i)

    @staticmethod
    def _parent_of(strip: Strip, numbers: dict[str, int]) -> int:
        """The bus that a strip feeds, or is shown under; the main output stands on top."""
        for candidate in (strip.output, strip.parent):
            if candidate is not None and candidate in numbers:
                return numbers[candidate]
        return TOP

    # What the view asks

    def strip(self, index: Index) -> Strip:
        """The strip of a row, with the plan applied."""
        assert self.of is not None
        return self.of.planned.session.strips[index.internalId()]

    def index_of(self, strip_id: str) -> QModelIndex:
        """The row of a strip; an invalid index if it is filtered out."""
        number = self._numbers.get(strip_id, TOP)
        return self.createIndex(self._rows[number], 0, number) if number in self._rows else QModelIndex()

    def index(self, row: int, column: int, parent: Index = QModelIndex()) -> QModelIndex:  # noqa: B008
        children = self._children.get(parent.internalId() if parent.isValid() else TOP, [])
        if not 0 <= row < len(children) or column != 0:
            return QModelIndex()
        return self.createIndex(row, column, children[row])

    def parent(self, index: Index) -> QModelIndex:  # type: ignore[override]
        above = self._parents[index.internalId()] if index.isValid() else TOP
        return QModelIndex() if above == TOP else self.createIndex(self._rows[above], 0, above)

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return len(self._children.get(parent.internalId() if parent.isValid() else TOP, []))

    def columnCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 1

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if not index.isValid() or self.of is None:
            return None
        if role == Qt.ItemDataRole.DisplayRole:
            return self.strip(index).name
        if role == STRIP_ROLE:
            return self.strip(index).id
        if role in (Qt.ItemDataRole.AccessibleTextRole, Qt.ItemDataRole.ToolTipRole):
            return self.sentence(index)
        return None

    @property
    def dearest(self) -> float:
        """What the most costly strip would take without the plan, in seconds."""
        return max(self._if_live, default=0.0)

    def share(self, index: Index) -> float:
        """What a strip costs on the chosen basis, of one core."""
        assert self.of is not None and self.at is not None
        return float(self.ranking.strips[index.internalId()]) / self.of.deadline

    def figure(self, index: Index) -> str:
        """The same as far as it is known, in few signs."""
        return share_words(self.strip(index), self._lacking, self.share(index), brief=True)

    def sentence(self, index: Index) -> str:
        """A row in words."""
        assert self.at is not None
        strip = self.strip(index)
        sounds = "sounds here" if self.at.sounding[index.internalId()] else "silent here"
        if strip.instrument is not None and self.at.sounding[index.internalId()]:
            sounds = f"plays {self.at.notes[index.internalId()]} of at most {strip.instrument.voices} notes here"
        plugins = ", ".join(use.label for use in strip.uses()) or "no plugins"
        standing = self.of.plan.standing(strip.id) if self.of is not None else "normal"
        sounds += f", {standing}" if standing != "normal" else ""
        takes = takes_words([strip], self._lacking, self.share(index))
        return f"{strip.name}: {self.state_word(strip)}, {takes}, {sounds}. {plugins}."

    def state_word(self, strip: Strip) -> str:
        """What has been decided about a strip, or how it stands, in a word."""
        word = state_word(strip)
        if self.of is None or word != "live":
            return word
        inside = [d.kind for d in self.of.plan.decisions if d.strip == strip.id and d.use is not None]
        decided = next((kind for kind in ("share", "outboard", "lighten") if kind in inside), None)
        return decided or ("pinned" if strip.id in self.of.plan.pinned else word)


def state_word(strip: Strip) -> str:
    """How a strip stands, in a word."""
    if not strip.enabled:
        return "off"
    if strip.frozen_through is not None:
        return "freeze" if strip.frozen_through >= 0 or not strip.instrument else "freeze source"
    if strip.suspended:
        return "suspend"
    if strip.clips and all(clip.name == f"{strip.name} (bounced)" for clip in strip.clips):
        return "bounce"
    return "armed" if strip.armed else "live"
