"""Rows that go on in the next line; and no page that asks for more than a usual screen at any text size."""

from __future__ import annotations

import pytest
from PySide6.QtCore import QRect, QSize, Qt
from PySide6.QtWidgets import (
    QHeaderView,
    QLabel,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QScrollBar,
    QStyle,
    QStyleOptionFrame,
    QTableView,
    QWidget,
)  # fmt: skip

from nimbleload.app.frame.window import BALANCE, CARRY, EDIT, MACHINE, MEASURE, PROVE, WATCH
from nimbleload.app.look.theme import SCALES, theme
from nimbleload.app.look.wrapping import Wrapping


class Box(QWidget):
    """A widget that wants one size."""

    def __init__(self, width, height=20):
        super().__init__()
        self._size = QSize(width, height)

    def sizeHint(self):
        return self._size

    def minimumSizeHint(self):
        return self._size


def laid(qtbot, widths, width, **options):
    """Where boxes of these widths come to lie: left edges by line."""
    whole = QWidget()
    qtbot.addWidget(whole)
    boxes = [Box(each) for each in widths]
    layout = Wrapping(*boxes, **options)
    whole.setLayout(layout)
    whole.resize(width, 200)
    whole.show()
    layout.setGeometry(QRect(0, 0, width, layout.heightForWidth(width)))
    lines = {}
    for box in boxes:
        lines.setdefault(box.y(), []).append(box.x())
    layout.within = whole  # lives as long as its layout
    return layout, list(lines.values())


def test_what_does_not_fit_goes_on_in_the_next_line(qtbot):
    layout, lines = laid(qtbot, [50, 60, 70], 130, gap=10)
    assert lines == [[0, 60], [0]]
    assert layout.heightForWidth(130) == 20 + 10 + 20 and layout.heightForWidth(200) == 20
    assert layout.sizeHint() == QSize(200, 20) and layout.minimumSize() == QSize(70, 20)


def test_a_line_can_lie_at_the_right_end(qtbot):
    _, lines = laid(qtbot, [50, 60, 70], 130, gap=10, at_end=True)
    assert lines == [[10, 70], [60]]


def test_what_is_hidden_takes_no_room_and_what_is_too_wide_a_line_of_its_own(qtbot):
    layout, lines = laid(qtbot, [50, 300, 40], 130, gap=10)
    assert lines == [[0], [0], [0]]
    layout.itemAt(1).widget().hide()
    assert layout.heightForWidth(130) == 20 and layout.minimumSize().width() == 50
    assert layout.count() == 3 and layout.itemAt(3) is None
    assert layout.takeAt(0) is not None and layout.takeAt(7) is None and layout.count() == 2


def height_for_words(field):
    """How high what is typed into a field may be, within its frame and its margins."""
    frame = QStyleOptionFrame()
    field.initStyleOption(frame)
    return field.style().subElementRect(QStyle.SubElement.SE_LineEditContents, frame, field).height()


@pytest.mark.parametrize(("percent", "begun_at"), [(90, 100), (130, 100), (160, 100), (160, 160), (90, 160)])
def test_no_page_is_wider_than_1280_at_any_text_size(make_window, qtbot, percent, begun_at):
    window = make_window(percent=begun_at)
    with qtbot.waitSignal(window.desk.recomputed, timeout=60_000):
        window.open_example()
    window.scale_text(SCALES.index(percent) - SCALES.index(theme.scale))
    with qtbot.waitSignal(window.watch.watching.seen, timeout=60_000):
        window.watch.watching.show_example()
    for place in (MACHINE, WATCH, EDIT, MEASURE, BALANCE, CARRY, PROVE):
        window.go(place)
        # Whatever may come up there stands there.
        for button in window.pages.currentWidget().findChildren(QPushButton):
            if button.text() and not button.isHidden():
                assert button.fontMetrics().horizontalAdvance(button.text()) <= button.width(), button.text()
        for field in window.pages.currentWidget().findChildren(QLineEdit):
            words = field.placeholderText()
            if words and not field.isHidden():
                assert field.fontMetrics().horizontalAdvance(words) <= field.width() - theme.px(12), words
            if field.isVisible():
                assert height_for_words(field) >= field.fontMetrics().height(), (place, field.text())
        qtbot.wait(20)
        scrolled = window.pages.currentWidget()
        assert not isinstance(scrolled, QScrollArea) or scrolled.horizontalScrollBar().maximum() == 0, place
        for label in scrolled.findChildren(QLabel):
            if label.isVisible() and label.wordWrap() and label.text():
                assert label.height() >= label.heightForWidth(label.width()), (place, label.text())
        assert (window.width(), window.height()) == (1280, 800), place
    assert window.windowState() == Qt.WindowState.WindowNoState


def sizes(window):
    """What the widgets of a window are held to: least and most size, rows and columns of tables. Of Machine, which
    grows while it looks, nothing."""
    found = []
    for widget in window.findChildren(QWidget):
        # Plain ones are what Qt lays scroll bars out in; those come and go.
        if window.machine.isAncestorOf(widget) or type(widget) in (QWidget, QScrollBar, QHeaderView):
            continue
        held = [widget.minimumWidth(), widget.maximumWidth(), widget.minimumHeight(), widget.maximumHeight()]
        if isinstance(widget, QTableView):
            header = widget.horizontalHeader()
            columns = (c for c in range(header.count()) if header.sectionResizeMode(c) == header.ResizeMode.Interactive)
            held += [widget.verticalHeader().defaultSectionSize(), *map(widget.columnWidth, columns)]
        found.append((type(widget).__name__, held))
    return found


def test_a_text_size_chosen_later_gives_the_same_sizes_as_one_begun_with(make_window, qtbot):
    begun = make_window(percent=160)
    qtbot.wait(50)
    expected = sizes(begun)
    window = make_window()
    window.scale_text(len(SCALES))
    qtbot.wait(50)
    assert sizes(window) == expected
