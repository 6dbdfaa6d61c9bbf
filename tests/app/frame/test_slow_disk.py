"""A disk may be slow, and a folder of a network that is gone: the window's own thread waits for neither."""

from __future__ import annotations

import os
import sys
import threading
from contextlib import contextmanager
from pathlib import Path

import platformdirs
import pytest
from PySide6.QtCore import QCoreApplication, QEvent
from PySide6.QtWidgets import QFileDialog

from nimbleload.app.frame import remembered
from nimbleload.app.frame.remembered import Remembered
from nimbleload.app.frame.window import START, WATCH
from nimbleload.app.look.notice import written
from nimbleload.probe import catalogue
from tests.helpers.host import Host, Plugin

TOLD = {"open", "os.rename", "os.remove", "os.mkdir", "os.rmdir", "os.listdir", "os.scandir", "os.link", "os.truncate"}
watched: list[tuple[Path, ...]] = []
touched: list[str] = []


def note(what: str, path: object) -> None:
    """Notes what the window's thread does itself to a file in the folders that are watched."""
    if watched and threading.current_thread() is threading.main_thread() and isinstance(path, (str, bytes, Path)):
        name = Path(os.fsdecode(path))
        if any(folder in (name, *name.parents) for folder in watched[-1]):
            touched.append(f"{what} {name.name}")


sys.addaudithook(lambda event, of: note(event, of[0]) if event in TOLD and watched else None)


@pytest.fixture
def by_window(tmp_path, monkeypatch):
    """What the window's thread has done to the user's files while it was watched."""

    def noted(name, usual):
        return lambda path, *more, **named: (note(name, path), usual(path, *more, **named))[1]

    for name in ("stat", "lstat", "access"):
        monkeypatch.setattr(os, name, noted(name, getattr(os, name)))

    class Settings(remembered.QSettings):
        def __init__(self, path, *rest):
            note("settings", path)
            super().__init__(path, *rest)

    monkeypatch.setattr(remembered, "QSettings", Settings)
    dirs = [getattr(platformdirs, f"user_{each}_dir")("nimble-load") for each in ("config", "state", "data", "cache")]

    @contextmanager
    def watching():
        touched.clear()
        watched.append((tmp_path, *map(Path, dirs)))
        try:
            yield touched
        finally:
            watched.pop()

    return watching


def test_what_is_done_to_files_is_noted_at_all(by_window, tmp_path):
    with by_window() as found:
        (tmp_path / "a").write_text("x")
        (tmp_path / "a").exists()
        Remembered(tmp_path / "window.ini")
        (tmp_path / "a").rename(tmp_path / "b")
        Path("/proc/self/stat").read_text()
    assert found == ["open a", "stat a", "settings window.ini", "os.rename a"]


def test_whatever_is_chosen_saved_and_written_the_window_touches_no_file_itself(
    example, by_window, qtbot, settled, tmp_path, monkeypatch
):
    chosen = {"path": ""}
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (chosen["path"], ""))
    strip = example.desk.document.session.strips[3]
    with by_window() as found:
        example.choose_theme("paper")
        example.scale_text(1)
        example.hints.close("Balance")
        settled(example, lambda: example.desk.pin([strip.id], True))
        example._keep_copy()
        chosen["path"] = str(tmp_path / "mix.nimbleload")
        with qtbot.waitSignal(example.filing.saved, timeout=30_000):
            example.save()
        for path, ask in (
            ("plan.html", example.deciding.ask_report), ("block.svg", example.balance.block.ask_drawing),
        ):
            chosen["path"] = str(tmp_path / path)
            with qtbot.waitSignal(written.told, timeout=60_000):
                ask()
        with qtbot.waitSignal(example.desk.opened, timeout=60_000):
            example.open_path(tmp_path / "mix.nimbleload")
        example.fill_recent()
        example.go(START)
        example.close()
        example.shut_down()
    assert found == []
    assert Remembered(tmp_path / "window.ini").recent == [tmp_path / "mix.nimbleload"]
    example.choose_theme("night")


def test_looking_for_hosts_and_watching_one_reads_nothing_in_the_window(make_window, by_window, qtbot, tmp_path):
    catalogue.cache_file().parent.mkdir(parents=True, exist_ok=True)
    window = make_window()
    (tmp_path / "host").mkdir()
    with Host(tmp_path / "host", [Plugin("small", 60_000)], 5_333_333, 4000, real_time=False), by_window() as found:
        window.go(WATCH)
        with qtbot.waitSignal(window.watching.found, timeout=60_000):
            window.watching.look()
        qtbot.waitUntil(lambda: bool(window.watch.chosen), timeout=30_000)
        window.watching.show_example()
        qtbot.waitUntil(lambda: window.watch.shown is not None, timeout=60_000)
        QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
    assert found == []


def test_a_folder_that_does_not_answer_holds_nothing_up(make_window, qtbot, tmp_path, monkeypatch):
    """What was open lately lies on a network that is gone: the page is there at once, and the file is offered."""
    lost, answers = tmp_path / "share" / "mix.nimbleload", threading.Event()
    Remembered(tmp_path / "window.ini").add_recent(lost)
    usual = Path.exists
    monkeypatch.setattr(Path, "exists", lambda path: (answers.wait(60) if path == lost else None, usual(path))[1])
    window = make_window()
    window.go(START)
    assert [button.text() for button in window.start.recent] == [f"mix.nimbleload   {lost.parent}"]
    answers.set()
    qtbot.waitUntil(lambda: not window.start.recent, timeout=30_000)


def test_what_was_chosen_and_cannot_be_written_holds_until_the_end_and_is_logged(tmp_path, caplog):
    (tmp_path / "no folder").write_text("")
    choices = Remembered(tmp_path / "no folder" / "window.ini")
    choices.theme = "paper"
    choices.flush()
    assert choices.theme == "paper"
    assert "what was chosen (theme) was not written to" in caplog.text.lower()
    assert "it is forgotten at the end" in caplog.text.lower()
