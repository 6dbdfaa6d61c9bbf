"""What the Decide menu opens, in the real window: findings, three plans, the restore list, and looking without."""

from __future__ import annotations

import threading

import msgspec
import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFileDialog, QLabel

from nimbleload.app.decide.decide_dialogs import FindingsDialog, KeptDialog, PlansDialog, RestoreDialog, WeightsDialog
from nimbleload.app.decide.plan_drawer import OWN
from nimbleload.app.frame.host_dialog import HostDialog
from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.session import edits
from nimbleload.core.told.findings import findings
from nimbleload.core.told.plans import alike_words
from nimbleload.core.units import percent
from nimbleload.demo.cards import sample_cards
from nimbleload.demo.recording import recording
from nimbleload.store import recording_file, session_file


def open_dialog(window, qtbot, words: str, kind):
    """Triggers a command by its words, and waits for its dialog."""
    action = next(a for a in window.commands() if words in a.text().replace("&", ""))
    action.trigger()
    qtbot.waitUntil(lambda: window.findChild(kind) is not None, timeout=180_000)
    return window.findChild(kind)


def test_a_finding_is_taken_into_the_plan_with_one_click_and_saves_what_it_says(example, qtbot, settled):
    before = float(example.desk.instant.rung(256).load)
    dialog = open_dialog(example, qtbot, "What the session gives away", FindingsDialog)
    first = dialog.buttons[0]
    settled(example, first.click)
    assert not first.isEnabled()
    plan = example.desk.document.plan
    assert plan.decisions
    assert {d.kind for d in plan.decisions} == {"share"}
    made = example.desk.survey.planned.session.strips[len(example.desk.document.session.strips) :]
    assert [s.kind for s in made] == ["bus"]
    shared = example.desk.instant.load_before - example.desk.instant.rung(256).load
    found = findings(example.desk.document.session, example.desk.cards, example.desk.document.buffer)
    assert plan.decisions in [f.decisions for f in found]
    assert example.desk.instant.load_before == pytest.approx(before)
    assert shared > 0.02


def test_what_the_plan_has_made_can_be_looked_at(example, qtbot, settled):
    """A shared bus has a row, a task in the block, and a chain; nothing can be decided about it."""
    found = findings(example.desk.document.session, example.desk.cards, example.desk.document.buffer)
    decisions = next(f.decisions for f in found if f.name == "alike on several tracks")
    settled(example, lambda: example.desk.decide("share", decisions))
    made = example.desk.survey.planned.session.strips[-1]
    with qtbot.waitSignal(example.desk.weighed, timeout=30_000):
        example.balance.tracks.choose(made.id)
    assert example.balance.options._title.text() == made.name
    assert example.balance.options.options == []
    example.balance.block.figures()
    example.balance.block.grab()
    assert [row[0] for row in example.balance.block.figures()][-1] == made.name


def test_three_plans_side_by_side_and_one_taken(fewer, qtbot, settled):
    dialog = open_dialog(fewer, qtbot, "Compare three plans", PlansDialog)
    assert set(dialog.buttons) == {"least given up", "fewest steps", "most headroom"}
    told = [label.text() for label in dialog.findChildren(QLabel)]
    # Every step in full, with what it brings and what it costs.
    assert sum(words.endswith("%") and "worst" in words and " → " in words for words in told) >= 6
    assert sum(words.split(" min: ")[0].replace(".", "").isdigit() for words in told) >= 6
    # In the fewer the fewest steps are those of the least given up, and are not told twice.
    assert told.count(alike_words("least given up")) == 1 and alike_words("fewest steps") not in told
    assert all(label.height() >= label.heightForWidth(label.width()) for label in dialog.findChildren(QLabel))
    settled(fewer, dialog.buttons["most headroom"].click)
    assert float(fewer.desk.survey.after.load.max()) <= 0.7 + 1e-9
    assert fewer.desk.history.undo_step == "chosen plan"
    assert fewer.balance.drawer.suggest.isEnabled()


