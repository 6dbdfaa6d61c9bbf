"""What an LV2 plugin meets on the audio thread, compiled: its block function, and the host's side of its worker.

The block function empties the plugin's event outputs before each call and its event inputs after it, as the standard
asks. Work that the plugin schedules is copied into a queue; it is done between runs, off the clock.
"""

from __future__ import annotations

import numpy as np
from numba import cfunc, njit, types

from ...house.abi import I64
from ...native.memory import PROCESS, array_at, call2, load_i64

I32 = np.zeros(0, np.int32)
U8 = np.zeros(0, np.uint8)

# What the handle of the block function points to (int64): the plugin's run and handle, the two URIDs for an empty
# input and output, how many event inputs and outputs there are, and then for each its address and capacity.
RUN, PLUGIN, SEQUENCE, CHUNK, EVENT_INS, EVENT_OUTS, PORTS = range(7)
EMPTY_SEQUENCE_BYTES = 8


@njit(inline="always")
def _set_atom(address, size, kind):
    atom = array_at(address, 2, I32)
    atom[0], atom[1] = size, kind


@cfunc(PROCESS, cache=True)
def run_block(host, frames):
    ins, outs = load_i64(host + 8 * EVENT_INS), load_i64(host + 8 * EVENT_OUTS)
    for k in range(ins, ins + outs):
        port = host + 8 * (PORTS + 2 * k)
        _set_atom(load_i64(port), load_i64(port + 8), load_i64(host + 8 * CHUNK))
    call2(load_i64(host + 8 * RUN), load_i64(host + 8 * PLUGIN), frames)
    for k in range(ins):
        _set_atom(load_i64(host + 8 * (PORTS + 2 * k)), EMPTY_SEQUENCE_BYTES, load_i64(host + 8 * SEQUENCE))
    return 0


@cfunc(types.int32(types.int64, types.uint32, types.int64), cache=True)
def take_words(log, kind, words):
    """What a plugin would have written down: it is taken, and forgotten."""
    return 0


# The worker's queue (int64 header, then bytes): bytes in use, capacity.
QUEUE_BYTES = 1 << 20
SCHEDULE = types.int32(types.int64, types.uint32, types.int64)


@cfunc(SCHEDULE, cache=True)
def schedule_work(queue, size, data):
    header = array_at(queue, 2, I64)
    used = header[0]
    if used + 8 + size > header[1]:
        return 2  # LV2_WORKER_ERR_NO_SPACE
    array_at(queue + 16 + used, 1, I64)[0] = size
    source, target = array_at(data, size, U8), array_at(queue + 24 + used, size, U8)
    for k in range(size):
        target[k] = source[k]
    header[0] = used + 8 + (size + 7) // 8 * 8
    return 0
