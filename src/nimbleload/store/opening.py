"""Opening a session from whatever holds it, with every cost card that is known for it."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

import msgspec

from ..core.cards.card import CostCard
from ..core.session.plugins import CardKey
from ..core.session.session import Session
from . import dawproject, session_file
from .archive import ImportRefusedError
from .dawproject import ImportReport
from .library import STAND_IN, TYPED, Library
from .session_file import Saved
from .this_computer import from_here, this_computer

EXCHANGE_SUFFIX = ".dawproject"


class Opened(msgspec.Struct, frozen=True):
    """A session as opened. `report` is there when it was imported from the exchange format."""

    saved: Saved
    report: ImportReport | None = None


def made_here(session: Session, cores: int | None = None) -> Saved:
    """A session that comes from no session file, for a computer of so many cores (None: as many as here)."""
    return Saved(session, machine=from_here(this_computer(), cores))


def open_session(path: Path) -> Opened:
    """Opens a session file or an exchange file, by its ending.

    SessionFileError or ImportRefusedError say what is wrong with it.
    """
    if path.suffix.lower() == EXCHANGE_SUFFIX:
        imported = dawproject.read(path)
        return Opened(made_here(imported.session), imported.report)
    if path.suffix.lower() == session_file.SUFFIX:
        return Opened(session_file.read(path))
    raise ImportRefusedError(f"{path.name}: only {session_file.SUFFIX} and {EXCHANGE_SUFFIX} files can be opened.")


def known_cards(
    session: Session, library: Library, others: Mapping[CardKey, CostCard] | None = None
) -> dict[CardKey, CostCard]:
    """The cards for a session: this computer's own where there are any, else those that came with it.

    Why one could not be measured here stands on it all the same. What neither has is taken from readings that were
    typed in, then from stand-ins, and then from other machines.
    """
    wanted = session.cards_needed()
    found = {key: card for key, card in (others or {}).items() if key in wanted}
    own = library.cards(wanted)
    for key, card in own.items():
        if card.cells or key not in found:
            found[key] = card
        elif card.failure:
            found[key] = msgspec.structs.replace(found[key], failure=card.failure)
    for machine in sorted(library.machines(), key=lambda name: (name != TYPED, name != STAND_IN)):
        if machine == library.machine:
            continue
        for key, card in library.cards(wanted, machine).items():
            if card.cells and not (key in found and found[key].cells):
                failure = own[key].failure if key in own else None
                found[key] = msgspec.structs.replace(card, failure=failure)
    return found
