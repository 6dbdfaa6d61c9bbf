"""The example without a display: what it says of its plan, and what it leaves. Measuring, suggesting and pictures are
tested where they are made."""

from __future__ import annotations

from types import SimpleNamespace

from click.testing import CliRunner

from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.survey import survey
from nimbleload.shell import cli, full_example, screenshots
from nimbleload.shell.common import demo_saved
from nimbleload.store import session_file


def test_what_it_says_is_what_it_writes(tmp_path, monkeypatch):
    monkeypatch.setattr(full_example, "_measure", lambda saved: [("Oars", "1 µs at 256 samples")])
    found = SimpleNamespace(plan=Plan((Decision("freeze", "track-2"),)))
    monkeypatch.setattr(full_example, "suggest", lambda of: found)
    monkeypatch.setattr(screenshots, "take_all", lambda folder: iter(()))
    done = CliRunner().invoke(cli, ["demo", "--without-window", "--to", str(tmp_path / "out")])
    assert done.exit_code == 0, done.output
    saved = session_file.read(tmp_path / "out" / "example.nimbleload")
    cards = {card.key: card for card in saved.cards}
    of = survey(saved.session, saved.plan, cards, saved.machine, saved.buffer)
    assert full_example._told(of) in done.output.splitlines()
    assert saved.plan.steps() and (tmp_path / "out" / "report.html").exists()


def test_a_plan_that_brings_little_is_told_by_figures_that_differ():
    saved = demo_saved()
    cards = {card.key: card for card in saved.cards}

    def told(*frozen):
        plan = Plan(tuple(Decision("freeze", each) for each in frozen))
        of = survey(saved.session, plan, cards, saved.machine, 512)
        return float(of.before.load.max()), float(of.after.load.max()), full_example._told(of)

    before, _, said = told()
    assert said == f"The plan is empty; the worst load stays at {100 * before:.0f} %."
    before, after, said = told("track-2")
    assert 0.001 < before - after < 0.004 and f"{before:.2f}" == f"{after:.2f}"
    assert said == f"With 1 step the worst load falls from {100 * before:.1f} % to {100 * after:.1f} %."
