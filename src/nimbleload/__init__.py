"""Nimble Load: why a heavy mix session overloads, and what it would take to make the block fit."""

import os
from pathlib import Path

__version__ = "0.1.0"

# Wide vectors (512 bits) lower a core's clock for a while: what is compiled here must not use them, or it would slow
# down the plugins that are timed beside it. Numba reads these when it is first imported; the level below is one of
# the four that compilers agree on, and every such processor since 2013 has it.
_LEVEL, _NEEDED = "x86-64-v3", {"avx2", "bmi1", "bmi2", "f16c", "fma", "abm", "movbe"}


def _compile_narrow() -> None:
    """Has Numba compile for that level where this processor has it; elsewhere it decides by itself."""
    try:
        with Path("/proc/cpuinfo").open(errors="replace") as file:
            flags = next((line for line in file if line.startswith("flags")), "")
    except OSError:
        return
    if set(flags.split()) >= _NEEDED:
        os.environ.setdefault("NUMBA_CPU_NAME", _LEVEL)
        os.environ.setdefault("NUMBA_CPU_FEATURES", "+avx2")


_compile_narrow()
