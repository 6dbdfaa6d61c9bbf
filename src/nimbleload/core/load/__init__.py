"""The load: what everything costs, peaks, latency, and what fits to a host."""
