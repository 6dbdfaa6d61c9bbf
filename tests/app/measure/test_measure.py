"""Measure in the real window: pausing, settings tried, variants, cards side by side, figures from elsewhere."""

from __future__ import annotations

import msgspec
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QFontMetricsF
from PySide6.QtWidgets import QDialog

from nimbleload.app.frame.window import MEASURE
from nimbleload.app.look.theme import theme
from nimbleload.app.measure.measure_model import COST, MEMORY, PLUGIN, STATE
from nimbleload.core.cards.card import METHOD, Effect, Made, Sweep
from nimbleload.core.session.computer import Machine
from nimbleload.core.session.plugins import PluginRef, PluginUse
from nimbleload.core.session.strips import Strip
from nimbleload.core.units import size
from nimbleload.probe import session_run
from nimbleload.probe.messages import Again
from nimbleload.probe.session_run import Job, Progress
from nimbleload.store import session_file
from nimbleload.store.library import STAND_IN, TYPED, Library
from nimbleload.store.session_file import Saved
from tests.helpers.sessions import card, session


@pytest.fixture
def page(example):
    example.go(MEASURE)
    example.measure.table.selectRow(0)
    return example.measure


def give_sweep(page):
    """A card whose settings have been tried."""
    effects = (Effect("bands", 2.0, 5e-6, "bands 2"), Effect("gain", 0.0, 2e-5, "gain 0"))
    key = page.model.rows[0][0]
    card = msgspec.structs.replace(page._desk.cards[key], sweep=Sweep(48000, 256, 25e-6, effects))
    page.measuring.tried.emit(card)
    return key


def test_tried_settings_are_listed_by_saving_and_make_a_variant_that_can_be_taken_back(example, page, settled):
    before, rows = example.desk.document.session.variants, len(page.model.rows)
    key = give_sweep(page)
    listed = [page.card.settings.list.item(k).text() for k in range(page.card.settings.list.count())]
    assert [text.split("   ")[1] for text in listed] == ["bands 2", "gain 0"]
    assert listed[0].strip().startswith("80 % less")
    assert not page.card.settings.keep.isEnabled()
    page.card.settings.list.item(0).setSelected(True)
    settled(example, page.card.settings.keep.click)
    variant = example.desk.document.session.variants[-1]
    assert (variant.of, variant.name, dict(variant.setting.values)["bands"]) == (key, "bands 2", 2.0)
    assert page.model.rows[-1][2] == 0
    assert page.model.index(len(page.model.rows) - 1, 2).data() == "variant"
    assert "variant bands 2" in example._menus.undo.text()
    settled(example, example.desk.undo)
    assert example.desk.document.session.variants == before
    assert len(page.model.rows) == rows


def test_trying_goes_on_in_a_thread_and_lands_on_the_card(example, page, qtbot):
    with qtbot.waitSignal(page.measuring.tried_all, timeout=120_000) as told:
        page.card.settings.attempt.click()
        assert not page.card.settings.attempt.isEnabled()
    assert told.args == [""]
    sweep = example.desk.cards[page.model.rows[0][0]].sweep
    assert sweep is not None
    assert {e.parameter for e in sweep.effects} >= {"bands", "q"}
    assert "tried, one at a time" in page.card.settings._words.text()
    assert page.card.settings.attempt.isEnabled()


def test_nothing_else_is_offered_while_settings_are_tried_and_it_can_be_cancelled(example, page, qtbot):
    assert page.sentence.button.isVisible()
    with qtbot.waitSignal(page.measuring.tried, timeout=60_000):
        page.card.settings.attempt.click()
    label = page.model.rows[0][1].label
    assert page.sentence.headline.text() == f"Trying the settings of {label}, one at a time."
    for each in (page.sentence.button, page.only, page.again, page.elsewhere, page.retry, page.stand_ins):
        assert not each.isVisible()
    # Another plugin's card says nothing of it.
    page.table.selectRow(1)
    assert "Trying" not in page.card.settings._words.text()
    assert not page.card.settings.attempt.isEnabled()
    assert not page.only.isVisible()
    with qtbot.waitSignal(page.measuring.tried_all, timeout=60_000):
        page.cancel.click()
    assert page.sentence.button.isVisible() and page.card.settings.attempt.isEnabled()
    assert not page.cancel.isVisible()


