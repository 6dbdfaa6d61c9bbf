"""The Session page, driven by keys and mouse in the real window."""

from __future__ import annotations

import json
import threading

import msgspec
import pytest
from PySide6.QtCore import QEvent, QMimeData, QPoint, QPointF, Qt
from PySide6.QtGui import QDropEvent, QGuiApplication, QKeySequence, QMouseEvent
from PySide6.QtWidgets import QDialogButtonBox, QFileDialog, QLineEdit, QMessageBox

from nimbleload.app.edit import adding, how_many_dialog
from nimbleload.app.edit.adding import AddingDialog
from nimbleload.app.edit.ask import Question
from nimbleload.app.edit.chain_painter import boxes
from nimbleload.app.edit.how_many_dialog import HowManyDialog
from nimbleload.app.edit.shelf_dialog import ShelfDialog
from nimbleload.app.edit.strip_model import CHAIN, NAME, WHEN
from nimbleload.app.edit.strip_view import NEW, PLUGINS, TRACKS
from nimbleload.app.frame.window import BALANCE, EDIT, MEASURE
from nimbleload.core.decisions.decision import Plan
from nimbleload.core.session import edits, time_edits
from nimbleload.core.session.session import Meter, TempoPoint
from nimbleload.core.survey import survey
from nimbleload.house.catalogue import PROCESSORS
from nimbleload.probe import catalogue
from nimbleload.probe.formats.hosted import Preset
from nimbleload.probe.isolation import Failure
from nimbleload.probe.messages import ParametersMessage
from nimbleload.store import session_file
from tests.store.test_audio_folder import stem


@pytest.fixture(autouse=True)
def _house_only(monkeypatch):
    """No plugins are installed but the house's own."""
    monkeypatch.setattr(catalogue, "catalogue", lambda *_, **__: [])


@pytest.fixture
def window(make_window, qtbot):
    """A window with a new, empty session on the Session page."""
    return begun(qtbot, make_window())


def begun(qtbot, window):
    """Begins a new session in a window, by keys."""
    active(qtbot, window)
    press(qtbot, window, "Ctrl+N")
    answer(qtbot, window, name="Tune")
    qtbot.waitUntil(lambda: window.desk.survey is not None, timeout=60_000)
    assert window.pages.currentIndex() == EDIT
    return window


def active(qtbot, window):
    window.activateWindow()
    qtbot.waitUntil(window.isActiveWindow, timeout=10_000)


def press(qtbot, widget, keys):
    sequence = QKeySequence(keys)[0]
    qtbot.keyClick(widget, sequence.key(), sequence.keyboardModifiers())


def answer(qtbot, window, **fields):
    """Fills in the question that is open, and accepts it."""
    (dialog,) = [d for d in window.findChildren(Question) if d.isVisible()]
    for name, value in fields.items():
        field = dialog.fields[name]
        if isinstance(field, QLineEdit):
            field.clear()
            qtbot.keyClicks(field, value)
        elif hasattr(field, "setValue"):
            field.setValue(value)
        else:
            field.setCurrentIndex(field.findText(value))
    qtbot.mouseClick(dialog.findChild(QDialogButtonBox).buttons()[0], Qt.MouseButton.LeftButton)
    active(qtbot, window)


def names(window):
    return [strip.name for strip in window.desk.document.session.strips]


def rows(window):
    """The names of all rows that are unfolded, from top to bottom."""
    found, at = [], window.edit.model.index(0, NAME)
    while at.isValid():
        found.append(at.data())
        at = window.edit.view.indexBelow(at)
    return found


def strip(window, name):
    return next(strip for strip in window.desk.document.session.strips if strip.name == name)


def chain(window, name):
    return [use.label for use in strip(window, name).uses()]


def choose(qtbot, window, name):
    """Clicks a track's name."""
    view = window.edit.view
    index = window.edit.model.index_of(strip(window, name).id, NAME)
    view.scrollTo(index)
    qtbot.mouseClick(view.viewport(), Qt.MouseButton.LeftButton, pos=view.visualRect(index).center())


def rename(qtbot, window, name):
    """Types a name for the track that has the cursor."""
    view = window.edit.view
    press(qtbot, view, "F2")
    line = view.findChild(QLineEdit)
    line.selectAll()
    qtbot.keyClicks(line, name)
    qtbot.keyClick(line, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: not view.findChildren(QLineEdit), timeout=10_000)


