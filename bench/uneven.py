"""The load on cores that are not alike against blocks played by events, tasks thrown onto any free core.

    python -m bench.uneven

For each computer and number of threads: what the load computation says / the mean of the blocks, over sessions (the
middle one, the 5th and the 95th of a hundred), and how much longer than the mean the longest of 30 ways takes.
"""

from __future__ import annotations

import random
import statistics

from nimbleload.core.session.computer import Machine
from tests.helpers.anywhere import against_events

PAIRED, SLOWER, SESSIONS, WAYS = 1.6, 1.8, 40, 30
COMPUTERS = (
    ("8 cores in pairs", Machine(16, second=8), (16, 8, 4)),
    ("4 cores in pairs", Machine(8, second=4), (8, 4)),
    ("6 in pairs and 8 slow", Machine(20, second=6, slow=8), (20, 10)),
    ("6 fast and 8 slow", Machine(14, slow=8), (14,)),
    ("4 fast and 4 slow", Machine(8, slow=4), (8, 4)),
)  # fmt: skip


def main() -> None:
    print("computer                 threads  tracks   said / mean: middle, 5 %, 95 %   longest of 30 / mean")
    for name, machine, counts in COMPUTERS:
        for threads in counts:
            for tracks in (24, 60):
                found = [
                    against_events(machine, threads, tracks, PAIRED, SLOWER, WAYS, random.Random(seed))
                    for seed in range(SESSIONS)
                ]
                ratios = sorted(said / statistics.fmean(ways) for said, ways in found)
                longest = statistics.fmean(max(ways) / statistics.fmean(ways) for _, ways in found)
                low, middle, high = ratios[1], statistics.median(ratios), ratios[-2]
                print(f"{name:24} {threads:6} {tracks:8}   {middle:14.3f} {low:6.3f} {high:6.3f}   {longest:18.2f}")


if __name__ == "__main__":
    main()
