"""What can be seen of a computer, read from trees of our own making; and the sentence for each."""

from __future__ import annotations

import gzip
import os
import resource
import subprocess
import sys
import time
from pathlib import Path
from types import SimpleNamespace

import msgspec
import pytest

from nimbleload.core.computer.facts import Busy, Disk, Facts, IdleState, Interrupts, Limits, PowerLimit, Supply
from nimbleload.core.load.memory import kept_by
from nimbleload.core.told import computer as told
from nimbleload.machine import clock_now, look
from nimbleload.machine.background import Counted, Sample, busy_between, sample
from nimbleload.native.power import on_battery
from tests.helpers import computers
from tests.helpers.computers import CPU, put
from tests.helpers.proc import process
from tests.helpers.sessions import card, use

AGAINST = "The clock, against the figures"


def seen(root, then=lambda: None, places=()):
    """Looks, and has something happen meanwhile."""
    return look.look(root, 1.0, places, lambda _: then())


def found(facts, grade=None):
    return {each.name: each for each in told.findings(facts) if grade is None or each.grade == grade}


def test_a_well_set_computer_has_nothing_that_matters(tmp_path):
    facts = seen(computers.plain(tmp_path))
    matters = found(facts, "matters")
    assert matters == {}, matters
    assert found(facts, "note") == {}
    assert told.headline(told.findings(facts)) == "Nothing that was seen here stands in the way of audio."
    assert told.state(told.findings(facts)) == "in order"
    assert found(facts)["How the clock is set"].seen == (
        "Governor performance on 4 cores. Just now they run at 3.6 of 4.0 GHz."
    )
    assert facts.idle == (IdleState("POLL", 0.0), IdleState("C1", 2e-6), IdleState("C6", 60e-6))
    assert facts.limits == Limits(95, look.UNLIMITED, None, ("audio", "me"), "")
    assert facts.kernel.preemption == "full" and facts.kernel.real_time_share == 0.95


def test_a_laptop_on_its_battery(tmp_path):
    facts = seen(computers.laptop(tmp_path))
    matters = found(facts, "matters")
    assert set(matters) == {"How the clock is set", "Power", "Heat"}
    clock = matters["How the clock is set"]
    assert "powersave" in clock.seen and "balance_power" in clock.seen and "run at 0.8 of 4.0 GHz" in clock.seen
    assert clock.now == "echo performance | sudo tee /sys/devices/system/cpu/cpu*/cpufreq/scaling_governor"
    assert matters["Heat"].seen == (
        "Cores have slowed down 17 times for heat since the computer started. The processor is at 93 °C."
    )
    notes = found(facts, "note")
    assert set(notes) == {
        "Cores in pairs", "How deep cores rest", "Radios", "How much power it may draw", "What the firmware prefers",
    }  # fmt: skip
    assert facts.power_limit == PowerLimit(15, 51, 28)
    assert notes["How much power it may draw"].seen == "The processor may draw 51 W for about 28 s, then 15 W."
    prefers = notes["What the firmware prefers"]
    assert prefers.seen == "Its power profile is balanced, of low-power, balanced, performance."
    assert prefers.now == "echo performance | sudo tee /sys/firmware/acpi/platform_profile"
    assert notes["Cores in pairs"].seen == "4 cores are threads of 2 real ones."
    assert "C10, takes 890 µs" in notes["How deep cores rest"].seen
    assert "67 % of the deadline" in notes["How deep cores rest"].why
    # Bluetooth is off.
    assert notes["Radios"].now == "rfkill block wlan"
    assert facts.supplies == (Supply("Mains", False), Supply("Battery", True))
    assert told.headline(told.findings(facts)) == "3 findings matter for audio on this computer."
    assert told.state(told.findings(facts)) == "3 findings"


def test_the_battery_of_a_mouse_is_not_that_of_the_computer(tmp_path):
    computers.plain(tmp_path)
    for name, content in (("type", "Battery"), ("status", "Discharging"), ("scope", "Device")):
        put(tmp_path, f"sys/class/power_supply/hidpp_battery_0/{name}", content)
    facts = seen(tmp_path)
    assert facts.supplies == (Supply("Mains", True),) and "Power" not in found(facts, "matters")
    assert not on_battery(tmp_path) and on_battery(computers.laptop(tmp_path / "laptop"))


