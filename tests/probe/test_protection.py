"""Hostile plugins, at run and while they are only looked into: each fails, is told, and leaves nothing behind."""

from __future__ import annotations

import os
import platform
import shutil
import signal
import socket
import subprocess
import sys
import time
from pathlib import Path

import pytest

from nimbleload.core.session.plugins import PluginRef, PluginUse
from nimbleload.core.session.strips import Strip
from nimbleload.probe import catalogue, protection, session_run
from nimbleload.probe.effort import Effort
from nimbleload.probe.isolation import LINE_LIMIT, Failure, read, run
from nimbleload.probe.messages import FactsMessage, Request
from nimbleload.store.allowed import allow
from tests.helpers.rogue import rogue_use
from tests.helpers.searching import apart
from tests.helpers.sessions import session

SOURCE = Path(__file__).parents[1] / "helpers" / "hostile.c"
needs_landlock = pytest.mark.skipif(protection.landlock() < 6, reason="this system's Landlock knows no scopes")


@pytest.fixture(scope="session")
def hostile_library(tmp_path_factory):
    compiler = shutil.which("gcc") or shutil.which("cc")
    if compiler is None:
        pytest.skip("no C compiler to build the test plugins with")
    built = tmp_path_factory.mktemp("hostile") / "hostile.clap"
    subprocess.run([compiler, "-O1", "-w", "-shared", "-fPIC", "-o", str(built), str(SOURCE)], check=True)
    return built


@pytest.fixture
def hostile(hostile_library, monkeypatch, tmp_path):
    """What a plugin of this name is told to have done."""
    home = tmp_path / "home"
    (home / ".ssh").mkdir(parents=True)
    (home / ".ssh" / "id").write_text("secret")
    (home / "Samples").mkdir()
    (home / "Samples" / "kick.wav").write_text("boom")
    monkeypatch.setenv("HOME", str(home))
    monkeypatch.setenv("XDG_DATA_HOME", str(home / ".local/share"))

    def tried(name: str, about: object = "", allowed: tuple[str, ...] = ()) -> str:
        monkeypatch.setenv("NIMBLE_TEST", str(about))
        use = PluginUse("x", PluginRef("clap", f"hostile.{name}", name))
        request = Request(use, 48000, (64,), str(hostile_library), Effort(2, 0.01), allowed=allowed)
        last = list(run(request))[-1]
        assert isinstance(last, Failure)
        return last.reason

    tried.home, tried.library = home, hostile_library
    return tried


@needs_landlock
def test_it_reads_samples_but_no_keys(hostile):
    assert "code 40: read was refused" in hostile("read", hostile.home / ".ssh" / "id")
    assert "code 41: read was possible" in hostile("read", hostile.home / "Samples" / "kick.wav")
    assert "code 41: read was possible" in hostile("read", hostile.home / ".ssh" / "id", ("files",))


@needs_landlock
def test_it_writes_nowhere_but_into_a_folder_that_goes_with_it(hostile):
    library = hostile.home / ".local/share/nimble-load/library.sqlite"
    library.parent.mkdir(parents=True)
    library.write_text("figures")
    for place in (library, hostile.home / "Samples" / "kick.wav", hostile.home / "new", Path("/tmp/nimble-new")):
        assert "code 40: write was refused" in hostile("write", place)
    assert "code 40: read was refused" in hostile("read", library)
    assert library.read_text() == "figures"
    assert "fill was refused" in hostile("fill")
    assert list(Path(os.environ.get("TMPDIR", "/tmp")).glob("nimble-load-*/much")) == []


def test_it_reaches_no_network(hostile):
    with socket.socket() as here:
        here.bind(("127.0.0.1", 0))
        here.listen()
        port = here.getsockname()[1]
        for way in ("connect", "datagram"):
            assert f"code 40: {way} was refused" in hostile(way, port)
        assert "code 41: connect was possible" in hostile("connect", port, ("network",))


def test_it_reaches_no_other_process(hostile):
    other = subprocess.Popen(["sleep", "600"])
    try:
        for way in ("ptrace", "peek", *(["signal"] if protection.landlock() >= 6 else [])):
            assert f"code 40: {way} was refused" in hostile(way, other.pid)
            assert other.poll() is None
        assert "code 40: mount was refused" in hostile("mount")
    finally:
        other.kill()
        other.wait()


