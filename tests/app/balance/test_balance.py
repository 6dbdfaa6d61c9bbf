"""Balance, driven as a user would: the figures on the page agree, keys and clicks do what they say."""

from __future__ import annotations

import json
import re

import msgspec
import numpy as np
import pytest
from click.testing import CliRunner
from PySide6.QtCore import QCoreApplication, QEvent, QPoint, QPointF, Qt
from PySide6.QtGui import QGuiApplication, QImage, QMouseEvent, QNativeGestureEvent, QPointingDevice, QWheelEvent
from PySide6.QtTest import QAbstractItemModelTester
from PySide6.QtWidgets import QFileDialog, QPushButton

from nimbleload.app.decide.option_list import OptionButton
from nimbleload.app.frame.window import BALANCE, EDIT
from nimbleload.app.look.notice import written
from nimbleload.app.look.panels import Message
from nimbleload.app.look.theme import theme
from nimbleload.core.decisions.decision import Decision
from nimbleload.core.session import edits
from nimbleload.core.survey import worst_seconds
from nimbleload.core.units import clock, percent
from nimbleload.shell import cli
from tests.helpers.few_tracks import fewer_saved
from tests.helpers.paintings import Paintings


def press(qtbot, window, key, modifier=Qt.KeyboardModifier.NoModifier):
    window.activateWindow()
    qtbot.keyClick(window, key, modifier)


def choose(window, qtbot, name):
    strip = next(s for s in window.desk.document.session.strips if s.name == name)
    with qtbot.waitSignal(window.desk.weighed, timeout=30_000):
        window.balance.tracks.choose(strip.id)
    return strip


def option(window, title) -> OptionButton:
    return next(o for o in window.balance.options.options if o.text().startswith(title))


def test_sentence_ladder_place_and_shell_say_the_same_load(example):
    of, at = example.desk.survey, example.desk.instant
    load = percent(at.rung(256).load)
    assert load in example.balance.sentence.headline.text()
    assert clock(at.second) in example.balance.sentence.headline.text()
    assert example.places.buttons[BALANCE].state == load
    rows = {row[0]: row for row in example.balance.buffers.figures()}
    assert float(rows["256"][1]) == pytest.approx(at.rung(256).load, abs=1e-4)
    said = json.loads(CliRunner().invoke(cli, ["load", "demo", "--buffer", "256", "--cores", "6", "--json"]).output)
    assert said["load"] == at.rung(256).load
    assert said["headline"] == example.balance.sentence.headline.text()
    assert said["second"] == of.worst_second()


def test_a_version_that_is_held_is_compared_with_what_is_edited_after(example, settled):
    desk, page = example.desk, example.balance
    worst = f"{percent(float(desk.survey.after.load.max()))} at {clock(desk.survey.worst_second())}"
    held = desk.survey.after
    command(example, "Hold this version to compare with")
    assert "held" not in page._timeline_panel.remark.text() and not page.timeline.grab().isNull()
    # The dearest track is taken out on another page.
    dearest = max(desk.survey.session.strips, key=lambda strip: len(strip.uses()))
    settled(example, lambda: example.edit.edit("off", lambda s: edits.switch(s, [dearest.id], False)))
    now = percent(float(desk.survey.after.load.max()))
    words = page._timeline_panel.remark.text()
    # At the seconds that the sentence on top had, and has.
    assert f"held {worst} →" in words and f"now {now} at {clock(desk.survey.worst_second())}" in words
    rows = page.timeline.figures()
    start = rows.index(["start (s)", "end (s)", "load of the version held"]) + 1
    assert [float(row[2]) for row in rows[start:]] == pytest.approx(held.load.tolist(), abs=1e-4)
    # It is drawn: the picture without it is another one.
    with_it = page.timeline.grab().toImage()
    command(example, "Let the held version go")
    assert page.timeline.grab().toImage() != with_it
    assert "held" not in page._timeline_panel.remark.text()


def command(window, name):
    """Chooses a command by its name."""
    (action,) = [each for each in window.commands() if each.text().replace("&", "") == name]
    action.trigger()