def test_heat_while_it_is_watched_is_told_beside_that_since_the_start(tmp_path):
    def then():
        for name, often in (("core", 19), ("package", 21)):
            put(tmp_path, f"{CPU}/cpu2/thermal_throttle/{name}_throttle_count", often)

    facts = seen(computers.laptop(tmp_path), then)
    assert facts.heated == 4
    assert "21 times for heat since the computer started, 4 times in the last" in found(facts, "matters")["Heat"].seen


@pytest.mark.parametrize(("celsius", "grade"), [(89, "well"), (90, "note")])
def test_what_is_hot_will_soon_slow_down(tmp_path, celsius, grade):
    computers.plain(tmp_path)
    put(tmp_path, "sys/class/hwmon/hwmon2/name", "k10temp")
    put(tmp_path, "sys/class/hwmon/hwmon2/temp1_input", 1000 * celsius)
    put(tmp_path, "sys/class/hwmon/hwmon2/temp3_input", 41000)
    assert found(seen(tmp_path), grade)["Heat"].seen == (
        f"No core has slowed down for heat since the computer started. The processor is at {celsius} °C."
    )
    for core in range(4):
        (tmp_path / f"{CPU}/cpu{core}/thermal_throttle/core_throttle_count").unlink()
    assert found(seen(tmp_path), grade)["Heat"].seen == f"The processor is at {celsius} °C."


def test_clocks_that_are_held_down_are_told_with_the_way_back(tmp_path):
    computers.plain(tmp_path)
    assert found(seen(tmp_path), "well")["How fast cores may run"].seen == "Nothing holds the cores' clock down."
    put(tmp_path, f"{CPU}/intel_pstate/no_turbo", 1)
    slow = found(seen(tmp_path), "note")["How fast cores may run"]
    assert "boost is switched off" in slow.seen and "no_turbo" in slow.now
    # Some kernels tell a lower limit then, which is no other finding.
    put(tmp_path, f"{CPU}/cpu1/cpufreq/scaling_max_freq", 3_000_000)
    assert found(seen(tmp_path), "note")["How fast cores may run"] == slow
    put(tmp_path, f"{CPU}/intel_pstate/no_turbo", 0)
    for core, cap in ((1, 3_000_000), (3, 2_000_000), (0, 3_930_000)):
        put(tmp_path, f"{CPU}/cpu{core}/cpufreq/scaling_max_freq", cap)
    assert found(seen(tmp_path), "matters")["How fast cores may run"].seen == (
        "2 cores may not run faster than 2.0 GHz where 4.0 GHz are possible: somebody has set it so."
    )
    assert "How fast cores may run" not in found(seen(computers.virtual(tmp_path / "virtual")))


@pytest.mark.parametrize(
    ("profile", "choices", "grade"),
    [("performance", "low-power balanced performance", "well"), ("quiet", "quiet balanced performance", "matters"),
     ("cool", "cool performance", "matters"), ("balanced", "low-power balanced", "well")],
)  # fmt: skip
def test_what_the_firmware_prefers_matters_if_it_has_something_faster(tmp_path, profile, choices, grade):
    computers.plain(tmp_path)
    put(tmp_path, "sys/firmware/acpi/platform_profile", profile)
    put(tmp_path, "sys/firmware/acpi/platform_profile_choices", choices)
    assert profile in found(seen(tmp_path), grade)["What the firmware prefers"].seen


def test_a_power_limit_that_lasts_is_in_order_and_half_a_one_is_none(tmp_path):
    computers.laptop(tmp_path)
    rapl = "sys/class/powercap/intel-rapl:0/constraint_1"
    put(tmp_path, f"{rapl}_power_limit_uw", 17_000_000)
    assert found(seen(tmp_path), "well")["How much power it may draw"].seen == (
        "The processor may draw 15 W for as long as it likes."
    )
    put(tmp_path, f"{rapl}_power_limit_uw", 0)
    assert seen(tmp_path).power_limit is None


