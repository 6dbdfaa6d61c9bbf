"""Suggested plans against trying all of them: small random sessions, up to sixteen decisions, hosts of every kind.

    .venv/bin/python -m bench.exhaustive [SESSIONS [FIRST]]

Each three times: with the last trial of all cheaper choices, without it, and as in sessions of many candidates, where
something is given up for speed. Prints every plan that was dearer than the cheapest or over the limit, every least
price that was above it, and the counts.
"""

from __future__ import annotations

import random
import sys

from nimbleload.core.decisions.decision import Plan
from nimbleload.core.decisions.price import PRESETS
from nimbleload.core.optimise.candidates import Wishes, candidates
from nimbleload.core.optimise.suggest import suggest
from nimbleload.core.survey import survey
from tests.helpers.exhaustive import as_many, cheapest, computer, hosted, small

MOST = 16


def main() -> None:
    sessions = int(sys.argv[1]) if len(sys.argv) > 1 else 2000
    first = int(sys.argv[2]) if len(sys.argv) > 2 else 0
    counts = {"equal": 0, "dearer": 0, "dearer as large": 0, "dearer as many": 0, "least too high": 0}
    counts |= {"over the limit": 0, "out of reach": 0, "too many": 0}
    gaps = []
    seed = first
    while counts["equal"] + counts["dearer"] + counts["out of reach"] < sessions:
        seed += 1
        rng = random.Random(seed)
        of, cards = small(rng)
        of = hosted(of, rng) if seed % 2 else of
        before = survey(of, Plan(), cards, computer(rng, 3), 256)
        limit = float(before.after.load.max()) * rng.uniform(0.35, 1.0)
        wishes = Wishes(limit, rng.choice(list(PRESETS.values())))
        found = candidates(before, wishes)
        if len(found) > MOST:
            counts["too many"] += 1
            continue
        best = cheapest(before, found, wishes)
        made, large = suggest(before, wishes), suggest(before, wishes, small=0)
        with as_many():
            many = suggest(before, wishes)
        if best is None:
            counts["out of reach"] += 1
            if made.reached or large.reached or many.reached:
                print(f"seed {seed}: reached what cannot be", flush=True)
            continue
        dearer = not made.reached or made.price > best + 1e-6
        counts["dearer" if dearer else "equal"] += 1
        if dearer:
            print(f"seed {seed}: {made.price:.4f}, not {best:.4f}", flush=True)
        if not large.reached or large.price > best + 1e-6:
            counts["dearer as large"] += 1
            print(f"seed {seed}, as large: {large.price:.4f}, not {best:.4f} ({len(found)} decisions)", flush=True)
        counts["dearer as many"] += not many.reached or many.price > best + 1e-6
        for each in (made, large, many):
            if each.least > best + 1e-6:
                counts["least too high"] += 1
                print(f"seed {seed}: at least {each.least:.4f}, but {best:.4f} is enough", flush=True)
            if each.reached and each.load > wishes.limit + 1e-9:
                counts["over the limit"] += 1
                print(f"seed {seed}: {each.load:.4f}, over {wishes.limit:.4f}", flush=True)
        gaps.append(large.gap)
        if sum(counts.values()) % 100 == 0:
            print(f"{sum(counts.values())}: {counts}, mean gap as large {sum(gaps) / len(gaps):.3f}", flush=True)
    print(f"{counts}, mean gap as large {sum(gaps) / max(len(gaps), 1):.3f}")


if __name__ == "__main__":
    main()
