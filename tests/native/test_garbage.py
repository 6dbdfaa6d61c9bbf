"""Memory that is free goes back to the system when it is asked to."""

from __future__ import annotations

import os
import subprocess
import sys

import pytest

PROGRAM = """
from pathlib import Path
from nimbleload.native.garbage import give_back

def held():
    return int(Path("/proc/self/statm").read_text().split()[1]) * 4096 >> 20

class Round:
    def __init__(self, content):
        self.own, self.content = self, content

made = [bytes(3000) for _ in range(60_000)]
# Every fiftieth stays, so that nothing lies free at the end alone; what is free is held by a circle.
kept, rounds = made[::50], Round(made)
del made, rounds
before = held()
give_back()
print(before, held())
"""


# A large block that was given back has made all of up to its size part of the heap, where what stays holds it.
LARGE = """
import sys
from pathlib import Path
from nimbleload.native.garbage import keep_little

def held():
    return int(Path("/proc/self/statm").read_text().split()[1]) * 4096 >> 20

if "little" in sys.argv:
    keep_little()
largest = bytearray(8 << 20)
del largest
kept = [(bytearray(400_000), bytearray(600)) for _ in range(500)]
before = held()
kept = [small for _, small in kept]
print(before, held())
"""


@pytest.mark.parametrize("asked", [("little",), ()])
def test_large_blocks_are_given_back_as_soon_as_they_are_free(asked):
    if "glibc" not in (os.confstr("CS_GNU_LIBC_VERSION") or ""):
        pytest.skip("only the GNU library can be asked to")
    ran = subprocess.run([sys.executable, "-c", LARGE, *asked], capture_output=True, text=True, check=True)
    before, after = map(int, ran.stdout.split())
    assert (before - after > 150) is bool(asked)


def test_what_is_free_is_given_back():
    if "glibc" not in (os.confstr("CS_GNU_LIBC_VERSION") or ""):
        pytest.skip("only the GNU library can be asked to")
    ran = subprocess.run([sys.executable, "-c", PROGRAM], capture_output=True, text=True, check=True)
    before, after = map(int, ran.stdout.split())
    assert before - after > 100