@pytest.mark.parametrize(
    ("chain", "grade", "words"),
    [
        (0.66e-6, "well", "The cores compute as fast as when the plugins of the open session were measured."),
        (0.71e-6, "well", "as fast as"),
        (0.72e-6, "matters", "The same work takes 1.09 times as long as when the plugins"),
        (0.62e-6, "well", "as fast as"),
        (0.60e-6, "note", "The same work takes 0.91 of the time that it took when the plugins"),
    ],
)
def test_another_clock_than_that_of_the_figures_is_told(tmp_path, chain, grade, words):
    facts = msgspec.structs.replace(seen(computers.plain(tmp_path)), chain=chain)
    (finding,) = (each for each in told.findings(facts, None, 0.66e-6) if each.name == AGAINST)
    assert finding.grade == grade and words in finding.seen
    assert all(each.name != AGAINST for each in told.findings(facts))
    unknown = msgspec.structs.replace(facts, chain=0.0)
    assert all(each.name != AGAINST for each in told.findings(unknown, None, 0.66e-6))


def test_how_fast_a_core_is_now_is_looked_at_on_this_computer_alone_and_only_where_it_is_watched(tmp_path):
    here = clock_now.ask()
    # 250 steps that wait for each other.
    assert 250 / 10e9 < here < 250 * 20 / 1e9
    assert look.look(seconds=0.01).chain == pytest.approx(here, rel=0.5)
    assert look.look(seconds=0).chain == 0.0 == seen(computers.plain(tmp_path)).chain


@pytest.mark.parametrize("program", ["/bin/false", "/nowhere", "/bin/echo"])
def test_a_process_that_does_not_say_it_is_no_fault(monkeypatch, program):
    monkeypatch.setattr("sys.executable", program)
    assert clock_now.ask() == 0.0


def test_nobody_waits_for_it_who_has_no_time_any_more(monkeypatch):
    assert clock_now.ask(lambda: True) == 0.0
    monkeypatch.setattr(clock_now, "ask", lambda cancelled: 1.0)
    assert look.look(seconds=0.01, cancelled=lambda: True).chain == 0.0
    assert look.look(seconds=0.01).chain == 1.0


def test_a_virtual_computer_from_which_time_is_taken(tmp_path):
    root = computers.virtual(tmp_path)
    facts = seen(root, lambda: put(root, "proc/stat", "cpu 150 0 150 1080 0 0 0 20 0 0"))
    assert facts.stolen == pytest.approx(0.1)
    assert "10.0 % of its time was taken away" in found(facts, "matters")["A shared computer"].seen
    unseen = found(facts, "unseen")
    assert set(unseen) == {"How the clock is set", "How deep cores rest"}
    assert "usual for a virtual computer" in unseen["How the clock is set"].seen
    # One that nothing is taken from is only worth knowing.
    assert "A shared computer" in found(seen(root), "note")


def test_an_old_kernel_and_a_user_without_real_time(tmp_path):
    facts = seen(computers.old(tmp_path))
    matters = found(facts, "matters")
    assert set(matters) == {
        "Real time for this user", "How soon the kernel lets go", "The real-time brake", "The kernel's clock",
    }  # fmt: skip
    real_time = matters["Real time for this user"]
    assert "is refused" in real_time.seen
    assert "/etc/security/limits.d/95-audio.conf grants it to some groups, you belong to me" in real_time.seen
    assert "usermod -aG audio" in real_time.lasting
    assert "only 50 % of the time" in matters["The real-time brake"].seen
    assert "preempt=voluntary" in matters["How soon the kernel lets go"].seen
    assert "update-grub" in matters["How soon the kernel lets go"].lasting
    assert "hpet" in matters["The kernel's clock"].seen
    assert found(facts, "note")["Watching hosts"].now == "sudo sysctl kernel.perf_event_paranoid=2"


def test_what_a_service_gives_to_clients_of_a_sound_server_is_not_left_out(tmp_path):
    root = computers.old(tmp_path)
    alone = found(seen(root))["Real time for this user"]
    assert "any of them can make a block late" in alone.why and "service" not in alone.why
    put(root, "usr/share/dbus-1/system-services/org.freedesktop.RealtimeKit1.service", "[D-BUS Service]")
    served = found(seen(root))["Real time for this user"]
    # One thread of a host is not all that compute its tracks: it matters all the same.
    assert served.grade == alone.grade == "matters" and served.lasting == alone.lasting
    assert "gives it to one thread of each client" in served.why
    assert served.why.endswith(alone.why.removeprefix(told.ALONE))


