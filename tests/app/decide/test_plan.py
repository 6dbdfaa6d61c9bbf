"""The plan drawer in the real window: a suggestion in one click, step by step, taken back, pinned, written."""

from __future__ import annotations

import msgspec
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QContextMenuEvent
from PySide6.QtWidgets import QMenu

from nimbleload.app.look.notice import written
from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.told.steps import words
from nimbleload.core.units import duration
from nimbleload.demo.session import session
from nimbleload.store import session_file
from nimbleload.store.session_file import Saved
from tests.helpers.sessions import session as small
from tests.helpers.sessions import track


def ask(window, qtbot):
    """Presses the button of the sentence."""
    assert window.balance.sentence.button.text() == "Suggest a plan"
    with qtbot.waitSignal(window.desk.suggested, timeout=120_000):
        window.balance.sentence.button.click()
    qtbot.waitUntil(lambda: bool(window.desk.steps) and window.desk.is_idle, timeout=60_000)


@pytest.fixture
def suggested(example, qtbot, monkeypatch, suggestion):
    """The example after it was asked for a plan, which is known already."""
    with monkeypatch.context() as known:
        known.setattr(example.desk.beside, "suggest", lambda of, wishes: suggestion)
        ask(example, qtbot)
    return example


def test_one_click_brings_the_overload_under_its_limit_with_the_narrator_live(example, qtbot, suggestion):
    ask(example, qtbot)
    of = example.desk.survey
    assert of.plan == suggestion.plan
    assert of.before.load.max() > 1.0
    assert of.after.load.max() <= of.session.limit + 1e-9
    narrators = {s.id for s in session().strips if s.name == "Narrator"}
    assert set(of.plan.pinned) == narrators
    assert not narrators & {d.strip for d in of.plan.decisions}
    drawer = example.balance.drawer
    assert example.balance.right.currentWidget() is drawer
    assert drawer.steps.count() == len(of.plan.steps())
    assert f"{len(of.plan.steps())} steps, " in drawer._words.text()
    assert "min, reach 79 %." in drawer._words.text()
    assert "put back" in drawer.restore.text()
    first, last = drawer.steps.item(0).text(), drawer.steps.item(drawer.steps.count() - 1).text()
    assert first.startswith("126 % →")
    assert "→ 79 %" in last


def test_how_good_a_suggestion_is_is_said_of_what_it_was_looked_for_in_alone(suggested, qtbot, settled):
    drawer, said = suggested.balance.drawer, suggested.balance.drawer._words.text()
    assert "reach 79 %" in said
    settled(suggested, lambda: qtbot.keyClick(suggested, Qt.Key.Key_BracketRight))
    qtbot.waitUntil(lambda: "min: worst 110 % → 67 %." in drawer._words.text(), timeout=60_000)
    settled(suggested, lambda: qtbot.keyClick(suggested, Qt.Key.Key_BracketLeft))
    qtbot.waitUntil(lambda: drawer._words.text() == said, timeout=60_000)
    settled(suggested, lambda: drawer.limit.setValue(85))
    qtbot.waitUntil(lambda: "min: worst 126 % → 79 %." in drawer._words.text(), timeout=60_000)


def test_a_step_is_taken_back_and_everything_with_one_undo(suggested, qtbot, settled):
    drawer = suggested.balance.drawer
    before = suggested.desk.survey.plan
    for take_back in (drawer.remove.click, lambda: qtbot.keyClick(drawer.steps, Qt.Key.Key_Delete)):
        qtbot.waitUntil(lambda: drawer.steps.count() == len(before.steps()), timeout=60_000)
        drawer.steps.setCurrentRow(2)
        drawer.steps.setFocus()
        assert drawer.remove.isEnabled()
        settled(suggested, take_back)
        after = suggested.desk.document.plan
        taken = before.steps()[2]
        assert set(after.decisions) == set(before.decisions) - set(taken)
        assert suggested.desk.survey.after.load.max() > 0.8
        # The step that comes in its place is chosen, so that the next press takes that back.
        qtbot.waitUntil(drawer.remove.isEnabled, timeout=60_000)
        assert drawer.steps.currentRow() == min(2, len(after.steps()) - 1)
        settled(suggested, suggested.desk.undo)
    settled(suggested, suggested.desk.undo)
    assert suggested.desk.document.plan.decisions == ()


