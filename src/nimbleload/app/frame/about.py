"""About: which version this is, what it is made of, and under which licences."""

from __future__ import annotations

import platform
from importlib import metadata
from typing import Any

from PySide6.QtWidgets import QTextBrowser, QVBoxLayout, QWidget

from ... import __version__
from ..look.panels import Dialog
from ..look.theme import theme

MADE_OF = (
    "PySide6-Essentials", "numpy", "scipy", "numba", "msgspec", "lxml", "platformdirs", "click", "Jinja2", "soundfile",
    "mido", "JACK-Client",
)  # fmt: skip


def licence_of(name: str) -> str:
    """What a library says of its licence, in a line."""
    try:
        of: Any = metadata.metadata(name)
    except metadata.PackageNotFoundError:
        return "not installed"
    classified = [each.rpartition(" :: ")[2] for each in of.get_all("Classifier") or () if each.startswith("License")]
    told = of.get("License-Expression") or ", ".join(classified) or (of.get("License") or "").strip().partition("\n")[0]
    return f"{metadata.version(name)}, {told or 'see its files'}"


def text() -> str:
    """What the dialog says (HTML)."""
    rows = "".join(f"<tr><td>{name}&nbsp;&nbsp;</td><td>{licence_of(name)}</td></tr>" for name in MADE_OF)
    return (
        f"<h3>Nimble Load {__version__}</h3>"
        "<p>Why a heavy mix session overloads, and what it takes to make the block fit.</p>"
        f"<p>© 2026 The Nimble Load authors, under the MIT licence. It sends nothing anywhere.</p>"
        f"<p>Made of, beside Python {platform.python_version()}:</p><table>{rows}</table>"
    )


class About(Dialog):
    """The dialog."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__("About Nimble Load", parent)
        self.resize(theme.px(520), theme.px(420))
        browser = QTextBrowser()
        browser.setHtml(text())
        browser.setAccessibleName("About Nimble Load")
        QVBoxLayout(self).addWidget(browser)