def test_buffers_that_are_too_long_for_whoever_records_are_told(example):
    words = example.balance.buffers.accessibleDescription().split("; ")
    late = {each.split()[0] for each in words if each.endswith("too late")}
    assert late == {"512", "1024", "2048", "4096"}
    heard = {row[0]: row[6] for row in example.balance.buffers.figures()}
    assert float(heard["256"]) < 15 < float(heard["512"])


def test_the_lanes_show_what_the_block_sums_up_to(example):
    at, of = example.desk.instant, example.desk.survey
    rows = example.balance.block.figures()[1:]
    spent = sum(float(end) - float(start) for _, _, start, end in rows)
    assert spent == pytest.approx(at.block.work * 1e6, abs=0.1 * len(rows))
    assert max(float(row[3]) for row in rows) / 1e6 / of.deadline == pytest.approx(at.rung(256).load, abs=1e-3)
    assert {row[1] for row in rows} == {str(core) for core in range(1, 7)}


def test_the_example_overloads_in_the_storm_and_nowhere_else(example):
    of = example.desk.survey
    sections = of.session.sections
    storm = (sections[1].start, sections[2].start)
    for m, load in enumerate(of.after.load):
        inside = of.after.times[m] >= storm[0] - 1 and of.after.times[m + 1] <= storm[1] + 10
        assert load <= 1.0 or inside
    assert of.after.load.max() > 1.1


def test_the_block_is_painted_once_for_one_change(fewer, qtbot):
    """Peaks and the band come later, and change nothing in it unless it shows a bad block."""
    example, view, desk = fewer, fewer.balance.block, fewer.desk
    strip = next(s for s in desk.document.session.strips if s.clips and not s.armed and s.kind == "track")

    def through():
        return None not in (desk.outlook, desk.steps) and desk.band is not None

    qtbot.waitUntil(through, timeout=60_000)
    qtbot.wait(100)
    seen, area = Paintings(view), view.geometry()
    for action in (lambda: desk.move_to(30.0), lambda: desk.decide("x", [Decision("freeze", strip.id)])):
        before = seen.count[view]
        with qtbot.waitSignal(desk.looked_ahead, timeout=60_000):
            action()
        qtbot.waitUntil(lambda: through() and example.balance.is_shown, timeout=60_000)
        qtbot.wait(200)
        assert seen.count[view] == before + 1
        # What the sentence says is shorter now; it takes the same room.
        assert view.geometry() == area
    usual = view.figures()
    example.balance.kinds["worst"].click()
    qtbot.waitUntil(lambda: seen.count[view] == before + 2, timeout=5000)
    assert view.figures() != usual


def test_freezing_by_its_digit_lowers_the_load_and_undo_brings_it_back(example, qtbot, settled):
    choose(example, qtbot, "Choir low")
    before = example.desk.instant.rung(256).load
    promised = option(example, "Freeze through").weighed.saving.load
    assert option(example, "Keep live").isChecked()
    settled(example, lambda: press(qtbot, example, Qt.Key.Key_3))
    assert example.desk.instant.rung(256).load == pytest.approx(before - promised, abs=1e-12)
    assert option(example, "Freeze through").isChecked()
    assert example.windowTitle().count("unsaved") == 1
    settled(example, lambda: press(qtbot, example, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier))
    assert example.desk.instant.rung(256).load == before
    settled(
        example,
        lambda: press(
            qtbot, example, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier
        ),
    )
    assert example.desk.instant.rung(256).load == pytest.approx(before - promised, abs=1e-12)


def test_the_costliest_track_saves_what_its_card_says(example, qtbot, settled):
    """To 0.1 %: the work that goes is the track's own plugins at that moment, if none of them minds the others."""
    alone = {k: msgspec.structs.replace(c, upkeep=None, company=()) for k, c in example.desk.cards.items()}
    settled(example, lambda: example.desk.open(example.desk.saved(), alone))
    at, of = example.desk.instant, example.desk.survey
    tracks = [i for i, s in enumerate(of.session.strips) if s.kind == "track"]
    costliest = of.session.strips[max(tracks, key=lambda i: at.strip_costs[i])]
    on_card = sum(of.now.cards[u.card_key()].cell(48000, 256, "sounding").mean for u in costliest.uses())
    choose(example, qtbot, costliest.name)
    saved = option(example, "Freeze through").weighed.saving.work * of.deadline
    overhead = of.session.host.plugin_overhead * len(costliest.uses())
    # What interrupts the computer adds its share to everything.
    assert saved / (1 + of.case.costs.interrupted) - overhead == pytest.approx(on_card, rel=1e-3)