def sleepers(library: Path) -> list[int]:
    """Processes in which the library is mapped."""
    found = []
    for folder in Path("/proc").glob("[0-9]*"):
        try:
            if str(library) in (folder / "maps").read_text():
                found.append(int(folder.name))
        except OSError:
            continue
    return found


def test_children_that_leave_the_session_end_with_it(hostile):
    """Nor do they hold the line on which results are told: what happened is known at once."""
    begun = time.monotonic()
    assert hostile("stay").startswith("ended by itself with exit code 40")
    assert time.monotonic() - begun < 60
    assert sleepers(hostile.library) == []


def test_what_it_writes_into_our_line_is_not_believed(hostile):
    assert "wrote into the line" in hostile("garble")
    assert "figures that cannot be" in hostile("forge")
    for line in (b"", b"\xff\xfe", b"[]", b'{"type":"other"}', b'{"type":"cell","cell":{}}', b"{" * 5000):
        assert isinstance(read(line), Failure)
    assert LINE_LIMIT <= 8 << 20


@needs_landlock
def test_a_card_names_what_held_it(rogue):
    told = list(run(Request(rogue_use("good"), 48000, (64,), str(rogue), Effort(2, 0.01))))
    facts = next(m for m in told if isinstance(m, FactsMessage))
    assert facts.held == ("no new privileges", "limits", "files", "system calls")


@needs_landlock
@pytest.mark.parametrize("name", ["read", "write", "connect", "signal", "stay", "garble"])
def test_the_same_while_it_is_only_looked_into(hostile, name, monkeypatch, tmp_path):
    other = subprocess.Popen(["sleep", "600"])
    about = {"read": hostile.home / ".ssh" / "id", "write": tmp_path / "new", "signal": other.pid}.get(name, "9")
    monkeypatch.setenv("NIMBLE_TEST_SCAN", name)
    monkeypatch.setenv("NIMBLE_TEST", str(about))
    try:
        (scanned,) = catalogue.catalogue([hostile.library], tmp_path / "cache.json")
        assert scanned.failure is not None
        assert "40" in scanned.failure or "line" in scanned.failure
        assert other.poll() is None
        assert not (tmp_path / "new").exists()
        assert sleepers(hostile.library) == []
    finally:
        other.send_signal(signal.SIGKILL)
        other.wait()


def test_what_the_user_allows_a_plugin_counts_when_its_session_is_measured(hostile, monkeypatch, tmp_path):
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path / "config"))
    apart(tmp_path, monkeypatch)
    monkeypatch.setenv("CLAP_PATH", str(hostile.library.parent))
    use = PluginUse("x", PluginRef("clap", "hostile.connect", "connect"))
    of = session(Strip("a", "a", inserts=(use,), output="main"))
    with socket.socket() as here:
        here.bind(("127.0.0.1", 0))
        here.listen()
        monkeypatch.setenv("NIMBLE_TEST", str(here.getsockname()[1]))
        for given, said in ((False, "connect was refused"), (True, "connect was possible")):
            allow("clap", "hostile.connect", "network", given)
            *_, last = session_run.run(session_run.jobs(of, {}, (64,)), {})
            assert said in last.card.failure


@pytest.mark.parametrize("is_known", [True, False])
def test_a_filter_leaves_the_processors_guesses_as_they_are_where_the_system_can(is_known):
    """Linux before 5.16 takes them from whoever is filtered without that: then a plugin would be measured too dear."""
    made = []

    class Library:
        def syscall(self, number, operation, flags, program):
            made.append((number, operation, flags))
            return 0 if is_known else -1

        def prctl(self, option, mode, *_):
            made.append((option, mode))
            return 0

    assert protection._filter_calls(Library(), False)
    asked = (protection.SECCOMP[platform.machine()], 1, 4)
    assert made == [asked] if is_known else made == [asked, (22, 2)]


def test_what_is_held_may_guess_ahead_as_before(tmp_path):
    """Of the system itself: the state of both kinds of guesses, before and after, in a process of its own."""
    code = (
        "import ctypes, sys; from pathlib import Path; from nimbleload.probe.protection import hold\n"
        "library = ctypes.CDLL(None)\n"
        "before = [library.prctl(52, kind, 0, 0, 0) for kind in (0, 1)]\n"
        "held = hold(Path(sys.argv[1]))\n"
        "print('system calls' in held, before == [library.prctl(52, kind, 0, 0, 0) for kind in (0, 1)])"
    )
    done = subprocess.run([sys.executable, "-c", code, tmp_path], capture_output=True, text=True, check=True)
    assert done.stdout.split() == ["True", "True"]
