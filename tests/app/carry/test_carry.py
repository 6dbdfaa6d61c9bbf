"""Carrying a plan out in the real window, from an exchange file to a changed one."""

from __future__ import annotations

import threading
from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import QDesktopServices
from PySide6.QtWidgets import QDialogButtonBox, QFileDialog, QMessageBox

from nimbleload.app.carry import carrying_out
from nimbleload.app.carry.job_table import LEVEL, PROOF, SIZE, STANDS, TAKES
from nimbleload.app.carry.stems_dialog import StemsDialog
from nimbleload.app.frame.window import BALANCE, CARRY, PROVE
from nimbleload.app.look.restore_view import RestoreView
from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.session import edits
from nimbleload.deliver import render
from nimbleload.demo import audio as audio_of_the_example
from nimbleload.store import dawproject, session_file
from nimbleload.store.session_file import Saved
from tests.deliver import test_sharing
from tests.deliver.test_stems import a_mix
from tests.helpers import exchange as x
from tests.helpers import stems
from tests.helpers.sessions import session, track
from tests.helpers.stems import audio


@pytest.fixture
def window(make_window, qtbot, tmp_path):
    """A window with a small exchange file open, two tracks of audio in it."""
    source = stems.written(
        tmp_path / "mix.dawproject", x.clip(0, 2, audio()),
        more=x.lanes("u", x.clip(0, 1, audio()), unit="seconds"),
    )  # fmt: skip
    found = make_window()
    look(found, qtbot, source)
    return found


def look(window, qtbot, path):
    """Opens a session and goes to see what there is to do."""
    with qtbot.waitSignal(window.desk.recomputed, timeout=60_000):
        window.open_path(path)
    with qtbot.waitSignal(window.carrying.prepared, timeout=60_000):
        window.go(CARRY)


def decide(window, qtbot, *decisions):
    with qtbot.waitSignal(window.carrying.prepared, timeout=60_000):
        window.desk.decide("freeze", list(decisions))


def cells(page, column):
    return [page.table.item(row, column).text() for row in range(page.table.rowCount())]


def state(window):
    return window.places.buttons[CARRY].state


def rendered(window, qtbot):
    with qtbot.waitSignal(window.carrying.ended, timeout=60_000):
        qtbot.mouseClick(window.carry.sentence.button, Qt.MouseButton.LeftButton)


def test_without_a_plan_it_says_where_one_comes_from(window, qtbot):
    qtbot.waitUntil(lambda: state(window) == "no plan", timeout=30_000)
    assert window.carry.sentence.headline.text() == "There is no plan to carry out yet."
    assert not window.carry.sentence.button.isVisible()


def test_what_there_is_to_do_is_looked_for_once_somebody_comes_to_see_it(window, qtbot, monkeypatch):
    """The exchange file is read for it: after every decision on another page it made the window late."""
    looked, usual = [], carrying_out.carrying.prepare
    monkeypatch.setattr(carrying_out.carrying, "prepare", lambda *asked: (looked.append(asked[1]), usual(*asked))[1])
    window.go(BALANCE)
    for through in (0, 1):
        with qtbot.waitSignal(window.desk.recomputed, timeout=60_000):
            window.desk.decide("freeze", [Decision("freeze", "t", through=through)])
    qtbot.wait(100)
    assert looked == [] and state(window) == "plan"
    with qtbot.waitSignal(window.carrying.prepared, timeout=60_000):
        window.go(CARRY)
    assert looked == [window.desk.document.plan] and state(window) == "1 to do"
    # Seen once, it is known: nothing is looked for again until something changes, nor when that is taken back.
    window.go(BALANCE)
    more = [Decision("freeze", "u")]
    for change, word in ((lambda: window.desk.decide("more", more), "plan"), (window.desk.undo, "1 to do")):
        with qtbot.waitSignal(window.desk.recomputed, timeout=60_000):
            change()
        assert state(window) == word
    window.go(CARRY)
    qtbot.wait(100)
    assert len(looked) == 1 and state(window) == "1 to do"