def test_brackets_choose_the_buffer_and_clicks_too(example, qtbot, settled):
    settled(example, lambda: press(qtbot, example, Qt.Key.Key_BracketRight))
    assert example.desk.document.buffer == 512
    settled(example, lambda: press(qtbot, example, Qt.Key.Key_BracketLeft))
    settled(example, lambda: press(qtbot, example, Qt.Key.Key_BracketLeft))
    assert example.desk.document.buffer == 128
    cell = example.balance.buffers._cells()[5].center().toPoint()
    settled(example, lambda: qtbot.mouseClick(example.balance.buffers, Qt.MouseButton.LeftButton, pos=cell))
    assert example.desk.document.buffer == 1024
    assert "21.3 ms deadline" in example.balance.sentence.headline.text()


def test_dragging_along_the_piece_moves_everything(example, qtbot):
    view = example.balance.timeline
    quiet = int(view._x(650.0))
    with qtbot.waitSignal(example.desk.moved):
        qtbot.mouseClick(view, Qt.MouseButton.LeftButton, pos=QPoint(quiet, 40))
    assert example.desk.instant.second == pytest.approx(650.0, abs=2)
    assert "Fits at 10:" in example.balance.sentence.headline.text()
    assert example.balance.sentence.button.text() == "Go to the worst moment"
    with qtbot.waitSignal(example.desk.moved):
        qtbot.mouseClick(example.balance.sentence.button, Qt.MouseButton.LeftButton)
    assert example.desk.instant.rung(256).load == example.desk.survey.after.load.max()


def test_full_stop_and_comma_walk_the_worst_moments(example, qtbot):
    worst = example.desk.instant.moment
    with qtbot.waitSignal(example.desk.moved):
        press(qtbot, example, Qt.Key.Key_Period)
    assert example.desk.instant.moment != worst
    with qtbot.waitSignal(example.desk.moved):
        press(qtbot, example, Qt.Key.Key_Comma)
    assert example.desk.instant.moment == worst
    # Pressed faster than moments are computed: every press counts.
    for _ in range(3):
        press(qtbot, example, Qt.Key.Key_Period)
    qtbot.waitUntil(lambda: example.desk.is_idle)
    assert example.desk.instant.second == worst_seconds(example.desk.survey.after)[3]


def test_arrow_keys_step_through_moments(example, qtbot):
    before = example.desk.instant.moment
    for _ in range(4):
        qtbot.keyClick(example.balance.timeline, Qt.Key.Key_Right)
    qtbot.waitUntil(lambda: example.desk.is_idle)
    assert example.desk.instant.moment == before + 4


def test_the_armed_narrator_cannot_be_frozen_and_the_page_says_why(example, qtbot):
    choose(example, qtbot, "Narrator")
    freeze = option(example, "Freeze")
    assert not freeze.isEnabled()
    assert "record-armed" in freeze.toolTip()
    plan = example.desk.document.plan
    press(qtbot, example, Qt.Key.Key_2)
    assert example.desk.document.plan == plan


def test_a_plugin_is_switched_off_and_on_in_the_chain(example, qtbot, settled):
    choose(example, qtbot, "Main")

    def work() -> float:
        return float(example.desk.survey.case.costs.by_state.sum())

    before = work()

    def switches():
        buttons = example.balance.options.findChildren(QPushButton)
        return [b for b in buttons if b.isVisible() and b.toolTip().startswith("Switch Sounder")]

    def switch():
        qtbot.waitUntil(lambda: len(switches()) == 1)
        return switches()[0]

    settled(example, lambda: switch().click())
    assert work() < before
    assert switch().text() == "off"
    settled(example, lambda: switch().click())
    assert work() == pytest.approx(before)


