"""A host whose work is known is watched: what is seen agrees with what it logged itself.

Whatever the machine does meanwhile is in both: nothing here depends on how fast or how quiet it is.
"""

from __future__ import annotations

import os
import subprocess
import sys
import threading
import time
from pathlib import Path

import numpy as np
import pytest

from nimbleload.core.told.watching import headline, table
from nimbleload.core.watching.blocks import see
from nimbleload.core.watching.late import why_late
from nimbleload.core.watching.not_there import not_there
from nimbleload.core.watching.records import A_TIME, HOST, Alike
from nimbleload.machine import perf
from nimbleload.machine.maps import NO_PARTS, Part
from nimbleload.machine.watcher import Watcher, alike
from nimbleload.probe.places import places
from tests.helpers import computers
from tests.helpers.computers import put
from tests.helpers.host import Host, Plugin, has_its_cores, in_one_file, stalls

PLUGINS = [Plugin("small", 60_000), Plugin("middle", 180_000), Plugin("large", 360_000, 16, 200_000)]
PERIOD = 2_000_000

pytestmark = pytest.mark.usefixtures("may_watch")


def watched(host, seconds, close=False, parts=NO_PARTS, every=0.05):
    watcher = Watcher([host.pid], close, parts=parts)
    until = time.monotonic() + seconds
    while time.monotonic() < until:
        time.sleep(every)
        watcher.poll()
    found = watcher.recording()
    watcher.close()
    return found


def test_which_cores_are_alike_is_told_with_what_was_seen(tmp_path, monkeypatch):
    told = alike(computers.hybrid(tmp_path / "root"))
    assert told == Alike(((0, 1), (2, 3)), (4, 5, 6, 7))
    slow_pair = computers.hybrid(tmp_path / "other")
    for core in (4, 5):
        put(slow_pair, f"{computers.CPU}/cpu{core}/topology/thread_siblings_list", "4-5")
    assert alike(slow_pair) == Alike(((0, 1), (2, 3), (4, 5)), (4, 5, 6, 7))
    monkeypatch.setattr("nimbleload.machine.watcher.alike", lambda root: told)
    with Host(tmp_path, PLUGINS, PERIOD, 200) as host:
        assert watched(host, 0.2).alike == told


@pytest.mark.parametrize("threads", [1, 2])
def test_cycle_late_blocks_and_plugins_are_what_the_host_logged(tmp_path, threads):
    with Host(tmp_path, PLUGINS, PERIOD, 3000, threads, late_every=40) as host:
        recording = watched(host, 3.0)
        log = host.log()
    has_its_cores(log, PERIOD, 0.1)
    seen = see(recording)
    assert recording.lost == 0
    blocks = seen.blocks
    assert blocks.period * 1e9 == pytest.approx(PERIOD, rel=1e-3)
    inside = (log.due > blocks.start[0] - PERIOD / 2) & (log.due < blocks.start[-1] + PERIOD / 2)
    late = int((log.ended > log.due + PERIOD)[inside].sum())
    assert late >= inside.sum() // 40
    assert blocks.dropouts == pytest.approx(late, rel=0.25, abs=5)
    # Block by block, from the same start: the host's own figure and ours.
    at = np.searchsorted(log.begun, blocks.start)
    own = (log.ended - log.begun)[np.minimum(at, len(log.due) - 1)] / PERIOD
    assert np.median(np.abs(blocks.load - own)) < 0.05
    shares = {row.name: row.share for row in table(seen, {}) if row.is_plugin}
    assert set(shares) == {"small", "middle", "large"}
    truth = np.median(log.taken[inside], axis=0) / PERIOD
    for name, true in zip(("small", "middle", "large"), truth, strict=True):
        assert shares[name].low * 0.8 - 0.01 < true < shares[name].high * 1.25 + 0.01
    place = [t.name for t in recording.threads].index("host")
    assert seen.roles[place] == "engine"
    # What it ran by the system's count is what it had a core for, but for what is taken from outside, and what each
    # switch takes itself.
    runs = seen.runs[place]
    there = (runs.end - runs.begin).sum() / 1e9
    assert 0.6 * there < recording.threads[place].ran < there + 20e-6 * len(runs.begin)
    assert "drawing" in [t.name for t, role in zip(recording.threads, seen.roles, strict=True) if role != "engine"]
    assert "late" in headline(seen)
    # It was late by its own doing: it waits in its own code, on purpose.
    because = why_late(seen)
    assert because.blocks == blocks.dropouts and because.longer >= inside.sum() // 80
    assert because.owner == HOST or because.alike or late < 2 * inside.sum() // 40


