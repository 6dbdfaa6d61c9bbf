"""How soon what follows from a decision is known: with nothing else under way, and right after another decision.

    .venv/bin/python -m bench.beside

The example and 500 strips, asked as the window asks: the survey, then peaks and what would help. Ratios above 1 are
what was waited for that nobody wanted any more.
"""

from __future__ import annotations

import statistics
import threading
import time

from bench.block import cards, large_session
from nimbleload.beside.client import Beside, Process
from nimbleload.beside.messages import NotWantedError
from nimbleload.core.cards.card import Cards
from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.session.computer import Machine
from nimbleload.core.session.session import Session
from nimbleload.core.survey import Instant, Survey
from nimbleload.shell.common import demo_saved

TIMES, UNDER_WAY = 5, 0.3


def tell(name: str, session: Session, known: Cards, machine: Machine, buffer: int) -> None:
    """Decides on track after track; prints medians."""
    process = Process()
    beside = Beside(process)
    tracks = iter(strip.id for strip in session.strips if strip.kind == "track")
    decided: list[Decision] = []

    def decide() -> tuple[Survey, Instant]:
        decided.append(Decision("off", next(tracks)))
        return beside.survey(session, Plan(tuple(decided)), known, machine, buffer)

    def look(of: Survey, at: Instant) -> None:
        try:
            beside.outlook(of, at)
        except NotWantedError:
            return

    found: dict[str, list[tuple[float, float]]] = {"alone": [], "after another": []}
    look(*decide())
    for _ in range(TIMES):
        for when, told in found.items():
            before = None
            if when != "alone":
                before = threading.Thread(target=look, args=decide())
                before.start()
                time.sleep(UNDER_WAY)
            begun = time.perf_counter()
            shown = decide()
            surveyed = time.perf_counter()
            look(*shown)
            told.append((surveyed - begun, time.perf_counter() - begun))
            if before is not None:
                before.join()
    for number, what in enumerate(("the load", "what would help")):
        alone, after = (statistics.median(each[number] for each in told) for told in found.values())
        print(f"{name}: {what} after {alone:.2f} s, after another decision {after:.2f} s: {after / alone:.2f} times")
    beside.close()
    process.end()


def main() -> None:
    saved = demo_saved()
    tell("the example", saved.session, {card.key: card for card in saved.cards}, saved.machine, saved.buffer)
    large = large_session(500, 600)
    tell("500 strips", large, cards(large), Machine(8), 256)


if __name__ == "__main__":
    main()
