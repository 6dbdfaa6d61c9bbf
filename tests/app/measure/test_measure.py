"""Measure in the real window: pausing, settings tried, variants, cards side by side, figures from elsewhere."""

from __future__ import annotations

import msgspec
import pytest
from PySide6.QtWidgets import QDialog

from nimbleload.app.frame.window import MEASURE
from nimbleload.core.cards.card import Effect, Sweep
from nimbleload.probe.session_run import Job, Progress
from nimbleload.store.library import STAND_IN, TYPED, Library


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
    assert "1 of 1 plugins done" in page.sentence.headline.text()
    assert page._desk.cards[key].failure == "crashed: SIGSEGV"
    page.measuring.ended.emit("")