@pytest.mark.parametrize("stripped", [False, True])
def test_plugins_of_one_file_are_told_apart_by_the_functions_that_are_their_own(tmp_path, stripped):
    """All that they compute lies in a function that they share, and in the mathematics library."""
    file, plugins = in_one_file(tmp_path, stripped, small=150_000, large=450_000, twin=90_000)
    parts = {str(file): [Part(of.identifier, of.ranges) for of in places(file)]}
    with Host(tmp_path, plugins, PERIOD, 3000) as host:
        recording = watched(host, 2.0, close=True, parts=parts)
        log = host.log()
    rows = {row.name: row.share for row in table(see(recording), {}) if row.is_plugin}
    names = ("1:small", "2:large", "several, not told which of its plugins")
    assert set(rows) == set(names)
    truth = np.median(log.taken, axis=0) / PERIOD
    for name, true in zip(names, truth, strict=True):
        assert rows[name].low * 0.8 - 0.01 < true < rows[name].high * 1.25 + 0.01


@pytest.mark.parametrize(
    ("spin", "barrier"), [(-1, False), (-1, True), (-2, False), (-3, False), (300_000, False)],
    ids=["pause", "both wait", "give way", "nothing but look", "sleep after a while"],
)  # fmt: skip
def test_what_threads_compute_that_do_not_sleep_while_they_wait_is_known(tmp_path, spin, barrier):
    plugins = [*PLUGINS[:2], Plugin("hall", 500_000), Plugin("plate", 240_000)]
    with Host(tmp_path, plugins, 4_000_000, 900, 2, spin=spin, barrier=barrier) as host:
        recording = watched(host, 3.0)
        log = host.log()
    if (log.ended > log.due + 4_000_000).mean() > 0.15:
        pytest.skip("others hold the cores")
    seen = see(recording)
    names = [each.name for each in recording.threads]
    assert seen.roles[names.index("worker 1")] == "engine" and seen.roles[names.index("drawing")] != "engine"
    assert seen.awake == ((names.index("worker 1"),) if spin < 0 else ())
    shares = {row.name: row.share for row in table(seen, {})}
    inside = (log.due > seen.blocks.start[0]) & (log.due < seen.blocks.start[-1])
    for plugin, true in zip(plugins, np.median(log.taken[inside], axis=0) / 4e6, strict=True):
        assert shares[plugin.name].low * 0.8 - 0.01 < true < shares[plugin.name].high * 1.25 + 0.01
    assert shares["busy waiting"].core > (0.4 if spin < 0 else 0.03)
    assert shares["the host itself"].core < 0.06
    assert np.median(seen.blocks.load) == pytest.approx(np.median((log.ended - log.begun)[inside]) / 4e6, abs=0.04)


def test_what_a_plugin_computes_in_a_process_of_its_own_is_the_engines(tmp_path):
    """That process is not in real time, so that it looks like any window's."""
    plugins = [Plugin("steady", 500_000), stalls(tmp_path, "bridged", 1, 1_200_000)]
    with Host(tmp_path, plugins, 5_000_000, 900) as host:
        time.sleep(0.5)  # child processes are looked for every two seconds
        recording = watched(host, 2.5, close=True)
        log = host.log()
    seen = see(recording)
    bridge = next(k for k, each in enumerate(recording.threads) if each.process != host.pid)
    assert seen.roles[bridge] == "engine" and not recording.threads[bridge].is_real_time
    assert "other" in seen.roles or "window" in seen.roles
    shares = {row.name: row.share for row in table(seen, {}) if row.is_plugin}
    # What the host logs is the way there and back as well, and what others did meanwhile.
    truth, logged = 1_200_000 / 5_000_000, np.median(log.taken, axis=0)[1] / 5_000_000
    assert shares["stalls"].low * 0.8 < truth < min(logged, shares["stalls"].high * 1.25)
    assert np.median(seen.blocks.load) == pytest.approx(np.median(log.ended - log.begun) / 5_000_000, rel=0.15)


def test_a_host_in_time_with_a_bridge_and_a_worker_is_not_told_as_late(tmp_path):
    plugins = [Plugin("Chain", 400_000), Plugin("Hall", 500_000), stalls(tmp_path, "bridged", 6, 100_000)]
    with Host(tmp_path, plugins, 5_333_333, 900, threads=2) as host:
        time.sleep(0.5)
        recording = watched(host, 3.0)
        log = host.log()
    inside = (log.due > recording.begun) & (log.due < recording.ended)
    late = int((log.ended > log.due + 5_333_333)[inside].sum())
    if late > 0.05 * inside.sum():
        pytest.skip("others hold the cores")
    assert see(recording).blocks.dropouts <= 1.2 * late + 2


