"""Where large files lie for a while: on a disk, and gone with whoever made them."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
from pathlib import Path

import pytest

from nimbleload.store import scratch


@pytest.fixture
def mounted(monkeypatch, tmp_path):
    """Pretends what is mounted where; the usual folder is /tmp."""
    monkeypatch.delenv("TMPDIR", raising=False)
    monkeypatch.setattr(tempfile, "tempdir", "/tmp")

    def pretend(*mounts):
        (tmp_path / "mounts").write_text("".join(f"none {place} {kind} rw,relatime 0 0\n" for place, kind in mounts))
        monkeypatch.setattr(scratch, "MOUNTS", tmp_path / "mounts")

    return pretend


@pytest.mark.parametrize(
    ("mounts", "expected"),
    [
        ([("/", "ext4")], "/tmp"),
        ([("/", "ext4"), ("/tmp", "tmpfs")], "/var/tmp"),
        ([("/", "ext4"), ("/tmpfoo", "tmpfs")], "/tmp"),
        ([("/tmp", "tmpfs"), ("/", "ext4")], "/var/tmp"),
        # Mounted over: what came later is seen.
        ([("/", "ext4"), ("/tmp", "tmpfs"), ("/tmp", "xfs")], "/tmp"),
        # All in memory: there is nothing better.
        ([("/", "tmpfs")], "/tmp"),
        ([("/", "ext4"), ("/tmp", "tmpfs"), ("/var/tmp", "tmpfs")], "/tmp"),
        ([], "/tmp"),
    ],
)
def test_a_folder_in_memory_is_not_taken_where_there_is_a_disk(mounted, mounts, expected):
    mounted(*mounts)
    assert scratch.folder() == Path(expected)


def test_where_nothing_is_told_the_usual_one_is_taken(mounted, tmp_path, monkeypatch):
    mounted()
    monkeypatch.setattr(scratch, "MOUNTS", tmp_path / "none")
    assert scratch.folder() == Path("/tmp")


def test_what_the_user_names_is_taken(mounted, monkeypatch):
    mounted(("/", "ext4"), ("/tmp", "tmpfs"))
    monkeypatch.setenv("TMPDIR", "/tmp")
    assert scratch.folder() == Path("/tmp")


def test_one_that_may_not_be_written_is_not_taken(mounted, monkeypatch):
    mounted(("/", "ext4"), ("/tmp", "tmpfs"))
    monkeypatch.setattr(scratch.os, "access", lambda *_: False)
    assert scratch.folder() == Path("/tmp")


def test_folders_of_the_killed_are_cleared_and_those_of_the_living_stay(tmp_path, monkeypatch):
    monkeypatch.setattr(scratch, "folders", lambda: (tmp_path,))
    ended = subprocess.Popen([sys.executable, "-c", ""])
    ended.wait()
    killed, living, other = (
        tmp_path / name
        for name in (f"{scratch.PREFIX}{ended.pid}-sums-x", f"{scratch.PREFIX}{os.getpid()}-y", f"{scratch.PREFIX}no-z")
    )
    for each in (killed, living, other):
        each.mkdir()
        (each / "sound").write_bytes(b"s")
    scratch.clear_left_behind.cache_clear()
    scratch.clear_left_behind()
    assert sorted(tmp_path.iterdir()) == sorted((living, other))


def test_a_folder_is_gone_with_its_end(tmp_path, monkeypatch):
    monkeypatch.setattr(scratch, "folder", lambda: tmp_path)
    made = scratch.Folder("audio")
    assert Path(made.name).parent == tmp_path and f"{os.getpid()}-audio-" in made.name
    made.cleanup()
    assert not list(tmp_path.iterdir())
