"""Which voice plays which note: shared by the two instruments.

A voice is three counters: key (−1: free), age, and whether it is held; its loudness is a state value that
rises to 1 while it is held and falls by a factor a sample after.
"""

from numba import njit

from .abi import NOTE_OFF, NOTE_ON

FIELDS = 3
KEY, AGE, HELD = 0, 1, 2
SILENCE = 1e-5


@njit(cache=True)
def note(counters, voices, kind, key):
    """Starts or releases a note; with no voice free, the oldest one is taken. Returns the voice that starts, or −1."""
    if kind == NOTE_OFF:
        for v in range(voices):
            if counters[FIELDS * v + KEY] == key:
                counters[FIELDS * v + HELD] = 0
        return -1
    if kind != NOTE_ON:
        return -1
    chosen = 0
    for v in range(voices):
        counters[FIELDS * v + AGE] += 1
    for v in range(voices):
        if counters[FIELDS * v + KEY] < 0:
            chosen = v
            break
        if counters[FIELDS * v + AGE] > counters[FIELDS * chosen + AGE]:
            chosen = v
    counters[FIELDS * chosen + KEY] = key
    counters[FIELDS * chosen + AGE] = 0
    counters[FIELDS * chosen + HELD] = 1
    return chosen
