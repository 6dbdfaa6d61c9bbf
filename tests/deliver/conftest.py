"""What is rendered here is found by searches of its own."""

from __future__ import annotations

import pytest

from tests.helpers.searching import apart


@pytest.fixture(autouse=True)
def own_catalogue(own_folders, tmp_path, monkeypatch):
    """What a test's search finds is no other's."""
    apart(tmp_path, monkeypatch)
