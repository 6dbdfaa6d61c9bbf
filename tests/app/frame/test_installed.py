"""The plugins installed here, in the real dialog, with search folders of the test's own."""

from __future__ import annotations

import threading

import pytest

from nimbleload.app.frame.installed import InstalledDialog
from nimbleload.probe import catalogue
from tests.helpers import known


@pytest.fixture
def folders(tmp_path, monkeypatch):
    """A plugin in two standards, and a file that is none."""
    for standard in ("ladspa", "clap", "vst3", "lv2"):
        monkeypatch.setenv(f"{standard.upper()}_PATH", str(tmp_path / standard))
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    for standard in ("ladspa", "clap"):
        if known.build(tmp_path, standard) is None:
            pytest.skip("no C compiler to build the test plugins with")
    (tmp_path / "clap" / "broken.clap").write_bytes(b"no plugin")
    return tmp_path


@pytest.fixture
def dialog(folders, example, qtbot):
    for action in example.commands():
        if action.text() == "&Plugins installed here…":
            action.trigger()
    found = example.findChild(InstalledDialog)
    assert found is not None
    qtbot.waitUntil(lambda: found.table.rowCount() >= 2, timeout=120_000)
    found.words.setText("known tests")  # what else this computer has is not ours
    return found


def rows(dialog) -> list[tuple[str, ...]]:
    return [
        tuple(dialog.table.item(r, c).text() for c in range(dialog.table.columnCount()))
        for r in range(dialog.table.rowCount())
    ]


def test_it_lists_what_is_installed_and_marks_a_guessed_family(dialog):
    found = rows(dialog)
    assert [(row[0], row[2]) for row in found] == [("Known", "CLAP"), ("Known", "LADSPA")]
    assert all("guessed" in row[3] for row in found if row[2] == "LADSPA")
    assert dialog.count.text().startswith("2 of ")


def test_words_standard_and_family_narrow_it_down(dialog):
    dialog.words.setText("known 77:")
    assert [row[4] for row in rows(dialog)] == ["77:known"]
    dialog.words.setText("known tests")
    dialog.standard.setCurrentText("CLAP")
    assert [row[2] for row in rows(dialog)] == ["CLAP"]
    dialog.standard.setCurrentIndex(0)
    dialog.family.setCurrentText("reverb")
    assert rows(dialog) == []
    assert dialog.count.text().startswith("0 of ")


def test_a_file_that_cannot_be_read_is_told_and_looked_into_again_on_request(dialog, folders, qtbot):
    assert "broken.clap" in dialog.failures.toPlainText()
    (folders / "clap" / "broken.clap").unlink()
    dialog.retry.click()
    qtbot.waitUntil(lambda: "broken" not in dialog.failures.toPlainText(), timeout=60_000)
    assert "could not be read" not in dialog.count.text()
    assert len(rows(dialog)) == 2


def test_it_is_gone_once_it_is_closed_also_while_it_looks(folders, example, qtbot, monkeypatch):
    go_on = threading.Event()
    monkeypatch.setattr(catalogue, "catalogue", lambda *_, **__: (go_on.wait(10), [])[1])
    action = next(a for a in example.commands() if a.text() == "&Plugins installed here…")
    action.trigger()
    found = example.findChild(InstalledDialog)
    thread = found._thread
    found.reject()
    qtbot.waitUntil(lambda: example.findChild(InstalledDialog) is None, timeout=10_000)
    go_on.set()
    qtbot.waitUntil(lambda: not thread.is_alive(), timeout=10_000)
    qtbot.wait(50)
