"""F1: the guide, opened at the page of the place; searched and read without a network."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Qt, QUrl
from PySide6.QtGui import QDesktopServices, QTextCharFormat, QTextCursor, QTextDocument
from PySide6.QtWidgets import (
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QTextBrowser,
    QVBoxLayout,
    QWidget,
)

from ...core.units import said_by
from ..look.panels import Dialog
from ..look.theme import theme

# The pages in their order, by the name of the place or of what they are.
PAGES = {
    "The guide": "index", "Why does it crackle?": "crackles", "Machine": "1-machine", "Watch": "2-watch",
    "Session": "3-session", "Measure": "4-measure", "Balance": "5-balance", "Carry out": "6-carry-out",
    "Prove": "7-prove", "Every figure": "figures", "Words": "words",
}  # fmt: skip


def folder() -> Path:
    """Where the guide lies: in the installed program, or beside its source."""
    inside = Path(__file__).resolve().parents[2] / "guide"
    return inside if inside.is_dir() else inside.parents[2] / "docs" / "guide"


def page_text(name: str) -> str:
    """A page as it is written (Markdown). A sentence in place of one that cannot be read."""
    path = folder() / f"{PAGES[name]}.md"
    try:
        return path.read_text()
    except OSError as error:
        return f"# {name}\n\nThis page cannot be read: {path}: {said_by(error)}."


def found_in(words: str) -> list[str]:
    """The pages that hold all these words, in any order; all pages without words."""
    wanted = words.lower().split()
    return [name for name in PAGES if all(word in f"{name} {page_text(name)}".lower() for word in wanted)]


class Help(Dialog):
    """The guide, with a page of it open."""

    def __init__(self, page: str, parent: QWidget | None = None) -> None:
        super().__init__("The guide", parent)
        self.resize(theme.px(880), theme.px(620))
        self.search, self.pages, self.text = QLineEdit(), QListWidget(), QTextBrowser()
        self.search.setPlaceholderText("Search the guide")
        self.search.setAccessibleName("Search the guide")
        self.search.setClearButtonEnabled(True)
        self.pages.setAccessibleName("Pages of the guide")
        self.pages.setMaximumWidth(theme.px(210))
        self.text.setOpenLinks(False)
        # Every page fits, but for a pixel of the longest table.
        self.text.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        left = QVBoxLayout()
        left.addWidget(self.search)
        left.addWidget(self.pages)
        row = QHBoxLayout(self)
        row.addLayout(left)
        row.addWidget(self.text, 1)
        self.search.textChanged.connect(self._show_found)
        self.pages.currentItemChanged.connect(self._show_page)
        self.text.anchorClicked.connect(self.follow)
        self._show_found()
        self.choose(page)

    @property
    def page(self) -> str:
        """The name of the page that is open; empty if none is."""
        item = self.pages.currentItem()
        return str(item.data(Qt.ItemDataRole.UserRole)) if item is not None else ""

    def choose(self, name: str) -> None:
        """Opens a page."""
        for row in range(self.pages.count()):
            if self.pages.item(row).data(Qt.ItemDataRole.UserRole) == name:
                self.pages.setCurrentRow(row)

    def follow(self, link: QUrl) -> None:
        """Opens the page that a link names; what is no page of the guide is the system's to open."""
        name = next((name for name, file in PAGES.items() if link.fileName() == f"{file}.md"), None)
        if name is None:
            QDesktopServices.openUrl(QUrl.fromLocalFile(f"{folder()}/").resolved(link))
            return
        self.search.clear()
        self.choose(name)

    def _show_found(self) -> None:
        """The pages that hold what is searched for; the one that was open stays open if it does."""
        before = self.page
        self.pages.clear()
        for name in found_in(self.search.text()):
            item = QListWidgetItem(name)
            item.setData(Qt.ItemDataRole.UserRole, name)
            self.pages.addItem(item)
        self.choose(before)
        if self.pages.currentRow() < 0 and self.pages.count():
            self.pages.setCurrentRow(0)

    def _show_page(self) -> None:
        if not self.page:
            self.text.setMarkdown("No page holds all these words.")
            return
        self.text.setSearchPaths([str(folder())])
        document = self.text.document()
        document.setBaseUrl(QUrl.fromLocalFile(f"{folder()}/"))
        self.text.setAccessibleName(f"The guide: {self.page}")
        self.text.setMarkdown(page_text(self.page))
        self._lay_out(max(self.text.viewport().width() - theme.px(24), theme.px(300)))
        first = self.search.text().split()
        if first:
            self.text.find(first[0], QTextDocument.FindFlag(0))

    def _lay_out(self, width: int) -> None:
        """Makes the pictures of the page as wide as that, links readable, and leaves room between paragraphs."""
        document = self.text.document()
        found: list[tuple[int, int, QTextCharFormat]] = []
        cursor, block = QTextCursor(document), document.begin()
        cursor.beginEditBlock()  # or the whole page is laid out again for each paragraph
        while block.isValid():
            cursor.setPosition(block.position())
            room = block.blockFormat()
            room.setBottomMargin(theme.px(3 if block.textList() is not None else 9))
            cursor.setBlockFormat(room)
            places = block.begin()
            while not places.atEnd():
                fragment = places.fragment()
                kind = fragment.charFormat()
                if kind.isImageFormat():
                    picture = kind.toImageFormat()
                    picture.setWidth(width)
                    found.append((fragment.position(), fragment.length(), picture))
                elif kind.isAnchor():
                    kind.setForeground(theme.colour("brass"))
                    found.append((fragment.position(), fragment.length(), kind))
                places += 1
            block = block.next()
        # Afterwards: what is changed can no longer be walked over.
        for position, length, kind in found:
            cursor.setPosition(position)
            cursor.setPosition(position + length, QTextCursor.MoveMode.KeepAnchor)
            cursor.setCharFormat(kind)
        cursor.endEditBlock()
