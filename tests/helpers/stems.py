"""Exchange files with audio in them, for what is rendered."""

from __future__ import annotations

import io
from pathlib import Path

import numpy as np
import soundfile

from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.store import dawproject, session_file
from nimbleload.store.session_file import Saved
from tests.helpers import exchange as x

RATE = 48000
SHORELINE = '<BuiltinDevice deviceID="house.shoreline" deviceName="Shoreline" deviceRole="audioFX" pluginVersion="1"/>'


def noise(seconds: float = 2.0, channels: int = 2, seed: int = 1, level: float = 0.1) -> np.ndarray:
    """Seeded noise (n, channels, float32)."""
    found = level * np.random.default_rng(seed).standard_normal((int(seconds * RATE), channels))
    return found.astype(np.float32)


def wave(sound: np.ndarray, rate: int = RATE) -> bytes:
    out = io.BytesIO()
    soundfile.write(out, sound, rate, format="WAV", subtype="FLOAT")
    return out.getvalue()


def audio(file: str = "audio/a.wav", seconds: float = 2.0, rate: int = RATE, external: str = "") -> str:
    """An Audio element that plays a file."""
    outside = f' external="{external}"' if external else ""
    return f'<Audio duration="{seconds}" sampleRate="{rate}" channels="2"><File path="{file}"{outside}/></Audio>'


def chunks(path: Path) -> dict[str, bytes]:
    """The chunks of a RIFF file by name, in order."""
    data = path.read_bytes()
    assert data[:4] == b"RIFF" and data[8:12] == b"WAVE" and int.from_bytes(data[4:8], "little") == len(data) - 8
    at, found = 12, {}
    while at < len(data):
        length = int.from_bytes(data[at + 4 : at + 8], "little")
        found[data[at : at + 4].decode()] = data[at + 8 : at + 8 + length]
        at += 8 + length + length % 2
    return found


def written(path: Path, clips: str, devices: str = "", files: dict[str, bytes] | None = None, more: str = "") -> Path:
    """An exchange file with one track “Voice” of these clips (seconds) and devices, another, and a main output."""
    structure = (
        x.track("t", "Voice", x.channel("c", devices=devices)) + x.track("u", "Other", x.channel("cu")) + x.main_track()
    )
    arrangement = x.lanes("t", clips, unit="seconds") + more
    return x.write(path, x.project(structure, arrangement), files or {"audio/a.wav": wave(noise())})


def three_freezes(folder: Path, seconds: int) -> Path:
    """A session of three tracks that play so long, all to be frozen: `mix.nimbleload`, made of the exchange file that
    is given back."""
    tracks = "".join(x.track(f"t{k}", f"Track {k}", x.channel(f"c{k}")) for k in range(3))
    clip = x.clip(0, seconds, audio(), loopStart=0, loopEnd=2)
    lanes = "".join(x.lanes(f"t{k}", clip, unit="seconds") for k in range(3))
    files = {"audio/a.wav": wave(noise())}
    source = x.write(folder / "mix.dawproject", x.project(tracks + x.main_track(), lanes), files)
    plan = Plan(tuple(Decision("freeze", f"t{k}") for k in range(3)))
    session_file.write(folder / "mix.nimbleload", Saved(dawproject.read(source).session, plan))
    return source
