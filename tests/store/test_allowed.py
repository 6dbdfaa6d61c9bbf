"""What plugins may do beyond: kept by plugin, taken back, and nothing where the file cannot be read."""

from __future__ import annotations

import pytest

from nimbleload.store.allowed import AllowedError, all_allowed, allow, allowed


def test_what_is_allowed_is_kept_by_plugin_and_can_be_taken_back(tmp_path):
    path = tmp_path / "nimble-load" / "allowed.json"
    assert allowed("clap", "a", path) == ()
    allow("clap", "a", "network", path=path)
    allow("clap", "a", "files", path=path)
    allow("lv2", "a", "files", path=path)
    assert all_allowed(path) == {"clap:a": ("files", "network"), "lv2:a": ("files",)}
    allow("clap", "a", "files", False, path)
    allow("lv2", "a", "files", False, path)
    assert all_allowed(path) == {"clap:a": ("network",)}
    with pytest.raises(ValueError, match="no permission 'everything'"):
        allow("clap", "a", "everything", path=path)


@pytest.mark.parametrize("content", [b"", b"[]", b'{"clap:a": 1}', b"\xff"])
def test_a_file_that_cannot_be_read_allows_nothing(tmp_path, content):
    path = tmp_path / "allowed.json"
    path.write_bytes(content)
    assert allowed("clap", "a", path) == ()


def test_unknown_permissions_are_none(tmp_path):
    path = tmp_path / "allowed.json"
    path.write_bytes(b'{"clap:a": ["root", "network"]}')
    assert allowed("clap", "a", path) == ("network",)


def test_a_place_that_cannot_be_written_is_said(tmp_path):
    (tmp_path / "file").write_text("no folder")
    with pytest.raises(AllowedError, match="could not be kept"):
        allow("clap", "a", "files", path=tmp_path / "file" / "allowed.json")
