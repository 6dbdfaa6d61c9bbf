"""Pan laws: how loud each side of a strip is by where its pan stands. Hosts differ in them, and many let one choose."""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import NDArray

# Not known; balance, which turns the far side down; what the centre is lowered by (dB); what the sides are raised by.
PanLaw = Literal["", "balance", "-3", "-4.5", "-6", "+3", "+4.5", "+6"]
LAWS: tuple[PanLaw, ...] = ("balance", "-3", "-4.5", "-6", "+3", "+4.5", "+6")


def sides(law: PanLaw, pan: NDArray[np.float64]) -> NDArray[np.float64]:
    """The gains of the left and the right side (N, 2; linear) where the pan stands (N; −1 left … 1 right).

    With 3 dB the power of both sides together stays (sine and cosine of a quarter circle), with 6 dB their sum
    (straight lines), with 4.5 dB the geometric mean of these. ValueError for a law that is none.
    """
    if law not in LAWS:
        raise ValueError(f"{law!r} is no pan law")
    both = np.stack((-pan, pan), axis=-1)
    if law == "balance":
        return np.minimum(1.0 + both, 1.0)
    found = _lowered(law[1:], both)
    return found / _lowered(law[1:], np.zeros(1)) if law[0] == "+" else found


def _lowered(by: str, towards: NDArray[np.float64]) -> NDArray[np.float64]:
    """The gain of a side (N) of the law that lowers the centre by so many decibels, by how far the pan is towards that
    side (N; −1 … 1)."""
    straight, power = (1.0 + towards) / 2, np.sin((1.0 + towards) * np.pi / 4)
    return {"3": power, "4.5": np.sqrt(straight * power), "6": straight}[by]


def changes(law: PanLaw, pan: float) -> bool:
    """Whether anything gets louder or softer where the pan stands so."""
    return not bool(np.allclose(sides(law, np.array([pan])), 1.0))
