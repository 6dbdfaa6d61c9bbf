"""Files, recovery, measuring and bad luck, in the real window."""

from __future__ import annotations

from pathlib import Path

import msgspec
import numpy as np
import pytest
import soundfile
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication, QFileDialog, QMessageBox

from nimbleload.app.frame import menus
from nimbleload.app.frame.computer_dialog import ComputerDialog
from nimbleload.app.frame.finder import Finder
from nimbleload.app.frame.help import PAGES, Help
from nimbleload.app.frame.window import BALANCE, EDIT, MEASURE, PLACES
from nimbleload.app.look.prose import Prose
from nimbleload.app.look.theme import theme
from nimbleload.core.decisions.decision import Decision
from nimbleload.core.session import edits
from nimbleload.core.session.computer import Machine, kept_on
from nimbleload.core.session.plugins import PluginRef, PluginUse, Setting
from nimbleload.core.session.strips import Strip
from nimbleload.probe import session_run
from nimbleload.probe.effort import Effort
from nimbleload.store import session_file
from nimbleload.store.library import Library
from nimbleload.store.recovery import left_behind
from nimbleload.store.session_file import Saved
from tests.app.conftest import shown
from tests.helpers import exchange as x
from tests.helpers.few_tracks import fewer_saved
from tests.helpers.rogue import rogue_use
from tests.helpers.sessions import bus, session, track


def message(window) -> str:
    """The text of the message box that is open."""
    boxes = [b for b in window.findChildren(QMessageBox) if b.isVisible()]
    assert boxes
    return boxes[-1].text()


def write(tmp_path, of, name="a.nimbleload", **more):
    path = tmp_path / name
    session_file.write(path, Saved(of, machine=Machine(2), **more))
    return path


def open_file(window, qtbot, path):
    with qtbot.waitSignal(window.desk.recomputed, timeout=60_000):
        window.open_path(path)


def freeze_something(window, settled):
    strip = next(s for s in window.desk.document.session.strips if s.name == "Choir low")
    settled(window, lambda: window.desk.decide("freeze: Choir low", [Decision("freeze", strip.id)]))
    return strip


def test_what_is_saved_opens_again_with_its_plan(example, make_window, qtbot, settled, tmp_path, monkeypatch):
    freeze_something(example, settled)
    path = tmp_path / "mix.nimbleload"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a: (str(path.with_suffix("")), ""))
    with qtbot.waitSignal(example.filing.saved, timeout=30_000):
        example.save()
    assert path.exists()
    assert not example.desk.has_unsaved
    other = make_window()
    # As from a shell: its place is what is kept of it.
    monkeypatch.chdir(tmp_path)
    open_file(other, qtbot, Path("mix.nimbleload"))
    assert other.desk.path == path
    assert other.desk.document == example.desk.document
    assert other.desk.survey.after.load.tolist() == example.desk.survey.after.load.tolist()
    assert other._choices.recent == [path]


def test_a_bad_file_is_refused_and_what_was_open_stays(example, qtbot, tmp_path):
    path = tmp_path / "bad.nimbleload"
    path.write_bytes(b"nothing of the kind")
    before = example.desk.document
    with qtbot.waitSignal(example.filing.failed, timeout=30_000):
        example.open_path(path)
    assert "damaged or no session file" in message(example)
    assert "What was open stays open" in message(example)
    assert example.desk.document is before


def test_a_session_whose_routing_runs_in_a_circle_says_so(make_window, qtbot, tmp_path):
    window = make_window()
    path = write(tmp_path, session(bus("A", output="B"), bus("B", output="A")))
    with qtbot.waitSignal(window.desk.failed, timeout=30_000):
        window.open_path(path)
    assert "A → B" in window.balance.sentence.advice.text()


def test_an_exchange_file_opens_with_its_report(make_window, qtbot, tmp_path):
    structure = x.track("t", "Voice", x.channel("c", devices="<Equalizer deviceName='Tone'/>")) + x.main_track()
    path = x.write(tmp_path / "song.dawproject", x.project(structure, x.lanes("t", x.clip(0, 8))))
    window = make_window()
    open_file(window, qtbot, path)
    assert "song.dawproject" in message(window)
    assert window.desk.path is None  # saving asks for a name; the exchange file is never written over
    assert "no figure" in window.balance.sentence.advice.text()
    assert window.balance.sentence.button.text() == "Measure…"