def test_of_many_changes_in_a_row_the_last_is_looked_at_and_no_two_at_a_time(window, qtbot, monkeypatch):
    gate, looked, usual = threading.Event(), [], carrying_out.carrying.prepare

    def prepare(*asked):
        looked.append(asked[1].decisions[0].through)
        gate.wait(60)
        return usual(*asked)

    monkeypatch.setattr(carrying_out.carrying, "prepare", prepare)
    for through in (0, 1, 0, 1):
        with qtbot.waitSignal(window.desk.recomputed, timeout=60_000):
            window.desk.decide("freeze", [Decision("freeze", "t", through=through)])
    with qtbot.waitSignal(window.carrying.prepared, timeout=60_000):
        gate.set()
    assert looked == [0, 1]


def test_while_it_is_worked_out_what_there_is_to_do_it_is_not_said_that_there_is_no_plan(window, qtbot, monkeypatch):
    """The example's audio is made first, which can take a while."""
    gate, usual = threading.Event(), carrying_out.carrying.prepare
    monkeypatch.setattr(carrying_out.carrying, "prepare", lambda *asked: (gate.wait(60), usual(*asked))[1])
    with qtbot.waitSignal(window.desk.recomputed, timeout=60_000):
        window.desk.decide("freeze", [Decision("freeze", "t")])
    qtbot.waitUntil(lambda: state(window) == "…", timeout=30_000)
    assert window.carry.sentence.headline.text() == "Working out what there is to do…"
    gate.set()
    qtbot.waitUntil(lambda: state(window) == "1 to do", timeout=30_000)
    assert window.carry.sentence.headline.text() != "Working out what there is to do…"


def test_a_plan_is_rendered_proven_and_written(window, qtbot, tmp_path, monkeypatch):
    page = window.carry
    decide(window, qtbot, Decision("freeze", "t"), Decision("freeze", "u"))
    assert cells(page, 0) == ["Voice", "Other"] and cells(page, STANDS) == ["to render"] * 2
    assert state(window) == "2 to do"
    assert page.back.count() == 2 and page.back.isVisible()
    rendered(window, qtbot)
    assert page.sentence.headline.text() == "Both tracks are rendered."
    assert all("the same, to the sample" in each for each in cells(page, PROOF))
    assert state(window) == "done"
    assert sorted(path.suffix for path in (tmp_path / "mix carried out").iterdir()) == [
        ".json",
        ".json",
        ".wav",
        ".wav",
    ]
    target = tmp_path / "new"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(target), ""))
    with qtbot.waitSignal(window.carrying.wrote, timeout=60_000):
        qtbot.mouseClick(page.write, Qt.MouseButton.LeftButton)
    assert str(target) in page.news.text()
    assert [len(s.clips) for s in dawproject.read(target.with_suffix(".dawproject")).session.strips[:2]] == [1, 1]


def test_what_was_rendered_is_played_from_its_file_when_the_plan_is_proven(window, qtbot):
    decide(window, qtbot, Decision("freeze", "t"))
    rendered(window, qtbot)
    page = window.prove
    window.go(PROVE)
    page.seconds.setValue(1)
    with qtbot.waitSignal(page.rehearsing.ended, timeout=120_000):
        qtbot.mouseClick(page.sentence.button, Qt.MouseButton.LeftButton)
    assert "1 rendered track was played from its file, as a host does" in page.words.text()
    with qtbot.waitSignal(page.rehearsing.ended, timeout=120_000):
        qtbot.mouseClick(page.without, Qt.MouseButton.LeftButton)
    assert len(page.blocks.figures()) > len(page.outcome.loads) + 1
    assert "Without the plan they took" in page.sentence.advice.text()


def write(window, qtbot, monkeypatch, target):
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(target), ""))
    with qtbot.waitSignal(window.carrying.ended, timeout=60_000):
        qtbot.mouseClick(window.carry.write, Qt.MouseButton.LeftButton)