def put_in(qtbot, window, words):
    """Looks for a plugin and puts it in, by keys alone."""
    plugins = window.edit.plugins
    plugins.words.setFocus()
    plugins.words.clear()
    qtbot.keyClicks(plugins.words, words)
    qtbot.keyClick(plugins.words, Qt.Key.Key_Return)
    qtbot.keyClick(plugins.rows, Qt.Key.Key_Return)
    window.edit.view.setFocus()


def box(window, name, place):
    """The middle of a plugin's box."""
    index = window.edit.model.index_of(strip(window, name).id, CHAIN)
    found = boxes(strip(window, name), window.edit.view.visualRect(index))[place]
    return found.area.center().toPoint()


def drop(window, kind, what, at, keys=Qt.KeyboardModifier.NoModifier):
    """Lets go of something that is being dragged."""
    carried = QMimeData()
    carried.setData(kind, json.dumps(what).encode())
    event = QDropEvent(
        QPointF(at), Qt.DropAction.CopyAction | Qt.DropAction.MoveAction, carried, Qt.MouseButton.LeftButton, keys
    )
    window.edit.view.dropEvent(event)


def test_a_session_is_built_by_keys_alone(window, qtbot, tmp_path, monkeypatch):
    view = window.edit.view
    view.setFocus()
    press(qtbot, view, "Ctrl+B")
    rename(qtbot, window, "Band")
    press(qtbot, view, "Ctrl+R")
    rename(qtbot, window, "Hall")
    window.edit.choose(strip(window, "Band").id)
    press(qtbot, view, "Ctrl+T")
    rename(qtbot, window, "Drum")
    put_in(qtbot, window, "sluice")
    put_in(qtbot, window, "ballast")
    put_in(qtbot, window, "shoreline")
    press(qtbot, view, "Ctrl+L")
    answer(qtbot, window, **{"from": 5.0, "to": 65.0})
    press(qtbot, view, "Ctrl+Shift+E")
    answer(qtbot, window, to="Hall", level=-6.0)
    view.choose_plugins([])
    press(qtbot, view, "Ctrl+D")
    assert names(window) == ["Band", "Hall", "Drum", "Drum 2", "Main"] or names(window)[0] == "Band"
    drum = strip(window, "Drum 2")
    assert chain(window, "Drum 2") == ["Sluice", "Ballast", "Shoreline"]
    assert drum.output == strip(window, "Main").id and drum.sends[0].level == pytest.approx(0.501, abs=0.001)
    assert [(clip.start, clip.end) for clip in drum.clips] == [(5, 65)]
    # Saved, opened again, and the same.
    target = tmp_path / "tune.nimbleload"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(target), ""))
    with qtbot.waitSignal(window.filing.saved, timeout=30_000):
        press(qtbot, window, "Ctrl+S")
    assert session_file.read(target).session == window.desk.document.session
    # Undone to the beginning, and made again.
    built = window.desk.document
    while window.desk.history.undo_step:
        press(qtbot, window, "Ctrl+Z")
    assert names(window) == ["Main"] and window.edit.model.rowCount() == 1
    while window.desk.history.redo_step:
        press(qtbot, window, "Ctrl+Shift+Z")
    assert window.desk.document == built
    assert len(rows(window)) == 5


def test_a_track_goes_into_the_bus_of_the_one_that_is_chosen(window, qtbot):
    view = window.edit.view
    view.setFocus()
    press(qtbot, view, "Ctrl+B")
    press(qtbot, view, "Ctrl+T")
    # It is routed by the box beside the tree, and then the next one follows it.
    output = window.edit.inspector.output
    output.setCurrentIndex(output.findText("Bus"))
    output.activated.emit(output.currentIndex())
    press(qtbot, view, "Ctrl+T")
    assert strip(window, "Track 2").output == strip(window, "Bus").id
    index = window.edit.model.index_of(strip(window, "Track 2").id)
    assert window.edit.model.strip(index.parent()).name == "Bus"


def test_a_circle_is_refused_in_a_sentence_and_nothing_changes(window, qtbot):
    view = window.edit.view
    view.setFocus()
    press(qtbot, view, "Ctrl+B")
    press(qtbot, view, "Ctrl+B")
    first, second = strip(window, "Bus"), strip(window, "Bus 2")
    assert second.output == first.output or second.output == first.id
    if second.output != first.id:
        drop(window, TRACKS, [second.id], view.visualRect(window.edit.model.index_of(first.id)).center())
    before = window.desk.document
    drop(window, TRACKS, [first.id], view.visualRect(window.edit.model.index_of(second.id)).center())
    assert "circle: Bus" in window.edit.news.text() and "Nothing was changed" in window.edit.news.text()
    assert window.desk.document is before


