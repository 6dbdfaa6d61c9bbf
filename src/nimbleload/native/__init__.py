"""Below everything: memory, atomics and calls by address, compiled (Numba, LLVM)."""
