"""Changes an XML text in single places and leaves every other byte as it was: comments, order, spaces, what is foreign.

The text is parsed once for where its elements lie; changes are then put in from the end to the beginning.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from xml.parsers import expat

from .xml_values import quoted


class SpliceError(Exception):
    """Why a text cannot be changed."""


class Element:
    """An element and where it lies (bytes): its start tag from `begin` to `inside`, its end tag from `close` to `end`.

    An element that is written as one tag has nothing between `inside` and `close`.
    """

    def __init__(self, tag: str, attributes: dict[str, str], begin: int, parent: Element | None) -> None:
        self.tag, self.attributes, self.begin, self.parent = tag, attributes, begin, parent
        self.inside = self.close = self.end = begin
        self.children: list[Element] = []

    def find(self, tag: str) -> Element | None:
        return next((child for child in self.children if child.tag == tag), None)

    def iter(self, tag: str) -> Iterator[Element]:
        """All elements of a name below this one, in order."""
        for child in self.children:
            if child.tag == tag:
                yield child
            yield from child.iter(tag)


class Text:
    """An XML text in UTF-8, and the changes that are to be made in it. SpliceError if it cannot be parsed."""

    def __init__(self, content: bytes) -> None:
        self._content = content
        self._edits: list[tuple[int, int, bytes]] = []
        self._opened: set[int] = set()
        declared = re.match(rb'\s*<\?xml[^>]*encoding=["\']([^"\']+)', content.removeprefix(b"\xef\xbb\xbf"))
        if declared and declared.group(1).lower() not in (b"utf-8", b"us-ascii", b"ascii"):
            raise SpliceError(f"it is written in {declared.group(1).decode(errors='replace')}, not in UTF-8")
        self.root = self._parsed()

    def _parsed(self) -> Element:
        parser = expat.ParserCreate()
        stack: list[Element] = []
        roots: list[Element] = []

        def start(tag: str, attributes: dict[str, str]) -> None:
            element = Element(tag, attributes, parser.CurrentByteIndex, stack[-1] if stack else None)
            element.inside = self._end_of_tag(element.begin)
            (stack[-1].children if stack else roots).append(element)
            stack.append(element)

        def end(_: str) -> None:
            element = stack.pop()
            if self._content[element.inside - 2 : element.inside] == b"/>":
                element.close = element.end = element.inside
            else:
                element.close = parser.CurrentByteIndex
                element.end = self._content.index(b">", element.close) + 1

        parser.StartElementHandler, parser.EndElementHandler = start, end
        try:
            parser.Parse(self._content, True)
        except expat.ExpatError as error:
            raise SpliceError(f"it is not well-formed: {error}") from error
        return roots[0]

    def _end_of_tag(self, begin: int) -> int:
        """Where a tag ends: at the first > outside quotes."""
        quote = 0
        for place in range(begin, len(self._content)):
            byte = self._content[place]
            if quote:
                quote = 0 if byte == quote else quote
            elif byte in b"\"'":
                quote = byte
            elif byte == 0x3E:
                return place + 1
        raise SpliceError("a tag has no end")

    def source(self, element: Element, without: Element | None = None) -> str:
        """An element as it is written, with all in it, or all but one of its children."""
        if without is None:
            return self._content[element.begin : element.end].decode()
        return (self._content[element.begin : without.begin] + self._content[without.end : element.end]).decode()

    def copy(self) -> Text:
        """The same text, without the changes."""
        return Text(self._content)

    def set(self, element: Element, name: str, value: str) -> None:
        """Gives an attribute a value, in its place if it is there."""
        tag = self._content[element.begin : element.inside]
        written = re.search(rb"\s" + re.escape(name.encode()) + rb"\s*=\s*(\"[^\"]*\"|'[^']*')", tag)
        if written:
            begin, end = written.span(1)
            self._edits.append((element.begin + begin, element.begin + end, quoted(value).encode()))
        else:
            place = element.inside - (2 if tag.endswith(b"/>") else 1)
            self._edits.append((place, place, f" {name}={quoted(value)}".encode()))

    def insert(self, element: Element, words: str, after: Element | None = None) -> None:
        """Puts text into an element: behind one of its children, or at its end."""
        content = words.encode()
        if element.close == element.inside == element.end and element.end not in self._opened:
            # It was written as one tag: now it has an inside.
            self._opened.add(element.end)
            content = b">" + content + f"</{element.tag}>".encode()
            self._edits.append((element.inside - 2, element.inside, content))
            return
        place = after.end if after is not None else element.close
        self._edits.append((place, place, content))

    def first(self, element: Element, words: str) -> None:
        """Puts text into an element, before all its children."""
        if element.close == element.inside == element.end:
            self.insert(element, words)
        else:
            self._edits.append((element.inside, element.inside, words.encode()))

    def wrap(self, element: Element, before: str, after: str) -> None:
        """Puts text right before and right behind an element, in which nothing else is changed."""
        # Its first and last character are written again, so that what is put between two neighbours stays in order.
        self._edits.append((element.begin, element.begin + 1, f"{before}<".encode()))
        self._edits.append((element.end - 1, element.end, f">{after}".encode()))

    def remove(self, element: Element) -> None:
        """Takes an element out, with all in it, and the line it stands on if nothing else does. Nothing may be changed
        in what is taken out."""
        begin, end = element.begin, element.end
        line = self._content.rfind(b"\n", 0, begin) + 1
        if line and not self._content[line:begin].strip() and self._content[end : end + 1] in (b"\n", b"\r"):
            begin = line - 1
        self._edits.append((begin, end, b""))

    def changed(self) -> bytes:
        """The text with all changes."""
        content = self._content
        for begin, end, words in sorted(self._edits, key=lambda edit: edit[:2], reverse=True):
            content = content[:begin] + words + content[end:]
        return content
