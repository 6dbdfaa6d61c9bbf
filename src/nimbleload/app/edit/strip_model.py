"""The strips of a session as a tree: buses hold what feeds them, everything in the session's order."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, NamedTuple

from PySide6.QtCore import QAbstractItemModel, QModelIndex, QPersistentModelIndex, Qt

from ...core.session.session import Session
from ...core.session.strips import Strip
from ...core.units import count

HEADINGS = ("Track", "Chain", "Feeds", "When it sounds")
NAME, CHAIN, FEEDS, WHEN = range(4)
STRIP_ROLE = Qt.ItemDataRole.UserRole
Index = QModelIndex | QPersistentModelIndex
TOP = -1
# So many rows that have changed are told one by one.
FEW = 12
SHOWN = Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable | Qt.ItemFlag.ItemIsDropEnabled
NAMED = SHOWN | Qt.ItemFlag.ItemIsEditable | Qt.ItemFlag.ItemIsDragEnabled


class Arranged(NamedTuple):
    """Strips as rows. Each strip has a number that it keeps for good: `strips` are those that are there by their
    numbers, `parents` the bus that each feeds, `children` what stands below each (below `TOP` in the outermost rows),
    in order, and `rows` where each stands among those beside it; of the latter two only what is shown."""

    strips: dict[int, Strip]
    parents: dict[int, int]
    children: dict[int, list[int]]
    rows: dict[int, int]


class Run(NamedTuple):
    """Rows beside each other, `first` to `last`, below a strip or `TOP`."""

    parent: int
    first: int
    last: int


def _more(few: Arranged, many: Arranged) -> Run | None:
    """The rows that one has and the other has not, with all below them; None if they are not beside each other, or if
    that is not all in which the two differ."""
    known = [TOP, *few.rows]
    differing = [each for each in known if few.children.get(each, []) != many.children.get(each, [])]
    if len(differing) != 1:
        return None
    before, after = (of.children.get(differing[0], []) for of in (few, many))
    count = len(after) - len(before)
    first = next((row for row, (a, b) in enumerate(zip(before, after, strict=False)) if a != b), len(before))
    is_run = count > 0 and after[:first] + after[first + count :] == before
    return Run(differing[0], first, first + count - 1) if is_run else None


class StripModel(QAbstractItemModel):
    """Rows are strips; `renamed` is called with an id and a new name when one is typed in.

    Where rows only come, go or change places what is folded and chosen stays so; else the model is reset.
    """

    def __init__(self, renamed: Callable[[str, str], object]) -> None:
        super().__init__()
        self._renamed = renamed
        self.strips: tuple[Strip, ...] = ()
        self.length = 0.0
        self._names: dict[str, str] = {}
        self._numbers: dict[str, int] = {}
        self._now = Arranged({}, {}, {}, {})
        self._words = ""

    def show(self, session: Session) -> None:
        """Takes another session."""
        before, strips, names = self.strips, session.strips, self._names
        self._names = {strip.id: strip.name for strip in strips}
        # Rows show the names of others, and clips for as long as the piece lasts.
        others = any(self._names.get(each, name) != name for each, name in names.items())
        is_all = others or self.length != session.length
        self.strips, self.length = strips, session.length
        if [(s.id, s.kind, s.output) for s in strips] != [(s.id, s.kind, s.output) for s in before]:
            self._take(self._arranged())
        else:
            self._now = self._now._replace(strips={self._numbers[strip.id]: strip for strip in strips})
        known = {} if is_all else {strip.id: strip for strip in before}
        changed = [self._numbers[strip.id] for strip in strips if known.get(strip.id) is not strip]
        self._tell(changed)

    def _tell(self, changed: list[int]) -> None:
        """Has rows painted anew: each by itself, or many bus by bus, since what is told of a range counts for the rows
        of one parent alone."""
        rows = [[number] for number in changed if number in self._now.rows]
        for each in rows if len(rows) <= FEW else self._now.children.values():
            self.dataChanged.emit(self._at(each[0]), self._at(each[-1], WHEN))

    def set_filter(self, words: str) -> None:
        self._words = words.strip().lower()
        self._reset(self._arranged())

    def _take(self, found: Arranged) -> None:
        """Shows the strips in other rows, and tells what has become of those that are shown."""
        now = self._now
        if (run := _more(now, found)) is not None:
            self.beginInsertRows(self._at(run.parent), run.first, run.last)
            self._now = found
            self.endInsertRows()
        elif (run := _more(found, now)) is not None:
            self.beginRemoveRows(self._at(run.parent), run.first, run.last)
            self._now = found
            self.endRemoveRows()
        elif found.rows.keys() == now.rows.keys():
            self.layoutAboutToBeChanged.emit()
            held = self.persistentIndexList()
            self._now = found
            self.changePersistentIndexList(held, [self._at(each.internalId(), each.column()) for each in held])
            self.layoutChanged.emit()
        else:
            self._reset(found)

    def _reset(self, found: Arranged) -> None:
        self.beginResetModel()
        self._now = found
        self.endResetModel()

    def _fits(self, strip: Strip) -> bool:
        told = " ".join([strip.name, *(use.label for use in strip.uses())]).lower()
        return all(word in told for word in self._words.split())

    def _arranged(self) -> Arranged:
        strips = {self._numbers.setdefault(strip.id, len(self._numbers)): strip for strip in self.strips}
        buses = {strip.id: number for number, strip in strips.items() if strip.kind == "bus"}
        # A circle of them cannot be: edits refuse it.
        parents = {number: buses.get(strip.output or "", TOP) for number, strip in strips.items()}
        shown = set()
        for number, strip in strips.items():
            if not self._words or self._fits(strip):
                while number != TOP and number not in shown:
                    shown.add(number)
                    number = parents[number]
        children: dict[int, list[int]] = {}
        rows = {}
        for number, parent in parents.items():
            if number in shown:
                siblings = children.setdefault(parent, [])
                rows[number] = len(siblings)
                siblings.append(number)
        return Arranged(strips, parents, children, rows)

    def strip(self, index: Index) -> Strip:
        return self._now.strips[index.internalId()]

    def index_of(self, strip_id: str, column: int = 0) -> QModelIndex:
        """Where a strip stands; invalid if it is not shown."""
        return self._at(self._numbers.get(strip_id, TOP), column)

    def _at(self, number: int, column: int = 0) -> QModelIndex:
        row = self._now.rows.get(number)
        return self.createIndex(row, column, number) if row is not None else QModelIndex()

    def place(self, index: Index) -> list[int]:
        """In which row each of those stands that a strip lies below, and it itself, from the outermost one on."""
        number, found = index.internalId(), []
        while number != TOP:
            found.append(self._now.rows[number])
            number = self._now.parents[number]
        return found[::-1]

    def name_of(self, strip_id: str | None) -> str:
        return self._names.get(strip_id or "", "nothing")

    # What Qt asks

    def index(self, row: int, column: int, parent: Index = QModelIndex()) -> QModelIndex:  # noqa: B008
        children = self._now.children.get(parent.internalId() if parent.isValid() else TOP, [])
        return self.createIndex(row, column, children[row]) if 0 <= row < len(children) else QModelIndex()

    def parent(self, index: Index) -> QModelIndex:  # type: ignore[override]
        return self._at(self._now.parents[index.internalId()]) if index.isValid() else QModelIndex()

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        if parent.isValid() and parent.column() > 0:
            return 0
        return len(self._now.children.get(parent.internalId() if parent.isValid() else TOP, []))

    def hasChildren(self, parent: Index = QModelIndex()) -> bool:  # noqa: B008
        return self.rowCount(parent) > 0

    def columnCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return len(HEADINGS)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if role == Qt.ItemDataRole.DisplayRole and orientation == Qt.Orientation.Horizontal:
            return HEADINGS[section]
        return None

    def flags(self, index: Index) -> Qt.ItemFlag:
        if not index.isValid():
            return Qt.ItemFlag.NoItemFlags
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
            return f"{count(len(strip.clips), 'clip')}, {total:.0f} seconds in all"
        marks: list[str] = [strip.kind if strip.kind != "main" else "main output"]
        marks += ["record-armed"] if strip.armed else []
        marks += ["mono"] if strip.channels == 1 else []
        marks += [] if strip.enabled else ["switched off"]
        return f"{strip.name}: {', '.join(marks)}"

    def setData(self, index: Index, value: Any, role: int = Qt.ItemDataRole.EditRole) -> bool:
        if role != Qt.ItemDataRole.EditRole or str(value).strip() == self.strip(index).name:
            return False
        self._renamed(self.strip(index).id, str(value))
        return True
