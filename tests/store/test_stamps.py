"""What another program has written since is noticed, once; what was never known, or is gone, is not news."""

from __future__ import annotations

import os

from nimbleload.store.stamps import Stamps, stamp_of


def test_a_file_that_somebody_else_has_written_is_told_of_once(tmp_path):
    path = tmp_path / "a"
    path.write_bytes(b"one")
    stamps = Stamps()
    assert not stamps.is_news(path), "never read here"
    stamps.note(path, stamp_of(path))
    assert not stamps.is_changed(path)
    path.write_bytes(b"another")
    assert stamps.is_changed(path)
    assert stamps.is_news(path)
    assert not stamps.is_news(path)
    assert stamps.is_changed(path), "told, but still not what is known here"
    os.utime(path, ns=(0, 0))
    assert stamps.is_news(path), "written once more, in the same size"
    stamps.note(path, stamp_of(path))
    assert not stamps.is_changed(path)
    path.unlink()
    assert stamp_of(path) is None
    assert not stamps.is_changed(path), "what is gone holds nothing that could be lost"