@pytest.fixture
def mix(window, qtbot):
    """Two tracks, one with three plugins, and a bus."""
    view = window.edit.view
    view.setFocus()
    press(qtbot, view, "Ctrl+T")
    rename(qtbot, window, "A")
    for words in ("sluice", "ballast", "tar"):
        put_in(qtbot, window, words)
    press(qtbot, view, "Ctrl+T")
    rename(qtbot, window, "B")
    press(qtbot, view, "Ctrl+B")
    rename(qtbot, window, "Group")
    return window


class TestBoxes:
    def test_arrows_choose_them_and_the_chosen_one_is_taken_out(self, mix, qtbot):
        choose(qtbot, mix, "A")
        view = mix.edit.view
        press(qtbot, view, "Right")
        press(qtbot, view, "Right")
        assert mix.edit.inspector.plugin.text() == "Ballast" and mix.edit.inspector.plugin.isVisible()
        press(qtbot, view, "Space")
        assert not strip(mix, "A").inserts[1].enabled and mix.edit.inspector.bypassed.isChecked()
        press(qtbot, view, "Alt+Left")
        assert chain(mix, "A") == ["Ballast", "Sluice", "Tar"]
        press(qtbot, view, "Alt+Right")
        press(qtbot, view, "Alt+Right")
        assert chain(mix, "A") == ["Sluice", "Tar", "Ballast"]
        press(qtbot, view, "Del")
        assert chain(mix, "A") == ["Sluice", "Tar"] and len(names(mix)) == 4
        press(qtbot, view, "Del")
        assert names(mix) == ["B", "Group", "Main"]

    def test_a_click_chooses_a_box_and_ctrl_more_of_them(self, mix, qtbot):
        view = mix.edit.view.viewport()
        qtbot.mouseClick(view, Qt.MouseButton.LeftButton, pos=box(mix, "A", 0))
        assert mix.edit.view.chosen == [strip(mix, "A").inserts[0].id]
        qtbot.mouseClick(view, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.ControlModifier, box(mix, "A", 2))
        assert len(mix.edit.view.chosen) == 2 and mix.edit.inspector.plugin.text() == "2 plugins"
        choose(qtbot, mix, "B")
        assert mix.edit.view.chosen == [] and not mix.edit.inspector.plugin.isVisible()

    def test_boxes_are_dropped_where_they_are_let_go(self, mix, qtbot):
        ids = [use.id for use in strip(mix, "A").inserts]
        in_front = box(mix, "A", 0) - QPoint(12, 0)
        drop(mix, PLUGINS, [ids[2]], in_front)
        assert chain(mix, "A") == ["Tar", "Sluice", "Ballast"]
        on_b = mix.edit.view.visualRect(mix.edit.model.index_of(strip(mix, "B").id, CHAIN)).center()
        drop(mix, PLUGINS, [ids[0]], on_b, Qt.KeyboardModifier.ControlModifier)
        assert (chain(mix, "A"), chain(mix, "B")) == (["Tar", "Sluice", "Ballast"], ["Sluice"])
        drop(mix, PLUGINS, [ids[0], ids[1]], on_b)
        assert chain(mix, "A") == ["Tar"] and sorted(chain(mix, "B")) == ["Ballast", "Sluice", "Sluice"]
        drop(mix, NEW, [0], on_b)
        assert mix.edit.plugins.plugins[0].label in chain(mix, "B")

    def test_values_are_typed_in_beside_the_chain(self, mix, qtbot):
        qtbot.mouseClick(mix.edit.view.viewport(), Qt.MouseButton.LeftButton, pos=box(mix, "A", 2))
        values = mix.edit.inspector.values
        # The plugin is asked for its parameters in a process of its own.
        qtbot.waitUntil(lambda: values.rowCount() > 1, timeout=60_000)
        specs = {spec.name: spec for spec in PROCESSORS["house.tar"].settings}
        assert {values.item(r, 0).text() for r in range(values.rowCount())} == set(specs)
        row = next(r for r in range(values.rowCount()) if values.item(r, 0).text() == "drive")
        assert float(values.item(row, 1).text()) == specs["drive"].start
        assert f"to {specs['drive'].most:g}" in values.item(row, 1).toolTip()
        values.item(row, 1).setText("1000")
        assert f"to {specs['drive'].most:g}, not 1000" in mix.edit.news.text()
        values.item(row, 1).setText("4,5")
        assert dict(strip(mix, "A").inserts[2].setting.values)["drive"] == 4.5
        values.item(row, 1).setText("loud")
        assert "Drive is “loud”, which is no number" in mix.edit.news.text()
        assert values.item(row, 1).text() == "4.5"

    def test_each_setting_of_a_plugin_shows_its_own_values(self, mix, qtbot):
        values = mix.edit.inspector.values

        def drive(track, number):
            qtbot.mouseClick(mix.edit.view.viewport(), Qt.MouseButton.LeftButton, pos=box(mix, track, number))
            qtbot.waitUntil(lambda: values.rowCount() > 1, timeout=60_000)
            return next(values.item(r, 1) for r in range(values.rowCount()) if values.item(r, 0).text() == "drive")

        drive("A", 2).setText("4.5")
        # The first to be asked has a value set; a copy that has none is not shown with it.
        view = mix.edit.view
        on_b = view.visualRect(mix.edit.model.index_of(strip(mix, "B").id, CHAIN)).center()
        drop(mix, PLUGINS, [strip(mix, "A").inserts[2].id], on_b, Qt.KeyboardModifier.ControlModifier)
        assert drive("B", 0).text() == "4.5"
        entries = {action.text(): action for action in mix.edit.inspector.preset.menu().actions()}
        entries["As it starts"].trigger()
        start = {spec.name: spec for spec in PROCESSORS["house.tar"].settings}["drive"].start
        assert float(drive("B", 0).text()) == start != 4.5
        assert float(drive("A", 2).text()) == 4.5

    @pytest.fixture
    def asked(self, tmp_path, monkeypatch):
        """Plugins tell two presets, and take every state but one; what they were asked with."""
        found = []

        def told(use, rate, cancelled):
            found.append(use.setting.state)
            if use.setting.state == b"wrong":
                return Failure("did not accept the state that the session saved for it.")
            return ParametersMessage((), (Preset("Warm", str(tmp_path / "warm")), Preset("Odd", str(tmp_path / "odd"))))

        monkeypatch.setattr("nimbleload.app.edit.parameters.told", told)
        return found

    def test_presets_are_tried_before_they_are_taken_and_undone_like_any_edit(self, asked, mix, qtbot, tmp_path):
        (tmp_path / "warm").write_bytes(b"warm")
        (tmp_path / "odd").write_bytes(b"wrong")
        qtbot.mouseClick(mix.edit.view.viewport(), Qt.MouseButton.LeftButton, pos=box(mix, "A", 2))
        inspector = mix.edit.inspector

        def entries():
            return {action.text(): action for action in inspector.preset.menu().actions() if action.text()}

        qtbot.waitUntil(lambda: "Warm" in entries(), timeout=60_000)
        assert set(entries()) == {"Warm", "Odd", "From a file…", "As it starts"}
        # A house processor takes no state from elsewhere, and there is nothing to take back yet.
        assert not entries()["From a file…"].isEnabled() and not entries()["As it starts"].isEnabled()
        before = mix.desk.document.session
        entries()["Odd"].trigger()
        news = mix.edit.news
        qtbot.waitUntil(lambda: "Odd was not taken: it did not accept the state" in news.text(), timeout=60_000)
        assert mix.desk.document.session == before
        (tmp_path / "odd").unlink()
        entries()["Odd"].trigger()
        qtbot.waitUntil(lambda: "cannot be read: No such file" in news.text(), timeout=60_000)
        entries()["Warm"].trigger()
        qtbot.waitUntil(lambda: mix.desk.document.session != before, timeout=60_000)
        assert strip(mix, "A").inserts[2].setting.state == b"warm" and asked[-1] == b"warm"
        assert "preset Warm" in mix.desk.history.undo_step
        assert "state that was saved" in inspector.plugin_about.text()
        entries()["As it starts"].trigger()
        assert strip(mix, "A").inserts[2].setting.state is None
        mix.desk.undo()
        mix.desk.undo()
        assert mix.desk.document.session == before

    def test_a_chain_is_kept_on_the_shelf_and_put_in_elsewhere(self, mix, qtbot):
        view = mix.edit.view
        choose(qtbot, mix, "A")
        press(qtbot, view, "Ctrl+Shift+J")
        answer(qtbot, mix, name="Warm")
        assert mix.edit.news.text() == "Warm is on the shelf, for this and other sessions."
        choose(qtbot, mix, "B")
        press(qtbot, view, "Ctrl+J")
        (dialog,) = [each for each in mix.findChildren(ShelfDialog) if each.isVisible()]
        assert dialog.rows.item(0).toolTip() == "Sluice → Ballast → Tar"
        qtbot.keyClick(dialog.rows, Qt.Key.Key_Return)
        assert chain(mix, "B") == ["Sluice", "Ballast", "Tar"] == chain(mix, "A")
        assert mix.desk.history.undo_step == "put in Warm"
        active(qtbot, mix)
        press(qtbot, view, "Ctrl+J")
        (dialog,) = [each for each in mix.findChildren(ShelfDialog) if each.isVisible()]
        active(qtbot, dialog)
        qtbot.keyClick(dialog.rows, Qt.Key.Key_Delete)
        assert dialog.rows.count() == 0 and not dialog.take.isEnabled()
        assert "Nothing is kept yet" in dialog.words.text()
        qtbot.keyClick(dialog, Qt.Key.Key_Escape)
        active(qtbot, mix)
        # With nothing chosen there is nothing to keep.
        choose(qtbot, mix, "Group")
        press(qtbot, view, "Ctrl+Shift+J")
        assert "Choose plugins, or a track" in mix.edit.news.text()

    def test_the_menu_leads_to_the_cost_card(self, mix, qtbot):
        qtbot.mouseClick(mix.edit.view.viewport(), Qt.MouseButton.LeftButton, pos=box(mix, "A", 1))
        qtbot.waitUntil(lambda: len(mix.measure.model.rows) == 3, timeout=30_000)
        press(qtbot, mix.edit.view, "Ctrl+I")
        assert mix.pages.currentIndex() == MEASURE
        row = mix.measure.table.currentIndex().row()
        assert mix.measure.model.rows[row][1].label == "Ballast"


