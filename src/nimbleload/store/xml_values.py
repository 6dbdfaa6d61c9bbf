"""Attributes of an XML element: from a stranger, as checked numbers and words; and as they are written."""

from __future__ import annotations

import math
import re
from pathlib import Path

from lxml import etree

from .archive import LARGEST_XML, ImportRefusedError


def parse(content: bytes, where: str) -> etree._Element:
    """The root of a document. Entities, external parts and extreme depth are refused."""
    if len(content) > LARGEST_XML:
        raise ImportRefusedError(f"{where} is larger than {LARGEST_XML >> 20} MB, so it was not read.")
    parser = etree.XMLParser(resolve_entities=False, no_network=True, load_dtd=False, huge_tree=False)
    try:
        root = etree.fromstring(content, parser)
    except etree.XMLSyntaxError as error:
        raise ImportRefusedError(f"{where} is not well-formed: {error}.") from error
    if root.getroottree().docinfo.internalDTD is not None:
        raise ImportRefusedError(f"{where} declares a document type and entities; a session needs none: refused.")
    return root


# What no XML can hold (1.0, 2.2), whatever stands for it.
UNWRITABLE = re.compile("[\0-\x08\x0b\x0c\x0e-\x1f\ud800-\udfff\ufffe\uffff]")
# What is said of a file with such a name: sessions could not name it.
UNNAMED = "its name, or that of a folder in which it lies, is not in UTF-8 or holds control characters: rename it first"
# Parameters that count in whole numbers.
WHOLE = ("IntegerParameter", "EnumParameter")


def quoted(value: str) -> str:
    """A value as an attribute has it, in its quotes."""
    from xml.sax.saxutils import quoteattr  # imported here: it would lengthen every start

    return quoteattr(value)


def writable(words: str) -> str:
    """Words without what no XML can hold."""
    return UNWRITABLE.sub("", words)


def is_writable(words: str) -> bool:
    """Whether XML, and JSON, can hold words as they are."""
    return UNWRITABLE.search(words) is None


def shown(path: Path | str) -> str:
    """A path, or its name, as it can be shown, whatever is in it."""
    return UNWRITABLE.sub("?", str(path))


def value_as(tag: str, value: float) -> str:
    """The value of a parameter as an element of its kind has it: to the last digit."""
    if tag == "BoolParameter":
        return str(value >= 0.5).lower()
    return str(round(value)) if tag in WHOLE else repr(float(value))


def setting_of(parameter: etree._Element, where: str) -> float:
    """Where a parameter of any kind stands: 1 or 0 for the truth of a switch, else its number."""
    if parameter.tag == "BoolParameter":
        return float(flag(parameter, "value", False))
    return number(parameter, "value", 0, where)


def place(element: etree._Element, where: str) -> str:
    """Where an element stands, for a message: file, line, tag and name."""
    name = element.get("name") or element.get("id")
    return f"{where}, line {element.sourceline}, {element.tag}" + (f" “{name}”" if name else "")


def number(
    element: etree._Element, name: str, default: float, where: str, least: float = -1e12, most: float = 1e12
) -> float:
    """An attribute as a finite number within its range; `default` if it is missing."""
    text = element.get(name)
    if text is None:
        return default
    try:
        value = float(text)
    except ValueError:
        value = math.nan
    if not (math.isfinite(value) and least <= value <= most):
        raise ImportRefusedError(f"{place(element, where)}: {name} is {text!r}, which is not possible.")
    return value


def flag(element: etree._Element | None, name: str, default: bool) -> bool:
    """A boolean attribute; `default` if the element or the attribute is missing."""
    text = None if element is None else element.get(name)
    return default if text is None else text.strip().lower() in ("true", "1")


def gain(element: etree._Element | None, where: str) -> float:
    """The `value` of a volume as a linear gain; 1 if it is missing."""
    if element is None:
        return 1.0
    if element.get("unit") == "decibel":
        return float(10 ** (number(element, "value", 0.0, where, -1000, 200) / 20))
    return number(element, "value", 1.0, where, 0, 1e6)


def balance(element: etree._Element | None, where: str) -> float:
    """The `value` of a pan, from −1 (left) to 1 (right); 0 if it is missing.

    The format counts from `min` to `max`: 0 to 1 where they are not given.
    """
    if element is None:
        return 0.0
    least, most = number(element, "min", 0.0, where), number(element, "max", 1.0, where)
    if not most > least:
        return 0.0
    return balanced(number(element, "value", (least + most) / 2, where), least, most)


def balanced(value: float, least: float, most: float) -> float:
    """A pan that counts from `least` to `most` (more than that), from −1 to 1."""
    return max(-1.0, min(1.0, (2 * value - least - most) / (most - least)))
