"""Every test runs in folders of its own and without a display."""

from __future__ import annotations

import os
import shutil
import threading

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

# Before Numba, which reads then what code it may make.
import nimbleload  # noqa: F401

# isort: split
import pytest
from numba import njit

from nimbleload.core.session.computer import Machine
from nimbleload.machine import perf
from nimbleload.native.cores import cores
from nimbleload.native.memory import keep_denormals
from nimbleload.probe import turn
from nimbleload.store import this_computer
from tests.helpers import computers
from tests.helpers.look_up import LOOKED_UP, outdated
from tests.helpers.rogue import rogue, rogue_library  # noqa: F401

# What measures, watches or meets deadlines: one of these tests runs at a time, beside all others.
CLOCK = (
    "tests/probe/", "tests/machine/", "tests/app/measure/", "tests/app/prove/", "tests/app/watch/",
    "tests/shell/test_machine.py", "tests/shell/test_watch.py", "tests/native/test_witness.py",
)  # fmt: skip
# Among them, what only asks what comes out, or what is there, and mostly waits.
NO_CLOCK = tuple(f"tests/{name}.py" for name in (
    "probe/test_clap", "probe/test_isolation", "probe/test_plugin_window", "probe/test_standards", "probe/test_meets",
    "probe/test_describing", "probe/test_truth", "probe/test_protection", "machine/test_look", "machine/test_maps",
    "machine/test_plugin_files", "machine/test_processes",
))  # fmt: skip
# Another's burst of work on the same machine makes any of these red now and then, and seldom one of the others; a fault
# does so every time. Those that needed another try are named at the end.
AGAIN, REST_S, ONCE_MORE = 2, 4, 1


def pytest_collection_modifyitems(items):
    for item in items:
        if item.nodeid.startswith(CLOCK) and not item.nodeid.startswith(NO_CLOCK):
            item.add_marker("clock")
            item.add_marker(pytest.mark.flaky(reruns=AGAIN, reruns_delay=REST_S))
        else:
            item.add_marker(pytest.mark.flaky(reruns=ONCE_MORE))


@pytest.fixture(scope="session")
def shared_cache(request, tmp_path_factory):
    """What the catalogue finds on this computer is looked up once for all tests, and the example's audio made; before
    any of them, if the command that runs them has had it done already (`tests.helpers.look_up`)."""
    folder = tmp_path_factory.mktemp("cache")
    if (found := request.config.rootpath / LOOKED_UP).is_dir():
        shutil.copytree(found, folder, dirs_exist_ok=True, ignore=outdated)
    return folder


@pytest.fixture(autouse=True)
def own_folders(request, tmp_path_factory, monkeypatch, shared_cache):
    """The user's configuration, data and state folders are empty and thrown away. What is measured in a test that does
    not go by the clock waits for none that does."""
    home = tmp_path_factory.mktemp("home")
    monkeypatch.setenv("HOME", str(home))
    for name in ("CONFIG", "DATA", "STATE"):
        monkeypatch.setenv(f"XDG_{name}_HOME", str(home / name.lower()))
    monkeypatch.setenv("XDG_CACHE_HOME", str(shared_cache))
    monkeypatch.delenv("CLAP_PATH", raising=False)
    if request.node.get_closest_marker("clock") is None:
        monkeypatch.setattr(turn, "lock_file", lambda core: home / f"core-{core}.lock")


@njit(cache=True)
def _compute_as_usual():
    keep_denormals()


@pytest.fixture(autouse=True)
def usual_numbers():
    """A plugin that runs in this very thread has it take denormal numbers for zero, which must not outlast the test."""
    yield
    _compute_as_usual()


@pytest.fixture
def desktop(tmp_path, monkeypatch):
    """Sessions are for a computer with cores in pairs, and of two kinds, whatever this one is."""
    found = cores(computers.desktop(tmp_path / "computer"), frozenset(range(20)))
    monkeypatch.setattr(this_computer, "cores", lambda: found)
    monkeypatch.setattr(this_computer, "memory_of", lambda root: 32.0 * 2**30)
    return Machine(20, measured_cores=20, second=6, slow=8, memory=32.0 * 2**30)


@pytest.fixture
def may_watch():
    """Skips where the kernel does not let this user see what threads do."""
    try:
        perf.Records(threading.get_native_id(), 1_000_000, 1).close()
    except (perf.NotAllowedError, KeyError):
        pytest.skip("the kernel does not let this user see what threads do")