class TestClipboard:
    def test_plugins_and_tracks_are_copied_as_text_anybody_can_read(self, mix, qtbot):
        view = mix.edit.view
        qtbot.mouseClick(view.viewport(), Qt.MouseButton.LeftButton, pos=box(mix, "A", 1))
        press(qtbot, view, "Ctrl+C")
        assert json.loads(QGuiApplication.clipboard().text())["plugins"][0]["plugin"]["name"] == "Ballast"
        choose(qtbot, mix, "B")
        press(qtbot, view, "Ctrl+V")
        assert chain(mix, "B") == ["Ballast"]
        choose(qtbot, mix, "A")
        press(qtbot, view, "Ctrl+X")
        assert "A" not in names(mix)
        press(qtbot, view, "Ctrl+V")
        assert chain(mix, "A") == ["Sluice", "Ballast", "Tar"]

    @pytest.mark.parametrize("text", ["", "hello", "{}", '{"format": "nimble-load-clipping"}', "[" * 5000])
    def test_what_is_nothing_of_ours_is_said(self, mix, qtbot, text):
        QGuiApplication.clipboard().setText(text)
        before = mix.desk.document
        press(qtbot, mix.edit.view, "Ctrl+V")
        assert "Nothing was pasted" in mix.edit.news.text() and mix.desk.document is before


