"""Plugins' own windows on a display of the tests' own: opened, used, closed, killed; good plugins and bad ones."""

from __future__ import annotations

import os
import shutil
import signal
import struct
import subprocess
import threading
import time
from pathlib import Path

import msgspec
import pytest

from nimbleload.core.session.plugins import PluginRef, PluginUse, Setting
from nimbleload.probe import catalogue
from nimbleload.probe.choosing import Lookup, choices
from nimbleload.probe.describing import parameters
from nimbleload.probe.formats.vst3_state import component_state, preset_file
from nimbleload.probe.isolation import Failure
from nimbleload.probe.plugin_window import Left, Opened, OwnWindow, Takes
from nimbleload.probe.shown.loop import READ, Loop
from nimbleload.probe.supervisor import below
from tests.helpers.display import Hands, display
from tests.helpers.searching import apart

SOURCE = Path(__file__).parents[1] / "helpers" / "windowed.c"
TITLE = "the plugin on the track"
AS_IT_STARTS = Setting()
TALKS = """
@prefix lv2: <http://lv2plug.in/ns/lv2core#> . @prefix doap: <http://usefulinc.com/ns/doap#> .
@prefix ui: <http://lv2plug.in/ns/extensions/ui#> . @prefix atom: <http://lv2plug.in/ns/ext/atom#> .
<urn:nimble-test:talks> a lv2:Plugin ; lv2:binary <talks.so> ; doap:name "talks" ;
  ui:ui <urn:nimble-test:talks-window> ;
  lv2:port [ a lv2:AudioPort, lv2:InputPort ; lv2:index 0 ; lv2:symbol "in" ; lv2:name "In" ] ,
    [ a lv2:AudioPort, lv2:OutputPort ; lv2:index 1 ; lv2:symbol "out" ; lv2:name "Out" ] ,
    [ a lv2:ControlPort, lv2:InputPort ; lv2:index 2 ; lv2:symbol "level" ; lv2:name "Level" ; lv2:default 1 ;
      lv2:minimum 0 ; lv2:maximum 1 ] ,
    [ a atom:AtomPort, lv2:InputPort ; lv2:index 3 ; lv2:symbol "asked" ; lv2:name "Asked" ;
      atom:bufferType atom:Sequence ] ,
    [ a atom:AtomPort, lv2:OutputPort ; lv2:index 4 ; lv2:symbol "said" ; lv2:name "Said" ;
      atom:bufferType atom:Sequence ] .
<urn:nimble-test:talks-window> a ui:X11UI ; ui:binary <talks.so> ; lv2:requiredFeature ui:parent, ui:idleInterface .
"""


@pytest.fixture(scope="module")
def screen():
    try:
        with display() as name:
            yield name
    except FileNotFoundError:
        pytest.skip("there is no Xvfb here")


@pytest.fixture(scope="module")
def library(tmp_path_factory):
    compiler = shutil.which("gcc")
    if compiler is None:
        pytest.skip("there is no C compiler here")
    target = tmp_path_factory.mktemp("windowed") / "windowed.clap"
    subprocess.run(
        [compiler, "-O1", "-shared", "-fPIC", "-o", str(target), str(SOURCE), "-l:libX11.so.6"], check=True
    )  # fmt: skip
    return target


@pytest.fixture
def hands(screen, monkeypatch):
    monkeypatch.setenv("DISPLAY", screen)
    found = Hands(screen)
    yield found
    found.close()


@pytest.fixture
def use(library, monkeypatch):
    monkeypatch.setenv("CLAP_PATH", str(library.parent))
    return lambda kind, setting=AS_IT_STARTS: PluginUse("u", PluginRef("clap", kind, kind), setting)


class Seen:
    """A window that is followed in a thread, as the program does it."""

    def __init__(self, use, quiet=20.0):
        self.events = []
        self.window = OwnWindow(use, 48000, TITLE)
        self._thread = threading.Thread(target=self._follow, args=(quiet,))
        self._thread.start()

    def _follow(self, quiet):
        for event in self.window.events(quiet_seconds=quiet):
            self.events.append(event)

    def until(self, kind, count=1):
        end = time.monotonic() + 60
        while sum(isinstance(event, kind) for event in self.events) < count:
            assert time.monotonic() < end and self._thread.is_alive(), self.events
            time.sleep(0.02)

    def end(self):
        self._thread.join(60)
        assert not self._thread.is_alive()
        return self.events[-1]


def inner(hands):
    """The plugin's own window, in ours."""
    return hands.below(hands.find(TITLE))[0]


