"""Right clicks, in the real window: what was clicked is offered what the menu bar and keys do."""

from __future__ import annotations

from PySide6.QtCore import QPoint
from PySide6.QtGui import QContextMenuEvent
from PySide6.QtWidgets import QApplication, QMenu

from nimbleload.app.frame.window import BALANCE, EDIT, MEASURE


def at(widget, place):
    """The menu that a right click there opens (`widget` is what is drawn on)."""
    inside = widget.viewport() if hasattr(widget, "viewport") else widget
    event = QContextMenuEvent(QContextMenuEvent.Reason.Mouse, place, inside.mapToGlobal(place))
    QApplication.sendEvent(inside, event)
    (menu,) = (each for each in widget.findChildren(QMenu) if each.isVisible())
    return menu


def words(menu):
    return [action.text().replace("&", "") for action in menu.actions() if not action.isSeparator()]


def entry(menu, text):
    return next(action for action in menu.actions() if text in action.text().replace("&", ""))


def row_of(window, name):
    strip = next(s for s in window.desk.document.session.strips if s.name == name)
    index = window.balance.tracks.model.index_of(strip.id)
    window.balance.tracks.view.scrollTo(index)
    return strip, window.balance.tracks.view.visualRect(index).center()


def test_a_track_is_offered_its_decisions_its_cards_and_its_place_in_the_session(example, qtbot, settled):
    strip, place = row_of(example, "Timbers")
    view = example.balance.tracks.view
    with qtbot.waitSignal(example.desk.weighed, timeout=60_000):
        menu = at(view, place)
    assert example.desk.selection == (strip.id,)
    # What each decision would do comes a little later, and says of which track.
    options = example.balance.options.options
    assert words(menu)[:5] == [
        "Pin the chosen tracks", "Let the chosen tracks go", "How settled the chosen tracks are",
        "On the page Session", "The cost card of",
    ]  # fmt: skip
    assert words(menu)[5:] == [f"{k + 1}   {option.text()}: Timbers" for k, option in enumerate(options)]
    settled(example, next(each for each in menu.actions() if "Freeze" in each.text() and each.isEnabled()).trigger)
    assert [d.kind for d in example.desk.document.plan.decisions] == ["freeze"]
    cards = entry(menu, "The cost card of").menu()
    assert words(cards) == [use.label for use in strip.uses()]
    cards.actions()[1].trigger()
    assert example.pages.currentIndex() == MEASURE
    assert example.measure.table.chosen() == [strip.uses()[1].card_key()]
    menu.close()
    example.go(BALANCE)
    # It costs less now, and stands elsewhere.
    menu = at(view, row_of(example, "Timbers")[1])
    entry(menu, "On the page Session").trigger()
    assert example.pages.currentIndex() == EDIT and strip.id in [s.id for s in example.edit.view.selected_strips()]
    menu.close()


def test_several_tracks_stay_chosen_and_what_is_clicked_in_a_block_is_chosen(example, qtbot):
    tracks, block = example.balance.tracks, example.balance.block
    one, two = (row_of(example, name)[0].id for name in ("Timbers", "Breakers"))
    with qtbot.waitSignal(example.desk.weighed, timeout=60_000):
        example.desk.select([one, two])
    menu = at(tracks.view, row_of(example, "Breakers")[1])
    assert set(example.desk.selection) == {one, two} and "The cost card of" not in words(menu)
    menu.close()
    task = next(k for k, area in enumerate(block._places) if area.width() > 20)
    with qtbot.waitSignal(example.desk.weighed, timeout=60_000):
        menu = at(block, block._places[task].center().toPoint())
    (chosen,) = example.desk.selection
    name = example.desk.document.session.strip(chosen).name
    assert words(menu)[:3] == [name, "Copy as a picture", "Copy the figures"]
    inside = entry(menu, name).menu()
    assert "Pin the chosen tracks" in words(inside)
    menu.close()
    # Beside all tasks nothing of a track is offered.
    menu = at(block, QPoint(2, 2))
    assert words(menu)[0] == "Copy as a picture"
    menu.close()


def test_a_buffer_size_and_a_moment_are_offered_what_keys_do(example, qtbot, settled):
    page, desk = example.balance, example.desk
    menu = at(page.buffers, page.buffers._cells()[4].center().toPoint())
    assert words(menu)[:4] == [
        "Choose 512 samples", "Suggest a plan at 512 samples", "Smaller buffer", "Larger buffer",
    ]  # fmt: skip
    settled(example, entry(menu, "Choose 512").trigger)
    assert desk.document.buffer == 512
    menu.close()
    timeline = page.timeline
    place = QPoint(int(timeline._x(170.5)), 40)
    menu = at(timeline, place)
    assert words(menu)[:4] == ["Go to 2:50", "Next worst moment", "Previous worst moment", "Choose the section Storm"]
    with qtbot.waitSignal(desk.moved, timeout=60_000):
        entry(menu, "Go to").trigger()
    assert abs(desk.instant.second - 170.0) < 2.0
    entry(menu, "Choose the section Storm").trigger()
    storm = desk.document.session.section_named("Storm")
    assert timeline.stretch == storm[1:] and "Choose no stretch" not in words(menu)
    menu.close()
    menu = at(timeline, place)
    entry(menu, "Choose no stretch").trigger()
    assert timeline.stretch is None
    entry(menu, "closer").trigger()
    assert not timeline._seen.is_all
    entry(menu, "all of the piece").trigger()
    assert timeline._seen.is_all
    menu.close()


def test_a_plugin_of_a_chain_and_a_card_lead_to_each_other(example, qtbot):
    strip, _ = row_of(example, "Timbers")
    with qtbot.waitSignal(example.desk.weighed, timeout=60_000):
        example.balance.tracks.choose(strip.id)
    row = example.balance.options._chain[0]
    menu = at(row, row.rect().center())
    assert words(menu)[1:] == [f"Switch {strip.uses()[0].label} off", "Its cost card"]
    entry(menu, "Its cost card").trigger()
    assert example.pages.currentIndex() == MEASURE
    table, key = example.measure.table, strip.uses()[0].card_key()
    assert table.chosen() == [key]
    menu.close()
    menu = at(table, table.visualRect(table.currentIndex()).center())
    assert words(menu)[:3] == ["Measure only this", "Figures from elsewhere…", "Keep its card beside"]
    tracks = entry(menu, "On ").menu()
    entry(tracks, "Timbers").trigger()
    assert example.pages.currentIndex() == BALANCE and example.desk.selection == (strip.id,)
    menu.close()
    entry(menu, "Keep its card beside").trigger()
    assert example.measure.beside.use.card_key() == key