def test_the_mix_of_what_was_written_is_proven(window, qtbot, tmp_path, monkeypatch):
    page = window.carry
    decide(window, qtbot, Decision("freeze", "t"))
    rendered(window, qtbot)
    # Before there is a changed session, nothing of it can be proven.
    assert page.sentence.button.text() != "Prove the mix"
    write(window, qtbot, monkeypatch, tmp_path / "new.dawproject")
    assert page.sentence.button.text() == "Prove the mix" and page.table.rowCount() == 1
    rendered(window, qtbot)
    assert page.sentence.headline.text() == "The mix sounds the same as before."
    assert "The track is rendered." in page.sentence.advice.text() and not page.sentence.button.isVisible()
    assert cells(page, 0) == ["Voice", "Mix before and after"]
    assert cells(page, PROOF)[1] == "the mix sounds the same, to the sample" and cells(page, STANDS)[1] == "compared"
    # Written anew, it is another one; with another plan there is none.
    write(window, qtbot, monkeypatch, tmp_path / "again.dawproject")
    assert page.table.rowCount() == 1 and page.sentence.button.text() == "Prove the mix"
    decide(window, qtbot, Decision("freeze", "u"))
    assert page.written is None and page.sentence.button.text() == "Render the rest"


def test_all_that_is_left_to_do_by_hand_can_be_read(window, qtbot, tmp_path, monkeypatch):
    window.desk.edit("add", edits.add(window.desk.document.session, "bus", "New", 20))
    decide(window, qtbot, Decision("freeze", "t"))
    rendered(window, qtbot)
    write(window, qtbot, monkeypatch, tmp_path / "new.dawproject")
    assert window.carry.news.text().endswith(
        "Left to do by hand: new here, and not in the file: New 1; new here, and not in the file: New 2; new here, and "
        "not in the file: New 3; and 17 more lines."
    )
    (box,) = [each for each in window.findChildren(QMessageBox) if each.isVisible()]
    assert box.detailedText().splitlines() == [f"new here, and not in the file: New {k + 1}" for k in range(20)]
    assert len(box.informativeText().splitlines()) == 12
    qtbot.mouseClick(box.button(QMessageBox.StandardButton.Ok), Qt.MouseButton.LeftButton)


def test_a_shared_bus_is_heard_in_the_mix_once_that_can_be_proven(make_window, qtbot, tmp_path, monkeypatch):
    window = make_window()
    look(window, qtbot, test_sharing.mix(tmp_path / "mix.dawproject", test_sharing.EQ))
    strips = [strip for strip in window.desk.document.session.strips if strip.inserts]
    with qtbot.waitSignal(window.carrying.prepared, timeout=60_000):
        window.desk.decide("share", [Decision("share", s.id, s.inserts[0].id, into="bus1") for s in strips])
    page = window.carry
    assert page.sentence.button.text() == "Prove the sharing"
    write(window, qtbot, monkeypatch, tmp_path / "new.dawproject")
    assert page.sentence.button.text() == "Prove the mix"
    rendered(window, qtbot)
    assert cells(page, STANDS) == ["to prove, on 2 tracks", "compared"]
    assert page.sentence.button.text() == "Prove the sharing"
    rendered(window, qtbot)
    assert cells(page, STANDS) == ["compared"] * 2 and "sharing sounds the same" in cells(page, PROOF)[0]


def test_a_mix_that_sounds_otherwise_is_said_and_what_differs_is_played(window, qtbot, tmp_path, monkeypatch):
    opened = []
    monkeypatch.setattr(QDesktopServices, "openUrl", lambda url: opened.append(Path(url.toLocalFile()).name))
    page = window.carry
    decide(window, qtbot, Decision("off", "t"))
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(tmp_path / "new"), ""))
    rendered(window, qtbot)
    assert page.sentence.button.text() == "Prove the mix"
    rendered(window, qtbot)
    assert "sounds different" in page.sentence.headline.text()
    (words,) = cells(page, PROOF)
    assert words.startswith("the mix sounds different: −") and cells(page, LEVEL)[0].endswith("dBFS")
    assert "; before it is at −" in words and " LUFS, after at −" in words
    page.table.selectRow(0)
    for button in (page.hear_before, page.hear_after, page.hear_left):
        qtbot.mouseClick(button, Qt.MouseButton.LeftButton)
    assert opened == ["Mix before.wav", "Mix after.wav", "Mix before and after difference.wav"]
    assert not page.listen.isVisible()
    # It can be written again, elsewhere.
    assert page.sentence.button.text() == page.write.text()