def test_figures_from_elsewhere_outlive_every_failure_here(make_window, qtbot, tmp_path):
    of = session(Strip("a", "a", inserts=(PluginUse("x", PluginRef("au", "y", "Z")),), output="main"))
    use = of.strips[0].inserts[0]
    theirs = card(use, 1e-3)
    theirs = msgspec.structs.replace(
        theirs, cells=tuple(msgspec.structs.replace(cell, provenance="elsewhere") for cell in theirs.cells)
    )
    path = tmp_path / "a.nimbleload"
    session_file.write(path, Saved(of, cards=(theirs,), machine=Machine(2)))
    window = make_window()
    with qtbot.waitSignal(window.desk.recomputed, timeout=60_000):
        window.open_path(path)
    window.go(MEASURE)
    page = window.measure
    load = float(window.desk.survey.after.load.max())
    assert page.model.index(0, STATE).data() == "from elsewhere"
    assert page.sentence.headline.text() == "1 of 1 plugin settings are not measured on this computer."
    assert "Figures from elsewhere stand in for 1 of them." in page.sentence.advice.text()
    for press in (page.sentence.button, page.retry, page.again, page.only):
        page.table.selectRow(0)
        assert press.isVisible(), press.text()
        with qtbot.waitSignals([page.measuring.ended, window.desk.recomputed], timeout=60_000):
            press.click()
        kept = window.desk.cards[use.card_key()]
        assert "cannot be measured" in kept.failure and kept.cells == theirs.cells, press.text()
        assert float(window.desk.survey.after.load.max()) == load > 0


def test_a_card_stays_beside_while_another_is_chosen(page):
    page.card.button.click()
    kept = page.beside.use
    page.table.selectRow(3)
    assert page.beside.isVisible()
    assert page.beside.use == kept
    assert page.card.use != kept
    assert page.beside.width() >= 200
    page.beside.button.click()
    assert not page.beside.isVisible()


@pytest.mark.parametrize("answer", ["reading", "stand-in"])
def test_figures_from_elsewhere_are_marked_and_kept(make_window, qtbot, tmp_path, settled, answer):
    library = Library(tmp_path / "l.sqlite", "here")
    window = make_window(library)
    with qtbot.waitSignal(window.desk.recomputed, timeout=60_000):
        window.open_example()
    page = window.measure
    page.table.selectRow(0)
    key = page.model.rows[0][0]
    page.elsewhere.click()
    dialog = next(d for d in page.findChildren(QDialog) if d.isVisible())
    if answer == "reading":
        dialog.shares[0].setValue(12.0)
    else:
        dialog.other.setCurrentIndex(1)
    settled(window, dialog.accept)
    source = TYPED if answer == "reading" else STAND_IN
    kept = library.cards(machine=source)[key]
    assert {c.provenance for c in kept.cells} == {"typed" if answer == "reading" else "stand-in"}
    assert set(window.desk.cards[key].cells) == set(kept.cells)
    words = {"reading": "typed in", "stand-in": "a stand-in"}[answer]
    assert words in window.balance.sentence.advice.text()


