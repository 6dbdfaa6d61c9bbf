"""The example's own audio: what keeps it from being made is told."""

from __future__ import annotations

import os

import pytest

from nimbleload.demo import audio


def test_what_is_made_aside_and_cannot_be_written_is_told_in_the_systems_words(monkeypatch, tmp_path):
    (tmp_path / "cache").write_text("a file where a folder should be")
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    with pytest.raises(OSError) as told:
        audio.made_aside(str(audio.path()))
    assert str(told.value) == f"{os.strerror(20)}: {audio.path().parent}"
    audio.made_aside("another.dawproject")  # which is none of its own


def test_a_process_that_is_killed_says_how_it_ended(monkeypatch, tmp_path):
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path))
    monkeypatch.setattr(audio.sys, "executable", "/bin/false")
    with pytest.raises(OSError, match="ended with code 1"):
        audio.made_aside(str(audio.path()))
