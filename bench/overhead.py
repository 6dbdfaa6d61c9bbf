"""What the timed loop adds to a call; and what a host does around a plugin's block: telling it where the piece is.

.venv/bin/python -m bench.overhead
"""

from __future__ import annotations

import ctypes as c

import numpy as np

from nimbleload.probe.formats import clap_host, vst3_abi
from nimbleload.probe.formats.clap_block import Blocks
from nimbleload.probe.formats.piece import Piece
from nimbleload.probe.restraint import settle_on_core
from nimbleload.probe.timed import TimedLoop, _nothing, overhead_ns

FRAMES, BLOCKS, ROUNDS = 64, 20_000, 9


class Empty:
    """A plugin that does nothing, called through what a standard's host does around it."""

    made_for = 0

    def __init__(self, call: int, handle: int, argument: int) -> None:
        self.call, self.handle, self._argument = call, handle, argument
        self.inputs = self.outputs = np.zeros((1, FRAMES), np.float32)

    def argument(self, frames, notes=(), moves=()):
        return self._argument

    def failures(self, codes):
        return 0


def through_clap(kept: list) -> Empty:
    host = clap_host.ClapHost(48000, {})
    host.plays(_nothing.address, 0, 0)
    blocks = Blocks([1], [1], FRAMES, transport=host.transport)
    kept += [host, blocks]
    return Empty(clap_host.run_block.address, host.record.ctypes.data, blocks.argument(FRAMES))


def through_vst3(kept: list) -> Empty:
    record, piece, context = np.zeros(vst3_abi.RECORD, np.int64), Piece(48000), vst3_abi.Context(rate=48000)
    record[vst3_abi.RUN], record[vst3_abi.CONTEXT] = _nothing.address, c.addressof(context)
    record[vst3_abi.PIECE] = piece.address
    block = vst3_abi.ProcessBlock(frames=FRAMES)
    kept += [record, piece, context, block]
    return Empty(vst3_abi.run_block.address, record.ctypes.data, c.addressof(block))


def median_ns(plugin: Empty) -> int:
    loop = TimedLoop(plugin, np.zeros((1, 1024), np.float32))
    loop.run(FRAMES, 1000)
    return int(np.median(loop.run(FRAMES, BLOCKS)))


def main() -> None:
    settle_on_core(None)
    kept: list = []
    found = [overhead_ns() for _ in range(ROUNDS)]
    print(f"overhead of a timed call: {int(np.median(found))} ns (goal 60), between {min(found)} and {max(found)}")
    plain = Empty(_nothing.address, 0, 0)
    for name, plugin in (("CLAP", through_clap(kept)), ("VST3", through_vst3(kept))):
        more = [median_ns(plugin) - median_ns(plain) for _ in range(ROUNDS)]
        print(f"what {name}'s host does around a block: {int(np.median(more))} ns (goal: under 50)")


if __name__ == "__main__":
    main()