def test_a_bridge_that_was_not_started_by_its_host_is_found_by_the_memory_they_share(tmp_path):
    code = tmp_path / "x.lv2" / "x.so"
    code.parent.mkdir()
    code.write_bytes(bytes(4096))
    script = "import mmap, sys, time\n"
    script += "files = [open(path, 'r+b') for path in sys.argv[1:]]\n"
    script += "kept = [mmap.mmap(file.fileno(), 4096) for file in files]\n"
    script += "print('up', flush=True); time.sleep(60)"
    ring = Path(f"/dev/shm/bridge-{os.getpid()}")
    ring.write_bytes(bytes(4096))
    try:
        words = [sys.executable, "-c", script, str(ring)]
        with (
            subprocess.Popen(words, stdout=subprocess.PIPE) as host,
            subprocess.Popen([*words, str(code)], stdout=subprocess.PIPE) as bridge,
            subprocess.Popen([*words[:3], str(code)], stdout=subprocess.PIPE) as other,
        ):
            for each in (host, bridge, other):
                each.stdout.readline()
            watcher = Watcher([host.pid])
            watcher.poll()
            found, events = watcher.recording(), watcher.events
            watcher.close()
            for each in (host, bridge, other):
                each.kill()
    finally:
        ring.unlink()
    assert {each.process for each in found.threads} == {host.pid, bridge.pid}
    assert f"the process {bridge.pid}" in events[0].words and "which shares memory with it" in events[0].words


@pytest.mark.parametrize(("what", "field"), [("cold", 9), ("fresh", 7)])
def test_memory_that_was_not_there_is_counted_as_the_system_counts_it(tmp_path, what, field):
    """Which is named is not met by looks: it does not compute."""
    plugin = stalls(tmp_path, what, 25, 1_500_000)

    def counted(host):
        task = Path(f"/proc/{host.pid}/task/{host.pid}/stat").read_text()
        return int(task[task.rindex(")") + 2 :].split()[field])

    with Host(tmp_path, [Plugin("steady", 300_000), plugin], 5_000_000, 800) as host:
        before = counted(host)
        recording = watched(host, 2.0)
        truth = counted(host) - before
    if not truth:
        pytest.skip("the folder of tests lies in memory: nothing is ever read from its disk")
    found = not_there(see(recording))
    told = found.read if what == "cold" else found.new * recording.seconds
    # What happened while watching began and ended is in one of them.
    assert 0.6 * truth - 100 < told < 1.05 * truth + 100
    named = found.reader if what == "cold" else found.asks
    assert recording.files[named - 1].endswith("stalls.so")
    assert what == "fresh" or 0 < found.longest < 1.0


def test_a_plugin_that_sleeps_in_a_block_does_not_begin_a_new_one(tmp_path):
    """The leader waits for the worker in which it sleeps."""
    plugins = [Plugin("steady", 300_000), stalls(tmp_path, "naps", 20, 6_000_000)]
    with Host(tmp_path, plugins, 5_000_000, 800, threads=2) as host:
        recording = watched(host, 2.5, every=0.01)
        log = host.log()
    if (log.ended > log.due + 5_000_000).mean() > 0.1:
        pytest.skip("others hold the cores: the host itself is late twice as often as it was asked to be")
    seen = see(recording)
    assert seen.blocks.period == pytest.approx(0.005, rel=1e-3)
    truth = int(((log.ended > log.due + 5_000_000) & (log.due > recording.begun) & (log.due < recording.ended)).sum())
    found = why_late(seen)
    assert truth > 10 and abs(found.blocks - truth) <= 2
    assert found.waited > 10
    worker = next(thread for thread in recording.threads if thread.name == "worker 1")
    asleep = worker.sleep_why[worker.sleep_owner == 1 + recording.files.index(str(tmp_path / "ladspa" / "stalls.so"))]
    assert len(asleep) > 0 and set(asleep.tolist()) == {A_TIME}
    assert found.sleeper is None or recording.files[found.sleeper.owner - 1].endswith("stalls.so")


def test_time_inside_the_mathematics_library_is_its_callers(tmp_path):
    with Host(tmp_path, [Plugin("only", 600_000)], PERIOD, 3000) as host:
        recording = watched(host, 1.5, close=True)
    rows = {row.name: row.share.looks for row in table(see(recording), {})}
    assert rows["only"] > 0.9 * sum(rows.values())


