"""The guide: every page can be reached, every link and picture is there, every command and word in it exists."""

from __future__ import annotations

import re

import pytest
from click.testing import CliRunner
from PySide6.QtCore import Qt, QUrl
from PySide6.QtGui import QDesktopServices

from nimbleload import __version__
from nimbleload.app.frame import help as guide
from nimbleload.app.frame.about import MADE_OF, About, licence_of
from nimbleload.app.frame.help import PAGES, Help, folder, found_in, page_text
from nimbleload.app.frame.menus import PLACES
from nimbleload.shell import cli

LINK = re.compile(r"(!?)\[[^]]*\]\(([^)]*)\)")


@pytest.fixture
def opened(qtbot):
    dialog = Help("Watch")
    qtbot.addWidget(dialog)
    dialog.show()
    return dialog


def test_every_place_has_its_page_and_every_file_is_one():
    assert {name for name, _ in PLACES} <= set(PAGES)
    assert {path.stem for path in folder().glob("*.md")} == set(PAGES.values())


@pytest.mark.parametrize("name", PAGES)
def test_every_link_and_picture_of_a_page_is_there(name):
    for picture, target in LINK.findall(page_text(name)):
        path = (folder() / target).resolve()
        assert path.is_file(), f"{name}: {target}"
        assert not picture or path.suffix == ".png"


def test_every_page_is_reached_from_the_first():
    met, waiting = set(), ["index"]
    while waiting:
        page = waiting.pop()
        if page not in met:
            met.add(page)
            text = (folder() / f"{page}.md").read_text()
            waiting += [target.removesuffix(".md") for _, target in LINK.findall(text) if "/" not in target]
    assert met == set(PAGES.values())


def test_keys_that_the_guide_names_are_the_windows(make_window):
    window = make_window()
    known = {action.shortcut().toString() for action in [*window.commands(), *window.edit.actions()]}
    known |= {action.shortcut().toString() for action in window.edit.view.actions()}
    named = {key for name in PAGES for key in re.findall(r"\*\*(Ctrl\+(?:Shift\+)?[A-Z])\*\*", page_text(name))}
    assert named and named <= known, named - known


def test_links_lead_to_pages_and_out_of_the_guide_to_the_system(opened, monkeypatch):
    assert opened.page == "Watch" and "What does a host really do" in opened.text.toPlainText()
    opened.follow(QUrl("crackles.md"))
    assert opened.page == "Why does it crackle?"
    asked = []
    monkeypatch.setattr(QDesktopServices, "openUrl", lambda url: asked.append(url.toLocalFile()))
    opened.follow(QUrl("../measuring.md"))
    assert asked == [str((folder().parent / "measuring.md").resolve())] and opened.page == "Why does it crackle?"


def test_every_page_fits_the_width_of_the_guide(opened):
    for page in PAGES:
        opened.choose(page)
        assert opened.text.document().size().width() <= opened.text.viewport().width() + 1


def test_a_page_is_laid_out_as_a_whole_and_not_for_each_paragraph(opened):
    changes = []
    opened.text.document().contentsChanged.connect(lambda: changes.append(1))
    opened.choose("Every figure")
    assert opened.text.document().blockCount() > 50 and len(changes) <= 3


def test_words_are_searched_for_in_all_pages(opened, qtbot):
    qtbot.keyClicks(opened.search, "wilson looks")
    assert [opened.pages.item(row).text() for row in range(opened.pages.count())] == ["Every figure"]
    assert opened.page == "Every figure" and opened.text.textCursor().selectedText().lower() == "wilson"
    qtbot.keyClicks(opened.search, " nobodywrotethis")
    assert opened.pages.count() == 0 and opened.page == ""
    assert "No page holds" in opened.text.toPlainText()
    opened.search.clear()
    assert opened.pages.count() == len(PAGES)
    assert found_in("MACHINE find ceiling")[0] == "Why does it crackle?"


def test_a_page_that_cannot_be_read_is_a_sentence(monkeypatch, tmp_path):
    monkeypatch.setattr(guide, "folder", lambda: tmp_path)
    assert "This page cannot be read" in page_text("Watch")


def test_the_guide_is_written_as_pages_for_a_browser(tmp_path):
    said = CliRunner().invoke(cli, ["guide", "--to", str(tmp_path / "out")])
    assert said.exit_code == 0, said.output
    pages = {path.stem: path.read_text() for path in (tmp_path / "out").glob("*.html")}
    assert set(pages) == set(PAGES.values())
    for text in pages.values():
        for target in re.findall(r'href="([^":]*\.html)"', text):
            assert target.removesuffix(".html") in pages
        for picture in re.findall(r'src="([^"]*)"', text):
            assert (tmp_path / "out" / picture).is_file()
    (tmp_path / "file").write_text("")
    refused = CliRunner().invoke(cli, ["guide", "--to", str(tmp_path / "file" / "out")])
    assert refused.exit_code == 1 and "cannot be written" in refused.output


def test_about_says_the_version_and_every_licence(qtbot, make_window):
    window = make_window()
    action = next(each for each in window.commands() if "About Nimble Load" in each.text().replace("&", ""))
    action.trigger()
    dialog = window.findChild(About)
    qtbot.waitUntil(dialog.isVisible)
    said = dialog.findChild(type(Help("Watch").text)).toPlainText()
    assert __version__ in said and all(name in said for name in MADE_OF)
    assert all("not installed" not in licence_of(name) for name in MADE_OF)
    assert licence_of("nobody-has-this") == "not installed"
    qtbot.keyClick(dialog, Qt.Key.Key_Escape)
