"""The session as an exchange file, which other programs can open."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import QFileDialog, QWidget

from ...core.units import as_file_name
from ...deliver import exporting
from ...store.opening import EXCHANGE_SUFFIX
from ..background.desk import Desk
from ..look.notice import written


def ask_export(desk: Desk, window: QWidget) -> None:
    """Asks where to write the session, without its plan."""
    if desk.document is None:
        return
    proposed = str(Path.home() / f"{as_file_name(desk.document.session.name)}{EXCHANGE_SUFFIX}")
    kinds = f"Exchange files (*{EXCHANGE_SUFFIX})"
    name, _ = QFileDialog.getSaveFileName(window, "Write the session as an exchange file", proposed, kinds)
    if name:
        export(desk, Path(name if name.endswith(EXCHANGE_SUFFIX) else name + EXCHANGE_SUFFIX))


def export(desk: Desk, path: Path) -> None:
    """Writes the session, off the window's thread; never over what another program wrote."""
    document = desk.document
    if document is None:
        return
    session, cards = document.session, desk.cards

    def tell(left_out: list[str]) -> None:
        written.tell(path, f"not said in it: {' '.join(left_out)}" if left_out else "")

    desk.jobs.run(lambda: exporting.export(path, session, cards), tell, "the exchange file was not written")
