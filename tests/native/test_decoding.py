"""What is read from JSON in many threads at once."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import msgspec
import pytest

import nimbleload
from nimbleload.native.decoding import converted, decoded, decoder

# Types that no thread has met before, with types inside, met by eight threads at one instant, many times over. Getting
# to know one takes a little, as it does with types of many fields, of which some are named by words.
MANY = """
import sys, threading
import msgspec
from nimbleload.native.decoding import decoded
sys.setswitchinterval(1e-6)
words = msgspec.json.encode({"inside": [{f"f{k}": k for k in range(40)}] * 3})
for round in range(150):
    inner = msgspec.defstruct("Inner", [(f"f{k}", "int") for k in range(40)])
    outer = msgspec.defstruct("Outer", [("inside", list[inner])])
    begin, wrong = threading.Barrier(8), []
    def work():
        begin.wait()
        try:
            if len(DECODE(words, outer).inside) != 3:
                wrong.append(round)
        except Exception as error:
            wrong.append(error)
    threads = [threading.Thread(target=work) for _ in range(8)]
    for each in threads: each.start()
    for each in threads: each.join()
    if wrong:
        sys.exit(str(wrong[0]))
"""


def test_types_that_many_threads_meet_at_once_are_known_whole():
    done = subprocess.run(
        [sys.executable, "-c", MANY.replace("DECODE", "decoded")], capture_output=True, text=True, check=False,
        timeout=120,
    )  # fmt: skip
    assert (done.returncode, done.stderr) == (0, "")


def test_a_decoder_is_made_once_and_says_what_is_wrong():
    assert decoder(list[int]) is decoder(list[int])
    assert decoded(b"[1, 2]", list[int]) == [1, 2] and converted((1, 2), list[int]) == [1, 2]
    with pytest.raises(msgspec.MsgspecError):
        decoded(b'["a"]', list[int])
    with pytest.raises(msgspec.MsgspecError):
        converted(["a"], list[int])


def test_nothing_is_read_in_another_way():
    """A thread that meets a type while another gets to know it crashes the process."""
    root = Path(nimbleload.__file__).parent
    ways = "msgspec.json.decode(", "json.Decoder(", "msgspec.convert("
    found = [str(path) for path in root.rglob("*.py") if any(way in path.read_text() for way in ways)]
    assert found == [str(root / "native" / "decoding.py")]