def test_what_has_no_effect_is_called_so_and_taken_back_in_one_click(example, qtbot, settled):
    """A freeze by hand over plugins that were switched off by hand before."""
    desk, drawer = example.desk, example.balance.drawer
    strip = next(s for s in session().strips if s.kind == "track" and s.name != "Narrator" and len(s.inserts) > 1)
    off = [Decision("off", strip.id, use.id) for use in strip.inserts[:2]]
    settled(example, lambda: desk.decide("switch two off", off))
    assert drawer.isVisible() and drawer.idle.isHidden()
    freeze = Decision("freeze", strip.id, through=len(strip.inserts) - 1)
    settled(example, lambda: desk.decide("freeze", [freeze]))
    qtbot.waitUntil(lambda: drawer.idle.text() == "Take back 2 decisions without effect", timeout=60_000)
    qtbot.waitUntil(lambda: drawer.steps.count() == 2 and "→" in drawer.steps.item(1).text(), timeout=60_000)
    told = [drawer.steps.item(row).text() for row in range(drawer.steps.count())]
    assert ["without effect: Switch off" in text for text in told] == [True, False]
    assert told[0].endswith(f"on {strip.name}")
    assert desk.steps[0].price.minutes == 0
    load = desk.survey.after.load.tolist()
    settled(example, lambda: qtbot.mouseClick(drawer.idle, Qt.MouseButton.LeftButton))
    assert desk.document.plan.decisions == (freeze,) and desk.survey.after.load.tolist() == load
    assert drawer.idle.isHidden()
    settled(example, desk.undo)
    assert set(desk.document.plan.decisions) == {*off, freeze}


def test_pinned_tracks_are_left_alone_by_the_next_suggestion(fewer, qtbot, settled):
    suggested = fewer
    ask(suggested, qtbot)
    frozen = suggested.desk.document.plan.decisions[0].strip
    pinned = suggested.desk.document.plan.pinned
    settled(suggested, suggested.balance.drawer.clear.click)
    assert suggested.desk.document.plan.decisions == ()
    assert suggested.desk.document.plan.pinned == pinned
    settled(suggested, lambda: suggested.desk.pin([frozen], True))
    with qtbot.waitSignal(suggested.desk.suggested, timeout=120_000):
        suggested.balance.suggest()
    plan = suggested.desk.document.plan
    assert frozen in plan.pinned
    assert frozen not in {d.strip for d in plan.decisions}


def test_what_no_plan_can_reach_is_said(example, qtbot):
    drawer = example.balance.drawer
    for kind in ("freeze", "lighten", "share", "off"):
        drawer.kinds[kind].setChecked(False)
    with qtbot.waitSignal(example.desk.suggested, timeout=120_000) as told:
        drawer.suggest.click()
        assert not drawer.suggest.isEnabled()
    assert not told.args[0].reached
    qtbot.waitUntil(lambda: "No plan of these kinds can reach it" in drawer._words.text(), timeout=60_000)
    assert drawer.suggest.isEnabled()


def test_of_what_is_not_measured_no_load_is_told(make_window, qtbot, tmp_path):
    path, window = tmp_path / "new.nimbleload", make_window()
    session_file.write(path, Saved(small(track("one", "a"), track("two", "b")), Plan((Decision("freeze", "one"),))))
    with qtbot.waitSignal(window.desk.recomputed, timeout=60_000):
        window.open_path(path)
    drawer = window.balance.drawer
    qtbot.waitUntil(lambda: bool(window.desk.steps) and window.desk.is_idle, timeout=60_000)
    assert drawer._words.text().endswith("min: worst not known.")
    assert [drawer.steps.item(row).text() for row in range(drawer.steps.count())] == ["Freeze one"]
    # Nor is it said to fit when a plan is asked for.
    with qtbot.waitSignal(window.desk.suggested, timeout=120_000):
        drawer.suggest.click()
    qtbot.waitUntil(lambda: "whether it fits is not known" in drawer._words.text(), timeout=60_000)


def test_the_report_holds_steps_and_what_to_put_back(suggested, qtbot, tmp_path):
    path = tmp_path / "plan.html"
    with qtbot.waitSignal(written.told, timeout=30_000):
        suggested.deciding.write_report(path)
    page = path.read_text()
    for step in suggested.desk.steps:
        assert words(suggested.desk.survey, step.decisions).split(":")[0] in page
    assert "Before the final render" in page
    assert "Left as they are: Narrator" in page