def test_a_paused_run_stands_still_until_it_goes_on(make_window, qtbot, tmp_path):
    window = make_window(Library(tmp_path / "l.sqlite", "here"))
    with qtbot.waitSignal(window.desk.recomputed, timeout=60_000):
        window.open_example()
    window.go(MEASURE)
    page = window.measure
    with qtbot.waitSignal(page.measuring.progressed, timeout=60_000):
        page.sentence.button.click()
    page.stop.click()
    assert "Paused" in page.sentence.headline.text()
    assert page.stop.text() == "Go on"
    qtbot.wait(600)  # what was on its way has landed
    cells = sum(len(card.cells) for card in window.desk.cards.values())
    seconds = page.measuring.seconds
    qtbot.wait(700)
    assert sum(len(card.cells) for card in window.desk.cards.values()) == cells
    assert page.measuring.seconds == seconds
    with qtbot.waitSignal(page.measuring.progressed, timeout=60_000):
        page.stop.click()
    assert page.stop.text() == "Pause"
    with qtbot.waitSignal(page.measuring.ended, timeout=60_000):
        page.cancel.click()


def test_the_card_of_a_variant_lands_like_any_other(example, page):
    row = len(page.model.rows) - 1
    key, use, count = page.model.rows[row]
    assert count == 0
    job = Job(key, use, 0, (256,), 48000)
    page.measuring.started.emit([job])
    card = msgspec.structs.replace(page._desk.cards[key], failure="crashed: SIGSEGV")
    page.measuring.progressed.emit(Progress(job, card, None, True))
    assert page.model.status(row) == "failed"
    assert "1 of 1 plugin done" in page.sentence.headline.text()
    assert page._desk.cards[key].failure == "crashed: SIGSEGV"
    page.measuring.ended.emit("")


def test_the_load_follows_with_every_plugin_that_is_measured(page, qtbot):
    """Not only when all are: that takes minutes. But who looks at it without the plan is left alone."""
    desk = page._desk
    key, use, _ = page.model.rows[0]
    job = Job(key, use, 0, (256,), 48000)
    page.measuring.started.emit([job])
    card = msgspec.structs.replace(
        desk.cards[key], cells=tuple(msgspec.structs.replace(c, mean=c.mean * 20) for c in desk.cards[key].cells)
    )
    desk.wants_peek, before = True, float(desk.survey.after.load.max())
    page.measuring.progressed.emit(Progress(job, card, None, True))
    qtbot.wait(300)
    assert float(desk.survey.after.load.max()) == before
    desk.wants_peek = False
    with qtbot.waitSignal(desk.recomputed, timeout=60_000):
        page.measuring.progressed.emit(Progress(job, card, None, True))
    assert float(desk.survey.after.load.max()) > before
    page.measuring.ended.emit("")


def test_what_others_disturbed_is_said_and_measured_again_when_that_is_asked_for(make_window, qtbot, tmp_path, settled):
    use = PluginUse("a/0", PluginRef("house", "house.sluice", "Sluice"))
    of = session(Strip("a", "A", inserts=(use,), output="main"))
    library, known = Library(tmp_path / "l.sqlite", "here"), card(use, 1e-5)
    disturbed = msgspec.structs.replace(known.cells[0], mean=1.0, quiet=False, shared=1.6)
    library.store(known, (*known.cells[1:], disturbed))
    session_file.write(tmp_path / "a.nimbleload", Saved(of, machine=Machine(2)))
    window = make_window(library)
    settled(window, lambda: window.open_path(tmp_path / "a.nimbleload"))
    window.go(MEASURE)
    page = window.measure
    said = "Others shared the core while 1 setting played: figures may be up to 60 % too high."
    assert said in page.sentence.advice.text()
    state = page.model.index(0, STATE)
    assert state.data() == "up to 60 % too high"
    assert state.data(Qt.ItemDataRole.ToolTipRole) == "up to 60 % too high: others shared the core"
    assert page.sentence.button.text() == "Measure 1 again"
    with qtbot.waitSignal(page.measuring.ended, timeout=60_000):
        page.sentence.button.click()
    key = use.card_key()
    again = page._desk.cards[key].cell(disturbed.rate, disturbed.buffer, disturbed.condition)
    assert again.mean < 1e-3 and page.bar.value() == page.bar.maximum()
    # What came is in the library, and silence was not measured.
    assert set(library.cards()[key].cells) == set(page._desk.cards[key].cells)
    assert {c for c in known.cells if c.condition == "silent"} < set(library.cards()[key].cells)


