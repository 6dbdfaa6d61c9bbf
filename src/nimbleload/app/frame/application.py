"""The Qt application."""

from __future__ import annotations

import sys

from ...native.garbage import keep_little

TURN_SECONDS = 0.0005


def application():
    """The Qt application; the theme is put in force by whoever opens a window."""
    from PySide6.QtWidgets import QApplication

    keep_little()
    found = QApplication.instance() or QApplication(sys.argv[:1])
    # Loads are computed in threads meanwhile: the window must not wait long for its turn among them.
    sys.setswitchinterval(TURN_SECONDS)
    found.setApplicationName("nimble-load")
    found.setApplicationDisplayName("Nimble Load")
    return found