def test_leaving_unsaved_work_asks_and_cancel_stays(example, settled, monkeypatch):
    freeze_something(example, settled)
    asked = []
    buttons = QMessageBox.StandardButton
    monkeypatch.setattr(QMessageBox, "question", lambda *a: asked.append(a[2]) or buttons.Cancel)
    example.close()
    assert example.isVisible()
    example.open_example()
    assert example.desk.document.plan.decisions
    monkeypatch.setattr(QMessageBox, "question", lambda *a: asked.append(a[2]) or buttons.Discard)
    example.close()
    assert not example.isVisible()
    assert len(asked) == 3


def test_save_and_close_closes_once_it_is_on_the_disk(example, qtbot, settled, tmp_path, monkeypatch):
    freeze_something(example, settled)
    example.desk.path = tmp_path / "mix.nimbleload"
    monkeypatch.setattr(QMessageBox, "question", lambda *a: QMessageBox.StandardButton.Save)
    example.close()
    qtbot.waitUntil(lambda: not example.isVisible(), timeout=30_000)
    assert session_file.read(tmp_path / "mix.nimbleload").plan.decisions


def test_unsaved_work_is_copied_and_comes_back(example, make_window, qtbot, settled, tmp_path, monkeypatch):
    strip = freeze_something(example, settled)
    qtbot.waitUntil(lambda: any((tmp_path / "recovery").glob("*.nimbleload")), timeout=30_000)
    for note in (tmp_path / "recovery").glob("*.json"):
        found = msgspec.json.decode(note.read_bytes())
        note.write_bytes(msgspec.json.encode({**found, "started": "before the crash"}))
    left = left_behind(tmp_path / "recovery")
    assert len(left) == 1
    other = make_window()
    with qtbot.waitSignal(other.desk.recomputed, timeout=60_000):
        other.recovering.recover(left[0])
    assert other.desk.document.plan.for_strip(strip.id) == Decision("freeze", strip.id)
    assert other.desk.has_unsaved


@pytest.fixture
def quick(monkeypatch):
    """Nothing is measured of a plugin but its cells: the rest takes six seconds each."""
    usual = session_run.jobs

    def without_details(*of, **how):
        return [job._replace(details=False) for job in usual(*of, **how)]

    monkeypatch.setattr(session_run, "jobs", without_details)


def test_measuring_fills_the_table_and_the_load_changes(make_window, qtbot, tmp_path, quick):
    uses = (
        PluginUse("a/0", PluginRef("house", "house.shoreline", "Shoreline"), Setting((("bands", 2.0),))),
        PluginUse("a/1", PluginRef("house", "house.sluice", "Sluice")),
    )
    strip = Strip("a", "A", inserts=uses, output="main", clips=track("x").clips)
    window = make_window(Library(tmp_path / "l.sqlite", "here"))
    window.measuring._effort = Effort(2, 0.01, rounds=0)
    open_file(window, qtbot, write(tmp_path, session(strip)))
    assert "Nothing is measured yet" in window.balance.sentence.headline.text()
    assert window.places.buttons[MEASURE].state == "0 of 2"
    # No figure is made of nothing: neither of the track nor of the block.
    tracks = window.balance.tracks.model
    assert tracks.figure(tracks.index_of("a")) == "—" and "cost not known" in tracks.sentence(tracks.index_of("a"))
    block = window.balance.block
    qtbot.waitUntil(lambda: block.accessibleDescription().endswith("What a block takes is not known."), timeout=10_000)
    window.go(MEASURE)
    with qtbot.waitSignal(window.measuring.ended, timeout=60_000):
        qtbot.mouseClick(window.measure.sentence.button, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: window.places.buttons[MEASURE].state == "2 of 2", timeout=30_000)
    qtbot.waitUntil(lambda: window.desk.instant.shares == {"measured": 1.0}, timeout=30_000)
    assert [window.measure.model.status(row) for row in range(2)] == ["measured", "measured"]
    assert window.desk.instant.block.work > 0
    assert tracks.figure(tracks.index_of("a"))[-1] == "%"
    assert len(Library(tmp_path / "l.sqlite", "here").cards()) == 2
    again = make_window(Library(tmp_path / "l.sqlite", "here"))
    open_file(again, qtbot, tmp_path / "a.nimbleload")
    assert again.places.buttons[MEASURE].state == "2 of 2"


