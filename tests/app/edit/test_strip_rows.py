"""Rows of the Session page through edits: what is folded and chosen stays so, and pictures that are kept are true."""

from __future__ import annotations

import random

import msgspec
import pytest
from PySide6.QtCore import (
    QAbstractItemModel,
    QEvent,
    QItemSelectionModel,
    QModelIndex,
    QObject,
    QPersistentModelIndex,
    QRect,
    Qt,
)
from PySide6.QtGui import QFontMetricsF
from PySide6.QtTest import QAbstractItemModelTester
from PySide6.QtWidgets import QApplication

from nimbleload.app.edit.chain_painter import WIDEST, boxes
from nimbleload.app.edit.strip_model import CHAIN, NAME, STRIP_ROLE, WHEN, StripModel
from nimbleload.app.frame.window import EDIT
from nimbleload.app.look.theme import theme
from nimbleload.core.session import chain_edits, edits, time_edits
from nimbleload.core.session.plugins import PluginRef, PluginUse
from nimbleload.core.session.session import SessionError
from nimbleload.core.session.strips import Strip
from nimbleload.probe.choosing import house_uses

from .test_session_page import active, begun, choose, names, press, rows, strip

TOLD = Qt.ItemDataRole.ToolTipRole
ROWS = QItemSelectionModel.SelectionFlag.Select | QItemSelectionModel.SelectionFlag.Rows


@pytest.fixture
def window(make_window, qtbot):
    """A session with three tracks on a bus, two on none, and plugins."""
    window = begun(qtbot, make_window())
    made = edits.add(window.desk.document.session, "bus", "Band")
    made = edits.add(made, "track", "In", 3, output="bus1")
    made = edits.add(made, "track", "Out", 2)
    uses = [use for use in house_uses() if use.family != "instrument"][:9]
    window.desk.edit("made", chain_edits.insert(made, "track2", uses))
    window.edit.view.setFocus()
    return window


def shown(model: QAbstractItemModel) -> list:
    """The names of all rows, as they stand below each other."""

    def below(parent):
        at = [model.index(row, NAME, parent) for row in range(model.rowCount(parent))]
        return [(index.data(), below(index)) for index in at]

    return below(model.index(-1, -1))


def in_words(model: StripModel, strip_id: str) -> list[str]:
    """What the cells of a row show, and say."""
    row = model.index_of(strip_id)
    return [str(row.siblingAtColumn(k).data(role)) for k in range(WHEN + 1) for role in (0, int(TOLD))]


def test_whatever_comes_goes_and_moves_rows_are_those_of_a_model_made_anew(qtbot):
    """And Qt's own tester finds no fault with what is told of it."""
    rng = random.Random(3)
    session = edits.add(edits.add(edits.empty("x"), "bus", "Bus", 3), "track", "Track", 8)
    model = StripModel(lambda *_: None)
    QAbstractItemModelTester(model, QAbstractItemModelTester.FailureReportingMode.Fatal)
    model.show(session)
    resets = []
    model.modelReset.connect(lambda: resets.append(1))
    told = {"rowsInserted": 0, "rowsRemoved": 0, "layoutChanged": 0}
    for name in told:
        getattr(model, name).connect(lambda *_, name=name: told.update({name: told[name] + 1}))
    anew, fewest = set(), 1000

    def note(first, last):
        assert first.parent() == last.parent() and (first.column(), last.column()) == (NAME, WHEN)
        anew.update(first.siblingAtRow(row).data(STRIP_ROLE) for row in range(first.row(), last.row() + 1))

    model.dataChanged.connect(note)
    for _ in range(400):
        ids = [each.id for each in session.strips if each.kind != "main"]
        some = rng.sample(ids, min(rng.choice((1, 1, 2, 3)), len(ids)))
        buses = [each.id for each in session.strips if each.kind in ("bus", "main")]
        change = rng.choice((
            lambda s, some=some: edits.remove(s, some) if len(s.strips) > 6 else edits.add(s, "track", count=3),
            lambda s, some=some: edits.move(s, some, rng.choice((-1, 1))),
            lambda s, some=some: edits.duplicate(s, some, 1, members=True) if len(s.strips) < 25 else s,
            lambda s, some=some, buses=buses: edits.route(s, some, rng.choice(buses)),
            lambda s, some=some: edits.add(s, rng.choice(("track", "bus")), behind=some[0] if some else ""),
            lambda s, some=some: edits.rename(s, some[0], f"Name {rng.random():.3f}") if some else s,
            lambda s, some=some, buses=buses: edits.send(s, some, rng.choice(buses)) if some else s,
            lambda s: msgspec.structs.replace(s, length=s.length + 1),
        ))  # fmt: skip
        try:
            session = change(session)
        except SessionError:
            continue
        if rng.random() < 0.3:
            continue  # what comes next is shown together with it
        held = {each.id: QPersistentModelIndex(model.index_of(each.id)) for each in model.strips}
        before, length = {each: in_words(model, each) for each in held}, model.length
        anew.clear()
        model.show(session)
        # What reads otherwise now is told of, each row below its own parent.
        for strip_id, index in held.items():
            if index.isValid():
                assert QModelIndex(index) == model.index_of(strip_id)
                if before[strip_id] != in_words(model, strip_id) or length != model.length:
                    assert strip_id in anew
        fewest = min(fewest, len(anew) or fewest)
        other = StripModel(lambda *_: None)
        other.show(session)
        assert shown(model) == shown(other)
        for each in session.strips:
            assert model.strip(model.index_of(each.id)) is each
            assert model.index_of(each.id).parent().data() == other.index_of(each.id).parent().data()
    assert min(told.values()) > 10 and len(resets) < 150 and fewest == 1