def test_memory_that_is_packed_is_not_read_from_a_disk(tmp_path):
    root = computers.plain(tmp_path)

    def swapping(*places):
        lines = "\n".join(f"{place} partition 8000 0 100" for place in places)
        put(root, "proc/swaps", f"Filename Type Size Used Priority\n{lines}")
        put(root, "proc/vmstat", "pswpin 0\npswpout 0")
        memory = found(seen(root, lambda: put(root, "proc/vmstat", "pswpin 90\npswpout 10")))["Memory"]
        return memory.grade, "zram" in memory.seen, "disk" in memory.why

    assert swapping("/dev/zram0") == ("note", True, False)
    assert swapping("/dev/zram0", "/dev/sda3") == swapping("/dev/sda3") == swapping() == ("matters", False, True)


def test_a_place_that_cannot_be_reached_is_left_out(tmp_path, monkeypatch):
    def gone(_):
        raise OSError(116, "Stale file handle")

    monkeypatch.setattr(look.shutil, "disk_usage", gone)
    assert seen(computers.plain(tmp_path), places=[tmp_path]).disks == ()


def test_remedies_are_those_of_the_distribution(tmp_path):
    root = computers.old(tmp_path)
    put(root, "etc/os-release", "ID=arch")
    assert "realtime-privileges" in found(seen(root))["Real time for this user"].lasting
    assert "your boot loader" in found(seen(root))["How soon the kernel lets go"].lasting
    put(root, "etc/os-release", "ID=fedora")
    assert "grubby" in found(seen(root))["How soon the kernel lets go"].lasting


def test_cores_of_two_kinds(tmp_path):
    facts = seen(computers.hybrid(tmp_path))
    notes = found(facts, "note")
    assert notes["Unequal cores"].seen == "Of 8 cores 4 are slower than the others."
    assert notes["Unequal cores"].now == "taskset -c 0-3 NAME-OF-YOUR-HOST"
    assert "One thread of each are 0,2." in notes["Unequal cores"].why
    assert notes["Cores in pairs"].seen == "8 cores are threads of 6 real ones."
    assert notes["Cores in pairs"].now == "taskset -c 0,2,4-7 NAME-OF-YOUR-HOST"


def test_cores_that_are_set_apart(tmp_path):
    root = computers.plain(tmp_path)
    put(root, f"{computers.CPU}/isolated", "")
    assert "Cores set apart" not in found(seen(root))
    for listed, said in (("2-3", "Cores 2-3 are set apart"), ("1", "Core 1 is set apart")):
        put(root, f"{computers.CPU}/isolated", listed)
        apart = found(seen(root), "note")["Cores set apart"]
        assert apart.seen.startswith(said) and apart.now == f"taskset -c {listed} NAME-OF-YOUR-HOST"


def test_a_few_cores_that_may_run_faster_than_their_like_do_not_make_the_others_slow(tmp_path):
    notes = found(seen(computers.desktop(tmp_path)), "note")
    assert notes["Unequal cores"].seen == "Of 20 cores 8 are slower than the others."
    assert notes["Unequal cores"].now == "taskset -c 0-11 NAME-OF-YOUR-HOST"
    for core in range(12, 20):
        put(tmp_path, f"{computers.CPU}/cpu{core}/cpufreq/cpuinfo_max_freq", 5500000)
    (tmp_path / "sys/devices/cpu_atom/cpus").unlink()
    assert "Unequal cores" not in found(seen(tmp_path), "note")


def test_a_computer_that_swaps(tmp_path):
    root = computers.plain(tmp_path)
    facts = seen(root, lambda: put(root, "proc/vmstat", "pswpin 1000\npswpout 500"))
    memory = found(facts, "matters")["Memory"]
    assert "pages a second are swapped" in memory.seen and memory.now == "sudo sysctl vm.swappiness=10"
    put(root, "proc/meminfo", "MemTotal: 32000000 kB\nMemAvailable: 1000000 kB\nSwapTotal: 0 kB\nSwapFree: 0 kB")
    put(root, "proc/pressure/memory", "some avg10=9.00 avg60=4.00 avg300=1.00 total=9\nfull avg10=0.00")
    memory = found(seen(root), "matters")["Memory"]
    assert "1.0 of 30.5 GB are available, programs waited for memory 4.0 % of the time" in memory.seen