UPDATED = "1 plugin setting was measured before its plugin was updated."


def test_what_was_measured_of_a_plugin_that_was_updated_since_is_told(make_window, qtbot, tmp_path, settled):
    """Its figures may be another version's: seen when the session is opened, and whenever one comes to the page."""
    plugin, library = tmp_path / "Synth.lv2", Library(tmp_path / "l.sqlite", "here")
    plugin.mkdir()
    (plugin / "synth.so").write_bytes(b"one")
    use = PluginUse("a/0", PluginRef("lv2", "urn:synth", "Synth"))
    made = Made(METHOD, str(plugin), *session_run.fingerprint(str(plugin)))
    known = msgspec.structs.replace(card(use, 1e-5), made=made)
    library.store(known, known.cells)
    of = session(Strip("a", "A", inserts=(use,), output="main"))
    session_file.write(tmp_path / "a.nimbleload", Saved(of, machine=Machine(2)))
    window = make_window(library)
    page = window.measure
    settled(window, lambda: window.open_path(tmp_path / "a.nimbleload"))
    qtbot.wait(200)
    assert page.model.status(0) == "measured" and UPDATED not in window.balance.sentence.advice.text()
    qtbot.waitUntil(lambda: window.desk.outlook is not None, timeout=60_000)
    (plugin / "synth.so").write_bytes(b"another")
    window.go(MEASURE)
    qtbot.waitUntil(lambda: page.model.status(0) == "updated")
    assert page.model.index(0, STATE).data() == "plugin updated since"
    assert page.sentence.headline.text() == "1 of 1 plugin settings are not measured on this computer."
    assert "1 is of a plugin that was updated since." in page.sentence.advice.text()
    said = window.balance.sentence
    assert UPDATED in said.advice.text() and said.button.text() == "Measure…"
    # Measured anew it is of the plugin as it is.
    again = msgspec.structs.replace(known, made=Made(METHOD, str(plugin), *session_run.fingerprint(str(plugin))))
    page.measuring.progressed.emit(Progress(Job(use.card_key(), use, 1, (256,), 48000), again, None, True))
    assert page.model.status(0) == "measured"
    qtbot.waitUntil(lambda: UPDATED not in said.advice.text())


def test_a_row_is_shown_anew_when_another_is_measured(page):
    """Or all that were tried before still say that they are being measured."""
    first, second = (key for key, *_ in page.model.rows[:2])
    page.model.current, shown = first, []
    page.model.dataChanged.connect(lambda begin, end: shown.append((begin.row(), end.row())))
    page.model.current = second
    assert sorted(shown) == [(0, 0), (1, 1)]
    assert [page.model.status(row) == "measuring" for row in (0, 1)] == [False, True]
    page.model.current = None
    assert sorted(shown) == [(0, 0), (1, 1), (1, 1)]


def test_the_row_that_is_being_measured_says_so_in_whatever_order_they_come(page):
    """What costs most comes first, once that is known; one that crashes among the first does not end these."""
    jobs = [Job(key, use, 1, (256,), 48000) for key, use, _ in page.model.rows[:3]]
    page.measuring.started.emit(jobs)

    def told(number, finished=False, failure=None, **cell):
        known = page._desk.cards[jobs[number].key]
        one = msgspec.structs.replace(known.cells[0], **cell) if cell else None
        step = Progress(jobs[number], msgspec.structs.replace(known, failure=failure), one, finished)
        page.measuring.progressed.emit(step)
        return [page.model.status(row) for row in range(3)]

    assert told(0, provenance="first") == ["measuring", "waiting", "waiting"]
    assert told(1, failure="crashed: SIGSEGV")[1] == "measuring"
    assert "First figures of all" not in page.sentence.advice.text()
    assert told(2, provenance="first")[2] == "measuring"
    assert told(1, True, "crashed: SIGSEGV")[1] == "failed"
    assert "First figures of all" in page.sentence.advice.text()
    # The last one is measured thoroughly before the first.
    assert told(2)[::2] == ["waiting", "measuring"]
    assert told(2, provenance="measured")[::2] == ["waiting", "measuring"]
    assert told(2, True)[0] == "waiting" and page.model.status(2) not in ("waiting", "measuring")
    assert told(0)[0] == "measuring"