def test_rogue_plugins_leave_the_window_alive_with_three_plain_reasons(make_window, qtbot, tmp_path, rogue):
    names = ("crash", "hang", "flood")
    strip = Strip("a", "A", inserts=tuple(rogue_use(n) for n in names), output="main")
    window = make_window()
    window.measuring._effort = Effort(2, 0.01, rounds=0)
    window.measuring.quiet_seconds = 6.0
    open_file(window, qtbot, write(tmp_path, session(strip)))
    with qtbot.waitSignal(window.measuring.ended, timeout=90_000):
        window.measure.start()
    model = window.measure.model
    reasons = {model.rows[row][1].label: model.reason(row) for row in range(3)}
    assert "crashed: SIGSEGV" in reasons["crash"]
    assert "did not return" in reasons["hang"]
    assert "flooded standard error" in reasons["flood"]
    assert window.isVisible()
    assert "3 failed" in window.measure.sentence.advice.text()
    assert window.measure.retry.isVisible() is (window.pages.currentIndex() == MEASURE)


def test_cancelling_keeps_what_was_measured(make_window, qtbot, tmp_path):
    names = ("shoreline", "ballast", "sluice", "tar", "mist")
    uses = tuple(PluginUse(f"a/{n}", PluginRef("house", f"house.{n}", n)) for n in names)
    window = make_window(Library(tmp_path / "l.sqlite", "here"))
    window.measuring._effort = Effort(2, 0.01, rounds=0)
    open_file(window, qtbot, write(tmp_path, session(Strip("a", "A", inserts=uses, output="main"))))
    cells = []

    def lasting():
        return [step for step in cells if step.cell is not None and step.cell.provenance == "measured"]

    window.measuring.progressed.connect(
        lambda step: cells.append(step) or (len(lasting()) > 3 and window.measuring.cancel())
    )
    with qtbot.waitSignal(window.measuring.ended, timeout=60_000) as ended:
        window.measure.start()
    assert ended.args == ["Cancelled. What was measured before is kept."]
    kept = sum(len(card.cells) for card in Library(tmp_path / "l.sqlite", "here").cards().values())
    # First figures came before, of all five; they are for now, and not kept.
    assert kept == len(lasting())
    assert len({step.job.key for step in cells if step.cell is not None and step.cell.provenance == "first"}) == 5
    assert "Cancelled" in window.measure.sentence.advice.text()


def test_the_card_of_the_chosen_plugin_says_what_it_costs(example, settled):
    example.go(MEASURE)
    table, card = example.measure.table, example.measure.card
    row = next(r for r in range(25) if example.measure.model.rows[r][1].label == "Vault")
    table.selectRow(row)
    use = example.measure.model.rows[row][1]
    cost = example.desk.cards[use.card_key()].cell(48000, 256, "sounding").mean
    assert f"Takes {cost * 1e6:.0f} µs of each 5.33 ms block" in card.accessibleName()
    assert "sample figures" in card.accessibleName()
    figures = {line[0]: float(line[1]) for line in card.curve.figures()[1:]}
    assert figures["256"] == pytest.approx(100 * cost * 48000 / 256, abs=1e-3)
    assert len(figures) == 8
    settled(example, lambda: example.desk.choose_buffer(1024))
    assert "at 1024 samples" in card.accessibleName()
    assert not card.grab().isNull()


def test_the_command_finder_finds_and_runs(example, qtbot, settled):
    finder = Finder(example.commands(), example)
    finder.open()
    qtbot.keyClicks(finder.words, "larger buf")
    assert finder.list.count() == 1
    with qtbot.waitSignal(finder.accepted):
        settled(example, lambda: qtbot.keyClick(finder.words, Qt.Key.Key_Return))
    assert example.desk.document.buffer == 512
    # Closed dialogs do not stay: hundreds of them would have to be styled anew with each change of the theme.
    assert not example.findChildren(Finder)