LOCKED = [(look.UNLIMITED, "well"), (8 << 30, "well"), (2 << 30, "note"), (1 << 20, "note")]


@pytest.mark.parametrize(("limit", "grade"), LOCKED)
def test_what_the_open_session_keeps_is_held_against_what_may_be_locked(tmp_path, limit, grade):
    facts, uses = seen(computers.plain(tmp_path)), [use("kit", f"u{k}") for k in range(3)]
    facts = msgspec.structs.replace(facts, limits=Limits(95, limit, True, ("audio",), ""))
    each = card(uses[0], 1e-5)
    up = msgspec.structs.replace(each.upkeep, memory=1 << 30)
    kept = kept_by(uses, {each.key: msgspec.structs.replace(each, upkeep=up)})
    of = next(f for f in told.findings(facts, kept) if f.name == told.REAL_TIME)
    assert of.grade == grade
    assert ("The plugins of the open session keep 3.0 GB" in of.seen) == (grade == "note")
    if limit == 2 << 30:
        assert of.seen.endswith("keep 3.0 GB, of which 2.0 GB may be locked in memory.")
        assert "taken away" in of.why and "memlock unlimited" in of.lasting
    assert "open session" not in next(f for f in told.findings(facts) if f.name == told.REAL_TIME).seen


def test_the_memory_that_the_open_session_needs_is_seen_beside_what_there_is(tmp_path):
    root = computers.plain(tmp_path)
    put(root, "proc/meminfo", "MemTotal: 16777216 kB\nMemAvailable: 12000000 kB\nSwapTotal: 0 kB\nSwapFree: 0 kB")
    facts, uses = seen(root), [use("kit", f"u{k}") for k in range(3)]
    each = card(uses[0], 1e-5)
    for size, grade in ((4 << 30, "well"), (5 << 30, "matters")):
        up = msgspec.structs.replace(each.upkeep, memory=size)
        kept = kept_by(uses, {each.key: msgspec.structs.replace(each, upkeep=up)})
        memory = next(f for f in told.findings(facts, kept) if f.name == "Memory")
        assert memory.grade == grade
        assert memory.seen.endswith(f"The plugins of the open session keep {3 * size >> 30}.0 GB.")
        assert ("unloaded" in memory.why) == (grade == "matters")
    assert "open session" not in found(facts)["Memory"].seen
    # Nothing is said of a session of which nothing is known.
    assert told.findings(facts, kept_by(uses, {})) == told.findings(facts)


def test_a_container_without_sys_is_not_called_fine(tmp_path):
    put(tmp_path, "proc/version", computers.VERSION.format("6.1.0", "PREEMPT_DYNAMIC"))
    facts = seen(tmp_path)
    assert set(found(facts, "unseen")) >= {
        "How the clock is set", "How deep cores rest", "Power", "Memory", "How soon the kernel lets go",
        "Real time for this user", "Virtual or real", "Audio devices",
    }  # fmt: skip
    assert set(found(facts, "well")) <= {"Other programs"}


def test_nothing_at_all_is_no_error(tmp_path):
    facts = seen(tmp_path)
    assert facts.cores == () and facts.idle is None
    assert "cannot be seen here" in told.advice(told.findings(facts))


def test_disks_full_far_away_and_slow():
    def finding(*disks, virtual=False):
        return found(Facts(disks=disks, is_virtual=virtual))

    gb = 10**9
    assert "5 of 100 GB free" in finding(Disk("/home/me", 100 * gb, 5 * gb))["Room on the disk"].seen
    assert finding(Disk("/home/me", 100 * gb, 5 * gb))["Room on the disk"].grade == "matters"
    assert "on a network (nfs4)" in finding(Disk("/mnt", 100 * gb, 50 * gb, "nfs4"))["The disk"].seen
    assert "turning platters" in finding(Disk("/mnt", 100 * gb, 50 * gb, "ext4", True))["The disk"].seen
    # A virtual computer's disk says that it turns whatever it is.
    assert "The disk" not in finding(Disk("/mnt", 100 * gb, 50 * gb, "ext4", True), virtual=True)


