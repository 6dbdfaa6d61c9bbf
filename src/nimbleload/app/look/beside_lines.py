"""Where figures are written beside the lines that they belong to: apart, however near these are."""

from __future__ import annotations

from collections.abc import Mapping

from PySide6.QtCore import QRectF


def beside_lines(heights: Mapping[float, float], wide: float, high: float) -> dict[float, QRectF]:
    """Where one or two figures stand, `wide` by `high` each, by what they are: their lines are at these heights."""
    upper, *lower = sorted(heights, key=lambda each: (heights[each], -each))
    missing = max(high - abs(heights[upper] - heights[lower[0]]), 0.0) / 2 if lower else 0.0
    shifts = zip((upper, *lower), (-missing, missing), strict=False)
    return {each: QRectF(0, heights[each] + shift - high / 2, wide, high) for each, shift in shifts}