def level(use):
    (found,) = parameters(use, 48000)
    return found.value


def test_what_is_set_in_a_window_is_what_the_session_takes(hands, use):
    seen = Seen(use("good"))
    seen.until(Opened)
    held = hands.find(TITLE)
    hands.drag(inner(hands), 20, 20, 0)
    # It has asked for another size, and got it, within ours as well.
    assert hands.size(held) == hands.size(inner(hands)) == (500, 300)
    seen.window.close()
    left = seen.end()
    assert isinstance(left, Left) and left.changed
    assert struct.unpack("d", left.setting.state) == (0.75,)
    assert level(use("good", left.setting)) == 0.75 != level(use("good"))


def test_a_window_that_no_host_can_hold_stands_by_itself(hands, use):
    seen = Seen(use("floats"))
    seen.until(Opened)
    called = [window for window in hands.below(hands.root) if hands.title(window) == TITLE]
    (own,) = (window for window in called if hands.size(window) == (300, 200))
    # Ours is there for it to hang on, but nobody sees it.
    assert [hands.is_seen(window) for window in called if window != own] == [False] and hands.is_seen(own)
    hands.drag(own, 20, 20, 0)
    seen.window.close()
    left = seen.end()
    assert isinstance(left, Left) and struct.unpack("d", left.setting.state) == (0.75,)
    assert not hands.are_there(TITLE)


def test_a_window_in_which_nothing_is_done_changes_nothing(hands, use):
    seen = Seen(use("good", Setting((), struct.pack("d", 0.25))))
    seen.until(Opened)
    hands.ask_to_close(hands.find(TITLE))
    left = seen.end()
    assert isinstance(left, Left) and not left.changed
    assert struct.unpack("d", left.setting.state) == (0.25,)


def test_a_plugin_that_saves_no_state_tells_the_values_that_were_changed(hands, use):
    seen = Seen(use("stateless"))
    seen.until(Opened)
    hands.drag(inner(hands), 20, 20, 0)
    seen.window.close()
    assert seen.end() == Left(Setting((("1", 0.75),)), True)
    seen = Seen(use("stateless"))
    seen.until(Opened)
    seen.window.close()
    assert seen.end() == Left(Setting(()), False)


def test_a_state_that_the_plugin_does_not_take_back_is_not_taken_into_the_session(hands, use):
    seen = Seen(use("forgets"))
    seen.until(Opened)
    hands.drag(inner(hands), 20, 20, 0)
    seen.window.close()
    failure = seen.end()
    assert isinstance(failure, Failure)
    assert "saved a state that it does not take back" in failure.reason and "nothing was changed" in failure.reason