def test_the_disk_of_a_folder_is_the_one_it_is_mounted_from(tmp_path):
    root = computers.plain(tmp_path / "root")
    songs = tmp_path / "songs"
    songs.mkdir()
    put(root, "proc/self/mounts", f"/dev/sda1 / ext4 rw\n/dev/sdb1 {songs} xfs rw\n")
    put(root, "sys/block/sda/queue/rotational", 0)
    put(root, "sys/block/sdb/queue/rotational", 1)
    disk = look.disk(songs, root)
    assert (disk.system, disk.turns) == ("xfs", True)
    assert look.disk(tmp_path, root).turns is False


def test_audio_devices_that_are_open_say_at_what_they_run(tmp_path):
    root = computers.plain(tmp_path)
    assert "PCH; none is open" in found(seen(root))["Audio devices"].seen
    put(root, "proc/asound/card1/id", "Eight")
    told_of = ("format: S32_LE", "channels: 8", "rate: 48000 (48000/1)", "period_size: 256", "buffer_size: 768")
    put(root, "proc/asound/card1/pcm0p/sub0/hw_params", "\n".join(told_of))
    assert "Eight: 256 frames a period, 48 kHz, 8 channels" in found(seen(root))["Audio devices"].seen


def test_how_a_kernel_is_interrupted_is_told_by_whoever_knows(tmp_path):
    root = computers.plain(tmp_path)
    put(root, "proc/cmdline", "quiet")
    assert look.kernel(root).preemption is None
    put(root, "boot/config-6.12.1", "CONFIG_SMP=y\nCONFIG_PREEMPT_VOLUNTARY=y\nCONFIG_PREEMPT_DYNAMIC=y")
    assert look.kernel(root).preemption == "voluntary"
    # Others keep it elsewhere, or packed.
    (root / "boot/config-6.12.1").rename(root / "kept")
    assert look.kernel(root).preemption is None
    put(root, "proc/config.gz", "no archive")
    assert look.kernel(root).preemption is None
    (root / "proc/config.gz").write_bytes(gzip.compress(b"CONFIG_SMP=y\nCONFIG_PREEMPT=y\n"))
    assert look.kernel(root).preemption == "full"
    put(root, "lib/modules/6.12.1/config", "CONFIG_PREEMPT_LAZY=y")
    assert look.kernel(root).preemption == "lazy"
    put(root, "sys/kernel/debug/sched/preempt", "none voluntary (full) lazy")
    assert look.kernel(root).preemption == "full"
    put(root, "proc/version", computers.VERSION.format("6.12.1", "PREEMPT_RT"))
    assert look.kernel(root).preemption == "rt"


def test_other_programs_are_told_by_what_they_did_meanwhile(tmp_path, monkeypatch):
    root = computers.plain(tmp_path)
    busy = process(root / "proc", 500, "indexer")
    process(root / "proc", 501, "idle")
    task = busy / "task/500/status"
    task.write_text("Name:\tindexer\nvoluntary_ctxt_switches:\t10\n")
    (busy / "io").write_text("read_bytes: 0\nwrite_bytes: 100\n")

    def then():
        ticks = os.sysconf("SC_CLK_TCK")
        line = (busy / "stat").read_text().replace(" 300 100 ", f" {300 + ticks // 2} 100 ")
        (busy / "stat").write_text(line)
        task.write_text("Name:\tindexer\nvoluntary_ctxt_switches:\t3010\n")
        (busy / "io").write_text("read_bytes: 5000000\nwrite_bytes: 100\n")

    # The clock is the test's own: half a second passes while it is watched, however busy this computer is.
    passing = iter((7.0, 7.5))
    monkeypatch.setattr(look, "time", SimpleNamespace(monotonic=lambda: next(passing), sleep=time.sleep))
    root_facts = look.look(root, 0.5, (), lambda _: then())
    assert [each.name for each in root_facts.busy] == ["indexer"]
    assert root_facts.busy[0].cpu == pytest.approx(1.0, rel=0.02)
    said = found(root_facts, "matters")["Other programs"].seen
    assert "indexer" in said and "times a second" in said and "MB a second" in said