def test_only_the_chosen_one_is_rendered_and_its_size_told(window, qtbot, tmp_path):
    page = window.carry
    decide(window, qtbot, Decision("freeze", "t"), Decision("freeze", "u"))
    assert cells(page, TAKES) == ["1 s"] * 2 and cells(page, SIZE) == ["", ""] and not page.only.isVisible()
    assert "Rendering and proving takes about 1 s." in page.sentence.advice.text()
    page.table.selectRow(1)
    with qtbot.waitSignal(window.carrying.ended, timeout=60_000):
        qtbot.mouseClick(page.only, Qt.MouseButton.LeftButton)
    assert cells(page, STANDS) == ["to render", "rendered"]
    (made,) = (tmp_path / "mix carried out").glob("*.wav")
    assert cells(page, SIZE) == ["", f"{made.stat().st_size / 1e6:.1f} MB"]
    # What is through, and what is the only one left, needs no such button.
    assert not page.only.isVisible()
    page.table.selectRow(0)
    assert not page.only.isVisible() and page.sentence.button.text() == "Render the rest"


def with_three_freezes(make_window, qtbot, folder):
    """A window on Carry out, with three long tracks to be frozen."""
    found = make_window()
    stems.three_freezes(folder, 120)
    look(found, qtbot, folder / "mix.nimbleload")
    return found


def test_it_stands_still_when_asked_and_goes_on(make_window, qtbot, tmp_path):
    window = with_three_freezes(make_window, qtbot, tmp_path)
    page = window.carry
    qtbot.waitUntil(lambda: state(window) == "3 to do", timeout=60_000)
    assert not page.pause.isVisible()
    qtbot.mouseClick(page.sentence.button, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: any("renders" in each for each in cells(page, STANDS)), timeout=60_000)
    assert " left." in page.sentence.advice.text() or "Finding out how long" in page.sentence.advice.text()
    qtbot.mouseClick(page.pause, Qt.MouseButton.LeftButton)
    assert page.pause.text() == "Go on" and state(window) == "paused"
    assert page.sentence.advice.text().startswith("It stands still.")
    qtbot.wait(1000)
    before = cells(page, STANDS)
    qtbot.wait(500)
    assert cells(page, STANDS) == before and window.carrying.is_running
    with qtbot.waitSignal(window.carrying.ended, timeout=120_000):
        qtbot.mouseClick(page.pause, Qt.MouseButton.LeftButton)
    assert cells(page, STANDS) == ["rendered"] * 3 and not page.pause.isVisible()
    assert state(window) == "done"


def test_what_stands_still_can_be_stopped(make_window, qtbot, tmp_path):
    window = with_three_freezes(make_window, qtbot, tmp_path)
    page = window.carry
    # Nothing is at work: nothing can stand still.
    window.carrying.pause(True)
    assert not window.carrying.is_paused
    qtbot.waitUntil(lambda: state(window) == "3 to do", timeout=60_000)
    qtbot.mouseClick(page.sentence.button, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: any("renders" in each for each in cells(page, STANDS)), timeout=60_000)
    qtbot.mouseClick(page.pause, Qt.MouseButton.LeftButton)
    with qtbot.waitSignal(window.carrying.ended, timeout=60_000):
        qtbot.mouseClick(page.stop, Qt.MouseButton.LeftButton)
    assert cells(page, STANDS) == ["ended early"] * 3


def test_why_a_mix_cannot_be_proven_stands_in_its_row(window, qtbot, tmp_path, monkeypatch):
    page = window.carry
    decide(window, qtbot, Decision("off", "t"))
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(tmp_path / "new"), ""))
    rendered(window, qtbot)
    (tmp_path / "new.dawproject").unlink()
    rendered(window, qtbot)
    assert cells(page, STANDS) == ["not proven"] and "cannot be read" in cells(page, PROOF)[0]
    assert page.sentence.button.text() == "Prove the mix"