class TestTooLate:
    """What was asked of a session that has been changed meanwhile may speak of tracks that are gone."""

    @pytest.fixture
    def late(self, example, monkeypatch):
        """Answers, empty ones, come when they are let go."""
        gate = threading.Event()
        for name, answer in (("alternatives", {}), ("findings", [])):
            monkeypatch.setattr(
                example.desk.beside, name, lambda *asked, answer=answer: (gate.wait(60), answer)[1], raising=False
            )
        yield gate
        gate.set()

    def test_three_plans_of_a_session_that_is_another_now(self, example, qtbot, settled, late):
        example.deciding.compare_plans()
        settled(example, lambda: example.edit.edit("remove", lambda s: edits.remove(s, ["track-37"])))
        late.set()
        drawer = example.balance.drawer
        qtbot.waitUntil(lambda: "has changed while" in drawer._words.text(), timeout=180_000)
        assert example.findChild(PlansDialog) is None and drawer.suggest.isEnabled()

    def test_what_is_said_of_a_plan_stays_while_other_figures_come_in(self, example, qtbot, settled, late):
        drawer, page = example.balance.drawer, example.balance
        example.deciding.compare_plans()
        page.show_plan()
        assert drawer._words.text() == "Looking for three plans…"
        settled(example, lambda: example.edit.edit("remove", lambda s: edits.remove(s, ["track-37"])))
        assert drawer._words.text() == "Looking for three plans…"
        late.set()
        qtbot.waitUntil(drawer.suggest.isEnabled, timeout=60_000)
        page.show_plan()
        assert "has changed while" in drawer._words.text()
        settled(example, lambda: example.desk.decide("off", [Decision("off", "track-12")]))
        assert drawer._words.text().startswith("1 step")

    def test_findings_of_a_session_that_is_another_now(self, example, qtbot, settled, late):
        told = []
        example.desk.troubled.disconnect()
        example.desk.troubled.connect(told.append)
        example.deciding.show_findings()
        settled(example, lambda: example.edit.edit("remove", lambda s: edits.remove(s, ["track-37"])))
        late.set()
        qtbot.waitUntil(lambda: told != [], timeout=60_000)
        assert "has changed while" in told[0] and example.findChild(FindingsDialog) is None

    def test_what_is_asked_for_twice_is_shown_once(self, example, qtbot, late, monkeypatch):
        asked = []
        usual = example.desk.beside.alternatives
        monkeypatch.setattr(example.desk.beside, "alternatives", lambda *of: (asked.append(of), usual(*of))[1])
        for _ in range(3):
            example.deciding.compare_plans()
            example.deciding.show_findings()
        told = []
        example.desk.jobs.run(lambda: None, told.append, "the last of what was asked for")
        late.set()
        qtbot.waitUntil(lambda: bool(told) and example.findChild(PlansDialog) is not None, timeout=180_000)
        for kind in (PlansDialog, FindingsDialog):
            assert len([each for each in example.findChildren(kind) if each.isVisible()]) == 1
        assert len(asked) == 1


def test_three_plans_without_a_session_are_not_looked_for(make_window):
    window = make_window()
    window.deciding.compare_plans()
    assert window.balance.drawer.suggest.isEnabled()


def test_the_restore_list_is_ticked_off_and_saved_with_the_plan(example, qtbot, settled, tmp_path):
    ids = [s.id for s in example.desk.document.session.strips if s.clips and not s.armed][:2]
    settled(example, lambda: example.desk.decide("x", [Decision("freeze", each) for each in ids]))
    dialog = open_dialog(example, qtbot, "Before the final render", RestoreDialog)
    assert dialog.list.count() == 2
    assert dialog.words.text() == "2 of 2 still to do."
    dialog.list.item(1).setCheckState(Qt.CheckState.Checked)
    line = dialog.list.item(1).text()
    assert example.desk.document.plan.put_back == (line,)
    assert dialog.words.text() == "1 of 2 still to do."
    saved = msgspec.json.decode(msgspec.json.encode(example.desk.saved().plan), type=type(example.desk.saved().plan))
    assert saved.put_back == (line,)
    dialog.close()
    dialog.setParent(None)
    again = open_dialog(example, qtbot, "Before the final render", RestoreDialog)
    assert again.list.lines_done() == [line]