class TestTracks:
    def test_tracks_are_dropped_into_buses(self, mix, qtbot):
        onto = mix.edit.view.visualRect(mix.edit.model.index_of(strip(mix, "Group").id)).center()
        drop(mix, TRACKS, [strip(mix, "A").id, strip(mix, "B").id], onto)
        assert strip(mix, "A").output == strip(mix, "B").output == strip(mix, "Group").id
        choose(qtbot, mix, "Group")
        press(qtbot, mix.edit.view, "Ctrl+Shift+D")
        answer(qtbot, mix, copies=2)
        assert len(names(mix)) == 10 and chain(mix, "A 3") == ["Sluice", "Ballast", "Tar"]

    def test_clips_are_drawn_and_cleared_with_the_mouse(self, mix, qtbot):
        view, cell = mix.edit.view.viewport(), None
        index = mix.edit.model.index_of(strip(mix, "A").id, WHEN)
        cell = mix.edit.view.visualRect(index)
        left, width = cell.left() + 4, cell.width() - 8
        at = [QPoint(int(left + width * share), cell.center().y()) for share in (0.25, 0.5, 0.4)]
        for first, last, keys in ((at[0], at[1], Qt.KeyboardModifier.NoModifier),
                                  (at[2], at[1], Qt.KeyboardModifier.ShiftModifier)):  # fmt: skip
            qtbot.mousePress(view, Qt.MouseButton.LeftButton, keys, first)
            for point in ((first + last) / 2, last):
                qtbot.mouseMove(view, point)
                where = QPointF(point), QPointF(view.mapToGlobal(point))
                buttons = Qt.MouseButton.NoButton, Qt.MouseButton.LeftButton
                mix.edit.view.mouseMoveEvent(QMouseEvent(QEvent.Type.MouseMove, *where, *buttons, keys))
            qtbot.mouseRelease(view, Qt.MouseButton.LeftButton, keys, last)
        length = mix.desk.document.session.length
        (clip,) = strip(mix, "A").clips
        assert (clip.start, clip.end) == pytest.approx((0.25 * length, 0.4 * length), abs=0.02 * length)

    def test_order_arming_switching_and_sections(self, mix, qtbot):
        choose(qtbot, mix, "B")
        press(qtbot, mix.edit.view, "Alt+Up")
        assert names(mix)[:2] == ["B", "A"]
        qtbot.mouseClick(mix.edit.inspector.armed, Qt.MouseButton.LeftButton, pos=QPoint(8, 8))
        assert strip(mix, "B").armed
        qtbot.mouseClick(mix.edit.inspector.mono, Qt.MouseButton.LeftButton, pos=QPoint(8, 8))
        assert strip(mix, "B").channels == 1 and mix.edit.inspector.mono.isChecked()
        qtbot.mouseClick(mix.edit.inspector.mono, Qt.MouseButton.LeftButton, pos=QPoint(8, 8))
        assert strip(mix, "B").channels == 2
        qtbot.mouseClick(mix.edit.inspector.on, Qt.MouseButton.LeftButton, pos=QPoint(8, 8))
        assert not strip(mix, "B").enabled
        press(qtbot, mix.edit.view, "Ctrl+Shift+M")
        answer(qtbot, mix, name="Bridge", begins=42.0)
        assert [(s.name, s.start) for s in mix.desk.document.session.sections] == [("Bridge", 42)]

    def test_tempo_bars_and_length_are_one_step_and_what_is_not_touched_stays(self, mix, qtbot):
        moving = (TempoPoint(0, 90, True), TempoPoint(8, 120))
        mix.edit.edit("tempo", lambda s: time_edits.set_tempo(s, moving))
        before = mix.desk.document.session
        press(qtbot, mix.edit.view, "Ctrl+Shift+T")
        answer(qtbot, mix, beats_a_bar=6, each_a="/ 8", length=400.0)
        made = mix.desk.document.session
        assert (made.meters, made.length, made.tempo) == ((Meter(0, 6, 8),), 400.0, moving)
        press(qtbot, mix.edit.view, "Ctrl+Shift+T")
        answer(qtbot, mix, tempo=77.0)
        assert mix.desk.document.session.tempo == (TempoPoint(0, 77),)
        mix.desk.undo()
        mix.desk.undo()
        assert mix.desk.document.session == before

    def test_finding_shows_what_fits_and_what_it_stands_under(self, mix, qtbot):
        qtbot.keyClicks(mix.edit.filter, "ballast")
        assert rows(mix) == ["A"]
        mix.edit.filter.clear()
        assert len(rows(mix)) == 4

    def test_the_desk_holds_nothing_of_what_is_gone(self, mix, qtbot):
        choose(qtbot, mix, "A")
        assert mix.desk.selection == (strip(mix, "A").id,)
        view = mix.edit.view
        with qtbot.waitSignal(mix.desk.recomputed, timeout=30_000):
            press(qtbot, view, "Del")
        assert all(each in {s.id for s in mix.desk.document.session.strips} for each in mix.desk.selection)
        qtbot.waitUntil(lambda: mix.desk.is_idle, timeout=30_000)


