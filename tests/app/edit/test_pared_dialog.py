"""A pared-down copy asked for on the Session page: what it keeps, the load it has, and the file that comes of it."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFileDialog

from nimbleload.app.edit.pared_dialog import ParedDialog
from nimbleload.app.frame.window import EDIT
from nimbleload.app.look.notice import written
from nimbleload.core.decisions.decision import Plan
from nimbleload.core.session.pared import pared
from nimbleload.core.survey import survey
from nimbleload.core.units import percent
from nimbleload.store import dawproject, session_file


def opened(window, qtbot, name: str) -> ParedDialog:
    """The dialog, asked for by key on the chosen track."""
    window.go(EDIT)
    strip = next(s for s in window.desk.document.session.strips if s.name == name)
    window.edit.choose(strip.id)
    window.edit.view.setFocus()
    window.activateWindow()
    qtbot.waitUntil(window.isActiveWindow, timeout=30_000)
    keys = Qt.KeyboardModifier
    qtbot.keyClick(window.edit.view, Qt.Key.Key_A, keys.ControlModifier | keys.ShiftModifier)
    return next(d for d in window.findChildren(ParedDialog) if d.isVisible())


def worst(window, stretch) -> str:
    document = window.desk.document
    fiddle = next(s.id for s in document.session.strips if s.name == "Fiddle")
    made = pared(document.session, [fiddle], stretch)
    return percent(float(survey(made, Plan(), window.desk.cards, document.machine, document.buffer).after.load.max()))


def test_the_dialog_says_what_is_kept_and_what_load_is_left(example, qtbot):
    dialog = opened(example, qtbot, "Fiddle")
    assert dialog.kept.text().startswith("It keeps Fiddle, and what is needed for that: ")
    assert "Hall" in dialog.kept.text()
    assert "Narrator" not in dialog.kept.text()
    qtbot.waitUntil(lambda: worst(example, None) in dialog.words.text(), timeout=30_000)
    names = [dialog.stretch.itemText(k) for k in range(dialog.stretch.count())]
    assert names[2] == "Storm, 1:58 to 4:03"
    dialog.stretch.setCurrentIndex(5)
    quiet = worst(example, tuple(dialog.stretch.itemData(5)))
    assert quiet != worst(example, None)
    qtbot.waitUntil(lambda: quiet in dialog.words.text(), timeout=30_000)


def test_the_copy_is_written_as_what_its_name_says(example, qtbot, tmp_path, monkeypatch):
    for kind, suffix in (("Exchange files (*.dawproject)", ".dawproject"), ("Sessions (*.nimbleload)", ".nimbleload")):
        dialog = opened(example, qtbot, "Fiddle")
        monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_, k=kind: (str(tmp_path / "copy"), k))
        with qtbot.waitSignal(written.told, timeout=60_000) as told:
            qtbot.mouseClick(dialog.save, Qt.MouseButton.LeftButton)
        assert told.args[1] == tmp_path / f"copy{suffix}"
        assert "Left out: " in told.args[0]
    one = dawproject.read(tmp_path / "copy.dawproject").session
    other = session_file.read(tmp_path / "copy.nimbleload").session
    assert [s.name for s in one.strips] == [s.name for s in other.strips]
    assert "Fiddle" in [s.name for s in one.strips]


def test_without_a_chosen_track_the_page_says_what_to_choose(example, qtbot):
    example.go(EDIT)
    example.edit.view.clearSelection()
    example.edit.ask_pared()
    assert "Choose tracks or buses" in example.edit.news.text()
    assert example.findChild(ParedDialog) is None
