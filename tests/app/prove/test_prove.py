"""Prove, the host and tracking in the real window."""

from __future__ import annotations

import re

import msgspec
import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QDialog

from nimbleload.app.frame.window import BALANCE, PROVE
from nimbleload.app.prove.prove_page import BEFORE
from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.load.rehearsal import Prediction, Rehearsal
from nimbleload.core.session.computer import Device, Host, Machine
from nimbleload.core.session.plugins import PluginRef, PluginUse, Setting
from nimbleload.core.session.strips import Clip, Strip
from nimbleload.core.told.warnings import STILL_LATE
from nimbleload.store import session_file
from nimbleload.store.session_file import Saved
from tests.helpers.sessions import card, session


def house_use(name: str, use_id: str, **values: float) -> PluginUse:
    return PluginUse(use_id, PluginRef("house", f"house.{name}", name), Setting(tuple(values.items())))


@pytest.fixture
def small(make_window, qtbot, tmp_path):
    """A window with a session of two light tracks."""
    strips = [
        Strip(name, name, inserts=(house_use("tar", f"{name}/0"),), output="main", clips=(Clip(0, 10),))
        for name in ("Voice", "Fiddle")
    ]
    path = tmp_path / "small.nimbleload"
    session_file.write(path, Saved(session(*strips), Plan(), (), Machine(2), 1024))
    window = make_window()
    with qtbot.waitSignal(window.desk.recomputed, timeout=60_000):
        window.open_path(path)
    window.go(PROVE)
    return window


def test_a_rehearsal_shows_its_outcome_track_by_track(small, qtbot):
    page = small.prove
    assert "Rehearse" in page.sentence.headline.text()
    page.seconds.setValue(1.0)
    with qtbot.waitSignal(page.rehearsing.ended, timeout=60_000):
        page.sentence.button.click()
        assert page.cancel.isVisible()
    assert page.outcome is not None
    # Nothing is planned: there is no other way to play it.
    assert len(page.outcome.loads) > 20 and not page.without.isVisible()
    assert page.table.rowCount() == 3
    assert {page.table.item(row, 0).text() for row in range(3)} == {"Voice", "Fiddle", "Main"}
    assert page.blocks.isVisible()
    blocks = len(page.outcome.loads)
    assert len(page.blocks.figures()) == blocks + 1
    assert page.blocks.legend(blocks).startswith(f"{blocks} blocks; ")
    assert f"{blocks} blocks, each bar the fullest of up to 2;" in page.blocks.legend(blocks - 1)
    assert small.places.buttons[PROVE].state.split()[0] in ("held", "missed")
    assert not page.cancel.isVisible()


def test_what_was_rehearsed_before_a_change_says_nothing_of_what_is_there_now(small, qtbot, settled):
    page, desk = small.prove, small.desk

    def is_of_before():
        told = page.sentence.headline.text().endswith(BEFORE)
        assert told == (small.places.buttons[PROVE].state == "before changes")
        return told

    page.seconds.setValue(1.0)
    with qtbot.waitSignal(page.rehearsing.ended, timeout=60_000):
        page.sentence.button.click()
    assert not is_of_before()
    for change in (
        lambda: desk.decide("freeze", [Decision("freeze", "Voice")]),
        lambda: desk.choose_buffer(512),
        lambda: desk.edit("without it", msgspec.structs.replace(
            desk.document.session, strips=desk.document.session.strips[1:])),
    ):  # fmt: skip
        settled(small, change)
        assert is_of_before()
        settled(small, desk.undo)
        assert not is_of_before()
    # What it teaches about the host is no such change, nor is another moment.
    of = desk.document.session
    host = msgspec.structs.replace(of.host, strip_overhead=2 * of.host.strip_overhead + 1e-5)
    settled(small, lambda: desk.edit("what was learnt", msgspec.structs.replace(of, host=host)))
    assert not is_of_before()
    desk.move_to(3.0)
    assert not is_of_before()