def test_what_this_program_has_started_is_no_other_program():
    own = os.getpid()
    parents = {own: 1, 500: own, 501: 500, 502: 1, 503: 502, 1: 0, 600: 601, 601: 600}

    def after(seconds):
        processes = {number: Counted(f"p{number}", seconds, 0, 0, parent) for number, parent in parents.items()}
        return Sample(processes, None, None, None)

    assert {each.number for each in busy_between(after(0.0), after(1.0), 2.0)} == {1, 502, 503, 600, 601}
    with subprocess.Popen(["sleep", "60"]) as child:
        assert sample(Path("/")).processes[child.pid].parent == own
        child.kill()
    subprocess.run([sys.executable, "-c", "import time\nwhile time.process_time() < 0.1: pass"], check=True)
    of = resource.getrusage(resource.RUSAGE_CHILDREN)
    ended = sample(Path("/")).processes[own].ended
    assert ended == pytest.approx(of.ru_utime + of.ru_stime, abs=0.03) and ended > 0.09


def test_what_begins_and_ends_meanwhile_is_that_of_whoever_started_it():
    """Of what had been seen before it ended that is left out: also if its parent has ended, and another one is told."""
    first = {1: (0.0, 7.0, 0), 20: (1.0, 5.0, 1), 21: (40.0, 0.0, 20), 30: (0.5, 0.5, 1), 31: (0.25, 0.0, 30)}
    last = {1: (0.0, 8.25, 0), 20: (1.1, 45.5, 1)}

    def taken(of):
        processes = {n: Counted(f"p{n}", cpu, 0, 0, parent, ended) for n, (cpu, ended, parent) in of.items()}
        return Sample(processes, None, None, None)

    one, two = taken(first), taken(last)
    (busy,) = busy_between(one, two, 10.0)
    assert (busy.name, busy.cpu, busy.started) == ("p20", pytest.approx(0.035), pytest.approx(0.025))
    said = found(Facts(busy=(msgspec.structs.replace(busy, cpu=0.35, started=0.25),), watched=10.0))
    assert "p20 with what it starts and ends again 35 % of a core" in said["Other programs"].seen
    # More than all cores had was that of something that could not be seen.
    two.processes[20] = two.processes[20]._replace(ended=45.0 + 1e4)
    assert busy_between(one, two, 10.0)[0].started == 0.0


def test_small_programs_are_in_order():
    facts = Facts(busy=(Busy(1, "clock", 0.01, 3.0),), watched=10.0)
    assert found(facts)["Other programs"].grade == "well"
    facts = Facts(busy=(Busy(1, "sync", 0.06),), watched=10.0)
    assert found(facts)["Other programs"].grade == "note"


def test_an_audio_device_beside_a_busy_network_card():
    facts = Facts(
        interrupts=(Interrupts("eth0-rx", (0, 50_000)), Interrupts("snd_hda_intel:card0", (3, 4000))), watched=10.0
    )
    assert found(facts)["Interrupts"].seen == "Core 1 serves snd_hda_intel:card0 and, 5000 times a second, eth0-rx."
    apart = Facts(interrupts=(Interrupts("eth0", (50_000, 0)), Interrupts("snd", (0, 4000))), watched=10.0)
    assert "Interrupts" not in found(apart)


def test_interrupts_are_counted_by_core_between_two_looks(tmp_path):
    root = computers.plain(tmp_path)
    head = "           CPU0       CPU1\n"
    put(root, "proc/interrupts", f"{head} 24:  10  20  IO-APIC  2-edge  snd_card\nNMI:  0  0  Non-maskable interrupts")
    after = f"{head} 24:  10  520  IO-APIC  2-edge  snd_card\nNMI:  0  0  Non-maskable interrupts"
    facts = seen(root, lambda: put(root, "proc/interrupts", after))
    assert facts.interrupts == (Interrupts("snd_card", (0, 500)),)


def test_this_computer_can_be_looked_at():
    facts = look.look(seconds=0.05)
    assert len(facts.cores) >= 1 and facts.memory.total
    assert facts.limits.is_given in (True, False)
    assert told.findings(facts)