def test_while_another_session_is_computed_nothing_of_the_last_one_is_shown(window, qtbot, tmp_path, monkeypatch):
    decide(window, qtbot, Decision("freeze", "t"))
    assert window.carry.table.rowCount() == 1
    other = tmp_path / "other.nimbleload"
    session_file.write(other, Saved(session(track("voice"))))
    monkeypatch.setattr(QMessageBox, "question", lambda *_: QMessageBox.StandardButton.Discard)
    with qtbot.waitSignal(window.desk.opened, timeout=60_000):
        window.open_path(other)
    for page in (window.carry, window.prove):
        assert page.sentence.headline.text() == "Computing the load…"
    assert window.carry.table.rowCount() == 0 and not window.carry.sentence.button.isVisible()
    qtbot.waitUntil(lambda: "no plan to carry out" in window.carry.sentence.headline.text(), timeout=60_000)
    # The same session again is looked through again.
    with qtbot.waitSignal(window.carrying.prepared, timeout=60_000):
        window.open_path(other)


def test_the_original_is_not_written_over(window, qtbot, tmp_path, monkeypatch):
    decide(window, qtbot, Decision("freeze", "t"))
    rendered(window, qtbot)
    before = (tmp_path / "mix.dawproject").read_bytes()
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(tmp_path / "mix.dawproject"), ""))
    with qtbot.waitSignal(window.carrying.failed, timeout=60_000):
        qtbot.mouseClick(window.carry.write, Qt.MouseButton.LeftButton)
    assert "never changed" in window.carry.news.text()
    assert (tmp_path / "mix.dawproject").read_bytes() == before


def test_a_chosen_file_is_played_and_shown_in_its_folder(window, qtbot, monkeypatch):
    opened = []
    monkeypatch.setattr(QDesktopServices, "openUrl", lambda url: opened.append(url.toLocalFile()))
    page = window.carry
    decide(window, qtbot, Decision("freeze", "t"))
    assert not page.listen.isVisible()
    rendered(window, qtbot)
    page.table.selectRow(0)
    assert page.listen.isEnabled()
    qtbot.mouseClick(page.listen, Qt.MouseButton.LeftButton)
    qtbot.mouseClick(page.show_folder, Qt.MouseButton.LeftButton)
    assert opened[0].endswith(".wav") and opened[1].endswith("mix carried out")


def test_a_job_that_ends_early_says_why_and_can_be_tried_again(window, qtbot, monkeypatch):
    decide(window, qtbot, Decision("freeze", "t"))
    real = render.audio.write

    def full(*_, **__):
        raise render.AudioError("no space left")

    monkeypatch.setattr(render.audio, "write", full)
    rendered(window, qtbot)
    page = window.carry
    assert cells(page, STANDS) == ["ended early"] and "no space left" in cells(page, PROOF)[0]
    assert "1 ended early" in page.sentence.headline.text()
    monkeypatch.setattr(render.audio, "write", real)
    rendered(window, qtbot)
    assert page.sentence.headline.text() == "The track is rendered."


def test_another_plan_is_another_list(window, qtbot, tmp_path):
    decide(window, qtbot, Decision("freeze", "t"))
    rendered(window, qtbot)
    decide(window, qtbot, Decision("freeze", "u"))
    # What is there already is found at once, with its level and proof, and only the rest is rendered.
    page = window.carry
    assert cells(page, STANDS) == ["there already", "to render"] and cells(page, LEVEL)[0].startswith("−")
    assert cells(page, PROOF)[0].startswith("the same")
    assert page.sentence.headline.text() == "1 of 2 tracks is rendered."
    assert page.sentence.button.text() == "Render the rest"
    rendered(window, qtbot)
    assert cells(page, STANDS) == ["there already", "rendered"]
    # They were proven to be the same at two block sizes.
    with qtbot.waitSignal(window.carrying.prepared, timeout=60_000):
        qtbot.keyClick(window, "]")
    assert cells(page, STANDS) == ["there already"] * 2 and page.listen.isVisible()
    # Another program has written the file since.
    wave = stems.wave(stems.noise(seed=9))
    stems.written(tmp_path / "mix.dawproject", x.clip(0, 2, audio()), files={"audio/a.wav": wave},
                  more=x.lanes("u", x.clip(0, 1, audio()), unit="seconds"))  # fmt: skip
    with qtbot.waitSignal(window.carrying.prepared, timeout=60_000):
        qtbot.keyClick(window, "]")
    assert cells(page, STANDS) == ["to render again"] * 2
    assert "of other settings, audio or plugins" in cells(page, PROOF)[0]
    assert page.sentence.button.text() == "Render" and not page.listen.isVisible()