def test_while_c_is_held_everything_is_shown_without_the_plan(example, qtbot, settled, suggestion):
    settled(example, lambda: example.desk.change("plan", example.desk.document._replace(plan=suggestion.plan)))
    document, planned = example.desk.document, example.desk.survey
    view = example.balance.tracks.view
    view.setFocus()
    qtbot.keyPress(view, Qt.Key.Key_C)
    qtbot.waitUntil(lambda: example.desk.is_peeking, timeout=30_000)
    assert example.desk.survey.plan.decisions == ()
    assert np.array_equal(example.desk.survey.after.load, planned.before.load)
    qtbot.keyRelease(view, Qt.Key.Key_C)
    qtbot.waitUntil(lambda: not example.desk.is_peeking, timeout=10_000)
    assert example.desk.survey is planned
    assert example.desk.document is document
    command = next(a for a in example.commands() if "without the plan" in a.text())
    command.trigger()
    qtbot.waitUntil(lambda: example.desk.is_peeking, timeout=30_000)
    assert example.desk.survey.plan.decisions == ()
    command.trigger()
    assert example.desk.survey is planned


def test_who_lets_go_of_c_before_it_is_computed_sees_the_plan_all_the_time(example, qtbot, settled):
    strip = next(s for s in example.desk.document.session.strips if s.clips and not s.armed and s.kind == "track")
    settled(example, lambda: example.desk.decide("x", [Decision("freeze", strip.id)]))
    planned, shown = example.desk.survey, []
    example.desk.recomputed.connect(lambda: shown.append(example.desk.survey))
    view = example.balance.tracks.view
    view.setFocus()
    for _ in range(3):
        qtbot.keyPress(view, Qt.Key.Key_C)
        qtbot.keyRelease(view, Qt.Key.Key_C)
    qtbot.wait(300)
    assert shown == []
    assert example.desk.survey is planned


def id_of(thing):
    """What tells a thing from others, whatever it says of being equal; None of nothing."""
    return None if thing is None else id(thing)


def test_what_is_known_of_the_plan_is_not_shown_of_the_session_without_it_and_is_there_again(fewer, qtbot, settled):
    example, desk, strips = fewer, fewer.desk, fewer.desk.document.session.strips
    strip = next(s for s in strips if s.clips and not s.armed and s.kind == "track")
    settled(example, lambda: desk.decide("x", [Decision("freeze", strip.id)]))
    qtbot.waitUntil(lambda: None not in map(id_of, (desk.outlook, desk.band, desk.steps)), timeout=60_000)
    known = desk.outlook, desk.band, desk.steps
    desk.peek(True)
    qtbot.waitUntil(lambda: desk.is_peeking and example.balance.is_shown, timeout=30_000)
    assert (desk.outlook, desk.band, desk.steps) == (None, None, None)
    desk.peek(False)
    assert all(one is other for one, other in zip((desk.outlook, desk.band, desk.steps), known, strict=True))
    # What was asked of the session without it leaves a gap, which is filled again.
    desk.peek(True)
    qtbot.waitUntil(lambda: desk.is_peeking, timeout=30_000)
    desk.move_to(40.0)
    qtbot.waitUntil(lambda: desk.band is not None, timeout=60_000)
    desk.peek(False)
    qtbot.waitUntil(lambda: None not in map(id_of, (desk.outlook, desk.band, desk.steps)), timeout=60_000)
    assert (desk.band >= desk.survey.after.load - 1e-9).all()


def holding_c(example, qtbot, settled):
    """The list of tracks, with C held on it while a track is frozen."""
    strip = next(s for s in example.desk.document.session.strips if s.clips and not s.armed and s.kind == "track")
    settled(example, lambda: example.desk.decide("x", [Decision("freeze", strip.id)]))
    view = example.balance.tracks.view
    view.setFocus()
    qtbot.keyPress(view, Qt.Key.Key_C)
    qtbot.waitUntil(lambda: example.desk.is_peeking, timeout=30_000)
    return view