def test_figures_measured_once_more_are_counted_and_told(page):
    job = Job(*page.model.rows[0][:2], 1, (256,), 48000)
    page.measuring.started.emit([job])
    before = page.bar.maximum()
    known = page._desk.cards[job.key]
    page.measuring.progressed.emit(Progress(job, known, None, True))
    more = job._replace(again=Again(((256, "sounding"), (256, "silent")), None, 0.0))
    page.measuring.progressed.emit(Progress(more, known, None, False, 2))
    assert page.sentence.headline.text() == "All are measured. Once more: 1 of 2 figures."
    page.measuring.progressed.emit(Progress(more, known, known.cells[0], False, 2))
    assert page.sentence.headline.text() == "All are measured. Once more: 2 of 2 figures."
    assert (page.bar.maximum(), page.bar.value()) == (before + 2, before + 2)
    assert "the better figure of both is kept" in page.sentence.advice.text()


@pytest.mark.parametrize("percent", [100, 160])
def test_names_of_plugins_are_read_in_full_up_to_a_length(make_window, qtbot, tmp_path, percent):
    """Names as packages have them, longer than the example's."""
    window = make_window(percent=percent)
    widths = []
    for name in ("Gate", "Dragonfly Hall Reverb", "Multiband Compressor Stereo x8, with a side-chain"):
        strip = Strip("a", "A", inserts=(PluginUse("a/0", PluginRef("lv2", name, name)),), output="main")
        session_file.write(tmp_path / f"{name}.nimbleload", Saved(session(strip)))
        with qtbot.waitSignal(window.desk.recomputed, timeout=60_000):
            window.open_path(tmp_path / f"{name}.nimbleload")
        widths.append(window.measure.table.columnWidth(PLUGIN))
        inside = widths[-1] - 2 * theme.px(6)
        assert (QFontMetricsF(theme.font(12)).horizontalAdvance(name) <= inside) == (len(name) < 30)
    assert theme.px(120) == widths[0] < widths[1] < widths[2] == theme.px(200)


def shown(table):
    return [row for row in range(table.model().rowCount()) if not table.isRowHidden(row)]


