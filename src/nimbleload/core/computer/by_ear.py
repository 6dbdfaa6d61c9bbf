"""What somebody heard of his own host while a test load ran beside it: how much of the cores is left."""

from __future__ import annotations

from typing import NamedTuple

# A load has run when it was there for so long (seconds).
LONG_ENOUGH = 3.0


class ByEar(NamedTuple):
    """Loads (shares of the deadline on each core) that ran, and those of them with which it crackled."""

    ran: frozenset[float] = frozenset()
    crackled: frozenset[float] = frozenset()

    def run(self, load: float, seconds: float = LONG_ENOUGH) -> ByEar:
        """A load ran for so long; a short while says nothing."""
        return self._replace(ran=self.ran | {round(load, 4)}) if seconds >= LONG_ENOUGH else self

    def crackle(self, load: float) -> ByEar:
        """It crackled with a load."""
        return self.run(load)._replace(crackled=self.crackled | {round(load, 4)})

    @property
    def crackles_from(self) -> float | None:
        """The lowest load with which it crackled; None if it never did."""
        return min(self.crackled, default=None)

    @property
    def clean_to(self) -> float | None:
        """The highest load with which it did not crackle, below all with which it did; None if there is none."""
        ceiling = min(self.crackled, default=float("inf"))
        return max((load for load in self.ran if load < ceiling), default=None)
