"""Below everything: memory, atomics, calls by address, and known arithmetic, compiled (Numba, LLVM)."""
