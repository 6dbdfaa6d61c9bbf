"""Two exports of one mix, as a host writes them that numbers its elements anew each time."""

from __future__ import annotations

from pathlib import Path

from tests.helpers import exchange as x

FIRST = ("Bass", "Harp", "Voice")
# A track is new, one gone, one called otherwise: every number means another track.
SECOND = ("Drums", "Bass", "Lead voice")
FILES = {"Lead voice": "Voice"}


def export(path: Path, names: tuple[str, ...], bass: tuple[str, ...] = ("Tone", "Squeeze")) -> Path:
    """An exchange file of tracks with these names, an insert on each; the bass has these."""
    tracks, played = [], []
    for k, name in enumerate(names):
        plugins = bass if name == "Bass" else ("Tone",)
        devices = "".join(x.plugin("ClapPlugin", f"test.{each.lower()}", each) for each in plugins)
        tracks.append(x.track(f"t{k}", name, x.channel(f"c{k}", devices=devices, destination="cm")))
        audio = x.AUDIO.replace("plain", FILES.get(name, name).lower())
        played.append(x.lanes(f"t{k}", x.clip(0, 8, audio)))
    return x.write(path, x.project("".join(tracks) + x.main_track(), "".join(played)))