def test_how_many_more_fit_is_drawn(example, qtbot):
    example.go(EDIT)
    example.choose_cores(24)
    qtbot.waitUntil(lambda: example.desk.survey.machine.cores == 24, timeout=60_000)
    example.edit.choose(strip(example, "Lantern").id)
    press(qtbot, example.edit.view, "Ctrl+H")
    dialog = example.edit.findChild(HowManyDialog)
    qtbot.waitUntil(lambda: bool(dialog.fits), timeout=60_000)
    largest = dialog.fits[-1]
    assert largest.more > 0 and largest.load <= 0.8 < largest.beyond
    assert "Lantern" in dialog.words.text()
    assert dialog.picture.figures()[-1][1] == str(largest.more)
    assert f"4096 samples: {largest.more}" in dialog.picture.accessibleDescription()
    dialog.reject()
    qtbot.waitUntil(lambda: example.edit.findChild(HowManyDialog) is None)  # gone, not hidden


def test_how_many_more_fit_is_tried_in_a_rehearsal(example, qtbot, settled, monkeypatch):
    """All but one quiet track are taken out, so that this computer can play what is left."""
    monkeypatch.setattr(how_many_dialog, "SECONDS", 1.0)
    example.go(EDIT)
    page, kept = example.edit, strip(example, "Lantern")
    others = [s.id for s in example.desk.document.session.strips if s.kind == "track" and s.id != kept.id]
    settled(example, lambda: page.edit("remove", lambda of: edits.remove(of, others)))
    limit = float(example.desk.survey.after.load.max()) * 2
    settled(example, lambda: page.edit("limit", lambda of: msgspec.structs.replace(of, limit=limit)))
    page.choose(kept.id)
    press(qtbot, page.view, "Ctrl+H")
    dialog = page.findChild(HowManyDialog)
    assert not dialog.attempt.isEnabled()
    qtbot.waitUntil(dialog.attempt.isEnabled, timeout=60_000)
    here = next(fit for fit in dialog.fits if fit.buffer == example.desk.document.buffer)
    assert 0 < here.more < 60
    with qtbot.waitSignal(dialog.rehearsed, timeout=60_000) as told:
        qtbot.mouseClick(dialog.attempt, Qt.MouseButton.LeftButton)
        assert dialog.attempt.text() == "Stop trying"
    assert told.args[0].startswith(f"Rehearsed with {here.more} more. ") and "Predicted: typical" in told.args[0]
    assert "planned for 6 cores" in told.args[0] and dialog.tried.text() == told.args[0]
    # Stopped by the same button, and closed while it plays: neither is left running.
    with qtbot.waitSignal(dialog.rehearsed, timeout=60_000) as told:
        qtbot.mouseClick(dialog.attempt, Qt.MouseButton.LeftButton)
        qtbot.mouseClick(dialog.attempt, Qt.MouseButton.LeftButton)
    assert "cancelled" in told.args[0] and dialog.attempt.text() == "Try it in a rehearsal"
    # While it plays the plan can be left out: what is told is still what was played, and it can be stopped.
    with qtbot.waitSignal(dialog.rehearsed, timeout=60_000) as told:
        qtbot.mouseClick(dialog.attempt, Qt.MouseButton.LeftButton)
        dialog._start()
        assert dialog.attempt.isEnabled() and not dialog.fits
    assert told.args[0].startswith(f"Rehearsed with {here.more} more. ")
    qtbot.waitUntil(lambda: bool(dialog.fits), timeout=60_000)
    qtbot.mouseClick(dialog.attempt, Qt.MouseButton.LeftButton)
    rehearsing = dialog.rehearsing
    dialog.reject()
    assert rehearsing._thread is None or not rehearsing._thread.is_alive()


