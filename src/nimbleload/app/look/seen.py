"""Which part of something long is seen in a picture: all of it, or from one place to another."""

from __future__ import annotations

# What moves it moves it by so much of what is seen, as a rule.
MOVED = 0.1


class Seen:
    """From `start` to `end` of a `whole` that begins at 0, no less than `least` of it, in whatever unit."""

    def __init__(self, least: float) -> None:
        self._least = least
        self.whole = least
        self._part: tuple[float, float] | None = None

    @property
    def is_all(self) -> bool:
        return self._part is None

    @property
    def ends(self) -> tuple[float, float]:
        return self._part if self._part is not None else (0.0, self.whole)

    @property
    def span(self) -> float:
        start, end = self.ends
        return end - start

    def see_all(self) -> None:
        self._part = None

    def grow_to(self, whole: float) -> None:
        """The whole is so long now; what was seen of it still is, as far as it is there."""
        self.whole = max(whole, 1e-9)
        if self._part is not None:
            self.look_at(*self._part)

    def look_at(self, start: float, end: float) -> None:
        """Shows that part, or as near to it as lies in the whole."""
        span = max(end - start, self._least)
        start = min(max(start, 0.0), max(self.whole - span, 0.0))
        self._part = (start, start + span) if span < self.whole * (1 - 1e-9) else None

    def zoom(self, factor: float, around: float) -> None:
        """Shows so many times as much; the place `around` which it is done stays where it is."""
        start, end = self.ends
        around = min(max(around, start), end)
        span = min(max(factor * (end - start), self._least), self.whole)
        start = around - (around - start) * span / (end - start)
        self.look_at(start, start + span)

    def move(self, share: float) -> None:
        """Shows what comes later, or before, by a share of what is seen."""
        if self._part is not None:
            start, end = self._part
            self.look_at(start + share * (end - start), end + share * (end - start))

    def follow(self, place: float) -> None:
        """Shows a place in the middle, if it is not seen."""
        start, end = self.ends
        if not start <= place <= end:
            self.look_at(place - self.span / 2, place + self.span / 2)