def test_steps_change_places_and_the_plan_stays_what_it_is(suggested, qtbot, settled):
    drawer, desk = suggested.balance.drawer, suggested.desk
    before, load = desk.document.plan, desk.survey.after.load.max()
    steps = before.steps()
    drawer.steps.setCurrentRow(0)
    assert not drawer.earlier.isEnabled()
    settled(suggested, drawer.later.click)
    qtbot.waitUntil(lambda: bool(desk.steps), timeout=60_000)
    assert desk.document.plan.steps() == [steps[1], steps[0], *steps[2:]]
    assert desk.survey.after.load.max() == load
    # The chosen step stays chosen in its new place, and keys move it too.
    assert drawer.steps.currentRow() == 1
    drawer.steps.setFocus()
    with qtbot.waitSignals([desk.recomputed, desk.weighed, desk.stepped], timeout=60_000):
        qtbot.keyClick(drawer.steps, Qt.Key.Key_Down, Qt.KeyboardModifier.AltModifier)
    assert desk.document.plan.steps() == [steps[1], steps[2], steps[0], *steps[3:]]
    loads = [step.load for step in desk.steps]
    assert loads[-1] == pytest.approx(load)
    settled(suggested, desk.undo)
    settled(suggested, desk.undo)
    assert desk.document.plan == before
    drawer.steps.setCurrentRow(len(steps) - 1)
    assert not drawer.later.isEnabled()
    drawer.move_chosen(1)
    assert desk.document.plan == before


def test_the_place_of_the_fader_is_set_in_the_chain_and_undone(example, qtbot, settled):
    with qtbot.waitSignal(example.desk.weighed, timeout=60_000):
        example.desk.select(["track-1"])
    row = next(r for r in example.balance.options._chain if "Ballast" in r._name.text())
    place = example.desk.survey.session.strip("track-1").place_of(row._decision.use)
    inserts = len(example.desk.survey.session.strip("track-1").inserts)

    def press(words):
        """Opens the row's menu and takes the entry of these words."""
        event = QContextMenuEvent(QContextMenuEvent.Reason.Keyboard, row.rect().center(), QPoint(0, 0))
        row.contextMenuEvent(event)
        menu = row.findChildren(QMenu)[-1]
        entry = next(a for a in menu.actions() if a.text() == words)
        settled(example, entry.trigger)
        menu.close()

    press("The fader comes before it")
    assert example.desk.document.session.strip("track-1").post_fader == inserts - place
    assert "after the fader" in row._name.text()
    press("The fader comes after it")
    assert example.desk.document.session.strip("track-1").post_fader == inserts - place - 1
    settled(example, example.desk.undo)
    settled(example, example.desk.undo)
    assert example.desk.document.session.strip("track-1").post_fader == 0


def test_how_a_step_is_done_is_asked_where_it_stands(example, qtbot, settled):
    desk, drawer = example.desk, example.balance.drawer
    uses = desk.document.session.strip("track-45").uses()
    for use in uses:
        card = desk.cards[use.card_key()]
        upkeep = msgspec.structs.replace(card.upkeep, memory=20 << 20, load=0.5)
        desk.take_card(msgspec.structs.replace(card, upkeep=upkeep))
    settled(example, lambda: desk.decide("two", [Decision("freeze", "track-45"), Decision("bounce", "track-44")]))
    qtbot.waitUntil(lambda: bool(desk.steps) and desk.is_idle, timeout=60_000)
    load = desk.survey.after.load.max()

    def press(row, words):
        drawer.steps.setCurrentRow(row)
        drawer.steps.customContextMenuRequested.emit(drawer.steps.visualItemRect(drawer.steps.item(row)).center())
        menu = drawer.steps.findChildren(QMenu)[-1]
        entry = next(a for a in menu.actions() if a.text() == words)
        settled(example, entry.trigger)
        menu.close()
        qtbot.waitUntil(lambda: bool(desk.steps) and desk.is_idle, timeout=60_000)

    press(0, "Unload its plugins")
    assert desk.document.plan.decisions[0] == Decision("freeze", "track-45", unloaded=True)
    assert desk.survey.after.load.max() == load
    assert drawer.steps.item(0).text().endswith(", unloaded")
    again = duration(0.5 * len(uses))
    assert f"Unloaded: {20 * len(uses)} MB given back, {again} to load again." in drawer.restore.text()
    press(1, "Leave its source muted")
    # What is muted costs as before.
    assert desk.survey.after.load.max() > load
    press(1, "Switch its source off")
    press(0, "Keep its plugins loaded")
    assert desk.survey.after.load.max() == load
    assert "given back" not in drawer.restore.text()