def test_of_a_session_for_more_cores_some_of_them_are_rehearsed_and_what_follows_is_said(
    make_window, qtbot, tmp_path
):
    strips = [
        Strip(f"t{k}", f"Track {k}", inserts=(house_use("tar", f"t{k}/0"),), output="main", clips=(Clip(0, 10),))
        for k in range(6)
    ]
    # Dearer than they are: three quarters of a core each.
    dear = card(strips[0].inserts[0], 4e-3)
    path = tmp_path / "large.nimbleload"
    session_file.write(path, Saved(session(*strips), Plan(), (dear,), Machine(6), 1024))
    window = make_window()
    with qtbot.waitSignal(window.desk.recomputed, timeout=60_000):
        window.open_path(path)
    window.go(PROVE)
    page = window.prove
    page.cores.setValue(1)
    words = page.sentence.advice.text()
    assert "The session is planned for 6 cores, and 1 is here: what the fullest of them plays is rehearsed" in words
    assert re.search(r"rehearsed, [12] of 7 tracks and buses\. 1 plugin would run", words)
    page.seconds.setValue(1.0)
    with qtbot.waitSignal(page.rehearsing.ended, timeout=60_000):
        page.sentence.button.click()
    # One of the six tracks, and where it leads.
    assert page.table.rowCount() == 2 and "Main" in {page.table.item(row, 0).text() for row in range(2)}
    # Before it stands only why blocks were late, if any was.
    first, *more = page.words.text().splitlines()
    said = more[0] if first.startswith("Why ") else first
    assert said.startswith("That was the share of 1 of 6 cores. If all the rest is off by as much, the whole takes")
    # With no plan for more, all of it is.
    with qtbot.waitSignal(window.desk.recomputed, timeout=60_000):
        window.choose_cores(1)
    page.outcome = None
    page._show_offer()
    assert "planned for" not in page.sentence.advice.text() and "6 plugins" in page.sentence.advice.text()


def test_a_cancelled_rehearsal_says_so_and_can_be_started_again(small, qtbot):
    page = small.prove
    page.seconds.setValue(60.0)
    with qtbot.waitSignal(page.rehearsing.playing, timeout=60_000):
        page.sentence.button.click()
    with qtbot.waitSignal(page.rehearsing.failed, timeout=60_000):
        page.cancel.click()
    assert "cancelled" in page.sentence.advice.text()
    assert page.sentence.button.text() == "Rehearse again"
    assert page.outcome is None


def test_what_it_taught_can_be_taken_over_and_taken_back(small, settled):
    page = small.prove
    of = small.desk.survey
    strips = {s.id: 1e-3 for s in of.session.strips}
    uses = {u.id: 2e-4 for u in of.planned.uses.uses}
    outcome = Rehearsal(
        1024, 48000, 5.0, 2, True, True, (0.2,) * 50, 0, strips, strips, uses, (0.1, 0.1), 3e-6, 1e-5, 1.0
    )
    predicted = Prediction(0.2, 0.2, np.full(3, 1e-3), dict.fromkeys(uses, 0.0001))
    page.rehearsing.ended.emit(outcome, predicted, of, None)
    assert page.sentence.headline.text().startswith("Held")
    settled(small, page.take.click)
    assert small.desk.document.session.host == Host(plugin_factor=2.0)
    settled(small, small.desk.undo)
    assert small.desk.document.session.host == Host()


def test_peaks_come_after_the_load_and_a_bad_block_can_be_looked_at(example, qtbot):
    example.go(BALANCE)
    page = example.balance
    qtbot.waitUntil(lambda: example.desk.band is not None and example.desk.outlook is not None, timeout=60_000)
    outlook, at = example.desk.outlook, example.desk.instant
    assert "What helps most at once: Tar at oversampling 2 on 18" in page.sentence.advice.text()
    assert (example.desk.band >= example.desk.survey.after.load - 1e-9).all()
    row = next(r for r in page.buffers.figures() if r[0] == "256")
    assert float(row[2]) == pytest.approx(outlook.peaks[256].bad, abs=1e-4)
    usual = page.block.figures()
    page.kinds["worst"].click()
    ends = [float(r[3]) for r in page.block.figures()[1:]]
    assert max(ends) / 1e6 == pytest.approx(outlook.peaks[256].worst * 256 / 48000, rel=0.01)
    assert max(ends) >= max(float(r[3]) for r in usual[1:])
    page.kinds["mean"].click()
    assert page.block.figures() == usual
    with qtbot.waitSignal(example.desk.moved):
        example.desk.move_to(10.0)
    assert example.desk.outlook is None
    assert at is not example.desk.instant


