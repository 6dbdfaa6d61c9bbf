"""Code that only waits, as compilers make it, and code that does not."""

from __future__ import annotations

import ctypes
import platform
import shutil
import subprocess

import pytest

from nimbleload.machine.pause_loops import PAUSE, YIELD, loops

SOURCE = """
#include <stdatomic.h>
#include <sched.h>
extern void step(void);
void plain(atomic_int *go) { while (!atomic_load(go)) __builtin_ia32_pause(); }
void relaxed(atomic_int *go) {
    while (!atomic_load_explicit(go, memory_order_acquire)) { __builtin_ia32_pause(); __builtin_ia32_pause(); }
}
int counted(atomic_int *go) {
    for (int k = 0; k < 4000; k++) { if (atomic_load(go)) return 1; __builtin_ia32_pause(); }
    return 0;
}
void locks(atomic_flag *lock) { while (atomic_flag_test_and_set(lock)) __builtin_ia32_pause(); }
void at_least(atomic_long *done, long many) { do __builtin_ia32_pause(); while (atomic_load(done) < many); }
void backs_off(atomic_int *go) {
    for (int many = 1; !atomic_load(go); many = many < 64 ? 2 * many : 64)
        for (int k = 0; k < many; k++) __builtin_ia32_pause();
}
void mixes(float *out, const float *in, float gain, long many) {
    for (long k = 0; k < many; k++) out[k] += gain * in[k];
}
void once(atomic_int *go, float *out, long many) {
    if (!atomic_load(go)) __builtin_ia32_pause();
    step();
    for (long k = 0; k < many; k++) out[k] *= 0.5f;
}
"""
WAITS = ("plain", "relaxed", "counted", "locks", "at_least", "backs_off")


def functions(program):
    """By the name of each function: where it begins in the file, and its code."""
    lines = subprocess.run(["readelf", "-sW", program], capture_output=True, text=True, check=True).stdout.splitlines()
    symbols = [line.split() for line in lines if " FUNC " in line]
    # A shared object without a layout of its own has its code where its addresses say.
    content = program.read_bytes()
    return {s[7]: (int(s[1], 16), content[int(s[1], 16) : int(s[1], 16) + int(s[2])]) for s in symbols if int(s[2])}


@pytest.mark.parametrize("ways", [("-O1",), ("-O2",), ("-O3", "-march=native"), ("-Os",)])
def test_loops_of_compilers_are_found_and_work_is_not(tmp_path, ways):
    if shutil.which("gcc") is None or shutil.which("readelf") is None:
        pytest.skip("no C compiler")
    (tmp_path / "a.c").write_text(SOURCE)
    made = tmp_path / "a.so"
    subprocess.run(["gcc", *ways, "-fPIC", "-shared", "-o", made, tmp_path / "a.c"], check=True)
    found, code = list(loops(made.read_bytes())), functions(made)
    for name in WAITS:
        begin, own = code[name]
        inside = [each for each in found if begin <= each[0] and each[1] <= begin + len(own)]
        pauses = [begin + k for k in range(len(own)) if own.startswith(PAUSE, k)]
        assert pauses and all(any(a <= at < b for a, b in inside) for at in pauses), name
    for name in ("mixes", "once"):
        begin, own = code[name]
        assert not any(a < begin + len(own) and b > begin for a, b in found), name


@pytest.mark.parametrize(
    ("code", "wanted"),
    [
        (PAUSE + b"\xeb\xfc", [(0, 4)]),
        (b"\x90" * 9 + PAUSE + b"\x85\xc0\x74\xfa", [(9, 15)]),
        (b"\x90" * 9 + PAUSE + b"\x85\xc0\x74\xfb", []),  # into the pause itself
        (PAUSE + b"\xe9" + (-7).to_bytes(4, "little", signed=True), [(0, 7)]),
        (bytes(600) + PAUSE + b"\x0f\x85" + (-508).to_bytes(4, "little", signed=True), [(100, 608)]),
        (bytes(600) + PAUSE + b"\x0f\x85" + (-560).to_bytes(4, "little", signed=True), []),  # all too far
        (PAUSE + b"\xeb\x10", []),
        (PAUSE + b"\xeb", []),
        (PAUSE + b"\xe9\xf9\xff\xff", []),
        (bytes(40) + YIELD, [(40, 48)]),
        (b"", []),
    ],
)
def test_by_hand(code, wanted):
    assert list(loops(code)) == wanted


def test_the_systems_library_gives_way_where_it_is_said_to():
    if platform.machine() != "x86_64" or platform.libc_ver()[0] != "glibc":
        pytest.skip("another library, or another processor")
    code = ctypes.string_at(ctypes.cast(ctypes.CDLL(None).sched_yield, ctypes.c_void_p).value, 24)
    ((begin, end),) = loops(code)
    assert code[begin:end].startswith(YIELD)