def shares(model):
    return [model.share(model.index(row, 0)) for row in range(model.rowCount())]


def test_tracks_that_are_left_alone_stay_in_the_order_of_their_figures(example, qtbot, settled, suggestion):
    model = example.balance.tracks.model
    settled(example, lambda: example.desk.change("plan", example.desk.document._replace(plan=suggestion.plan)))
    decided = {each.strip for each in example.desk.survey.plan.decisions}
    for basis in ("moment", "peak", "piece"):
        model.set_basis(basis)
        rows = [model.index(row, 0) for row in range(model.rowCount())]
        alone = [model.share(row) for row in rows if model.strip(row).id not in decided]
        assert 20 < len(alone) < len(rows)
        assert alone == sorted(alone, reverse=True)


def test_tracks_are_sorted_by_cost_filtered_and_folded(example, qtbot):
    QAbstractItemModelTester(example.balance.tracks.model, QAbstractItemModelTester.FailureReportingMode.Fatal)
    tracks, at = example.balance.tracks, example.desk.instant
    view, model = tracks.view, tracks.model
    costs = shares(model)
    assert costs == sorted(costs, reverse=True)
    assert sum(costs) == pytest.approx(at.block.work / example.desk.survey.deadline)
    qtbot.keyClicks(tracks.filter, "choir")
    names = [model.index(row, 0).data() for row in range(model.rowCount())]
    assert names
    assert all("choir" in name.lower() for name in names)
    tracks.filter.clear()
    tracks.by_bus.click()
    assert [model.index(row, 0).data() for row in range(model.rowCount())] == ["Main"]
    main = model.index(0, 0)
    assert {model.index(r, 0, main).data() for r in range(model.rowCount(main))} == {"Story", "Music"}
    assert view.isExpanded(main)
    tracks.by_cost.click()
    tracks.by_bus.click()
    assert model.index(0, 0).data() == "Narrator"


def test_selection_survives_a_change_of_moment(example, qtbot):
    strip = choose(example, qtbot, "Choir low")
    example.desk.move_to(20.0)
    assert [i.data() for i in example.balance.tracks.view.selectionModel().selectedRows()] == ["Choir low"]
    assert example.desk.selection == (strip.id,)


@pytest.mark.parametrize("by", ["the plan", "Escape in the list", "Escape in the options"])
def test_from_a_chosen_track_a_way_leads_back_to_the_plan(example, qtbot, by):
    choose(example, qtbot, "Choir low")
    page = example.balance
    assert page.right.currentWidget() is page.options
    if by == "the plan":
        qtbot.mouseClick(page.options.to_plan, Qt.MouseButton.LeftButton)
    else:
        at = page.tracks.view if "list" in by else page.options.options[0]
        at.setFocus()
        qtbot.keyClick(at, Qt.Key.Key_Escape)
    qtbot.waitUntil(lambda: page.right.currentWidget() is page.drawer, timeout=30_000)
    assert example.desk.selection == () and not page.tracks.view.selectionModel().hasSelection()


def test_a_row_stays_where_it_is_when_its_track_is_frozen(example, qtbot, settled):
    choose(example, qtbot, "Choir low")
    model = example.balance.tracks.model
    before = [model.index(row, 0).data() for row in range(model.rowCount())]
    settled(example, lambda: option(example, "Freeze through").click())
    assert [model.index(row, 0).data() for row in range(model.rowCount())] == before
    frozen = model.index_of(example.desk.selection[0])
    assert model.share(frozen) < 0.04  # fader and sends are still the host's work
    assert "freeze" in model.sentence(frozen)


def test_several_tracks_are_frozen_in_one_step(example, qtbot, settled):
    view = example.balance.tracks.view
    view.setFocus()
    with qtbot.waitSignal(example.desk.weighed, timeout=30_000):
        view.selectAll()
    freeze = option(example, "Freeze the whole chain")
    assert "possible for" in freeze.toolTip()
    settled(example, lambda: freeze.click())
    assert len(example.desk.document.plan.decisions) > 50
    assert example.desk.history.undo_step.startswith("freeze the whole chain")
    assert example.desk.survey.after.load.max() < 1.0