def test_what_is_shown_after_edits_is_what_is_computed_from_nothing(example, qtbot, settled):
    """Whatever an edit takes over from the load before, it comes out as if there had been none."""
    example.go(EDIT)
    page = example.edit
    steps = [
        lambda: (page.choose(strip(example, "Widow").id), page.duplicate(2)),
        lambda: (page.choose(strip(example, "Child").id), page.remove()),
        lambda: (page.choose(strip(example, "Bailiff").id), page.put_in(page.plugins.plugins[0])),
        lambda: (page.choose(strip(example, "World").id), page.move_tracks(-3)),
        lambda: (page.choose(strip(example, "Crew left").id), page._clear()),
        example.desk.undo,
    ]
    for step in steps:
        settled(example, step)
        document = example.desk.document
        fresh = survey(document.session, document.plan, example.desk.cards, document.machine, document.buffer)
        of = example.desk.survey
        assert of.session is document.session
        assert of.after.load.tolist() == pytest.approx(fresh.after.load.tolist(), rel=1e-12)
        assert of.after.times.tolist() == fresh.after.times.tolist()
    example.go(BALANCE)
    assert example.balance.tracks.model.rowCount() > 0 and document.plan == Plan(pinned=document.plan.pinned)


class TestAdding:
    def test_a_folder_is_shown_before_it_is_added(self, mix, qtbot, tmp_path, monkeypatch):
        stem(tmp_path / "stems" / "Kick.wav", (1, 2))
        (tmp_path / "stems" / "bad.wav").write_text("x")
        monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_: str(tmp_path / "stems"))
        press(qtbot, mix.edit.view, "Ctrl+Shift+F")
        dialog = mix.adding.dialog
        qtbot.waitUntil(dialog.add.isEnabled, timeout=30_000)
        lines = [dialog.lines.item(k).text() for k in range(dialog.lines.count())]
        assert any(line.startswith("Mind: bad.wav") for line in lines) and "1 track can" in dialog.words.text()
        assert "Kick" not in names(mix)
        qtbot.mouseClick(dialog.add, Qt.MouseButton.LeftButton)
        assert names(mix)[-2:] == ["Kick", "Main"]
        assert mix.desk.history.undo_step == "add stems"

    def test_without_a_session_it_becomes_one(self, make_window, qtbot, tmp_path):
        window = make_window()
        (tmp_path / "t.csv").write_text("track,plugin\nPad,Shoreline\n")
        window.adding.read(tmp_path / "t.csv")
        qtbot.waitUntil(window.adding.dialog.add.isEnabled, timeout=30_000)
        qtbot.mouseClick(window.adding.dialog.add, Qt.MouseButton.LeftButton)
        assert names(window) == ["Pad", "Main"] and window.desk.has_unsaved
        assert window.pages.currentIndex() == EDIT

    def test_what_cannot_be_read_is_said_and_cancelling_adds_nothing(self, mix, qtbot, tmp_path):
        (tmp_path / "a.mid").write_text("x")
        before = mix.desk.document
        mix.adding.read(tmp_path / "a.mid")
        dialog = mix.adding.dialog
        qtbot.waitUntil(lambda: "no standard MIDI file" in dialog.words.text(), timeout=30_000)
        assert not dialog.add.isEnabled()
        dialog.reject()
        (tmp_path / "t.csv").write_text("track\nPad\n")
        mix.adding.read(tmp_path / "t.csv")
        qtbot.waitUntil(mix.adding.dialog.add.isEnabled, timeout=30_000)
        mix.adding.dialog.reject()
        assert mix.desk.document is before
        qtbot.waitUntil(lambda: mix.findChild(AddingDialog) is None, timeout=10_000)

    def test_a_dialog_that_is_closed_while_it_is_read_hears_nothing_of_it(self, mix, qtbot, tmp_path, monkeypatch):
        go_on, told = threading.Event(), []
        real = adding.take_in_all

        def slow(*arguments):
            go_on.wait(10)
            told.append(real(*arguments))
            return told[-1]

        monkeypatch.setattr(adding, "take_in_all", slow)
        (tmp_path / "t.csv").write_text("track\nPad\n")
        before = mix.desk.document
        mix.adding.read(tmp_path / "t.csv")
        mix.adding.dialog.reject()
        qtbot.waitUntil(lambda: mix.findChild(AddingDialog) is None, timeout=10_000)
        go_on.set()
        qtbot.waitUntil(lambda: bool(told), timeout=10_000)
        qtbot.wait(100)
        assert mix.desk.document is before