def test_a_track_comes_right_behind_the_chosen_one_and_feeds_what_that_feeds(window, qtbot):
    choose(qtbot, window, "In 1")
    press(qtbot, window.edit.view, "Ctrl+T")
    assert names(window) == ["Band", "In 1", "Track", "In 2", "In 3", "Out 1", "Out 2", "Main"]
    assert strip(window, "Track").output == "bus1"
    assert window.edit.view.selected() == [strip(window, "Track").id]
    press(qtbot, window.edit.view, "Ctrl+R")
    assert names(window)[-2:] == ["Return", "Main"]


def test_what_is_chosen_is_told_from_top_to_bottom_in_whatever_order_it_was_chosen(window):
    view, model = window.edit.view, window.edit.model
    for name in ("Out 1", "In 3", "Main", "Band", "In 1"):
        view.selectionModel().select(model.index_of(strip(window, name).id), ROWS)
    assert [each.name for each in view.selected_strips()] == ["Band", "In 1", "In 3", "Out 1", "Main"]
    assert rows(window) == ["Band", "In 1", "In 2", "In 3", "Out 1", "Out 2", "Main"]


def test_a_folded_bus_stays_folded_whatever_comes_goes_or_moves(window, qtbot):
    view, model = window.edit.view, window.edit.model
    view.collapse(model.index_of("bus1"))
    choose(qtbot, window, "Out 1")
    for keys in ("Ctrl+T", "Del", "Ctrl+Z", "Ctrl+Z"):
        press(qtbot, view, keys)
        assert not view.isExpanded(model.index_of("bus1"))
    choose(qtbot, window, "Out 2")
    press(qtbot, view, "Alt+Up")
    assert names(window)[-3:] == ["Out 2", "Out 1", "Main"]
    assert not view.isExpanded(model.index_of("bus1")) and view.selected() == [strip(window, "Out 2").id]
    # In two places at once, so that all rows are made anew.
    window.edit.edit("copies", lambda session: edits.duplicate(session, ["track1", "track4"]))
    assert len(names(window)) == 9 and not view.isExpanded(model.index_of("bus1"))
    assert view.selected() == [strip(window, "Out 2").id] == [model.strip(view.currentIndex()).id]


def test_a_bus_is_unfolded_for_the_first_track_that_it_gets(window, qtbot):
    press(qtbot, window.edit.view, "Ctrl+B")
    bus = strip(window, "Bus").id
    window.edit.edit("feed", lambda session: edits.route(session, [strip(window, "Out 1").id], bus))
    assert window.edit.view.isExpanded(window.edit.model.index_of(bus))
    window.edit.edit("add", lambda session: edits.add(session, "bus", "Other"))
    other = strip(window, "Other").id
    window.edit.edit("add", lambda session: edits.add(session, "track", "New", output=other))
    assert window.edit.view.isExpanded(window.edit.model.index_of(other))
    window.edit.edit("copy", lambda session: edits.duplicate(session, ["bus1"], members=True))
    assert window.edit.view.isExpanded(window.edit.model.index_of(strip(window, "Band 2").id))


def test_the_cursor_goes_to_a_neighbour_of_a_track_that_is_removed(window, qtbot):
    """So that the arrows go on from there."""
    view, model = window.edit.view, window.edit.model
    choose(qtbot, window, "Out 1")
    press(qtbot, view, "Del")
    assert names(window) == ["Band", "In 1", "In 2", "In 3", "Out 2", "Main"] and view.selected() == []
    assert model.strip(view.currentIndex()).name in ("Out 2", "Band")
    press(qtbot, view, "Ctrl+Z")
    assert names(window)[-3] == "Out 1"


class Painted(QObject):
    """Notes which regions of a widget are painted."""

    def __init__(self, parent):
        super().__init__(parent)
        self.regions = []

    def eventFilter(self, of, event):
        if event.type() == QEvent.Type.Paint:
            self.regions.append(event.region())
        return False


