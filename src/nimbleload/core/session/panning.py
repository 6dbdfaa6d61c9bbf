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
    both = np.stack((-pan, pan), axis=-1)
    if law == "balance":
        return np.minimum(1.0 + both, 1.0)
    straight, power = (1.0 + both) / 2, np.sin((1.0 + both) * np.pi / 4)
    lines = {"3": power, "4.5": np.sqrt(straight * power), "6": straight}
    if law not in LAWS:
        raise ValueError(f"{law!r} is no pan law")
    found = np.asarray(lines[law[1:]], np.float64)
    centre = {"3": np.sqrt(0.5), "4.5": np.sqrt(0.5 * np.sqrt(0.5)), "6": 0.5}[law[1:]]
    return found / centre if law[0] == "+" else found


def changes(law: PanLaw, pan: float) -> bool:
    """Whether anything gets louder or softer where the pan stands so."""
    return not bool(np.allclose(sides(law, np.array([pan])), 1.0))