def test_the_host_is_fitted_to_its_meter_and_changes_the_load(example, settled):
    example.ask_host()
    dialog = next(d for d in example.findChildren(QDialog) if d.isVisible())
    dialog.fit.click()
    assert "two readings at different buffer sizes are needed" in dialog.words.text().lower()
    for (size, share), (index, percent) in zip(dialog.readings, ((1, 180), (5, 140)), strict=False):
        size.setCurrentIndex(index)
        share.setValue(percent)
    dialog.fit.click()
    assert "The host itself takes" in dialog.words.text()
    dialog.ahead.setCurrentIndex(dialog.ahead.findData(2048))
    dialog.periods.setValue(3)
    before = example.desk.survey.after.load.max()
    settled(example, dialog.accept)
    session_ = example.desk.document.session
    assert session_.host.read_ahead == 2048
    assert session_.device == Device(3, converters=0.0012, heard_within=0.015)
    assert example.desk.survey.after.load.max() != before
    settled(example, example.desk.undo)
    assert example.desk.survey.after.load.max() == before


def test_tracking_in_time_takes_plugins_out_as_decisions(example, qtbot, settled):
    example.deciding.ask_tracking()
    dialog = next(d for d in example.findChildren(QDialog) if d.isVisible())
    dialog.waits.setChecked(False)
    dialog.limit.setValue(12.5)
    assert not dialog.apply.isEnabled()
    qtbot.waitUntil(lambda: "Bypass these" in dialog.words.text(), timeout=30_000)
    assert dialog.words.text().endswith(STILL_LATE)
    uses = dialog.found.bypass.uses
    settled(example, dialog.apply.click)
    decided = {d.use for d in example.desk.document.plan.decisions}
    assert decided == set(uses)
    ways = example.desk.survey.latencies.way.values()
    assert max(ways) / 48000 + 2 * 256 / 48000 <= 0.0125 + 1e-9
    # It is gone with its window; the next one begins anew.
    example.deciding.ask_tracking()
    dialog = next(d for d in example.findChildren(QDialog) if d.isVisible())
    dialog.limit.setValue(0.5)
    qtbot.waitUntil(lambda: "smaller buffer is needed" in dialog.words.text(), timeout=30_000)


def test_another_rate_is_scaled_and_says_so(example, settled):
    settled(example, lambda: example.desk.choose_rate(96000))
    assert example.desk.document.session.rate == 96000
    assert set(example.desk.instant.shares) == {"scaled"}
    assert msgspec.structs.asdict(example.desk.document.session)["rate"] == 96000


def test_a_host_that_computes_blocks_in_parts_shows_each_of_them_and_pays_for_every_call(example, settled):
    before = example.desk.instant
    view = example.balance.block
    rows = len(view.figures())
    example.ask_host()
    dialog = next(d for d in example.findChildren(QDialog) if d.isVisible())
    dialog.parts.setCurrentIndex(dialog.parts.findText("in 4 parts"))
    settled(example, dialog.accept)
    assert example.desk.document.session.host.parts == 4
    at = example.desk.instant
    # Each of four calls pays its own way, and the longest chain passes parts on.
    assert at.block.work > before.block.work
    count = len(example.desk.survey.planned.session.strips)
    assert at.block.start[count - 1] < at.block.end[3 * count : -1].max()
    figures = view.figures()[1:]
    assert len(figures) == 4 * (rows - 1)
    strips = example.desk.survey.planned.session.strips
    assert figures[0][0] == f"{strips[0].name}, part 1 of 4"
    assert figures[-1][0] == f"{strips[-1].name}, part 4 of 4"
    drawn = view.grab().toImage()
    assert not drawn.isNull()
    task = 3 * len(strips)
    point = view._places[task].center()
    assert view._task_at(point) == task
    settled(example, example.desk.undo)
    assert len(view.figures()) == rows


def test_the_same_moment_is_seen_without_the_plan_behind_it(small, qtbot, settled):
    page = small.prove
    page.seconds.setValue(1.0)

    def rehearse(button):
        with qtbot.waitSignal(page.rehearsing.ended, timeout=60_000):
            qtbot.mouseClick(button, Qt.MouseButton.LeftButton)

    settled(small, lambda: small.desk.decide("off", [Decision("off", "Voice"), Decision("off", "Fiddle")]))
    rehearse(page.sentence.button)
    with_it = page.outcome
    assert page.without.isVisible() and "behind" not in page.blocks.legend(10) and page.table.rowCount() == 1
    rehearse(page.without)
    # What stands there is still what was rehearsed with the plan.
    assert page.outcome is with_it and not page.without.isVisible() and page.take.isVisible()
    words = page.sentence.advice.text()
    assert words.startswith("Blocks took ") and "). Without the plan they took " in words
    assert "behind: without the plan" in page.blocks.legend(10)
    rows = page.blocks.figures()
    at = rows.index(["block", "load without the plan"])
    before = [float(row[1]) for row in rows[at + 1 :]]
    # Two plugins more.
    assert len(before) > 20 and np.median(before) > with_it.typical
