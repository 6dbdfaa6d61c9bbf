"""Objects of the host's side as C sees them, with functions in Python: for the thread of a window, or for what is
called while nothing is timed; never for the one that computes audio."""

from __future__ import annotations

import ctypes as c
from collections.abc import Callable, Mapping, Sequence
from typing import Any, NamedTuple

import numpy as np

POINTER = c.c_void_p
INTERFACE_BYTES = 16
NO_INTERFACE = -1
OK = 0


class Function(NamedTuple):
    """A function of a table: what it gives, what it takes (without the object itself), and what it does."""

    result: Any
    takes: tuple[Any, ...]
    does: Callable[..., Any]


class CObject:
    """A VST3 object: its first word points to a table that begins with `queryInterface`, `addRef` and `release`.

    `offers` says what it is asked for by interface (16 bytes) and the address of what it gives then; itself is not
    among it. It lives as long as this program holds it; `holders` counts who else says that it holds it.
    """

    def __init__(self, functions: Sequence[Function], offers: Mapping[bytes, int] | None = None) -> None:
        self.offers = dict(offers or {})
        base = [
            Function(c.c_int32, (POINTER, POINTER), self._query),
            Function(c.c_uint32, (), lambda: self._count(1)),
            Function(c.c_uint32, (), lambda: self._count(-1)),
        ]
        self.holders = 0
        self._functions = [made(each, True) for each in (*base, *functions)]
        self._table = np.array([c.cast(each, POINTER).value for each in self._functions], np.int64)
        self._object = np.array([self._table.ctypes.data], np.int64)

    @property
    def address(self) -> int:
        return int(self._object.ctypes.data)

    def _query(self, wanted: int, found: int) -> int:
        address = self.offers.get(c.string_at(wanted, INTERFACE_BYTES), 0)
        c.c_int64.from_address(found).value = address
        self.holders += address == self.address
        return OK if address else NO_INTERFACE

    def _count(self, by: int) -> int:
        self.holders += by
        return max(self.holders, 0)


class CTable:
    """A table of functions in a row, as CLAP's extensions are; each is called with the host first, which is left out.

    `address` stays valid as long as this program holds it.
    """

    def __init__(self, *functions: Function) -> None:
        self._functions = [made(each, True) for each in functions]
        self._table = np.array([c.cast(each, POINTER).value for each in self._functions], np.int64)
        self.address = int(self._table.ctypes.data)


def made(function: Function, with_self: bool = False) -> Any:
    """A C function that calls Python; with `with_self` its first argument is an object's address, which is left out."""
    takes = (POINTER, *function.takes) if with_self else function.takes
    kind = c.CFUNCTYPE(function.result, *takes)
    return kind((lambda _, *given: function.does(*given)) if with_self else function.does)
