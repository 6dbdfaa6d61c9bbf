"""Carrying out is killed at any instant: nothing half written lies under a final name, and the rest is made good."""

from __future__ import annotations

import random
import signal
import subprocess
import sys
import time

import soundfile

from nimbleload.deliver import carrying
from nimbleload.store.scratch import PREFIX
from tests.helpers import stems
from tests.helpers.often import often

KILLS = often(4)


def test_whenever_it_is_killed_what_lies_there_is_whole(tmp_path, monkeypatch):
    scratch = tmp_path / "scratch"
    scratch.mkdir()
    monkeypatch.setenv("TMPDIR", str(scratch))
    folder = carrying.folder_of(stems.three_freezes(tmp_path, 20))
    command = [sys.executable, "-m", "nimbleload", "carry-out", str(tmp_path / "mix.nimbleload"), "--no-session"]
    chance = random.Random(3)
    for _ in range(KILLS):
        with subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL) as process:
            time.sleep(chance.uniform(0.3, 4.0))
            process.send_signal(signal.SIGKILL)
        for file in folder.glob("*.wav") if folder.is_dir() else ():
            assert soundfile.info(file).frames >= 20 * stems.RATE
        whole = {file.name for file in folder.glob("*.wav.json")} if folder.is_dir() else set()
    said = subprocess.run(command, capture_output=True, text=True, check=True).stdout
    assert len(list(folder.glob("*.wav"))) == 3
    # What was whole before is not made again.
    assert said.count("there already") >= len(whole)
    # Rests of killed runs lie under other names, if at all.
    assert all(file.suffix in (".wav", ".json") or file.name.startswith(".") for file in folder.iterdir())
    # What workers had of it is gone with the last run.
    assert not list(scratch.glob(f"{PREFIX}*"))
