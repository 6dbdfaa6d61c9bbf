"""The table of dropouts: what stands in it can be read."""

from __future__ import annotations

import pytest

from nimbleload.app.watch.dropout_table import DropoutTable
from nimbleload.core.told.dropouts import Line

WHY, MEANWHILE = 2, 3
REASON = "Had a core taken away by something that is no thread of this system"


@pytest.mark.parametrize("width", [620, 900])
def test_however_much_was_at_work_the_reason_has_its_half(qtbot, width):
    table = DropoutTable()
    qtbot.addWidget(table)
    table.resize(width, 300)
    table.show()

    def wide(meanwhile):
        table.show_lines([Line("10:38:12", "4 blocks, 12.2 ms late", REASON, meanwhile)], None)
        qtbot.wait(20)
        return table.columnWidth(WHY), table.columnWidth(MEANWHILE)

    why, short = wide("drawing")
    assert short == table.sizeHintForColumn(MEANWHILE) or short == table.horizontalHeader().sectionSizeHint(MEANWHILE)
    assert why > 2 * short
    half, other = wide("a synchronisation of folders and something that the panel starts every few seconds")
    assert abs(half - other) <= 1 and half + other == why + short
    # What is cut is told where it is pointed at.
    assert table.item(0, WHY).toolTip() == REASON
    # Back again.
    assert wide("drawing") == (why, short)