def test_a_key_that_is_held_and_repeats_shows_one_thing_all_the_time(example, qtbot, settled):
    """Not every repetition of a key is known to be one: it is let go and pressed again within milliseconds."""
    view = holding_c(example, qtbot, settled)
    shown = []
    example.desk.recomputed.connect(lambda: shown.append(example.desk.is_peeking))
    for _ in range(5):
        qtbot.keyRelease(view, Qt.Key.Key_C)
        qtbot.keyPress(view, Qt.Key.Key_C)
        qtbot.wait(30)
    assert shown == []
    qtbot.keyRelease(view, Qt.Key.Key_C)
    qtbot.waitUntil(lambda: shown == [False], timeout=10_000)


def test_a_moment_chosen_while_c_is_held_stays_chosen(example, qtbot, settled):
    view = holding_c(example, qtbot, settled)
    example.desk.move_to(30.0)
    qtbot.keyRelease(view, Qt.Key.Key_C)
    qtbot.waitUntil(lambda: not example.desk.is_peeking, timeout=10_000)
    assert example.desk.survey.plan.decisions
    qtbot.waitUntil(lambda: example.desk.is_idle)
    assert example.desk.instant.second == 30.0
    assert example.desk.instant.load_before == pytest.approx(example.desk.survey.before.load[
        example.desk.survey.now.moments.at(30.0)])  # fmt: skip


def test_a_taken_share_is_taken_back_by_choosing_it_again(example, qtbot, settled):
    found = findings(example.desk.document.session, example.desk.cards, example.desk.document.buffer)
    armed = {s.id for s in example.desk.document.session.strips if s.armed}
    every = [f.decisions for f in found if f.name == "alike on several tracks"]
    decisions = next(d for d in every if d[0].strip not in armed)
    with qtbot.waitSignal(example.desk.weighed, timeout=30_000):
        example.balance.tracks.choose(decisions[0].strip)

    def share_button():
        return next(b for b in example.balance.options.options if b.text().startswith("Share"))

    settled(example, share_button().click)
    assert len(example.desk.document.plan.decisions) == len(decisions)
    model = example.balance.tracks.model
    assert model.state_word(model.strip(model.index_of(decisions[0].strip))) == "share"
    assert share_button().isChecked()
    settled(example, share_button().click)
    assert example.desk.document.plan.decisions == ()


def put_by(window, qtbot, settled, name: str):
    dialog = open_dialog(window, qtbot, "Plans put by", KeptDialog)
    dialog.name.setText(name)
    settled(window, dialog.keep.click)


def test_a_plan_for_tracking_and_one_for_mixing_are_kept_with_their_buffers(example, qtbot, settled, tmp_path):
    first = next(s.id for s in example.desk.document.session.strips if s.clips and not s.armed and s.kind == "track")
    settled(example, lambda: example.desk.decide("x", [Decision("freeze", first)]))
    put_by(example, qtbot, settled, "mixing")
    settled(example, lambda: example.desk.change("y", example.desk.document._replace(plan=Plan(), buffer=64)))
    put_by(example, qtbot, settled, "tracking")
    tracking = float(example.desk.survey.after.load.max())
    dialog = open_dialog(example, qtbot, "Plans put by", KeptDialog)
    listed = [dialog.list.item(k).text() for k in range(dialog.list.count())]
    assert listed[0].startswith("mixing: 1 step at 256 samples, ")
    assert listed[1] == f"tracking: 0 steps at 64 samples, {percent(tracking)} at worst"
    settled(example, dialog.use.click)
    assert (example.desk.document.plan.decisions[0].strip, example.desk.document.buffer) == (first, 256)
    assert listed[0].endswith(f"{percent(float(example.desk.survey.after.load.max()))} at worst")
    session_file.write(tmp_path / "x.nimbleload", example.desk.saved())
    again = session_file.read(tmp_path / "x.nimbleload")
    assert [(kept.name, kept.buffer) for kept in again.kept] == [("mixing", 256), ("tracking", 64)]
    dialog = open_dialog(example, qtbot, "Plans put by", KeptDialog)
    settled(example, dialog.forget.click)
    assert [kept.name for kept in example.desk.document.kept] == ["tracking"]


