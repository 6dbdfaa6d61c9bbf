"""The calling convention of the house processors: that of CLAP's `process`, read from its C structures.

CLAP (github name free-audio/clap, an open standard) calls `int32 process(const clap_plugin*, const clap_process*)`.
The offsets below are those of its version 1 structures on 64-bit machines. A processor's own memory hangs on the
plugin structure: `plugin_data` points to four (address, count) pairs, one for each array of `Memory`.
"""

import numpy as np
from numba import njit

from ..native.memory import array_at, call2, call_for_address, load_i16, load_i32, load_i64

F32 = np.zeros(0, np.float32)
F64 = np.zeros(0, np.float64)
I64 = np.zeros(0, np.int64)

CONTINUE = 1
# Kinds of events: a note begins, or ends; a controller of a MIDI message (the standard's own number is 10).
NOTE_ON, NOTE_OFF, CONTROLLER, OTHER = 0, 1, 10, -1
# What a MIDI message that turns a controller of the first channel begins with.
TURNS = 0xB0

# clap_plugin
PLUGIN_DATA, PLUGIN_PROCESS, PLUGIN_BYTES = 8, 72, 96
# clap_process
FRAMES, AUDIO_IN, AUDIO_OUT, EVENTS_IN = 8, 24, 32, 48
# clap_event_header and clap_event_note
EVENT_TIME, EVENT_TYPE, EVENT_KEY, EVENT_MESSAGE = 4, 10, 24, 18


@njit(inline="always")
def frames_of(block):
    """The number of samples in this block."""
    return load_i32(block + FRAMES)


@njit(inline="always")
def memory_of(plugin):
    """The processor's own arrays: settings (float64), state (float64), samples (float32), counters (int64)."""
    own = load_i64(plugin + PLUGIN_DATA)
    return (
        array_at(load_i64(own), load_i64(own + 8), F64),
        array_at(load_i64(own + 16), load_i64(own + 24), F64),
        array_at(load_i64(own + 32), load_i64(own + 40), F32),
        array_at(load_i64(own + 48), load_i64(own + 56), I64),
    )


@njit(inline="always")
def channel(block, port, number):
    """One channel of the first audio port; `port` is AUDIO_IN or AUDIO_OUT. (frames, float32, not copied)"""
    channels = load_i64(load_i64(block + port))
    return array_at(load_i64(channels + 8 * number), frames_of(block), F32)


@njit(inline="always")
def event_count(block):
    """How many events the host sent with this block."""
    listing = load_i64(block + EVENTS_IN)
    return call2(load_i64(listing + 8), listing, 0)


@njit(inline="always")
def event_at(block, number):
    """An event of this block as (kind, sample offset, key); of a controller the key is its number, and 256 times its
    value (0 to 127)."""
    listing = load_i64(block + EVENTS_IN)
    event = call_for_address(load_i64(listing + 16), listing, number)
    kind, at = load_i16(event + EVENT_TYPE), load_i32(event + EVENT_TIME)
    if kind == CONTROLLER:
        # Two bytes at a time: what it is and which one, and the value.
        begins, ends = load_i16(event + EVENT_MESSAGE), load_i16(event + EVENT_MESSAGE + 2)
        if begins & 0xFF != TURNS:
            return OTHER, at, 0
        return CONTROLLER, at, (begins >> 8 & 0x7F) + 256 * (ends & 0x7F)
    if kind != NOTE_ON and kind != NOTE_OFF:
        return OTHER, at, 0
    return kind, at, load_i16(event + EVENT_KEY)