def test_every_place_has_a_key_and_a_help(example, qtbot):
    for number, (name, key) in enumerate(PLACES):
        qtbot.keyClick(example, Qt.Key(ord(key[-1])), Qt.KeyboardModifier.ControlModifier)
        assert example.pages.currentIndex() == number
        assert name in PAGES
        example.show_help()
        opened = example.findChildren(Help)
        assert len(opened) == number + 1 and opened[-1].page == name
        opened[-1].reject()
    example.go(BALANCE)


def test_more_cores_lower_the_load_and_undo_works_for_them(example, settled):
    before = example.desk.survey.after.load.max()
    settled(example, lambda: example.choose_cores(12))
    assert example.desk.survey.after.load.max() < before
    assert "12 cores" in example.places._runs_at.text()
    settled(example, example.desk.undo)
    assert example.desk.survey.after.load.max() == before


def test_all_decisions_are_taken_back_at_once(example, settled):
    freeze_something(example, settled)
    settled(example, example.desk.clear_plan)
    assert example.desk.document.plan.decisions == ()


def test_another_theme_or_text_size_shows_all_anew_and_computes_nothing(example, qtbot, settled, monkeypatch):
    freeze_something(example, settled)
    desk = example.desk
    qtbot.waitUntil(lambda: not any(x is None for x in (desk.plan_steps, desk.outlook, desk.band)), timeout=60_000)
    qtbot.waitUntil(lambda: "→" in example.balance.drawer.steps.item(0).text(), timeout=30_000)
    asked = []
    for name in ("survey", "last_steps", "band", "outlook"):
        monkeypatch.setattr(example.desk.beside, name, lambda *_, name=name: asked.append(name), raising=False)
    before = example.desk.survey, example.balance.drawer.steps.item(0).text()
    with qtbot.waitSignal(example.desk.weighed, timeout=60_000):
        example.choose_theme("paper")
        example.scale_text(2)
    qtbot.waitUntil(lambda: example.desk.is_idle and example.balance.is_shown, timeout=60_000)
    assert (example.desk.survey, example.balance.drawer.steps.item(0).text()) == before and asked == []
    sheet = example.balance.sentence.styleSheet()
    assert theme.colours.name == "paper" and theme.colours.brick_ground in sheet
    example.choose_theme("night")
    example.scale_text(-2)
    assert theme.colours.brick_ground in example.balance.sentence.styleSheet() != sheet


def test_it_follows_the_desktop_from_dark_to_light_while_it_runs(example, monkeypatch):
    light, changed = [], QApplication.styleHints().colorSchemeChanged
    monkeypatch.setattr("nimbleload.app.look.theme.is_light", lambda _: bool(light))
    example.choose_theme("desktop")
    assert theme.colours.name == "night"
    light.append(True)
    changed.emit(Qt.ColorScheme.Light)
    assert theme.colours.name == "paper" and theme.colours.brick_ground in example.balance.sentence.styleSheet()
    # Who has chosen one of them keeps it.
    example.choose_theme("night")
    changed.emit(Qt.ColorScheme.Light)
    assert theme.colours.name == "night"


def test_the_window_remembers_theme_and_text_size(example, make_window):
    example.choose_theme("paper")
    example.scale_text(1)
    assert make_window()._choices.theme == "paper"
    assert make_window()._choices.scale == 115


def drop(window, *paths):
    from PySide6.QtCore import QMimeData, QPointF, QUrl
    from PySide6.QtGui import QDropEvent

    mime = QMimeData()
    mime.setUrls([QUrl.fromLocalFile(str(path)) for path in paths])
    window.dropEvent(QDropEvent(
        QPointF(10, 10), Qt.DropAction.CopyAction, mime, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    ))  # fmt: skip


def test_dropping_a_session_opens_it(make_window, qtbot, tmp_path):
    window = make_window()
    with qtbot.waitSignal(window.desk.recomputed, timeout=60_000):
        drop(window, write(tmp_path, session(track("a", "eq"))))
    assert window.desk.document.session.name == "Test"


