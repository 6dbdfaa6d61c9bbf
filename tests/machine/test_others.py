"""What other programs compute: as the kernel tells in fixture trees, and of a real one."""

from __future__ import annotations

import os
import shutil
import socket
import subprocess
import sys
import time
from pathlib import Path

import pytest

from nimbleload.machine import others
from nimbleload.machine.others import OWN, TICKS, OtherPrograms


class Tree:
    """A /proc with some processes in it, at a time of its own."""

    def __init__(self, root: Path, monkeypatch: pytest.MonkeyPatch) -> None:
        self.root, self.now = root, 0.0
        monkeypatch.setattr(others.time, "monotonic_ns", lambda: round(self.now * 1e9))

    def put(self, number, name, seconds, command="", parent=1, ended=0.0):
        folder = self.root / str(number)
        folder.mkdir(exist_ok=True)
        ticks = [round(each * TICKS) for each in (seconds, ended)]
        spent = [str(half) for each in ticks for half in (each // 2, each - each // 2)]
        fields = ["S", str(parent), *["0"] * 9, *spent, *["0"] * 18]
        # Written over, as the kernel's files are read again and again while they stay open.
        with (folder / "stat").open("r+" if (folder / "stat").exists() else "w") as file:
            file.write(f"{number} ({name}) {' '.join(fields)}\n")
        (folder / "cmdline").write_bytes(command.encode().replace(b" ", b"\0"))


@pytest.fixture
def tree(tmp_path, monkeypatch):
    return Tree(tmp_path, monkeypatch)


def opened():
    return sum(1 for _ in Path("/proc/self/fd").iterdir())


def test_what_each_program_took_since_the_last_look_is_told_by_its_name(tree):
    # Names may hold brackets and spaces.
    tree.put(7, "idx) (er", 10.0, "/usr/bin/indexer")
    tree.put(8, "indexer", 10.0, "/opt/indexer")
    tree.put(9, "host", 10.0, "h")
    tree.put(12, "kworker/3:1-events", 1.0)
    tree.put(13, "quiet", 1.0, "/bin/quiet")
    of = OtherPrograms(tree.root)
    tree.now = 5.0
    of.look({9})
    assert not of.found
    tree.now = 7.0
    for number, name, seconds, command in (
        (7, "idx) (er", 10.5, "/usr/bin/indexer"), (8, "indexer", 11.0, "/opt/indexer"), (9, "host", 12.0, "h"),
        (12, "kworker/3:1-events", 1.2, ""), (13, "quiet", 1.02, "/bin/quiet"), (14, "new", 1.0, "/bin/new"),
    ):  # fmt: skip
        tree.put(number, name, seconds, command)
    of.look({9})
    (look,) = of.found
    # Two of a name together; what is watched is not another program; what is new has begun at an unknown time.
    assert look.time == 7_000_000_000
    assert look.took == {"indexer": pytest.approx(0.75), "kworker": pytest.approx(0.1)}
    of.close()


def looked(of, tree, now, *processes):
    """Looks when there are only these processes: number, parent, own seconds, those of children that have ended."""
    for folder in tree.root.glob("[0-9]*"):
        if int(folder.name) not in {each[0] for each in processes}:
            shutil.rmtree(folder)
    for number, parent, seconds, ended in processes:
        tree.put(number, "any", seconds, f"p{number}", parent, ended)
    tree.now = now
    of.look(())


def test_what_ends_before_it_is_looked_at_is_told_by_who_started_it(tree):
    of = OtherPrograms(tree.root)
    for now, ended in ((1.0, 5.0), (3.0, 5.3), (4.0, 5.3)):
        looked(of, tree, now, (7, 1, 1.0, ended))
    assert [dict(each.started) for each in of.found] == [{"p7": pytest.approx(0.15)}, {}]
    assert not any(each.took for each in of.found)


def test_what_was_seen_before_is_not_told_once_more_when_its_end_is(tree):
    """Fifty seconds were told while they were spent; the last tenth was not."""
    of = OtherPrograms(tree.root)
    looked(of, tree, 1.0, (7, 1, 1.0, 0.0), (8, 7, 50.0, 0.0), (9, 7, 20.0, 0.0))
    looked(of, tree, 2.0, (7, 1, 1.0, 50.1), (9, 7, 20.0, 0.0))
    # The other one is gone, but who started it is told of that only later.
    looked(of, tree, 3.0, (7, 1, 1.0, 50.1))
    looked(of, tree, 4.0, (7, 1, 1.0, 70.3))
    assert [dict(each.started) for each in of.found] == [{"p7": pytest.approx(0.1)}, {}, {"p7": pytest.approx(0.2)}]


def test_of_a_whole_family_that_ends_nothing_is_told_twice(tree):
    """The first process of all is told of their end: of a child whose parent has ended before it as well."""
    of = OtherPrograms(tree.root)
    looked(of, tree, 1.0, (1, 0, 3.0, 9.0), (7, 1, 0.2, 0.3), (8, 7, 0.4, 0.0))
    looked(of, tree, 2.0, (1, 0, 3.0, 9.0 + 0.2 + 0.3 + 0.4))
    assert of.found[0].started == {}
    # Nor what took more than all cores had: whoever that was could not be seen.
    looked(of, tree, 3.0, (1, 0, 3.0, 9.9 + 2.0 * others.CORES))
    assert of.found[1].started == {}


def test_of_whose_end_nobody_is_told_that_hides_nothing_for_long(tree):
    of = OtherPrograms(tree.root)
    for now, ended in ((1.0, 0.0), (2.0, 0.0), (3.0, 0.0), (4.0, 0.3)):
        looked(of, tree, now, *[(7, 1, 1.0, ended), (8, 7, 50.0, 0.0)][: 2 if now < 2 else 1])
    assert [dict(each.started) for each in of.found] == [{}, {}, {"p7": pytest.approx(0.3)}]


def test_a_process_that_has_another_parent_now_is_counted_there(tree):
    of = OtherPrograms(tree.root)
    looked(of, tree, 1.0, (1, 0, 0.0, 0.0), (7, 1, 1.0, 0.0), (8, 7, 50.0, 0.0))
    looked(of, tree, 2.0, (1, 0, 0.0, 1.0), (8, 1, 50.0, 0.0))
    assert of.below([1]) == [1, 8]
    looked(of, tree, 3.0, (1, 0, 0.0, 51.2))
    assert [dict(each.started) for each in of.found] == [{}, {"p1": pytest.approx(0.2)}]


def test_what_this_program_starts_is_its_own(tree):
    of = OtherPrograms(tree.root)
    for now, ended in ((1.0, 0.0), (2.0, 0.4)):
        looked(of, tree, now, (os.getpid(), 1, 1.0, ended))
    assert of.found[0].took == {OWN: pytest.approx(0.4)} and of.found[0].started == {}


INTERRUPTS = """\
            CPU0       CPU1
   9:          {acpi}          0   IO-APIC   9-fasteoi   acpi
  24:          {usb}          0   PCI-MSI 524288-edge      xhci_hcd
  25:          {usb}          7   PCI-MSI 524289-edge      xhci_hcd
  30:          {wlan}          0   PCI-MSI 1048576-edge      iwlwifi:queue_1
  31:          0          {wlan}   PCI-MSI 1048577-edge      iwlwifi:queue_2
  40:          {disk}          0   PCI-MSI 2097152-edge      nvme0q1
 LOC:     {timer}     {timer}   Local timer interrupts
 ERR:          0
"""


def test_how_often_each_device_interrupts_is_told_and_of_the_network_what_is_received(tree):
    """A device may have several lines, and the queues of one are one; timers are no device."""
    of = OtherPrograms(tree.root)
    softirqs = "     CPU0  CPU1\n NET_TX: 1 {received}\n NET_RX: {received} 2\n RCU: {timer} 1\n"
    names = ("acpi", "usb", "wlan", "disk", "timer", "received")
    for now, counts in ((1.0, (5, 10, 0, 3, 50, 7)), (3.0, (9, 510, 900, 103, 9050, 607))):
        for name, form in (("interrupts", INTERRUPTS), ("softirqs", softirqs)):
            (tree.root / name).write_text(form.format(**dict(zip(names, counts, strict=True))))
        tree.now = now
        of.look(())
    (found,) = of.found
    assert found.interrupted == {"xhci_hcd": 500.0, "iwlwifi": 900.0, "nvme0": 50.0, "the network": 300.0}
    for name in ("interrupts", "softirqs"):
        (tree.root / name).unlink()
    tree.now = 4.0
    of.look(())
    assert of.found[-1].interrupted == {}


def test_what_a_host_has_started_is_known_whether_it_is_looked_at_or_not(tree):
    for number, parent in ((40, 1), (41, 40), (43, 1), (39, 41)):
        tree.put(number, "any", 0.0, "any", parent)
    of = OtherPrograms(tree.root)
    assert of.below([40]) == [40]
    of.follow()
    assert of.below([40]) == [40, 41, 39] and of.below([43, 41]) == [43, 41, 39]
    tree.now = 1.0
    of.look({40, 41, 39})
    tree.put(44, "new", 0.0, "new", 39)
    shutil.rmtree(tree.root / "41")
    of.follow()
    assert of.below([40]) == [40] and of.below([39]) == [39, 44]


def test_this_program_and_what_it_starts_is_one(tree):
    own = os.getpid()
    numbers = ((own, 1), (own + 1, own), (own + 2, own + 1), (own + 3, 1))
    for number, parent in numbers:
        tree.put(number, "python", 1.0, "python -m things", parent)
    of = OtherPrograms(tree.root)
    tree.now = 1.0
    of.look(())
    tree.now = 2.0
    for number, parent in numbers:
        tree.put(number, "python", 1.2, "python -m things", parent)
    of.look(())
    assert of.found[0].took == {OWN: pytest.approx(0.6), "things": pytest.approx(0.2)}
    of.close()


def test_what_has_ended_or_cannot_be_read_is_left_out_and_no_file_stays_open(tree):
    before = opened()
    tree.put(7, "one", 1.0, "one")
    tree.put(8, "two", 1.0, "two")
    (tree.root / "9").mkdir()
    (tree.root / "self").mkdir()
    tree.put(10, "odd", 1.0, "odd")
    (tree.root / "10/stat").write_text("10 (odd")
    of = OtherPrograms(tree.root)
    tree.now = 1.0
    of.look(())
    assert opened() == before + 2
    for path in (tree.root / "7").iterdir():
        path.unlink()
    (tree.root / "7").rmdir()
    tree.put(8, "two", 1.5, "two")
    tree.now = 2.0
    of.look(())
    assert of.found[0].took == {"two": pytest.approx(0.5)} and opened() == before + 1
    of.close()
    assert opened() == before


@pytest.mark.skipif(not Path("/proc/softirqs").exists(), reason="the kernel does not tell what is received")
def test_what_really_comes_from_the_network_is_counted():
    with socket.socket(type=socket.SOCK_DGRAM) as ours, socket.socket(type=socket.SOCK_DGRAM) as theirs:
        theirs.bind(("127.0.0.1", 0))
        of = OtherPrograms()
        since = time.monotonic_ns()
        of.look(())
        for _ in range(2000):
            ours.sendto(b"", theirs.getsockname())
            theirs.recv(1)  # each by itself
        of.look(())
    of.close()
    (found,) = of.found
    assert found.interrupted["the network"] * (found.time - since) / 1e9 >= 1990


def test_a_real_program_that_begins_and_ends_between_two_looks_is_met():
    of, since = OtherPrograms(), time.monotonic_ns()
    of.look(())
    busy = "import time\nwhile time.process_time() < 0.3: pass"
    subprocess.run([sys.executable, "-c", busy], check=True)
    of.look(())
    of.close()
    (found,) = of.found
    assert found.took[OWN] * (found.time - since) / 1e9 >= 0.29


def test_a_real_program_that_computes_is_met():
    """However much of a core it is given: it says itself when it has computed for so long."""
    busy = (
        "import time\nprint(flush=True)\ninput()\nuntil = time.process_time() + 0.2\n"
        "while time.process_time() < until: pass\nprint(flush=True)\ninput()"
    )
    pipes = {"stdin": subprocess.PIPE, "stdout": subprocess.PIPE, "text": True}
    with subprocess.Popen([sys.executable, "-c", busy], **pipes) as one:
        one.stdout.readline()
        of, since = OtherPrograms(), time.monotonic_ns()
        of.look({os.getpid()})
        one.stdin.write("\n")
        one.stdin.flush()
        one.stdout.readline()
        of.look({os.getpid()})
        one.kill()
    # It was started by this one.
    (found,) = of.found
    assert found.took[OWN] * (found.time - since) / 1e9 == pytest.approx(0.2, abs=0.06)
    of.close()
