"""Which voice plays which note: shared by the two instruments.

A voice is three counters: key (−1: free), age, and what holds it: nothing, its key or the sustain pedal; its loudness
is a state value that rises to 1 while it is held and falls by a factor a sample after. After the voices comes one more
counter: whether the pedal is down.
"""

import numpy as np
from numba import njit

from .abi import CONTROLLER, NOTE_OFF, NOTE_ON

FIELDS = 3
KEY, AGE, HELD = 0, 1, 2
SILENCE = 1e-5
BY_KEY, BY_PEDAL = 1, 2
# The number of the sustain pedal, and from which value on it is down.
PEDAL, DOWN = 64, 64


def free(voices):
    """The counters of so many voices that play nothing, the pedal up (int64)."""
    return np.array([-1, 0, 0] * voices + [0], np.int64)


@njit(cache=True)
def note(counters, voices, kind, key):
    """Starts or releases a note, or moves the pedal; with no voice free, the oldest one is taken. Returns the voice
    that starts, or −1. A key that is struck again ends what the pedal held of it."""
    pedal = FIELDS * voices
    if kind == CONTROLLER:
        if key & 0xFF == PEDAL:
            counters[pedal] = key >> 8 >= DOWN
            for v in range(voices):
                if not counters[pedal] and counters[FIELDS * v + HELD] == BY_PEDAL:
                    counters[FIELDS * v + HELD] = 0
        return -1
    if kind == NOTE_OFF:
        for v in range(voices):
            if counters[FIELDS * v + KEY] == key and counters[FIELDS * v + HELD] == BY_KEY:
                counters[FIELDS * v + HELD] = BY_PEDAL if counters[pedal] else 0
        return -1
    if kind != NOTE_ON:
        return -1
    for v in range(voices):
        if counters[FIELDS * v + KEY] == key and counters[FIELDS * v + HELD] == BY_PEDAL:
            counters[FIELDS * v + HELD] = 0
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
    counters[FIELDS * chosen + HELD] = BY_KEY
    return chosen