def test_several_files_that_are_dropped_are_all_added(make_window, qtbot, tmp_path):
    window = make_window()
    for name in ("one.wav", "two.wav", "notes.pdf"):
        soundfile.write(tmp_path / name, np.full((4800, 2), 0.1), 48000, format="WAV")
    drop(window, *(tmp_path / name for name in ("notes.pdf", "one.wav", "two.wav")))
    dialog = window.adding.dialog
    qtbot.waitUntil(dialog.add.isEnabled, timeout=20_000)
    assert dialog.words.text() == "2 tracks can be added from one.wav and 1 more."
    with qtbot.waitSignal(window.desk.recomputed, timeout=60_000):
        qtbot.mouseClick(dialog.add, Qt.MouseButton.LeftButton)
    assert [strip.name for strip in window.desk.document.session.strips] == ["one", "two", "Main"]


def test_names_are_shown_as_they_are_whatever_they_hold(make_window, qtbot, tmp_path, monkeypatch):
    window, name = make_window(), "Drums & <sub>Bass</sub>"
    of = msgspec.structs.replace(session(msgspec.structs.replace(track("a", "eq"), name=name)), name="Mix 1/2 & 3")
    path = write(tmp_path, of)
    with qtbot.waitSignal(window.desk.recomputed, timeout=60_000):
        window.open_path(path.rename(tmp_path / "Rock & Roll.nimbleload"))
    window.fill_recent()
    assert [action.text() for action in window._menus.recent.actions()] == ["Rock && Roll.nimbleload"]
    window.desk.edit(f"rename {name}", edits.rename(window.desk.document.session, "a", "B"))
    assert window._menus.undo.text() == "&Undo rename Drums && <sub>Bass</sub>"
    asked = []
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *words: asked.append(words[2]) or ("", ""))
    window.desk.path = None
    window.ask_save()
    assert asked == [str(Path.home() / "Mix 1-2 & 3.nimbleload")]
    shown = Prose(name)
    shown.setWordWrap(False)
    assert shown.sizeHint().width() >= shown.fontMetrics().horizontalAdvance(name)


@pytest.mark.parametrize("length", [0.0, 5.0])
def test_a_session_with_nothing_in_it_is_shown(make_window, qtbot, tmp_path, length):
    window = make_window()
    open_file(window, qtbot, write(tmp_path, session(track("a", clips=()), length=length)))
    assert not window.grab().isNull()
    said = window.balance.sentence
    assert said.headline.text() == "There are no plugins in this session."
    assert said.button.text() == "Add plugins"
    window.go(BALANCE)
    qtbot.mouseClick(said.button, Qt.MouseButton.LeftButton)
    assert window.pages.currentIndex() == EDIT


def test_loads_rest_on_first_figures_before_anything_is_measured_thoroughly(make_window, qtbot, tmp_path, quick):
    names = ("shoreline", "ballast", "tar")
    uses = tuple(PluginUse(f"a/{n}", PluginRef("house", f"house.{n}", n)) for n in names)
    window = make_window(Library(tmp_path / "l.sqlite", "here"))
    window.measuring._effort = Effort(2, 0.01, rounds=0)
    open_file(window, qtbot, write(tmp_path, session(Strip("a", "A", inserts=uses, output="main"))))
    headlines, shares = [], []
    window.measuring.progressed.connect(lambda step: headlines.append(window.measure.sentence.headline.text()))
    window.desk.recomputed.connect(lambda: shares.append(window.desk.instant.shares))
    with qtbot.waitSignal(window.measuring.ended, timeout=120_000):
        window.measure.start()
    qtbot.waitUntil(lambda: bool(shares) and shares[-1] == {"measured": 1.0}, timeout=20_000)
    assert headlines[0] == "First figures: 1 of 3 plugins tried."
    assert "First figures: 3 of 3 plugins tried." in headlines
    assert "Measuring: 0 of 3 plugins done." in headlines
    assert {"first": pytest.approx(1.0)} in shares


def test_the_window_fits_a_screen_of_1280_by_800_at_every_text_size(example, qtbot):
    example.scale_text(-8)
    for _ in range(8):
        example.scale_text(1)
        qtbot.wait(20)
        assert example.minimumSizeHint().width() <= 1280
        # With the bar that the desktop puts above it.
        assert example.minimumSizeHint().height() <= 770
    example.scale_text(-8)
    example.choose_theme("night")


def menu_called(window, title):
    return next(a.menu() for a in window.menuBar().actions() if a.text().replace("&", "") == title)


