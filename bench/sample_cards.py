"""Measures the example's plugins on this computer and writes them as the sample cards that ship with it.

    .venv/bin/python -m bench.sample_cards [--again]

Cards that are there already are kept, unless --again is given.
"""

from __future__ import annotations

import sys
from pathlib import Path

import msgspec

from nimbleload.demo import cards, session
from nimbleload.probe.measure import Effort
from nimbleload.probe.session_run import jobs, run


def main() -> None:
    demo = session.session()
    path = Path(cards.__file__).with_name(cards.FILE)
    found = cards.sample_cards() if path.exists() and "--again" not in sys.argv else {}
    found = {key: card for key, card in found.items() if key in demo.cards_needed()}
    todo = [job for job in jobs(demo, {}) if job.key not in found]
    for step in run(todo, {}, effort=Effort(5, 0.1)):
        if step.finished:
            found[step.job.key] = step.card
            print(f"{len(found)}, {len(todo)} to do  {step.card.name}  {step.card.failure or ''}", flush=True)
    path.write_bytes(msgspec.json.format(msgspec.json.encode([cards.as_sample(c) for c in found.values()]), indent=1))


if __name__ == "__main__":
    main()