def test_without_a_session_there_is_the_button_to_begin_one(make_window, qtbot):
    window = make_window()
    window.go(EDIT)
    assert window.edit.sentence.button.text() == "New session"
    qtbot.mouseClick(window.edit.sentence.button, Qt.MouseButton.LeftButton)
    answer(qtbot, window, name="Mine", tempo=99.0)
    assert names(window) == ["Main"] and window.desk.document.session.tempo[0].bpm == 99


def test_leaving_an_edited_session_asks_first(mix, qtbot, monkeypatch):
    asked = []

    def question(*arguments):
        asked.append(arguments)
        return QMessageBox.StandardButton.Cancel

    monkeypatch.setattr(QMessageBox, "question", question)
    before = mix.desk.document
    press(qtbot, mix, "Ctrl+N")
    answer(qtbot, mix, name="Other")
    assert asked and mix.desk.document is before


def test_no_key_means_two_things(example):
    """Of all commands of the window and of its pages."""
    meant: dict[str, set[str]] = {}
    for action in {*example.actions(), *example.edit.actions(), *example.edit.view.actions()}:
        if action.shortcut().toString():
            meant.setdefault(action.shortcut().toString(), set()).add(action.text())
    assert len(meant) > 40 and all(len(texts) == 1 for texts in meant.values()), meant
