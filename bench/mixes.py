"""Whether what a plan leaves of a mix is the mix: random mixes carried out in full, the mix before against that after.

    .venv/bin/python -m bench.mixes [FIRST] [COUNT]

Half of them with linear plugins alone, of which some share. One line each: how far the mixes differ, and by what plan;
those that differ although nothing of the plan was told to change the sound are counted at the end.
"""

from __future__ import annotations

import random
import sys
import tempfile
from pathlib import Path

from nimbleload.deliver import carrying, whole_mix
from nimbleload.store import dawproject
from tests.helpers import mixes

BUFFER = 512
SAME = ("same", "rounded")


def main(first: int, number: int) -> None:
    untold, tried = 0, 0
    for seed in range(first, first + number):
        rng, linear = random.Random(seed), seed % 2 == 0
        with tempfile.TemporaryDirectory() as place:
            source = mixes.written(rng, Path(place) / "before.dawproject", linear)
            session = dawproject.read(source).session
            plan = mixes.shared(rng, session) if linear and rng.random() < 0.4 else mixes.planned(rng, session)
            if not plan.decisions:
                continue
            target, proofs = mixes.carried_out(source, session, plan, mixes.cards(session))
            checks = carrying.prepare(session, plan, BUFFER).checks
            is_told = any(check.without for check in checks) or any(each.verdict not in SAME for each in proofs)
            *_, last = whole_mix.prove_written(session, BUFFER, None, target, Path(place))
            tried += 1
            proof = last.compared
            is_good = proof is not None and proof.verdict in SAME
            untold += not is_good and not is_told
            found = f"{proof.verdict} {proof.peak_db:.0f} dBFS" if proof is not None else last.trouble
            told = "" if is_good else " (told before)" if is_told else " (NOT TOLD)"
            kinds = ", ".join(f"{d.kind} {d.strip}" for d in plan.decisions)
            print(f"{seed}: {found}{told}: {kinds}", flush=True)
    print(f"{tried} mixes; {untold} sound otherwise though nothing was told to")


if __name__ == "__main__":
    asked = [int(each) for each in sys.argv[1:]]
    main(asked[0] if asked else 0, asked[1] if len(asked) > 1 else 40)