def test_a_host_that_ends_is_an_event_and_its_records_stay(tmp_path):
    with Host(tmp_path, PLUGINS[:1], PERIOD, 1000) as host:
        watcher = Watcher([host.pid])
        host.process.wait(30)
        time.sleep(0.6)
        watcher.poll()
        assert watcher.is_over
        assert [event.words for event in watcher.events] == ["host has ended"]
        watcher.poll()
        assert len(watcher.events) == 1
        assert see(watcher.recording()).blocks is not None
        watcher.close()


def test_child_processes_are_watched_too(tmp_path):
    script = "import subprocess, sys, time\nprint('up', flush=True)\nsys.stdin.readline()\n"
    script += "subprocess.run([sys.executable, '-c', 'sum(range(10**7)); import time; time.sleep(60)'])"
    with subprocess.Popen([sys.executable, "-c", script], stdin=subprocess.PIPE, stdout=subprocess.PIPE) as parent:
        parent.stdout.readline()
        watcher = Watcher([parent.pid])
        parent.stdin.write(b"\n")
        parent.stdin.flush()
        until = time.monotonic() + 20
        while len({t.process for t in watcher.recording().threads}) < 2 and time.monotonic() < until:
            time.sleep(0.1)
            watcher.poll()
        found = watcher.recording()
        watcher.close()
        children = {t.process for t in found.threads} - {parent.pid}
        for child in children:
            os.kill(child, 9)
        parent.kill()
    assert len(children) == 1
    assert "is watched, too" in watcher.events[0].words


def test_only_so_many_seconds_are_kept(tmp_path):
    with Host(tmp_path, PLUGINS[:1], PERIOD, 3000) as host:
        watcher = Watcher([host.pid], seconds=0.5)
        for _ in range(15):
            time.sleep(0.1)
            watcher.poll()
        found = watcher.recording()
        watcher.close()
    assert found.seconds == pytest.approx(0.5, abs=0.01)
    first = min(int(t.switch_time[0]) for t in found.threads if len(t.switch_time))
    assert first >= found.begun


def test_the_last_seconds_are_the_end_of_what_is_kept(tmp_path):
    with Host(tmp_path, PLUGINS, PERIOD, 600) as host:
        watcher = Watcher([host.pid])
        while host.process.poll() is None:
            time.sleep(0.1)
            watcher.poll()
        seconds = 0.5 * (time.monotonic_ns() - watcher.begun) / 1e9
        short, whole = watcher.recording(seconds), watcher.recording()
        watcher.close()
    assert short.seconds == pytest.approx(seconds)
    assert sum(len(t.switch_time) for t in short.threads) > 0
    for one, other in zip(short.threads, whole.threads, strict=True):
        both = other.switch_time >= short.begun
        np.testing.assert_array_equal(one.switch_time, other.switch_time[both])
        np.testing.assert_array_equal(one.switch_kind, other.switch_kind[both])
        both = other.look_time >= short.begun
        np.testing.assert_array_equal(one.look_time, other.look_time[both])
        np.testing.assert_array_equal(one.look_owner, other.look_owner[both])
        np.testing.assert_array_equal(one.look_weight, other.look_weight[both])


def test_what_is_watched_goes_on_when_the_watching_ends(tmp_path):
    with Host(tmp_path, PLUGINS[:1], PERIOD, 600) as host:
        before = len(list(Path("/proc/self/fd").iterdir()))
        for _ in range(3):
            watched(host, 0.1)
        assert len(list(Path("/proc/self/fd").iterdir())) == before
        assert len(host.log().due) == 600


def test_there_is_nothing_to_watch_where_there_is_no_process():
    with pytest.raises(ProcessLookupError, match="there is no process"):
        Watcher([2**22 - 1])
    with pytest.raises(ProcessLookupError):
        perf.Records(2**22 - 1, 1_000_000)


def test_records_without_room_are_counted():
    stop = threading.Event()

    def compute():
        while not stop.is_set():
            sum(range(1000))

    thread = threading.Thread(target=compute)
    thread.start()
    records = perf.Records(thread.native_id, 50_000, 1)
    time.sleep(0.5)
    none = np.zeros(0, np.uint64)
    first = perf.read(records.taken(), none, none, none.astype(np.int64))
    assert len(first.sample_time) > 0
    lost = first.lost
    for _ in range(50):
        time.sleep(0.02)
        lost += perf.read(records.taken(), none, none, none.astype(np.int64)).lost
        if lost:
            break
    stop.set()
    thread.join()
    records.close()
    assert lost > 0


def test_a_look_has_a_price():
    assert 0 <= perf.price(seconds=0.01) < 1e-3
