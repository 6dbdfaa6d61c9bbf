"""Rows of a view that are chosen by what they stand for."""

from __future__ import annotations

from collections.abc import Iterable

from PySide6.QtCore import QItemSelection, QItemSelectionModel, QModelIndex


def choose_rows(selection: QItemSelectionModel, rows: Iterable[QModelIndex]) -> None:
    """Chooses these rows in place of the others; what is not shown (invalid) is left out."""
    found = QItemSelection()
    for row in rows:
        if row.isValid():
            found.select(row, row)
    flags = QItemSelectionModel.SelectionFlag
    selection.select(found, flags.ClearAndSelect | flags.Rows)
