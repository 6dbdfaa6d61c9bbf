"""What a suggestion may do, as said in the drawer: the load to stay under, and the disk space of its freezes."""

from __future__ import annotations

import csv

import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFileDialog

from nimbleload.app.look.notice import written
from nimbleload.core.computer.ceiling import Ceiling, Held
from nimbleload.core.decisions.rendering import audio_bytes


def type_into(qtbot, box, text: str) -> None:
    """Types a figure as a user does: the field is chosen, overwritten, and confirmed."""
    box.setFocus()
    box.selectAll()
    qtbot.keyClicks(box, text)
    qtbot.keyClick(box, Qt.Key.Key_Return)


def suggested(window, qtbot):
    with qtbot.waitSignal(window.desk.suggested, timeout=120_000) as told:
        qtbot.mouseClick(window.balance.drawer.suggest, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: window.desk.is_idle and window.balance.is_shown, timeout=60_000)
    return told.args[0]


def test_a_limit_that_is_typed_is_kept_with_the_session_and_what_is_suggested_stays_under_it(fewer, qtbot, settled):
    drawer = fewer.balance.drawer
    assert drawer.limit.value() == 80
    settled(fewer, lambda: type_into(qtbot, drawer.limit, "70"))
    assert fewer.desk.document.session.limit == 0.7
    assert fewer.desk.history.undo_step == "limit 70 %"
    found = suggested(fewer, qtbot)
    assert found.reached
    assert fewer.desk.survey.after.load.max() <= 0.7
    settled(fewer, fewer.desk.undo)
    settled(fewer, fewer.desk.undo)
    assert fewer.desk.document.session.limit == 0.8
    assert drawer.limit.value() == 80


def test_a_limit_from_a_shell_or_a_file_is_shown_as_it_is(fewer, settled):
    for percent in (1, 300, 1000):
        settled(fewer, lambda limit=percent / 100: fewer.desk.choose_limit(limit))
        assert fewer.balance.drawer.limit.value() == percent


def test_several_steps_of_the_limit_in_a_row_are_one_to_undo(example, qtbot, settled):
    limit = example.balance.drawer.limit
    limit.setFocus()

    def lower():
        for _ in range(4):
            qtbot.keyClick(limit, Qt.Key.Key_Down)

    settled(example, lower)
    assert example.desk.document.session.limit == pytest.approx(0.6)
    settled(example, example.desk.undo)
    assert example.desk.document.session.limit == 0.8


def test_freezes_take_no_more_disk_space_than_is_allowed(fewer, qtbot, settled):
    def megabytes() -> float:
        session = fewer.desk.document.session
        frozen = [d.strip for d in fewer.desk.document.plan.decisions if d.kind == "freeze"]
        return sum(audio_bytes(session.strip(each), session.rate) for each in frozen) / 1e6

    drawer = fewer.balance.drawer
    for kind, box in drawer.kinds.items():
        box.setChecked(kind == "freeze")
    suggested(fewer, qtbot)
    free = megabytes()
    assert free > 100
    settled(fewer, fewer.desk.undo)
    allowed = int(free * 0.7)
    type_into(qtbot, drawer.freezes, str(allowed))
    found = suggested(fewer, qtbot)
    assert megabytes() <= allowed
    assert not found.reached or found.plan != fewer.desk.survey.plan or found.price > 0


def test_what_this_computer_holds_is_taken_as_the_limit_with_one_click(example, qtbot, settled):
    drawer, of = example.balance.drawer, example.desk.survey
    assert not drawer.held.isVisible()
    trial = Held(0.637, 1000, 0, 0.9, True)
    example.balance.show_ceilings([Ceiling(256, of.session.rate, of.threads, 10.0, 0.637, 0.6, 0.72, trials=(trial,))])
    assert drawer.held.isVisible()
    settled(example, lambda: qtbot.mouseClick(drawer.held, Qt.MouseButton.LeftButton))
    assert example.desk.document.session.limit == 0.63
    settled(example, lambda: example.desk.choose_buffer(512))
    assert not drawer.held.isVisible()


def test_the_steps_of_the_plan_are_written_as_a_table(fewer, qtbot, tmp_path, monkeypatch):
    suggested(fewer, qtbot)
    qtbot.waitUntil(lambda: fewer.desk.steps is not None, timeout=60_000)
    path = tmp_path / "steps"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(path), "The steps as a table (*.csv)"))
    command = next(a for a in fewer.commands() if "report or a table" in a.text())
    with qtbot.waitSignal(written.told, timeout=30_000) as told:
        command.trigger()
    rows = list(csv.DictReader((tmp_path / "steps.csv").open()))
    assert [float(row["worst load after it"]) for row in rows] == pytest.approx(
        [step.load for step in fewer.desk.steps], abs=1e-4
    )
    assert told.args[1] == tmp_path / "steps.csv"


def test_a_plan_that_cannot_be_written_is_said(example, qtbot, tmp_path):
    with qtbot.waitSignal(example.desk.troubled, timeout=30_000) as told:
        example.deciding.write_report(tmp_path / "no such folder" / "plan.html")
    assert "The plan could not be written" in told.args[0]
    assert "Nothing else has changed." in told.args[0]