def watched(qtbot, view):
    """What is painted of a view from now on."""
    qtbot.wait(100)
    watch = Painted(view)
    view.viewport().installEventFilter(watch)
    return watch.regions


def test_what_is_chosen_instead_is_painted_with_what_was_and_nothing_else(window, qtbot):
    page = window.edit
    for name in ("In 1", "Out 1"):
        page.edit("clip", lambda s, name=name: time_edits.add_clip(s, strip(window, name).id, 1.0, 9.0))
    page.edit("put in", lambda s: chain_edits.insert(s, strip(window, "Out 1").id, house_uses()[:1]))
    painted = watched(qtbot, page.view)

    def middles(column):
        return {name: page.view.visualRect(page.model.index_of(strip(window, name).id, column)).center()
                for name in ("In 1", "In 2", "In 3", "Out 1")}  # fmt: skip

    def seen(column):
        qtbot.wait(50)
        found = [name for name, at in middles(column).items() if any(region.contains(at) for region in painted)]
        painted.clear()
        return found

    clips = [(strip(window, name).id, strip(window, name).clips[0]) for name in ("In 1", "Out 1")]
    page.view.choose_clips(clips[:1])
    assert seen(WHEN) == ["In 1"]
    page.view.choose_clips(clips[1:])
    assert seen(WHEN) == ["In 1", "Out 1"]
    page.view.choose_plugins([strip(window, "In 2").inserts[0].id])
    assert seen(CHAIN) == ["In 2"]
    page.view.choose_plugins([strip(window, "Out 1").uses()[0].id])
    assert seen(CHAIN) == ["In 2", "Out 1"]


def test_a_row_that_has_changed_is_painted_anew(window, qtbot):
    """Wherever it stands, also within a bus that ends out of sight: Qt paints what it is told of, and no more."""
    window.edit.edit("more", lambda session: edits.add(session, "track", "More", 60, output="bus1"))
    view = window.edit.view
    choose(qtbot, window, "In 2")
    press(qtbot, view, "Right")
    painted = watched(qtbot, view)
    press(qtbot, view, "Space")
    assert not strip(window, "In 2").inserts[0].enabled
    box = boxes(strip(window, "In 2"), view.visualRect(window.edit.model.index_of("track2", CHAIN)))[0]
    qtbot.waitUntil(lambda: any(region.contains(box.area.toRect()) for region in painted), timeout=5_000)


def test_what_is_bypassed_would_cost_what_it_is_said_to(example, qtbot):
    active(qtbot, example)
    example.go(EDIT)
    page = example.edit
    page.view.setFocus()
    page.choose(strip(example, "Bailiff").id)
    press(qtbot, page.view, "Right")
    assert "It costs" in page.inspector.plugin_about.text()
    press(qtbot, page.view, "Space")
    assert "It would cost" in page.inspector.plugin_about.text()
    press(qtbot, page.view, "Ctrl+Z")
    assert "It costs" in page.inspector.plugin_about.text()


def test_pictures_of_chains_that_are_kept_are_those_that_would_be_painted(window, qtbot, request):
    """After bypassing, choosing, the fader's place, another width, theme and text size."""
    view = window.edit.view
    request.addfinalizer(lambda: theme.apply(QApplication.instance(), "night", 100))

    def same():
        active(qtbot, window)
        kept = view.viewport().grab().toImage()
        view.chains._kept.__init__()
        assert view.viewport().grab().toImage() == kept
        return kept

    choose(qtbot, window, "In 2")
    steps = (
        lambda: press(qtbot, view, "Right"),
        lambda: press(qtbot, view, "Space"),
        lambda: window.desk.place_fader(strip(window, "In 2").id, 1),
        lambda: press(qtbot, view, "Alt+Right"),
        lambda: press(qtbot, view, "Up"),
        lambda: window.resize(window.width() - 130, window.height()),
        lambda: window.choose_theme("paper"),
        lambda: window.scale_text(2),
        lambda: press(qtbot, view, "Ctrl+Z"),
    )
    pictures = [same()]
    for step in steps:
        step()
        pictures.append(same())
        assert pictures[-1] != pictures[-2]


def test_boxes_are_as_wide_as_their_names_while_there_is_room_and_narrower_then(qtbot):
    def made(*names):
        return Strip("t", "T", inserts=tuple(PluginUse(f"t/{n}", PluginRef("lv2", n, n)) for n in names))

    name, cell = "A compressor of many bands with a side-chain", QRect(10, 0, 500, 26)
    wide = boxes(made(name), cell)[0].area.width()
    assert wide == QFontMetricsF(theme.font(11)).horizontalAdvance(name) + theme.px(12) > theme.px(WIDEST)
    several = [box.area for box in boxes(made(name, "Gate", *[f"{name} {k}" for k in range(3)]), cell)]
    assert several[-1].right() <= cell.right() and max(area.width() for area in several) <= theme.px(WIDEST)
    assert several[1].width() < several[0].width()
