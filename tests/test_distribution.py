"""What is given out: the manual page, the desktop's files, what goes into a package, and the first start of one."""

from __future__ import annotations

import os
import shutil
import subprocess
from pathlib import Path

import click
import pytest
from lxml import etree
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication

from distribution import build
from distribution.man import page, quoted
from nimbleload import __version__
from nimbleload.shell import cli, ready
from nimbleload.store import recording_file, session_file
from nimbleload.store.opening import EXCHANGE_SUFFIX


def test_the_manual_page_holds_every_command_and_option():
    text = page().replace("\\-", "-")
    context = click.Context(cli, info_name="nimble-load")
    shown = [name for name in cli.list_commands(context) if not cli.get_command(context, name).hidden]
    assert {"watch", "test-load", "carry-out", "open", "demo"} <= set(shown)
    for name in shown:
        assert f"\n.SS {name}\n" in text
        for option in cli.get_command(context, name).params:
            assert not isinstance(option, click.Option) or option.opts[-1] in text, (name, option)
    assert "prepare" not in text
    assert quoted(".TH a-b\\") == "\\&.TH a\\-b\\e"


@pytest.mark.skipif(shutil.which("man") is None, reason="no man here to read it with")
def test_the_manual_page_is_read_without_complaint(tmp_path):
    (tmp_path / "a.1").write_text(page())
    said = subprocess.run(["man", "-l", "--warnings=w", str(tmp_path / "a.1")], capture_output=True, text=True)
    assert said.returncode == 0 and said.stderr == "" and "test-load" in said.stdout


def test_the_desktop_knows_the_files_that_the_program_opens():
    root = etree.fromstring((build.HERE / "nimble-load-mime.xml").read_bytes())
    space = "{http://www.freedesktop.org/standards/shared-mime-info}"
    kinds = {kind.get("type"): kind.find(f"{space}glob").get("pattern") for kind in root}
    suffixes = (session_file.SUFFIX, recording_file.SUFFIX, EXCHANGE_SUFFIX)
    assert set(kinds.values()) == {f"*{suffix}" for suffix in suffixes}
    entry = (build.HERE / "nimble-load.desktop").read_text()
    opened = next(line for line in entry.splitlines() if line.startswith("MimeType=")).removeprefix("MimeType=")
    assert set(opened.strip(";").split(";")) == set(kinds)
    assert "Exec=nimble-load-desktop %f" in entry


@pytest.mark.parametrize(
    ("tool", "file"),
    [(["desktop-file-validate"], "nimble-load.desktop"),
     (["appstreamcli", "validate", "--no-net"], "org.nimbleload.NimbleLoad.metainfo.xml")],
)  # fmt: skip
def test_the_tools_of_the_desktop_have_nothing_to_say(tmp_path, tool, file):
    if shutil.which(tool[0]) is None:
        pytest.skip(f"{tool[0]}: not installed")
    path = tmp_path / file
    path.write_text(build.filled(file))
    said = subprocess.run([*tool, str(path)], capture_output=True, text=True)
    assert said.returncode == 0, said.stdout + said.stderr
    assert "@" not in path.read_text() and (__version__ in path.read_text() or file.endswith(".desktop"))


def test_a_package_holds_what_runs_and_nothing_of_what_tests():
    names = build.needed()
    assert {"click", "numpy", "numba", "llvmlite", "pyside6-essentials", "shiboken6", "cffi"} <= set(names)
    assert "jack-client" in names
    assert not {"pytest", "ruff", "mypy", "hypothesis", "hatchling"} & set(names)
    lock = build.locked(names)
    assert all(f"\n{name}==" in f"\n{lock.lower()}" for name in names)
    assert "pytest==" not in lock and lock.count("--hash=") >= len(names)
    assert "libegl1" in build.runtime_packages() and "python3-venv" not in build.runtime_packages()
    told = build.licences("Ours.")
    assert told.startswith("Ours.") and all(f"  {name} " in told for name in names)
    assert build.changelog().startswith(f"nimble-load ({__version__})")


def test_the_icon_is_drawn_at_every_size(qapp):
    for size in build.SIZES:
        assert build.icon(size).startswith(b"\x89PNG")


def test_completion_is_there_for_three_shells():
    for shell in build.SHELLS:
        assert "nimble" in build.completion(shell)


@pytest.fixture
def unready(tmp_path, monkeypatch):
    monkeypatch.setattr(ready, "stamp", lambda: tmp_path / "cache" / "ready")


def test_a_program_is_ready_once_that_was_noted_and_not_when_it_has_changed(unready, monkeypatch):
    assert not ready.is_ready()
    ready.note()
    assert ready.is_ready()
    monkeypatch.setattr(ready, "digest", lambda: "another")
    assert not ready.is_ready()


def test_the_first_start_says_what_takes_so_long_and_can_be_closed(unready, qtbot, monkeypatch):
    asked = []

    class Process:
        def __init__(self, words, **_):
            asked.append(words[-2:])
            self.left = 3

        def poll(self):
            self.left -= 1
            return None if self.left > 0 else 0

    monkeypatch.setattr(ready.subprocess, "Popen", Process)
    ready.get_ready()
    assert asked == [["nimbleload", "prepare"]]
    # Whoever closes the word does not wait.
    monkeypatch.setattr(Process, "poll", lambda self: None)
    words = []

    def close():
        (label,) = (each for each in QApplication.topLevelWidgets() if each.isVisible())
        words.append(label.text())
        label.close()

    QTimer.singleShot(200, close)
    ready.get_ready()
    assert words == [ready.WORDS]
    ready.note()
    ready.get_ready()
    assert len(asked) == 2


def test_a_place_that_cannot_be_written_is_no_fault(monkeypatch):
    monkeypatch.setattr(ready, "stamp", lambda: build.ROOT / "README.md" / "ready")
    ready.note()
    assert not ready.is_ready()


@pytest.mark.parametrize(("fails_with", "calls", "goes_on"), [
    ("E: Could not get lock /var/lib/apt/lists/lock. It is held by process 9",
     ["update", "update", "update", "install"], True),
    ("E: Unable to fetch some archives", ["update"], False),
])  # fmt: skip
def test_setting_up_waits_for_what_else_installs_packages_and_for_nothing_else(tmp_path, fails_with, calls, goes_on):
    shutil.copy(Path(__file__).parents[1] / "nimble", tmp_path)
    stand_ins = {
        "id": "echo 0", "dpkg-query": "exit 1", "sleep": "", "python3": 'echo "venv: $*" >&2; exit 7',
        "apt-get": f"""echo "$1" >> "{tmp_path}/calls"
            [ "$(wc -l < "{tmp_path}/calls")" -gt 2 ] || {{ echo "{fails_with}" >&2; exit 100; }}""",
    }  # fmt: skip
    for name, does in stand_ins.items():
        (tmp_path / name).write_text(f"#!/bin/sh\n{does}\n")
        (tmp_path / name).chmod(0o755)
    path = {"PATH": f"{tmp_path}:{os.environ['PATH']}"}
    ran = subprocess.run([tmp_path / "nimble", "setup"], env=path, capture_output=True, text=True, check=False)
    assert (tmp_path / "calls").read_text().split() == calls
    assert ("Waiting for another program" in ran.stdout) == goes_on
    assert ("venv: " in ran.stderr) == goes_on
    assert (fails_with in ran.stdout) != goes_on
