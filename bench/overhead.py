"""What the timed loop adds to a call, and how well a known cost comes out.

.venv/bin/python -m bench.overhead
"""

from __future__ import annotations

import numpy as np

from nimbleload.probe.restraint import settle_on_core
from nimbleload.probe.timed import overhead_ns


def main() -> None:
    settle_on_core(None)
    found = [overhead_ns() for _ in range(9)]
    print(f"overhead of a timed call: {int(np.median(found))} ns (goal 60), between {min(found)} and {max(found)}")


if __name__ == "__main__":
    main()
