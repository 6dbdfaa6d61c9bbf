"""The report: what is wrong, at every buffer size, what costs most, and what the plan brings; one HTML page."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from pathlib import Path

from .. import __version__
from ..core.load.load_map import LoadMap
from ..core.optimise.steps import Stepped
from ..core.survey import Instant, Survey, worst_seconds
from ..core.told import memory
from ..core.told.basis import basis
from ..core.told.restore_list import restore_list
from ..core.told.steps import price_words, step_words, why, words
from ..core.told.verdict import verdict
from ..core.told.warnings import warnings
from ..core.units import clock, milliseconds, percent
from ..store import atomic


def write_report(
    path: Path, of: Survey, at: Instant, plan: Stepped, measured: Sequence[tuple[str, str]] = (),
    pictures: Sequence[Path] = (),
) -> None:  # fmt: skip
    """Writes the report of a survey at a moment and of its plan. `measured` are (plugin, result) lines. OSError if that
    fails."""
    from jinja2 import Environment, PackageLoader, select_autoescape  # imported here: it would lengthen every start

    environment = Environment(loader=PackageLoader(__package__), autoescape=select_autoescape(default=True))
    page = environment.get_template("report.html").render(
        version=__version__,
        session=of.session,
        of=of,
        at=at,
        strips=_strips(of, at),
        decisions=[(step_words(of, s), price_words(s.price), why(of, plan.worst, s.decisions)) for s in plan.steps],
        verdict=verdict(of, at),
        memory=" ".join(memory.lines(of)),
        warnings=warnings(of),
        restore=restore_list(of.session, of.plan),
        pinned=[of.session.strip(strip).name for strip in of.plan.pinned],
        before_line=line(of.before),
        after_line=line(of.after),
        top=max(1.15, of.before.highest, of.after.highest),
        length=float(of.after.times[-1]),
        worst=[clock(second) for second in worst_seconds(of.after, 5)],
        sources=basis(at, all_of_it=True),
        measured=measured,
        pictures=[picture.name for picture in pictures],
        percent=percent,
        milliseconds=milliseconds,
        clock=clock,
        before=percent(of.before.highest),
        after=percent(of.after.highest),
    )
    atomic.write(path, page.encode())


def line(of: LoadMap) -> str:
    """The load of every moment as the points of a drawn line: seconds, and the load upside down."""
    points = []
    for moment, load in enumerate(of.load.tolist()):
        start, end = of.times[moment : moment + 2]
        points.append(f"{start:.2f},{-load:.4f} {end:.2f},{-load:.4f}")
    return " ".join(points)


def _strips(of: Survey, at: Instant, most: int = 15) -> list[tuple[str, str, str]]:
    """The strips that cost most at the moment: name, per cent of one core, plugins."""
    order = sorted(range(len(at.strip_costs)), key=lambda i: -at.strip_costs[i])[:most]
    strips = of.planned.session.strips
    return [
        (strips[i].name, percent(float(at.strip_costs[i]) / of.deadline), ", ".join(u.label for u in strips[i].uses()))
        for i in order
    ]


def write_table(path: Path, of: Survey, plan: Stepped) -> None:
    """Writes the steps of a plan as CSV. OSError if that fails."""
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(["step", "kind", "strip", "plugin", "words", "why", "price", "minutes", "worst load after it"])
    for number, step in enumerate(plan.steps, 1):
        decision = step.decision
        said = [words(of, step.decisions), why(of, plan.worst, step.decisions), price_words(step.price)]
        what = [decision.kind, decision.strip, decision.use or "", *said]
        writer.writerow([number, *what, f"{step.price.minutes:.3f}", f"{step.load:.4f}"])
    atomic.write(path, out.getvalue().encode())