def test_what_was_rendered_before_a_restart_can_be_listened_to_and_written(window, make_window, qtbot, tmp_path):
    decide(window, qtbot, Decision("freeze", "t"))
    rendered(window, qtbot)
    saved = tmp_path / "kept.nimbleload"
    of = window.desk.document
    session_file.write(saved, Saved(of.session, of.plan, buffer=of.buffer))
    again = make_window()
    look(again, qtbot, saved)
    assert cells(again.carry, STANDS) == ["there already"] and state(again) == "done"
    again.carry.table.selectRow(0)
    assert again.carry.listen.isEnabled() and again.carry.write.isVisible()


def test_the_restore_list_is_ticked_off_here_too(window, qtbot, settled):
    decide(window, qtbot, Decision("freeze", "t"))
    item = window.carry.back.item(0)
    line = item.text()
    settled(window, lambda: item.setCheckState(Qt.CheckState.Checked))
    assert window.desk.document.plan.put_back == (line,)


def test_long_lines_of_the_restore_list_go_on_below_and_none_is_cut(qtbot):
    view = RestoreView()
    qtbot.addWidget(view)
    view.resize(400, 300)
    view.show()
    view.show_lines(["Short.", f"Put Vault back on 30 tracks ({', '.join(f'Track {k}' for k in range(30))})."], [])
    short, long = (view.visualItemRect(view.item(k)) for k in range(2))
    assert long.height() > 2 * short.height() and long.right() <= view.viewport().width()
    view.resize(800, 300)
    qtbot.waitUntil(lambda: view.visualItemRect(view.item(1)).height() < long.height())


def test_a_session_without_audio_says_so(make_window, qtbot, tmp_path):
    path = tmp_path / "made here.nimbleload"
    session_file.write(path, Saved(session(track("t")), Plan((Decision("freeze", "t"),))))
    window = make_window()
    look(window, qtbot, path)
    assert window.carry.sentence.headline.text() == "Nothing can be rendered here."
    assert "comes from no exchange file" in window.carry.sentence.advice.text()
    assert state(window) == "by hand"


def test_what_was_made_here_goes_beside_the_file_that_it_is_saved_as(make_window, qtbot, tmp_path, monkeypatch):
    first, other = tmp_path / "made here.nimbleload", tmp_path / "another.nimbleload"
    session_file.write(first, Saved(session(track("t")), Plan((Decision("off", "t"),))))
    window = make_window()
    look(window, qtbot, first)
    assert window.carry.prepared.beside == first
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(other), ""))
    with qtbot.waitSignal(window.carrying.prepared, timeout=60_000):
        window.ask_save()
    assert window.carry.prepared.beside == other


def test_the_example_has_audio_of_its_own(make_window, qtbot, monkeypatch):
    """Made in a process of its own: this one has a window to draw."""
    monkeypatch.setattr(audio_of_the_example, "made", lambda: pytest.fail("made beside the window's thread"))
    window, said = make_window(), []
    audio_of_the_example.path().unlink(missing_ok=True)
    window.carrying.making.connect(lambda: said.append(window.carry.sentence.advice.text()))
    with qtbot.waitSignal(window.desk.recomputed, timeout=60_000):
        window.open_example()
    ids = {strip.name: strip.id for strip in window.desk.document.session.strips}
    window.go(CARRY)
    window.desk.decide("freeze", [Decision("freeze", ids[name]) for name in ("Fiddle", "Choir low", "Choir")])
    qtbot.waitUntil(lambda: cells(window.carry, 0) == ["Fiddle", "Choir low", "Choir"], timeout=60_000)
    assert cells(window.carry, STANDS) == ["to render", "to render", "not rendered"]
    assert "no track with audio of its own" in cells(window.carry, PROOF)[2]
    # It is made once, which is said.
    assert said == ["The audio of the example is made first, once: this takes some seconds."]
    decide(window, qtbot, Decision("freeze", ids["Harp"]))
    assert len(said) == 1