def test_every_picture_has_words_and_figures(example):
    page = example.balance
    for picture in (page.buffers, page.block, page.timeline):
        assert picture.accessibleName()
        assert "%" in picture.accessibleDescription()
        rows = picture.figures()
        assert len(rows) > 3
        assert len({len(row) for row in rows}) == 1
        picture.copy_figures()
        assert QGuiApplication.clipboard().text().count("\n") == len(rows) - 1
        picture.copy_picture()
        assert not QGuiApplication.clipboard().pixmap().isNull()
    index = page.tracks.model.index(0, 0)
    assert "of one core" in index.data(Qt.ItemDataRole.AccessibleTextRole)


def test_every_text_size_and_both_themes_paint(example, qtbot):
    for name in ("paper", "night"):
        example.choose_theme(name)
        assert theme.colours.name == name
        example.scale_text(6)
        assert theme.scale == 160
        assert not example.grab().isNull()
        example.scale_text(-9)
        assert theme.scale == 90
    example.resize(900, 560)
    assert not example.grab().isNull()


def test_no_sample_figure_is_shown_unmarked(example):
    assert re.search(r"\. 100 % of this load: [^.]*sample figures", example.balance.sentence.advice.text())
    assert example.desk.instant.shares == {"sample": pytest.approx(1.0)}
    assert example.balance.sentence.button.text() == "Suggest a plan"


def draw_stretch(qtbot, view, start, end):
    """Draws from one second to another with Shift held."""
    y = view.height() // 2
    points = [QPoint(round(view._x(second)), y) for second in (start, end)]
    shift = Qt.KeyboardModifier.ShiftModifier
    qtbot.mousePress(view, Qt.MouseButton.LeftButton, shift, points[0])
    event = QMouseEvent(
        QEvent.Type.MouseMove, QPointF(points[1]), view.mapToGlobal(QPointF(points[1])), Qt.MouseButton.NoButton,
        Qt.MouseButton.LeftButton, shift,
    )  # fmt: skip
    QCoreApplication.sendEvent(view, event)
    qtbot.mouseRelease(view, Qt.MouseButton.LeftButton, shift, points[1])


def test_a_stretch_is_drawn_with_shift_and_the_figures_are_of_it(example, qtbot):
    page = example.balance
    before = page.tracks.model.ranking.strips.copy()
    draw_stretch(qtbot, page.timeline, 140.0, 160.0)
    assert page.timeline.stretch == pytest.approx((140.0, 160.0), abs=2.0)
    assert page._timeline_panel.remark.text().startswith("2:")
    assert "on average" in page._timeline_panel.remark.text()
    assert page.tracks.basis.currentData() == "piece"
    drawn = page.tracks.model.ranking.strips
    assert not np.array_equal(drawn, before)
    strip = next(s for s in example.desk.document.session.strips if s.name == "Fiddle")
    with qtbot.waitSignal(example.desk.weighed, timeout=30_000):
        page.tracks.choose(strip.id)
    assert any(button.text().startswith("Bounce 2:") for button in page.options.options)
    qtbot.keyClick(page.timeline, Qt.Key.Key_Escape)
    assert page.timeline.stretch is None
    assert np.array_equal(page.tracks.model.ranking.strips, before)
    assert "on average" not in page._timeline_panel.remark.text()


def test_a_stretch_is_let_go_when_another_session_is_opened(example, qtbot, monkeypatch):
    draw_stretch(qtbot, example.balance.timeline, 140.0, 160.0)
    assert example.desk.stretch is not None
    monkeypatch.setattr(example, "_leave_then", lambda go_on: go_on())
    with qtbot.waitSignal(example.desk.recomputed, timeout=60_000):
        example.open_example()
    assert (example.desk.stretch, example.balance.timeline.stretch) == (None, None)
    qtbot.waitUntil(lambda: example.balance.is_shown)
    assert "on average" not in example.balance._timeline_panel.remark.text()


