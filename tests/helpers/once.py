"""What takes long to work out and is the same for all tests: once a run, whatever number of processes share it."""

from __future__ import annotations

import fcntl
import os
import pickle


def once(factory, name, make):
    """What `make` returns (something that can be pickled), worked out by the first process that wants it."""
    shared = factory.getbasetemp().parent if "PYTEST_XDIST_WORKER" in os.environ else factory.getbasetemp()
    kept = shared / f"{name}.pickle"
    with (shared / f"{name}.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not kept.exists():
            kept.write_bytes(pickle.dumps(make()))
        return pickle.loads(kept.read_bytes())