def test_what_an_open_window_takes_is_what_it_burns(hands, use):
    taken = {}
    for kind in ("good", "hungry"):
        seen = Seen(use(kind))
        seen.until(Takes, 3)
        seen.window.close()
        seen.end()
        told = [event for event in seen.events if isinstance(event, Takes)]
        taken[kind] = sorted(event.cores for event in told)[len(told) // 2], max(event.bytes for event in told)
    # 4 ms in each 20, or less often where others leave it less, and 60 MB; its blocks and our own part do not count.
    assert 0.05 < taken["hungry"][0] - taken["good"][0] < 0.25
    assert taken["good"][0] < 0.05
    assert taken["hungry"][1] - taken["good"][1] == pytest.approx(60 << 20, rel=0.1)


def test_a_window_that_its_plugin_closes_is_closed(hands, use):
    seen = Seen(use("leaves"))
    assert isinstance(seen.end(), Left)


@pytest.mark.parametrize(
    ("kind", "words"),
    [("crashes", "crashed: SIGABRT"), ("hangs", "did not return"), ("bare", "has no window of its own")],
)
def test_bad_windows_are_told(hands, use, kind, words):
    seen = Seen(use(kind), quiet=3.0)
    failure = seen.end()
    assert isinstance(failure, Failure) and words in failure.reason


def test_a_killed_window_leaves_no_mark_on_us(hands, use):
    seen = Seen(use("good"))
    seen.until(Opened)
    # The only process below this one that has the plugin's file mapped.
    (worker,) = [p for p in below(os.getpid()) if "windowed.clap" in Path(f"/proc/{p}/maps").read_text()]
    os.kill(worker, signal.SIGKILL)
    failure = seen.end()
    assert isinstance(failure, Failure) and "SIGKILL" in failure.reason
    # And there is none left of it, on the screen neither.
    with pytest.raises(AssertionError):
        hands.find(TITLE, 0.5)
    again = Seen(use("good"))
    again.until(Opened)
    again.window.close()
    assert isinstance(again.end(), Left)


def test_without_a_display_or_a_standard_with_windows_there_is_a_sentence(hands, use, monkeypatch):
    ladspa = msgspec.structs.replace(use("good"), plugin=PluginRef("ladspa", "1:x", "x"))
    assert "its standard has none" in Seen(ladspa).end().reason
    missing = msgspec.structs.replace(use("good"), plugin=PluginRef("clap", "nowhere", "x"))
    assert "not installed" in Seen(missing).end().reason
    monkeypatch.delenv("DISPLAY")
    assert "DISPLAY is not set" in Seen(use("good")).end().reason
    monkeypatch.setenv("DISPLAY", ":4321")
    assert "display :4321" in Seen(use("good")).end().reason


@pytest.mark.parametrize("standard", ["lv2", "clap", "vst3"])
def test_a_real_plugin_is_set_in_its_own_window(hands, standard):
    use = Lookup(choices(catalogue.catalogue()))("ZamVerb", standard)
    if use is None:
        pytest.skip("zam-plugins is not installed")
    before = {each.name: each.value for each in parameters(use, 48000)}
    seen = Seen(use)
    seen.until(Opened)
    time.sleep(0.5)
    # The left upper knob mixes wet and dry.
    hands.drag(inner(hands), 48, 42, 60)
    time.sleep(0.5)
    seen.window.close()
    left = seen.end()
    assert isinstance(left, Left) and left.changed
    after = {each.name: each.value for each in parameters(msgspec.structs.replace(use, setting=left.setting), 48000)}
    assert {name for name in before if after[name] != before[name]} == {"Wet / Dry"}


@pytest.fixture
def talks(tmp_path, monkeypatch):
    """An LV2 plugin whose window talks with it in events."""
    compiler = shutil.which("gcc")
    if compiler is None:
        pytest.skip("there is no C compiler here")
    bundle = tmp_path / "talks.lv2"
    bundle.mkdir()
    source = SOURCE.with_name("windowed_lv2.c")
    flags = ["-O1", "-shared", "-fPIC", "-I", str(source.parent)]
    subprocess.run([compiler, *flags, "-o", str(bundle / "talks.so"), str(source), "-l:libX11.so.6"], check=True)
    (bundle / "manifest.ttl").write_text(TALKS)
    monkeypatch.setenv("LV2_PATH", str(tmp_path))
    # What is kept of the bundles that were found is what was there before.
    apart(tmp_path, monkeypatch)
    return PluginUse("u", PluginRef("lv2", "urn:nimble-test:talks", "talks"))


def test_an_lv2_window_and_its_plugin_hear_of_each_other_until_it_is_closed(hands, talks):
    seen = Seen(talks)
    seen.until(Takes)
    held = hands.find(TITLE)
    # It did not say its size: its window's is taken.
    assert hands.size(held) == hands.size(hands.below(held)[0]) == (321, 123)
    seen.window.close()
    left = seen.end()
    assert isinstance(left, Left) and left.changed
    found = {each.key: each.value for each in parameters(msgspec.structs.replace(talks, setting=left.setting), 48000)}
    assert found == {"level": 0.25}


def test_a_preset_file_holds_both_parts():
    made = preset_file(b"0123456789abcdef", [(b"Comp", b"of the component"), (b"Cont", b"of the controller")])
    assert component_state(made) == b"of the component"
    assert made[8:40] == b"0123456789abcdef".hex().upper().encode()


def test_timers_come_when_they_are_due_and_files_when_they_are_ready():
    loop, came = Loop(), []
    reads, writes = os.pipe()
    number = loop.every(0.02, lambda: came.append("tick"))
    loop.files[reads] = READ, lambda what: (came.append(what), os.read(reads, 1))
    os.write(writes, b"x")
    loop.turn(1.0)
    assert came == [READ]
    loop.turn(1.0)
    assert came == [READ, "tick"]
    # One that was late comes once; an ended one never.
    time.sleep(0.1)
    loop.turn(0.0)
    assert came.count("tick") == 2
    assert loop.end(number) and not loop.end(number)
    loop.turn(0.05)
    assert came.count("tick") == 2
    # A file that was closed without a word would be ready for ever.
    os.close(reads)
    loop.turn(0.01)
    assert reads not in loop.files
    os.close(writes)