def test_what_is_chosen_on_another_page_is_chosen_here_and_let_go_for_a_plan(example, settled, qtbot):
    page, desk = example.balance, example.desk

    def chosen():
        return {page.tracks.model.strip(index).name for index in page.tracks.view.selectionModel().selectedRows()}

    choir = next(s for s in desk.document.session.strips if s.name == "Choir")
    example.go(EDIT)
    with qtbot.waitSignal(desk.weighed, timeout=60_000):
        example.edit.choose(choir.id)
    example.go(BALANCE)
    assert chosen() == {"Choir"} and page.right.currentWidget() is page.options
    # It stays so where rows change places or are others, also when it was out of sight in between.
    page.tracks.by_bus.click()
    assert chosen() == {"Choir"}
    page.tracks.filter.setText("harp")
    assert chosen() == set() and desk.selection == (choir.id,)
    page.tracks.filter.clear()
    assert chosen() == {"Choir"} and desk.selection == (choir.id,)
    settled(example, lambda: example.edit.edit("add", lambda s: edits.add(s, "track", "More")))
    assert chosen() == {"Choir"}
    page.tracks.filter.setText("harp")
    page.drawer.suggest.setEnabled(False)  # what is asked for is not the matter here
    with qtbot.waitSignal(desk.weighed, timeout=60_000):
        page.suggest()
    assert desk.selection == () and page.right.currentWidget() is page.drawer
    page.tracks.filter.clear()
    assert chosen() == set()


def test_a_session_that_is_being_opened_shows_its_limit_and_nothing_of_the_one_before(fewer, settled, qtbot):
    example, drawer = fewer, fewer.balance.drawer
    settled(example, lambda: example.desk.choose_limit(0.9))
    drawer.suggest.click()
    qtbot.waitUntil(lambda: len(drawer._decisions) > 0 and drawer.steps.count() > 0, timeout=60_000)
    assert drawer.limit.value() == 90
    example.balance.tracks.choose(example.desk.document.session.strips[0].id)
    seen = []
    example.desk.opened.connect(lambda: seen.append((drawer.limit.value(), drawer.steps.count(), example.desk.survey)))
    example._leave_then = lambda go_on: go_on()
    with qtbot.waitSignal(example.desk.recomputed, timeout=60_000):
        example.open_example()
    assert seen == [(80, 0, None)]
    assert not example.balance.tracks.view.selectionModel().hasSelection() and example.desk.selection == ()
    drawer.remove_chosen()  # of nothing
    assert not drawer.remove.isEnabled() and not drawer.clear.isEnabled()


def test_a_plan_that_is_asked_for_before_there_is_a_load_is_looked_for_as_soon_as_there_is(make_window, qtbot):
    window = make_window(example=fewer_saved)
    drawer, said = window.balance.drawer, []
    drawer.suggest.click()  # no session, nothing to look in
    assert drawer.suggest.isEnabled()

    def ask():
        drawer.suggest.click()
        said.append((window.desk.survey, drawer._words.text(), drawer.suggest.isEnabled()))

    window.desk.opened.connect(ask)
    with qtbot.waitSignal(window.desk.suggested, timeout=60_000) as found:
        window.open_example()
    assert said == [(None, "The load is computed first…", False)]
    qtbot.waitUntil(lambda: window.desk.is_idle and drawer.suggest.isEnabled())
    assert window.desk.document.plan == found.args[0].plan and found.args[0].reached


def test_tracks_at_their_own_peak_cost_at_least_what_they_do_now_without_the_others(example):
    page = example.balance
    page.tracks.basis.setCurrentIndex(page.tracks.basis.findData("peak"))
    peak = page.tracks.model.ranking.strips
    factor = page._desk.instant.strip_costs.sum() / max(peak.sum(), 1e-12)
    assert factor < 1.6
    assert (peak >= 0).all()
    assert page.tracks._title.text() == "Tracks by cost at their peak"


