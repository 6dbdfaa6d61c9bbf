"""Which cores are alike, as the kernel of each computer tells (trees of our own making)."""

from __future__ import annotations

import os

import pytest

from nimbleload.native import cores as cores_module
from nimbleload.native.cores import Cores, cores
from tests.helpers import computers
from tests.helpers.computers import CPU, put


def found(root, allowed=range(8)):
    return cores(root, frozenset(allowed))


def test_equal_cores_come_from_the_last_to_the_first(tmp_path):
    here = found(computers.plain(tmp_path), range(4))
    assert here == Cores((3, 2, 1, 0), (), (), {core: (core,) for core in range(4)})
    assert here.order == (3, 2, 1, 0) and here.real == 4
    assert here.beside(3) == () and here.away(3) == (2, 1, 0)


def test_second_threads_of_cores_come_last_however_they_are_numbered(tmp_path):
    here = found(computers.laptop(tmp_path), range(4))  # 0 and 2 are one, 1 and 3
    assert here.order == (1, 0, 3, 2) and here.real == 2
    assert here.beside(1) == (3,) and here.away(1) == (0,) and here.beside(3) == (1,) and here.away(3) == (0,)
    # As one after the other.
    here = found(computers.hybrid(tmp_path / "other"))
    assert here.fast == (2, 0) and here.slow == (7, 6, 5, 4) and here.second == (3, 1)
    # A slow core does more than what another leaves to its second thread.
    assert here.order == (2, 0, 7, 6, 5, 4, 3, 1)
    assert here.beside(2) == (3,) and here.away(2) == (0, 7, 6, 5, 4)


def test_slow_cores_in_pairs_come_after_the_fast_ones_and_so_do_their_second_threads(tmp_path):
    for core in range(8):
        put(tmp_path, f"{CPU}/cpu{core}/topology/thread_siblings_list", f"{core // 2 * 2}-{core // 2 * 2 + 1}")
        put(tmp_path, f"{CPU}/cpu{core}/cpufreq/cpuinfo_max_freq", 5100 if core < 4 else 3300)
    assert found(tmp_path).order == (2, 0, 6, 4, 3, 1, 7, 5)


def test_cores_that_may_run_a_little_faster_than_their_like_do_not_make_these_slow(tmp_path):
    here = found(computers.desktop(tmp_path), range(20))
    assert here.fast == (10, 8, 6, 4, 2, 0) and here.slow == tuple(range(19, 11, -1)) and len(here.second) == 6


@pytest.mark.parametrize("told", ["cpu_capacity", "cpufreq/cpuinfo_max_freq"])
def test_two_kinds_of_cores_are_told_apart_by_what_the_kernel_has_of_them(tmp_path, told):
    for core in range(4):
        put(tmp_path, f"{CPU}/cpu{core}/{told}", 400 if core < 2 else 1024)
    here = found(tmp_path, range(4))
    assert here.fast == (3, 2) and here.slow == (1, 0)


def test_of_three_kinds_all_but_the_fastest_are_slow_and_a_ranking_makes_no_kinds(tmp_path):
    for core, most in enumerate((5100, 5100, 3800, 3800, 2500)):
        put(tmp_path, f"{CPU}/cpu{core}/cpufreq/cpuinfo_max_freq", most)
    assert found(tmp_path, range(5)).slow == (4, 3, 2)
    # As some drivers rank cores that are alike: each a little below the one before.
    for core in range(8):
        put(tmp_path, f"{CPU}/cpu{core}/cpufreq/cpuinfo_max_freq", 6775 - 146 * core)
    cores_module._cores.cache_clear()
    assert found(tmp_path).slow == ()


def test_only_what_this_process_may_use_counts(tmp_path):
    root = computers.hybrid(tmp_path)
    # Kept on one kind, all are as fast as each other; a thread whose other half is not ours has a core of its own.
    assert found(root, (4, 5)) == Cores((5, 4), (), (), {4: (4,), 5: (5,)})
    assert found(computers.desktop(tmp_path / "listed"), (12, 13)).slow == ()
    assert found(root, (1, 2)) == Cores((2, 1), (), (), {1: (1,), 2: (2,)})
    assert found(root, (1, 2, 6)).slow == (6,)


def test_what_is_not_told_is_a_core_like_any_other(tmp_path):
    assert found(tmp_path, (0, 1)) == Cores((1, 0), (), (), {0: (0,), 1: (1,)})


def test_this_computer_is_read_as_well():
    assert sorted(cores().order) == sorted(os.sched_getaffinity(0))
