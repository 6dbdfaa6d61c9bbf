"""What each place says of itself to somebody who sees it for the first time."""

from __future__ import annotations

HINTS: dict[str, str] = {
    "Machine": (
        "What of this computer makes blocks late: each card says what was seen and the command that mends it; none is "
        "run for you. The ceiling takes a minute and tells which load it holds."
    ),
    "Watch": (
        "Press play in your host: nothing in it is changed. Hold what you see as before, switch something off there, "
        "and read whether the difference is real."
    ),
    "Session": (
        "Drag plugins into chains, tracks into buses, clips along the time (Ctrl drags a copy). A right click or "
        "Ctrl+K shows all that can be done; Ctrl+Z takes anything back."
    ),
    "Measure": (
        "Every different plugin setting is run by itself, in a process of its own, the dearest first: the load is a "
        "first true figure after seconds. What is known already is not run again."
    ),
    "Balance": (
        "Click a buffer size, a track, or a place along the piece: everything follows. Digits decide for the chosen "
        "tracks, [ and ] change the buffer, and C shows it without the plan while it is held."
    ),
    "Carry out": (
        "What the plan freezes is rendered beside your session and proven against its live sound; the session itself "
        "is never written. Tick the list off before the final render."
    ),
    "Prove": (
        "A rehearsal runs the session's own plugins on real cores against real deadlines, and says how far the "
        "prediction was off, and how much of that was the computer."
    ),
}