def test_a_picture_is_written_as_a_drawing(example, qtbot, tmp_path, monkeypatch):
    path = tmp_path / "block.svg"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(path), ""))
    with qtbot.waitSignal(written.told, timeout=30_000):
        example.balance.block.ask_drawing()
    text = path.read_text()
    assert "<svg" in text
    assert "deadline" in text
    assert example.balance.block.accessibleName() in text


def test_a_drawing_that_cannot_be_written_is_told_and_what_was_there_stays(example, qtbot, tmp_path, monkeypatch):
    told, path = [], tmp_path / "block.svg"
    path.write_text("an older drawing")
    written.failed.connect(told.append)
    for chosen in (tmp_path / "missing" / "block.svg", path):
        monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_, chosen=chosen: (str(chosen), ""))
        if chosen == path:
            # As on a disk that is full: nothing of it can be written out.
            monkeypatch.setattr("os.fsync", lambda _: (_ for _ in ()).throw(OSError(28, "No space left on device")))
        with qtbot.waitSignal(written.failed, timeout=30_000):
            example.balance.block.ask_drawing()
    written.failed.disconnect(told.append)
    assert told == [
        f"{tmp_path}/missing/block.svg was not written: No such file or directory. Nothing else has changed.",
        f"{path} was not written: No space left on device. Nothing else has changed.",
    ]
    box = example.findChild(Message)
    assert box is not None and box.text() in told
    assert path.read_text() == "an older drawing" and list(tmp_path.glob("*.svg*")) == [path]


@pytest.mark.parametrize("limit", [0.5, 0.8, 0.9, 0.97, 1.0])
def test_deadline_and_limit_are_written_apart_however_near_their_lines_are(example, settled, limit):
    if limit != example.desk.document.session.limit:
        settled(example, lambda: example.desk.choose_limit(limit))
    view = example.balance.timeline
    places = view.label_places()
    assert set(places) == {1.0, limit}
    upper, lower = places[1.0], places[limit]
    assert limit == 1.0 or upper.bottom() <= lower.top() + 1e-6
    assert all(abs(place.center().y() - view._y(load)) <= place.height() / 2 for load, place in places.items())


def wheel(view, x, notches, modifier=Qt.KeyboardModifier.NoModifier):
    place = QPointF(x, 40)
    QCoreApplication.sendEvent(view, QWheelEvent(
        place, QPointF(view.mapToGlobal(place)), QPoint(), QPoint(0, round(120 * notches)), Qt.MouseButton.NoButton,
        modifier, Qt.ScrollPhase.NoScrollPhase, False,
    ))  # fmt: skip