def test_the_menu_says_what_each_decision_would_do_and_its_keys_go_on_working(example, qtbot):
    menus, menu = example._menus, menu_called(example, "Decide")
    menu.aboutToShow.emit()
    assert all(action.text().endswith("nothing now") and not action.isEnabled() for action in menus.decisions)
    menu.aboutToHide.emit()
    with qtbot.waitSignal(example.desk.weighed, timeout=60_000):
        example.balance.tracks.choose("track-2")
    menu.aboutToShow.emit()
    options = example.balance.options.options
    for action, option in zip(menus.decisions, options, strict=False):
        assert option.text() in action.text() and action.isEnabled() == option.isEnabled()
    assert example.desk.survey.session.strip("track-2").name in menus.decisions[0].text()
    menu.aboutToHide.emit()
    assert all(action.isEnabled() for action in menus.decisions)


def test_the_menus_mark_what_is_in_force(example, settled):
    def marked(title, inside=None):
        menu = menu_called(example, title)
        if inside is not None:
            menu = next(a.menu() for a in menu.actions() if a.text().replace("&", "") == inside)
        menu.aboutToShow.emit()
        return [action.text().replace("&", "") for action in menu.actions() if action.isChecked()]

    assert marked("Computer", "Sample rate") == ["48 kHz"] and marked("View") == ["As the desktop"]
    assert [text.split(" (")[0] for text in marked("Computer")] == ["6 cores"]
    settled(example, lambda: example.desk.choose_rate(176400))
    settled(example, lambda: example.choose_cores(8))
    assert marked("Computer", "Sample rate") == ["176.4 kHz"]
    assert [text.split(" (")[0] for text in marked("Computer")] == ["8 cores"]


def test_the_host_is_kept_on_a_part_of_a_computer_whose_cores_are_not_alike(make_window, qtbot, settled, desktop):
    window = shown(make_window(example=fewer_saved), qtbot)
    menu = menu_called(window, "Computer")
    lines = {action.text().replace("&", ""): action for action in menu.actions()}
    kept = "The host kept on 6 of 20 cores (the fast ones, one thread of each)"
    assert [line for line in lines if "kept on" in line] == [
        "The host kept on 12 of 20 cores (the fast ones)", "The host kept on 14 of 20 cores (one thread of each)", kept
    ]  # fmt: skip
    settled(window, lines["20 cores (as many as here)"].trigger)
    assert window.desk.document.machine == desktop and not window.desk.document.machine.is_another
    settled(window, lines[kept].trigger)
    assert window.desk.document.machine == kept_on(6, desktop)
    assert "6 of 20 cores" in window.places._runs_at.text()
    menu.aboutToShow.emit()
    assert [line for line, action in lines.items() if action.isChecked()] == [kept]
    # Looked at in the dialog of other computers, it stays what it is.
    window.ask_computer()
    (asked,) = window.findChildren(ComputerDialog)
    assert (asked.cores.value(), asked.speed.value()) == (6, 1.0)
    asked.accept()
    assert window.desk.document.machine == kept_on(6, desktop)
    # Twice as fast it is still such a part.
    asked.speed.setValue(2.0)
    settled(window, asked.accept)
    assert window.desk.document.machine == msgspec.structs.replace(kept_on(6, desktop), speed=2.0)
    settled(window, window.desk.undo)
    # A computer with six cores is another one.
    settled(window, lines["6 cores"].trigger)
    menu.aboutToShow.emit()
    assert [line for line, action in lines.items() if action.isChecked()] == ["6 cores"]
    settled(window, window.desk.undo)
    assert window.desk.document.machine == kept_on(6, desktop)


def test_of_two_parts_with_as_many_cores_the_one_that_is_chosen_is_marked(make_window, qtbot, settled, monkeypatch):
    """Six fast cores in pairs, and six slow ones: both threads of the fast ones are as many as one thread of each."""
    here = Machine(18, measured_cores=18, second=6, slow=6)
    monkeypatch.setattr(menus, "this_computer", lambda: here)
    window = shown(make_window(example=fewer_saved), qtbot)
    menu = menu_called(window, "Computer")
    lines = [action for action in menu.actions() if "12 of 18" in action.text()]
    assert len(lines) == 2
    for line in lines:
        settled(window, line.trigger)
        menu.aboutToShow.emit()
        assert [each for each in lines if each.isChecked()] == [line]
