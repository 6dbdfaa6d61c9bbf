"""What is compiled here leaves the core's clock alone: no vectors of 512 bits, which lower it for what comes next."""

from __future__ import annotations

import platform

import numpy as np
import pytest
from numba import njit


@pytest.mark.skipif(platform.machine() != "x86_64", reason="only these processors have them")
def test_compiled_loops_use_no_wide_vectors():
    @njit
    def copied(inputs, source, at, frames):
        for c in range(inputs.shape[0]):
            for i in range(frames):
                inputs[c, i] = source[c % source.shape[0], at + i]

    @njit(fastmath=True)
    def bent(values):
        for i in range(len(values)):
            values[i] = 0.5 * values[i] + values[i] * values[i] * (0.25 - 0.125 * values[i])

    copied(np.zeros((2, 64), np.float32), np.zeros((2, 640), np.float32), 0, 64)
    bent(np.zeros(2048, np.float32))
    for made in (copied, bent):
        (code,) = made.inspect_asm().values()
        assert "zmm" not in code
        assert "xmm" in code