def test_the_piece_is_looked_at_more_closely_by_wheel_fingers_mouse_and_keys(example, qtbot):
    view = example.balance.timeline
    whole, x = view.grab().toImage(), view._x(200.0)
    wheel(view, x, 5)
    start, end = view._seen.ends
    # What lies under the mouse stays there.
    assert view._x(200.0) == pytest.approx(x, abs=0.5) and end - start == pytest.approx(0.8**5 * 720.0, rel=0.01)
    assert view.second_at(x) == pytest.approx(200.0) and f"Seen from {clock(start)}" in view.accessibleDescription()
    assert view.grab().toImage() != whole
    # With Shift it moves on, by middle button as far as the mouse.
    wheel(view, x, -1, Qt.KeyboardModifier.ShiftModifier)
    assert view._seen.ends == pytest.approx((start + 0.1 * (end - start), end + 0.1 * (end - start)))
    here = view.second_at(300)
    qtbot.mousePress(view, Qt.MouseButton.MiddleButton, pos=QPoint(300, 40))
    move = QMouseEvent(
        QEvent.Type.MouseMove, QPointF(340, 40), QPointF(view.mapToGlobal(QPoint(340, 40))), Qt.MouseButton.NoButton,
        Qt.MouseButton.MiddleButton, Qt.KeyboardModifier.NoModifier,
    )  # fmt: skip
    QCoreApplication.sendEvent(view, move)
    qtbot.mouseRelease(view, Qt.MouseButton.MiddleButton, pos=QPoint(340, 40))
    assert view.second_at(340) == pytest.approx(here, abs=0.01)
    # A click lands where it is seen, and moments out of sight come into view.
    with qtbot.waitSignal(example.desk.moved):
        qtbot.mouseClick(view, Qt.MouseButton.LeftButton, pos=QPoint(500, 40))
    assert example.desk.instant.second == pytest.approx(view.second_at(500), abs=1.0)
    with qtbot.waitSignal(example.desk.moved):
        example.desk.move_to(700.0)
    qtbot.waitUntil(lambda: view._seen.ends[0] < 700.0 < view._seen.ends[1], timeout=30_000)
    # Keys: closer, more, on, all.
    span = view._seen.span
    press(qtbot, example, Qt.Key.Key_Plus)
    assert view._seen.span == pytest.approx(span / 2)
    press(qtbot, example, Qt.Key.Key_Minus)
    assert view._seen.span == pytest.approx(span)
    view.setFocus()
    qtbot.keyClick(view, Qt.Key.Key_PageUp)
    qtbot.keyClick(view, Qt.Key.Key_PageUp)
    assert view._seen.ends[1] < 700.0
    qtbot.keyClick(view, Qt.Key.Key_Home)
    assert view._seen.is_all and "Seen" not in view.accessibleDescription()
    # Two fingers on a touchpad.
    pinch = QNativeGestureEvent(
        Qt.NativeGestureType.ZoomNativeGesture, QPointingDevice.primaryPointingDevice(), 2, QPointF(x, 40),
        QPointF(x, 40), QPointF(view.mapToGlobal(QPoint(int(x), 40))), 1.0, QPointF(),
    )  # fmt: skip
    QCoreApplication.sendEvent(view, pinch)
    assert view._seen.span == pytest.approx(360.0, rel=0.01)
    # Another session is seen as a whole.
    example.open_example()
    assert view._seen.is_all


def test_arrows_walk_from_task_to_task_of_the_block_and_enter_chooses_the_track(example, qtbot):
    view = example.balance.block
    whole = view.accessibleDescription()
    view.setFocus()
    qtbot.keyClick(view, Qt.Key.Key_Right)
    block, strips = view._block, example.desk.survey.planned.session.strips
    first = min(range(len(block.core)), key=lambda k: (block.core[k], block.start[k]))
    assert view.accessibleDescription().startswith(f"{strips[first].name}, on core 1 from ")
    cost = float(block.end[first] - block.start[first])
    share = percent(cost / view._of.deadline)
    assert view.accessibleDescription().endswith(f"{cost * 1e6:.0f} µs, {share} of one core")
    qtbot.keyClick(view, Qt.Key.Key_Down)
    assert ", on core 2 from " in view.accessibleDescription()
    name = view.accessibleDescription().split(",")[0]
    with qtbot.waitSignal(example.desk.weighed, timeout=60_000):
        qtbot.keyClick(view, Qt.Key.Key_Return)
    assert [example.desk.document.session.strip(each).name for each in example.desk.selection] == [name]
    qtbot.keyClick(view, Qt.Key.Key_Escape)
    assert view.accessibleDescription() == whole


def test_a_picture_is_written_as_it_is_seen(example, qtbot, tmp_path, monkeypatch):
    path = tmp_path / "block.png"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(path), ""))
    shown = example.balance.block.grab().toImage()
    example.balance.block.ask_picture()
    qtbot.waitUntil(path.exists, timeout=30_000)
    assert QImage(str(path)).convertToFormat(shown.format()) == shown


def test_what_is_shown_without_the_plan_is_marked_in_the_menu(example, qtbot, settled):
    menus = example._menus
    peek = next(a for a in menus.decide.actions() if "without the plan" in a.text())
    settled(example, lambda: example.desk.decide("off", [Decision("off", "track-39")]))

    def is_marked():
        menus.decide.aboutToShow.emit()
        return peek.isChecked()

    assert not is_marked()
    peek.trigger()
    qtbot.waitUntil(lambda: example.desk.is_peeking, timeout=60_000)
    assert is_marked()
    peek.trigger()
    qtbot.waitUntil(lambda: not example.desk.is_peeking, timeout=60_000)
    assert not is_marked()
