"""A whole session built from nothing by keys alone: twelve tracks, two buses and a return with thirty plugins of
Debian's. It is saved, opened again, measured, and loads as the same session in an exchange file written by hand."""

from __future__ import annotations

import msgspec
import pytest
from PySide6.QtWidgets import QApplication, QFileDialog

from nimbleload.core.decisions.decision import Plan
from nimbleload.core.session.computer import Host
from nimbleload.core.survey import survey
from nimbleload.probe import catalogue, session_run
from nimbleload.probe.effort import Effort
from nimbleload.store import dawproject, session_file
from tests.app.edit.test_session_page import answer, begun, press, put_in, rename, strip
from tests.helpers import exchange as x
from tests.helpers.rogue import zam_library

DRUMS, CHOIR = [f"Drum {k}" for k in range(1, 7)], [f"Voice {k}" for k in range(1, 7)]
# What is put into which strip; each of Debian's zam-plugins, as CLAP.
CHAINS = dict.fromkeys(DRUMS, ("ZamEQ2", "ZamGateX2")) | dict.fromkeys(CHOIR, ("ZamEQ2", "ZamCompX2"))
CHAINS |= {"Drums": ("ZamTube", "ZamEQ2"), "Choir": ("ZamCompX2", "ZamGateX2")}
CHAINS |= {"Hall": ("ZamEQ2",), "Main": ("ZamTube",)}
IDS = {name: f"com.zamaudio.{name}" for chain in CHAINS.values() for name in chain}
CLIPS = {name: (4.0 * k, 40.0 + 8 * k) for k, name in enumerate(DRUMS + CHOIR)}
RATE, BUFFER = 48000, 128


@pytest.fixture
def installed(tmp_path, monkeypatch):
    """The plugins that are used here are the ones that are installed."""
    files = [zam_library(name) for name in IDS]
    found = catalogue.catalogue(files, tmp_path / "catalogue")
    monkeypatch.setattr(catalogue, "catalogue", lambda *_, **__: found)
    return found


def go_to(qtbot, window, name):
    """Moves the cursor of the tree to a strip, by keys."""
    view, wanted = window.edit.view, strip(window, name).id
    view.setFocus()
    press(qtbot, view, "Home")
    for _ in window.desk.document.session.strips:
        if window.edit.view.selected() == [wanted]:
            return
        press(qtbot, view, "Down")
    assert window.edit.view.selected() == [wanted]


def lead_to(qtbot, window, name):
    """Chooses where a strip goes, by typing that into the box beside the tree."""
    box = window.edit.inspector.output
    box.setFocus()
    # What is typed right after other letters goes on with their word.
    qtbot.wait(QApplication.keyboardInputInterval() + 50)
    qtbot.keyClicks(box, name)
    assert box.currentText() == name
    window.edit.view.setFocus()


def built(qtbot, window):
    view = window.edit.view
    for keys, name in (("Ctrl+B", "Drums"), ("Ctrl+B", "Choir"), ("Ctrl+R", "Hall")):
        press(qtbot, view, "Home")
        press(qtbot, view, keys)
        rename(qtbot, window, name)
    for bus, names in (("Drums", DRUMS), ("Choir", CHOIR)):
        for number, name in enumerate(names):
            press(qtbot, view, "Ctrl+T")
            rename(qtbot, window, name)
            if not number:
                lead_to(qtbot, window, bus)
    for name, plugins in CHAINS.items():
        for plugin in plugins:
            go_to(qtbot, window, name)
            put_in(qtbot, window, f"{plugin} clap")
    for name, (start, end) in CLIPS.items():
        go_to(qtbot, window, name)
        press(qtbot, view, "Ctrl+L")
        answer(qtbot, window, **{"from": start, "to": end})
    for name in CHOIR:
        go_to(qtbot, window, name)
        press(qtbot, view, "Ctrl+Shift+E")
        answer(qtbot, window, to="Hall", level=-6.0)
    for name, start in (("Verse", 0.0), ("Chorus", 30.0)):
        press(qtbot, view, "Ctrl+Shift+M")
        answer(qtbot, window, name=name, begins=start)


def by_hand(path):
    """The same session as an exchange file; a beat lasts half a second."""

    def channel(name, role="regular", to="", sends=""):
        devices = "".join(x.plugin("ClapPlugin", IDS[plugin], plugin) for plugin in CHAINS[name])
        return x.channel(f"c {name}".replace(" ", "-"), role, to, devices, sends)

    def track(name, *inside, content="audio"):
        return x.track(f"t {name}".replace(" ", "-"), name, *inside, content=content)

    groups = track("Hall", channel("Hall", "effect", "c-Main"))
    for bus, names in (("Drums", DRUMS), ("Choir", CHOIR)):
        sends = x.send("c-Hall", level=0.5011872336272722) if bus == "Choir" else ""
        inside = "".join(track(name, channel(name, to=f"c-{bus}", sends=sends)) for name in names)
        groups += track(bus, channel(bus, "master", "c-Main") + inside, content="tracks")
    arranged = "".join(
        x.lanes(f"t {name}".replace(" ", "-"), x.clip(2 * start, 2 * (end - start)))
        for name, (start, end) in CLIPS.items()
    )
    return x.write(path, x.project(groups + track("Main", channel("Main", "master")), arranged))


def test_it_is_built_saved_measured_and_loads_as_the_one_by_hand(installed, make_window, qtbot, tmp_path, monkeypatch):
    window = begun(qtbot, make_window())
    qtbot.waitUntil(lambda: any(use.plugin.standard == "clap" for use in window.edit.plugins.plugins), timeout=60_000)
    window.edit.view.setFocus()
    built(qtbot, window)
    made = window.desk.document.session
    assert [sum(each.kind == kind for each in made.strips) for kind in ("track", "bus", "return")] == [12, 2, 1]
    assert sum(len(each.inserts) for each in made.strips) == 30
    assert [section.name for section in made.sections] == ["Verse", "Chorus"]
    # Saved, and opened again in another window: equal.
    target = tmp_path / "tune.nimbleload"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(target), ""))
    with qtbot.waitSignal(window.filing.saved, timeout=30_000):
        press(qtbot, window, "Ctrl+S")
    assert session_file.read(target).session == made
    # Measured, and the same load as the exchange file's, to the bit, before and after.
    other = dawproject.read(by_hand(tmp_path / "tune.dawproject")).session
    assert other.rate == made.rate == RATE
    # The file says nothing of how long the piece goes on after the last clip.
    other = msgspec.structs.replace(other, length=made.length)
    cards = {}
    todo = [job._replace(details=False) for job in session_run.jobs(made, {}, (BUFFER,))]
    for step in session_run.run(todo, {}, effort=Effort(1, 0.01, 0.1, 0)):
        cards[step.job.key] = step.card
    assert len(cards) == len(IDS) and all(card.failure is None for card in cards.values())
    assert set(other.cards_needed()) == set(cards)
    loads = [
        survey(msgspec.structs.replace(each, host=Host()), Plan(), cards, window.desk.survey.machine, BUFFER).after
        for each in (made, other)
    ]
    assert loads[0].load.max() > 0
    assert loads[0].times.tolist() == loads[1].times.tolist()
    assert loads[0].load.tobytes() == loads[1].load.tobytes()
    # And back to nothing, step by step, and forth.
    while window.desk.history.undo_step:
        press(qtbot, window, "Ctrl+Z")
    assert len(window.desk.document.session.strips) == 1
    while window.desk.history.redo_step:
        press(qtbot, window, "Ctrl+Shift+Z")
    assert window.desk.document.session == made