def test_cards_are_sorted_by_a_click_on_a_heading_and_found_by_words(example, page, qtbot):
    table, model = page.table, page.model
    key = table.chosen()
    assert [row[2] for row in model.rows] == sorted((row[2] for row in model.rows), reverse=True)

    def click(column):
        header = table.horizontalHeader()
        place = QPoint(header.sectionViewportPosition(column) + 20, header.height() // 2)
        qtbot.mouseClick(header.viewport(), Qt.MouseButton.LeftButton, pos=place)

    def names():
        return [model.index(row, PLUGIN).data() for row in range(len(model.rows))]

    click(PLUGIN)
    assert names() == sorted(names(), key=str.casefold)
    click(PLUGIN)
    assert names() == sorted(names(), key=str.casefold, reverse=True)
    # What was chosen stays so, wherever it is now, and its card is shown.
    assert table.chosen() == key and page._row()[0] == key[0]
    click(COST)
    costs = [example.desk.cards[of].cost(48000, 256, "sounding").seconds for of, *_ in model.rows]
    assert costs == sorted(costs) or costs == sorted(costs, reverse=True)
    click(MEMORY)
    kept = [model.kept(row).bytes for row in range(len(model.rows))]
    assert kept == sorted(kept) or kept == sorted(kept, reverse=True)
    most = model.index(kept.index(max(kept)), MEMORY)
    assert most.data() == size(max(kept)) and most.data(Qt.ItemDataRole.ToolTipRole).startswith("30 instances of ")
    click(STATE)
    assert [model.row_of(of) for of, *_ in model.rows] == list(range(len(model.rows)))
    page.finder.setFocus()
    qtbot.keyClicks(page.finder, "vault")
    assert shown(table) and all("vault" in names()[row].lower() for row in shown(table))
    click(PLUGIN)
    assert all("vault" in names()[row].lower() for row in shown(table))
    qtbot.keyClicks(page.finder, " nothing like it")
    assert shown(table) == []
    page.finder.clear()
    assert len(shown(table)) == len(model.rows)


def test_only_what_is_chosen_is_measured(example, page, qtbot, monkeypatch):
    asked = []
    monkeypatch.setattr(page.measuring, "start", lambda todo, known, first=None: asked.append((todo, first)))
    assert page.only.isVisible() and page.only.text() == "Measure only this"
    qtbot.mouseClick(page.only, Qt.MouseButton.LeftButton)
    ((todo, first),) = asked
    assert [job.key for job in todo] == page.table.chosen() and first == 256
    # Whatever is known of it, all of it.
    assert todo[0].details and len(todo[0].buffers) == 8
    page.table.selectRow(2)
    qtbot.keyClick(page.table, Qt.Key.Key_Down, Qt.KeyboardModifier.ShiftModifier)
    assert page.only.text() == "Measure only these 2"
    page.table.clearSelection()
    assert not page.only.isVisible()


def test_stand_ins_are_chosen_in_one_list(make_window, qtbot, tmp_path):
    def use(standard, name, family="equaliser"):
        return PluginUse(f"{standard} {name}", PluginRef(standard, f"{standard}.{name}", name), family=family)

    known = [use("lv2", "Sea EQ"), use("lv2", "Land EQ"), use("lv2", "Hall", "reverb")]
    lost = [use("vst3", "Sea-EQ"), use("vst3", "Sky EQ"), use("vst3", "Cave", "reverb")]
    strips = [Strip("t", "Track", inserts=(*known, *lost), output="main")]
    cards = tuple(card(each, 1e-4 * (k + 1)) for k, each in enumerate(known))
    path = tmp_path / "lost.nimbleload"
    session_file.write(path, Saved(session(*strips), cards=cards, machine=Machine(2)))
    library = Library(tmp_path / "library.sqlite")
    window = make_window(library)
    with qtbot.waitSignal(window.desk.recomputed, timeout=60_000):
        window.open_path(path)
    window.go(MEASURE)
    page = window.measure
    assert page.stand_ins.isVisible()
    qtbot.mouseClick(page.stand_ins, Qt.MouseButton.LeftButton)
    dialog = next(each for each in page.findChildren(QDialog) if each.isVisible())
    named = [dialog.table.item(row, 0).text() for row in range(3)]
    likeliest = dict(zip(named, (box.currentText().split(" (")[0] for box in dialog.others), strict=True))
    assert likeliest["Sea-EQ"] == "Sea EQ" and likeliest["Cave"] == "Hall"
    assert likeliest["Sky EQ"] in ("Sea EQ", "Land EQ")
    nobody = dialog.others[named.index("Cave")]
    nobody.setCurrentIndex(nobody.count() - 1)
    with qtbot.waitSignal(window.desk.recomputed, timeout=60_000):
        dialog.accept()
    made = window.desk.cards[lost[0].card_key()]
    assert {cell.provenance for cell in made.cells} == {"stand-in"} and made.cells[0].mean == cards[0].cells[0].mean
    assert lost[2].card_key() not in window.desk.cards or not window.desk.cards[lost[2].card_key()].cells
    # One is still without figures.
    assert page.stand_ins.isVisible()
