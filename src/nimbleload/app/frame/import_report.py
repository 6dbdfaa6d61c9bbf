"""What an import understood of a file, and what it left out."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtWidgets import QWidget

from ...store.dawproject import ImportReport
from ..look.panels import Message


def show(report: ImportReport, window: QWidget, said: Sequence[str] = ()) -> None:
    """Shows a report over a window; before it what else is to be said."""
    box = Message(window)
    box.setText(f"{report.file}{f', written by {report.program}' if report.program else ''}")
    left_out = report.left_out or ("Nothing was left out.",)
    told = "\n".join([*said, "", *report.understood]).strip()
    box.setInformativeText(told)
    box.setDetailedText("\n".join(left_out))
    if report.left_out:
        shown = "\n".join(f"• {line}" for line in left_out[:6])
        more = f"\n… and {len(left_out) - 6} more below" if len(left_out) > 6 else ""
        box.setInformativeText(f"{told}\n\nLeft out:\n{shown}{more}")
    box.open()
