"""The report holds the figures of the computation, escaped, and nothing else."""

from __future__ import annotations

from lxml import html

from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.optimise.steps import stepped
from nimbleload.core.session.computer import Machine
from nimbleload.core.survey import instant, survey
from nimbleload.core.told.verdict import verdict
from nimbleload.core.units import percent
from nimbleload.deliver.report import write_report
from tests.helpers.sessions import cards_for, session, track


def written(tmp_path, plan=None):
    of = session(track("<b>Loud</b>", "eq"), track("b", "eq", "comp"))
    found = survey(of, plan or Plan(), cards_for(of, {"eq": 1e-3, "comp": 5e-3}), Machine(2), 256)
    path = tmp_path / "report.html"
    write_report(path, found, instant(found), stepped(found), [("eq", "1 ms")])
    return found, html.fromstring(path.read_bytes())


def test_the_figures_are_those_of_the_survey(tmp_path):
    of, page = written(tmp_path)
    at = instant(of)
    assert verdict(of, at).headline in page.find_class("headline")[0].text_content()
    chosen = [cell.text_content() for cell in page.find_class("chosen")[0]]
    assert chosen[:2] == ["256", percent(at.rung(256).load)]


def test_names_from_the_session_are_not_taken_for_markup(tmp_path):
    _, page = written(tmp_path)
    assert "<b>Loud</b>" in page.text_content()


def test_the_plan_is_told_in_order(tmp_path):
    plan = Plan().decide(Decision("freeze", "b")).decide(Decision("off", "<b>Loud</b>"))
    of, page = written(tmp_path, plan)
    items = [li.text_content() for li in page.iter("li")]
    assert [item.split(",")[0] for item in items[:2]] == ["Freeze b", "Switch off <b>Loud</b>"]
    said, _, why = items[1].partition("<b>Loud</b> takes")
    assert f"→ {percent(float(of.after.load.max()))}" in said
    assert "5.1 min" in said
    assert why.endswith("in the worst block (0:05); heard in 100 % of the piece")
    assert any(item.startswith("Switch <b>Loud</b> on again") for item in items)
    assert percent(float(of.after.load.max())) in page.text_content()