def sharing(make_window, qtbot, folder, processor):
    """A window in which two tracks with the same house processor are to share it, on the page Carry out."""
    device = (
        f'<BuiltinDevice deviceID="house.{processor}" deviceName="{processor.title()}" deviceRole="audioFX">'
        "<Parameters/></BuiltinDevice>"
    )
    structure = "".join(x.track(f"t{k}", f"Voice {k}", x.channel(f"c{k}", devices=device)) for k in range(2))
    lanes = "".join(x.lanes(f"t{k}", x.clip(k, 2, audio()), unit="seconds") for k in range(2))
    xml = x.project(structure + x.main_track(), lanes)
    source = x.write(folder / "mix.dawproject", xml, {"audio/a.wav": stems.wave(stems.noise())})
    window = make_window()
    look(window, qtbot, source)
    strips = window.desk.document.session.strips[:2]
    with qtbot.waitSignal(window.carrying.prepared, timeout=60_000):
        window.desk.decide("share", [Decision("share", s.id, s.inserts[0].id, into="bus1") for s in strips])
    return window


def test_a_plan_that_only_shares_is_proven_and_written(make_window, qtbot, tmp_path, monkeypatch):
    window = sharing(make_window, qtbot, tmp_path, "mist")
    page = window.carry
    assert cells(page, 0) == ["Shared Mist"] and cells(page, STANDS) == ["to prove, on 2 tracks"]
    assert state(window) == "1 to do" and page.sentence.button.text() == "Prove the sharing"
    assert page.write.isVisible()  # it may be written without the proof
    rendered(window, qtbot)
    assert "sharing sounds the same" in cells(page, PROOF)[0] and state(window) == "done"
    # Nothing is left but to write: one button for it is enough.
    assert page.sentence.button.text() == "Write the changed session…" and not page.write.isVisible()
    target = tmp_path / "shared.dawproject"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(target), ""))
    with qtbot.waitSignal(window.carrying.wrote, timeout=60_000):
        qtbot.mouseClick(page.sentence.button, Qt.MouseButton.LeftButton)
    assert "Left to do by hand" not in page.news.text()
    made = dawproject.read(target).session
    assert [strip.output for strip in made.strips[:2]] == ["bus1", "bus1"]
    # Another plan has to be proven anew.
    with qtbot.waitSignal(window.carrying.prepared, timeout=60_000):
        window.desk.undo()
    assert state(window) == "no plan" and cells(page, 0) == []


def test_what_sharing_changes_can_be_heard(make_window, qtbot, tmp_path, monkeypatch):
    window = sharing(make_window, qtbot, tmp_path, "tar")
    page = window.carry
    assert not page.hear_left.isVisible()
    rendered(window, qtbot)
    assert "sharing changes the sound" in cells(page, PROOF)[0]
    page.table.selectRow(0)
    asked = []
    monkeypatch.setattr(QDesktopServices, "openUrl", lambda url: asked.append(url.toLocalFile()))
    qtbot.mouseClick(page.hear_left, Qt.MouseButton.LeftButton)
    (heard,) = asked
    assert heard.endswith("difference.wav") and Path(heard).is_file()
    assert heard.startswith(str(tmp_path / "mix carried out"))


def test_the_kind_of_file_is_chosen_and_remembered(window, qtbot, make_window):
    page = window.carry
    decide(window, qtbot, Decision("freeze", "t"))
    rendered(window, qtbot)
    assert state(window) == "done"
    page.kind.setFocus()
    with qtbot.waitSignal(window.carrying.prepared, timeout=60_000):
        qtbot.keyClick(page.kind, Qt.Key.Key_End)
    # What is there is of another kind.
    assert state(window) == "1 to do" and page.kind.currentText() == "FLAC, 24 bits"
    rendered(window, qtbot)
    assert len(list(page.folder.glob("*.flac"))) == 1
    assert make_window().carry.kind.currentData() == "flac"