def test_weights_of_ones_own_change_what_is_suggested(fewer, qtbot, settled):
    drawer = fewer.balance.drawer
    drawer.preset.setCurrentText(OWN)
    drawer.preset.activated.emit(drawer.preset.currentIndex())
    dialog = drawer.findChild(WeightsDialog)
    for name in ("rendering", "returning", "locked", "disk"):
        dialog.sliders[name].setValue(0)
    dialog.sliders["bus"].setValue(50)
    assert drawer.weights().bus == pytest.approx(2.5)
    assert drawer.weights().returning == pytest.approx(0.01)
    settled(fewer, drawer.suggest.click)
    plan = fewer.desk.document.plan
    assert sum(d.kind == "freeze" for d in plan.decisions) > 3  # freezes are as good as free now
    settled(fewer, fewer.desk.undo)
    drawer.preset.setCurrentText("balanced")
    settled(fewer, drawer.suggest.click)
    assert all(d.kind != "freeze" for d in fewer.desk.document.plan.decisions)


def test_an_outboard_device_is_told_in_the_host_dialog_and_then_offered(example, qtbot, settled):
    dialog = open_dialog(example, qtbot, "The host and the audio device", HostDialog)
    dialog.outboard.setValue(2)
    dialog.tails.setValue(3.5)
    assert dialog.law.currentText() == "not known"
    dialog.law.setCurrentText("−4.5 dB in the centre")
    settled(example, dialog.accept)
    session = example.desk.document.session
    assert (session.device.outboard, session.host.tail_limit, session.host.pan_law) == (2, 3.5, "-4.5")
    strip = next(s for s in session.strips if s.kind == "track" and s.inserts)
    with qtbot.waitSignal(example.desk.weighed, timeout=30_000):
        example.balance.tracks.choose(strip.id)
    offered = [b for b in example.balance.options.options if "outboard" in b.text()]
    assert len(offered) == len(strip.uses())
    settled(example, offered[-1].click)
    assert example.desk.document.plan.decisions[0].kind == "outboard"


def test_a_host_dialog_that_is_closed_while_recordings_are_read_hears_nothing_of_them(
    example, qtbot, tmp_path, monkeypatch
):
    went_wrong = []
    monkeypatch.setattr(threading, "excepthook", went_wrong.append)
    dialog = open_dialog(example, qtbot, "The host and the audio device", HostDialog)
    begun, go_on, done = threading.Event(), threading.Event(), threading.Event()

    def look(_):
        begun.set()
        go_on.wait(30)
        raise ValueError("nothing in it")

    def last(*_, post=dialog._to_window.last):
        try:
            post(*_)
        finally:
            done.set()

    monkeypatch.setattr(dialog, "_look", look)
    monkeypatch.setattr(dialog._to_window, "last", last)
    monkeypatch.setattr(QFileDialog, "getOpenFileNames", lambda *_: ([str(tmp_path)], ""))
    qtbot.mouseClick(dialog.seen, Qt.MouseButton.LeftButton)
    assert begun.wait(30)
    with qtbot.waitSignal(dialog.destroyed):
        dialog.reject()
    go_on.set()
    assert done.wait(30)
    qtbot.wait(50)
    assert went_wrong == []


def test_recordings_of_the_host_fill_the_host_dialog_in(example, qtbot, settled, tmp_path, monkeypatch):
    monkeypatch.setattr("nimbleload.probe.catalogue.remembered", list)
    kept, broken = tmp_path / "host.nimblewatch", tmp_path / "no.nimblewatch"
    recording_file.write(kept, recording(sample_cards()), {})
    broken.write_text("no")
    dialog = open_dialog(example, qtbot, "The host and the audio device", HostDialog)

    def look(*paths):
        monkeypatch.setattr(QFileDialog, "getOpenFileNames", lambda *_: ([str(path) for path in paths], ""))
        qtbot.mouseClick(dialog.seen, Qt.MouseButton.LeftButton)
        qtbot.waitUntil(dialog.seen.isEnabled, timeout=60_000)

    look(broken)
    assert "is damaged" in dialog.words.text()
    before = dialog.strip.value()
    look(kept)
    assert "of each block at 256 samples; it computes on" in dialog.words.text()
    assert dialog.strip.value() != before and dialog.free.value() >= 0
    strip = dialog.strip.value()
    settled(example, dialog.accept)
    assert example.desk.document.session.host.strip_overhead * 1e6 == pytest.approx(strip, abs=0.01)
