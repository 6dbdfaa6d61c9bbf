"""Benches: what takes how long, and how well it fits. Each is a module to run, and says how in its first lines."""

# Before Numba, which reads then what code it may make: with wide vectors, figures would be those of other code.
import nimbleload  # noqa: F401