def test_why_something_is_not_rendered_is_read_in_full_at_any_width(window, qtbot):
    page = window.carry
    decide(window, qtbot, Decision("freeze", "t"), Decision("freeze", "tm"))
    assert cells(page, STANDS)[-1] == "not rendered"
    last = page.table.rowCount() - 1
    # One line is enough in the window as it is; as many as it takes where the column is narrow, and one again.
    plain, narrow = page.table.rowHeight(0), page.table.columnWidth(0)
    qtbot.waitUntil(lambda: page.table.rowHeight(last) < 1.5 * plain, timeout=10_000)
    qtbot.wait(100)
    assert page.table.rowHeight(last) < 1.5 * plain
    page.table.setColumnWidth(0, page.table.width() - 660)
    qtbot.waitUntil(lambda: page.table.rowHeight(last) > 1.5 * plain, timeout=10_000)
    page.table.setColumnWidth(0, narrow)
    qtbot.waitUntil(lambda: page.table.rowHeight(last) < 1.5 * plain, timeout=10_000)


class TestStems:
    @pytest.fixture
    def mix(self, make_window, qtbot, tmp_path):
        """A window with a bus, an echo and a track that lead to the main output, and no plan."""
        found = make_window()
        look(found, qtbot, a_mix(tmp_path / "mix.dawproject"))
        return found

    def chosen(self, window, qtbot, *names):
        """Opens the dialog by its button, ticks these alone by mouse and keys, and accepts."""
        page = window.carry
        qtbot.mouseClick(page.ask_stems, Qt.MouseButton.LeftButton)
        (dialog,) = [each for each in page.findChildren(StemsDialog) if each.isVisible()]
        for row in range(dialog.list.count()):
            item = dialog.list.item(row)
            wanted = item.text().split(" (")[0] in names
            if (item.checkState() == Qt.CheckState.Checked) != wanted:
                dialog.list.setCurrentRow(row)
                qtbot.keyClick(dialog.list, Qt.Key.Key_Space)
        said = dialog.counted.text()
        with qtbot.waitSignal(window.carrying.prepared, timeout=60_000):
            qtbot.mouseClick(dialog.buttons.button(QDialogButtonBox.StandardButton.Ok), Qt.MouseButton.LeftButton)
        return said

    def test_they_stand_in_the_table_are_rendered_and_proven_together(self, mix, qtbot, tmp_path):
        page = mix.carry
        assert self.chosen(mix, qtbot, "Solo", "Band", "Echo", "Main") == "4 stems of 6"
        assert cells(page, 0) == ["Solo stem", "Band stem", "Echo stem", "Main stem", "All stems together"]
        assert cells(page, 1)[0] == "its fader" and cells(page, STANDS)[4] == "to prove"
        assert page.sentence.headline.text() == "4 stems are to be rendered."
        rendered(mix, qtbot)
        assert page.sentence.headline.text() == "All 4 stems are rendered."
        assert cells(page, PROOF)[4].startswith("together they are what the main output gets")
        assert all("the same" in words for words in cells(page, PROOF)[:4])
        # Nothing of the session has changed: there is nothing to write, and no other load to tell of.
        assert "worst moment" not in page.sentence.advice.text()
        assert not page.write.isVisible() and page.listen.isVisible()
        assert len(list(page.folder.glob("*stem*.wav"))) == 4

    def test_some_of_them_are_chosen_again_and_none_of_another_session(self, mix, qtbot, tmp_path):
        page = mix.carry
        self.chosen(mix, qtbot, "Band")
        assert cells(page, 0) == ["Band stem"]
        assert page.sentence.headline.text() == "1 stem is to be rendered."
        self.chosen(mix, qtbot, "Band", "Solo")
        assert cells(page, 0) == ["Solo stem", "Band stem"]
        with qtbot.waitSignals([mix.desk.recomputed, mix.carrying.prepared], timeout=60_000):
            mix.open_path(a_mix(tmp_path / "other.dawproject"))
        assert page.stems == () and cells(page, 0) == []

    def test_they_stand_beside_what_the_plan_renders(self, mix, qtbot):
        decide(mix, qtbot, Decision("freeze", "solo"))
        self.chosen(mix, qtbot, "Solo")
        assert cells(mix.carry, 0) == ["Solo", "Solo stem"]
        assert mix.carry.sentence.headline.text() == "2 files are to be rendered."
        rendered(mix, qtbot)
        assert mix.carry.write.isVisible()
