"""Below everything: memory, atomics, calls by address, known arithmetic, compiled (Numba, LLVM); how JSON is read."""
