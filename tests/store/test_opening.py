"""Sessions from files: for this computer where the file says none."""

from __future__ import annotations

from nimbleload.core.session.computer import Machine
from nimbleload.store import opening, session_file
from nimbleload.store.session_file import Saved
from tests.helpers import exports
from tests.helpers.sessions import session, track


def test_what_is_imported_is_for_the_cores_of_this_computer(tmp_path, monkeypatch):
    monkeypatch.setattr(opening, "own_cores", lambda: 11)
    source = exports.export(tmp_path / "a.dawproject", exports.FIRST)
    assert opening.open_session(source).saved.machine == Machine(11)
    path = tmp_path / "a.nimbleload"
    session_file.write(path, Saved(session(track("a")), machine=Machine(3)))
    assert opening.open_session(path).saved.machine == Machine(3)
