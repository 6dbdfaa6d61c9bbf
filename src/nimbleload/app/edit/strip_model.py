"""The strips of a session as a tree: buses hold what feeds them, everything in the session's order."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QAbstractItemModel, QModelIndex, QPersistentModelIndex, Qt

from ...core.session.session import Session
from ...core.session.strips import Strip

HEADINGS = ("Track", "Chain", "Feeds", "When it sounds")
NAME, CHAIN, FEEDS, WHEN = range(4)
STRIP_ROLE = Qt.ItemDataRole.UserRole
Index = QModelIndex | QPersistentModelIndex
TOP = -1
SHOWN = Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable | Qt.ItemFlag.ItemIsDropEnabled
NAMED = SHOWN | Qt.ItemFlag.ItemIsEditable | Qt.ItemFlag.ItemIsDragEnabled


class StripModel(QAbstractItemModel):
    """Rows are strips; `renamed` is called with an id and a new name when one is typed in."""

    def __init__(self, renamed: Callable[[str, str], object]) -> None:
        super().__init__()
        self._renamed = renamed
        self.strips: tuple[Strip, ...] = ()
        self.length = 0.0
        self._names: dict[str, str] = {}
        self._parents: list[int] = []
        self._children: dict[int, list[int]] = {}
        self._rows: dict[str, tuple[int, int]] = {}
        self._words = ""

    def show(self, session: Session) -> bool:
        """Takes another session; whether its rows are others than before (else only what they say is)."""
        strips, self.length = session.strips, session.length
        same = [(s.id, s.kind, s.output) for s in strips] == [(s.id, s.kind, s.output) for s in self.strips]
        self.strips = strips
        self._names = {strip.id: strip.name for strip in strips}
        if same:
            if strips:
                self.dataChanged.emit(self.index(0, 0), self.index(self.rowCount() - 1, WHEN))
            return False
        self._arrange()
        return True

    def set_filter(self, words: str) -> None:
        self._words = words.strip().lower()
        self._arrange()

    def _fits(self, strip: Strip) -> bool:
        told = " ".join([strip.name, *(use.label for use in strip.uses())]).lower()
        return all(word in told for word in self._words.split())

    def _arrange(self) -> None:
        self.beginResetModel()
        numbers = {strip.id: i for i, strip in enumerate(self.strips)}
        self._parents = [self._parent_of(strip, numbers) for strip in self.strips]
        shown = set()
        for i, strip in enumerate(self.strips):
            if not self._words or self._fits(strip):
                while i != TOP and i not in shown:
                    shown.add(i)
                    i = self._parents[i]
        self._children = {}
        self._rows = {}
        for i, parent in enumerate(self._parents):
            if i in shown:
                siblings = self._children.setdefault(parent, [])
                self._rows[self.strips[i].id] = (len(siblings), i)
                siblings.append(i)
        self.endResetModel()

    def _parent_of(self, strip: Strip, numbers: dict[str, int]) -> int:
        """The bus that a strip feeds; a circle of them cannot be, edits refuse it."""
        number = numbers.get(strip.output or "", TOP)
        return number if number != TOP and self.strips[number].kind == "bus" else TOP

    def strip(self, index: Index) -> Strip:
        return self.strips[index.internalId()]

    def index_of(self, strip_id: str, column: int = 0) -> QModelIndex:
        """Where a strip stands; invalid if it is not shown."""
        if strip_id not in self._rows:
            return QModelIndex()
        row, i = self._rows[strip_id]
        return self.createIndex(row, column, i)

    def name_of(self, strip_id: str | None) -> str:
        return self._names.get(strip_id or "", "nothing")

    def in_order(self) -> list[Strip]:
        """All strips that are shown, from top to bottom."""
        found: list[Strip] = []

        def walk(parent: int) -> None:
            for i in self._children.get(parent, []):
                found.append(self.strips[i])
                walk(i)

        walk(TOP)
        return found

    # What Qt asks

    def index(self, row: int, column: int, parent: Index = QModelIndex()) -> QModelIndex:  # noqa: B008
        children = self._children.get(parent.internalId() if parent.isValid() else TOP, [])
        return self.createIndex(row, column, children[row]) if 0 <= row < len(children) else QModelIndex()

    def parent(self, index: Index) -> QModelIndex:  # type: ignore[override]
        above = self._parents[index.internalId()] if index.isValid() else TOP
        if above == TOP:
            return QModelIndex()
        return self.createIndex(self._rows[self.strips[above].id][0], 0, above)

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        if parent.isValid() and parent.column() > 0:
            return 0
        return len(self._children.get(parent.internalId() if parent.isValid() else TOP, []))

    def columnCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return len(HEADINGS)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if role == Qt.ItemDataRole.DisplayRole and orientation == Qt.Orientation.Horizontal:
            return HEADINGS[section]
        return None

    def flags(self, index: Index) -> Qt.ItemFlag:
        return NAMED if index.column() == NAME else SHOWN

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        strip = self.strip(index)
        if role == STRIP_ROLE:
            return strip.id
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.EditRole) and index.column() == NAME:
            return strip.name
        if role == Qt.ItemDataRole.DisplayRole and index.column() == FEEDS:
            return self.feeds(strip)
        if role in (Qt.ItemDataRole.ToolTipRole, Qt.ItemDataRole.AccessibleTextRole):
            return self.told(strip, index.column())
        return None

    def output(self, strip: Strip) -> str:
        """What a strip feeds."""
        return "the audio device" if strip.kind == "main" else self.name_of(strip.output)

    def feeds(self, strip: Strip) -> str:
        """What a strip feeds, and sends to, in a line."""
        sends = [f"{self.name_of(send.target)}{'' if send.enabled else ' (off)'}" for send in strip.sends]
        return ", ".join([self.output(strip), *sends])

    def told(self, strip: Strip, column: int) -> str:
        """A cell in words."""
        if column == CHAIN:
            words = [f"{use.label}{'' if use.enabled else ' (bypassed)'}" for use in strip.uses()]
            return " → ".join(words) or "no plugins"
        if column == FEEDS:
            sides = [("pre" if send.pre_fader else "post", self.name_of(send.target)) for send in strip.sends]
            levels = [f"sends to {target}, {side} fader" for side, target in sides]
            return "; ".join([f"feeds {self.output(strip)}", *levels])
        if column == WHEN:
            if not strip.clips:
                return "no clips" if strip.kind == "track" else "whenever something feeds it"
            total = sum(clip.end - clip.start for clip in strip.clips)
            return f"{len(strip.clips)} clips, {total:.0f} seconds in all"
        marks: list[str] = [strip.kind if strip.kind != "main" else "main output"]
        marks += ["record-armed"] if strip.armed else []
        marks += [] if strip.enabled else ["switched off"]
        return f"{strip.name}: {', '.join(marks)}"

    def setData(self, index: Index, value: Any, role: int = Qt.ItemDataRole.EditRole) -> bool:
        if role != Qt.ItemDataRole.EditRole or str(value).strip() == self.strip(index).name:
            return False
        self._renamed(self.strip(index).id, str(value))
        return True
