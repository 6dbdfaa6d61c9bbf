"""Whose code is whose in a file that holds several plugins, so that what runs in a host can be told apart.

Each plugin of such a file names functions of its own, above all the one that computes a block. Those are its; and all
whose names say so: compilers write into the name of a function the class that it belongs to, and a word that occurs in
the functions of one plugin, and of no other, marks it. What plugins share stays nobody's in particular: it counts for
the one that called it.
"""

from __future__ import annotations

import ctypes as c
import os
import re
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from .catalogue import Place
from .elf import ElfError, Functions, functions
from .formats import ladspa, lv2
from .formats.hosted import PluginError, text


class _Where(c.Structure):
    """Dl_info: which file an address lies in, and where that was loaded."""

    _fields_ = (("file", c.c_char_p), ("base", c.c_void_p), ("symbol", c.c_char_p), ("address", c.c_void_p))


# What a plugin's descriptor names, in both standards or in one of them.
FUNCTIONS = (
    "run", "run_adding", "instantiate", "connect_port", "activate", "deactivate", "cleanup", "extension_data",
)  # fmt: skip
# So many plugins a file may hold.
MOST = 10_000
WORD = re.compile(r"\d+")


def places(path: Path) -> tuple[Place, ...]:
    """Where the code of each plugin of an LV2 or LADSPA file lies, of those of which it can be told. The file is
    loaded, and so its code may run. PluginError if it cannot be."""
    try:
        found = functions(path.resolve())
    except (ElfError, OSError) as error:
        raise PluginError(str(error)) from error
    lie = _whereabouts(path)
    own = {identifier: _numbers(found, lie(_functions_of(of))) for identifier, of in _descriptors(path)}
    whose = owners(list(own.values()), found.names)
    return tuple(
        Place(identifier, _joined(found, np.flatnonzero(whose == number)))
        for number, identifier in enumerate(own)
        if (whose == number).any()
    )


def owners(own: Sequence[Iterable[int]], names: Sequence[str]) -> NDArray[np.int64]:
    """For each of F functions by their names which of P plugins it belongs to (−1: to none of them in particular), of
    which each is known to use some functions (`own`: P, places among the names)."""
    found = np.full(len(names), -1, np.int64)
    said = [set().union(*(words(names[place]) for place in each)) for each in own]
    times = Counter(word for each in said for word in each)
    marks = {word: number for number, each in enumerate(said) for word in each if times[word] == 1}
    for place, name in enumerate(names):
        who = {marks[word] for word in words(name) if word in marks}
        if len(who) == 1:
            (found[place],) = who
    users = Counter(place for each in own for place in set(each))
    for number, each in enumerate(own):
        for place in each:
            if users[place] == 1:
                found[place] = number
    return found


def words(name: str) -> set[str]:
    """The words that a linker's name of a C++ function is made of (each with its length before it); any other name as
    it is. Source: the Itanium C++ ABI."""
    if not name.startswith("_Z"):
        return {name} if name else set()
    found, at = set(), 2
    while (told := WORD.search(name, at)) is not None:
        length, at = int(told[0]), told.end()
        if 0 < length <= len(name) - at:
            found.add(name[at : at + length])
            at += length
    return found


def _descriptors(path: Path) -> Iterator[tuple[str, c.Structure]]:
    """What a file says of each of its plugins, by their identifiers."""
    try:
        library = c.CDLL(str(path), mode=os.RTLD_LOCAL | os.RTLD_NOW)
    except OSError as error:
        raise PluginError(f"{path} cannot be loaded: {error}") from error
    if not hasattr(library, "lv2_descriptor"):
        yield from ((ladspa.identifier(of), of) for of in ladspa.descriptors(str(path)))
        return
    entry = library.lv2_descriptor
    entry.restype, entry.argtypes = c.POINTER(lv2.Descriptor), [c.c_uint32]
    for index in range(MOST):
        if not (found := entry(index)):
            return
        yield text(found.contents.uri), found.contents


def _functions_of(of: c.Structure) -> list[int | None]:
    """The addresses of the functions that a plugin's descriptor names; None for those that it has not."""
    return [c.cast(getattr(of, name), c.c_void_p).value for name in FUNCTIONS if hasattr(of, name)]


def _whereabouts(path: Path) -> Callable[[Sequence[int | None]], list[int]]:
    """What makes of addresses in memory those that lie in this file, counted from where it was loaded."""
    find, file = c.CDLL(None).dladdr, path.resolve()
    find.argtypes = [c.c_void_p, c.POINTER(_Where)]

    def told(addresses: Sequence[int | None]) -> list[int]:
        found = []
        for address in addresses:
            where = _Where()
            if address and find(address, c.byref(where)) and Path(os.fsdecode(where.file)).resolve() == file:
                found.append(address - where.base)
        return found

    return told


def _numbers(of: Functions, addresses: Sequence[int]) -> list[int]:
    """Which functions begin at these addresses, by their places; what is the beginning of none is left out."""
    places = np.searchsorted(of.address, addresses)
    return [
        place for place, address in zip(places.tolist(), addresses, strict=True)
        if place < len(of.address) and of.address[place] == address
    ]  # fmt: skip


def _joined(of: Functions, places: NDArray[np.int64]) -> tuple[tuple[int, int], ...]:
    """From where to where these functions lie in the file; those that lie one behind the other as one."""
    found: list[tuple[int, int]] = []
    for begin, end in zip(of.begin[places].tolist(), of.end[places].tolist(), strict=True):
        if found and found[-1][1] == begin:
            found[-1] = found[-1][0], end
        else:
            found.append((begin, end))
    return tuple(found)
