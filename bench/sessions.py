"""Editing large sessions and reading folders of audio: what a user waits for.

.venv/bin/python -m bench.sessions [FILES]

FILES stems of five minutes each (default 40; the goal counts 200) are written to a folder, read, and removed.
Edits are made in the real window, without a display, on 500 tracks with five plugins each.
"""

from __future__ import annotations

import os
import statistics
import sys
import tempfile
import time
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import msgspec
import numpy as np
import soundfile

from nimbleload.core.session import edits
from nimbleload.core.session.session import Session
from nimbleload.core.session.strips import Clip
from nimbleload.probe.choosing import house_uses
from nimbleload.store import audio_folder

RATE, MINUTES, TRACKS, PLUGINS = 48000, 5, 500, 5


def folder(files: int) -> None:
    """Reading a folder, against reading the same files and doing nothing with them."""
    rng = np.random.default_rng(0)
    stretch = rng.uniform(-0.3, 0.3, (RATE * 20, 2)).astype(np.float32)
    sound = np.concatenate([stretch, stretch * 1e-5] * (MINUTES * 60 // 40 + 1))[: RATE * MINUTES * 60]
    with tempfile.TemporaryDirectory() as scratch:
        where = Path(scratch)
        for number in range(files):
            soundfile.write(where / f"stem {number}.wav", sound, RATE, subtype="PCM_24")
        begun = time.perf_counter()
        for path in sorted(where.iterdir()):
            with soundfile.SoundFile(path) as file:
                for _ in file.blocks(RATE * 4, dtype="float32"):
                    pass
        plain = time.perf_counter() - begun
        begun = time.perf_counter()
        found = audio_folder.read(where)
        taken = time.perf_counter() - begun
    tracks = sum(1 for strip in found.session.strips if strip.kind == "track")
    print(f"{tracks} stems of {MINUTES} minutes: {taken:.1f} s, of which reading alone {plain:.1f} s "
          f"({taken / plain:.2f} times); for 200: {taken * 200 / files:.0f} s (goal 15)")  # fmt: skip


def large() -> Session:
    """So many tracks on ten buses, each with plugins."""
    made = edits.add(edits.empty("Large", length=600), "bus", "Bus", 10)
    made = edits.add(made, "track", "Track", TRACKS)
    uses, strips = house_uses()[:PLUGINS], []
    for number, strip in enumerate(made.strips):
        if strip.kind == "track":
            own = [msgspec.structs.replace(use, id=f"{strip.id}/{k}") for k, use in enumerate(uses)]
            inserts = tuple(use for use in own if use.family != "instrument")
            clips = (Clip(10.0 * (number % 20), 400.0),)
            strip = msgspec.structs.replace(strip, inserts=inserts, clips=clips, output=f"bus{number % 10 + 1}")
        strips.append(strip)
    return edits.checked(edits.with_strips(made, strips))


def window() -> None:
    """From a gesture to the tree that shows it, in the window's thread."""
    from PySide6.QtCore import QCoreApplication

    from nimbleload.app.background.rests import Rests
    from nimbleload.app.frame.application import application
    from nimbleload.app.frame.remembered import Remembered
    from nimbleload.app.frame.window import EDIT, MainWindow
    from nimbleload.app.look.theme import theme
    from nimbleload.shell.common import demo_saved
    from nimbleload.shell.screenshots import settle
    from nimbleload.store.opening import Opened
    from nimbleload.store.recovery import Recovery
    from nimbleload.store.session_file import Saved

    from .window import Heartbeat

    scratch = Path(tempfile.mkdtemp())
    theme.apply(application(), "night", 100)
    shown = MainWindow(demo_saved, None, Remembered(scratch / "window.ini"), Recovery(scratch))
    shown.resize(1280, 800)
    shown.show()
    rests = Rests(lambda: shown.desk.is_idle, shown)
    shown._show_opened(None, Opened(Saved(large())))
    shown.go(EDIT)
    while not shown.desk.is_idle or shown.desk.survey is None:
        QCoreApplication.processEvents()
    page = shown.edit
    page.choose("track100")

    beat = Heartbeat()

    def took(gesture) -> float:
        begun = time.perf_counter()
        gesture()
        QCoreApplication.processEvents()
        return time.perf_counter() - begun

    def longest(gesture) -> float:
        """The longest that the event loop is busy at one go, from the gesture to the last figure that follows."""
        return max(beat.during(lambda: (gesture(), settle(shown))), default=0.0)

    gestures = {
        "add a track": lambda: page.add("track"),
        "duplicate": lambda: page.duplicate(1),
        "bypass": lambda: (page.view.step_box(1), page._bypass()),
        "move": lambda: page.move_tracks(-1),
        "remove": page.remove,
        "undo": shown.desk.undo,
    }
    ids = iter(f"track{k}" for k in range(100, TRACKS))

    def elsewhere(measure, gesture) -> float:
        """Of a gesture on a track of its own, chosen before."""
        page.choose(next(ids))
        settle(shown)
        return measure(gesture)

    for name, gesture in gestures.items():
        times = sorted(elsewhere(took, gesture) for _ in range(7))
        stalls = sorted(elsewhere(longest, gesture) for _ in range(7))
        print(
            f"  {name:12} {1e3 * statistics.median(times):6.0f} ms, at most {1e3 * times[-1]:.0f} (goal 100); longest "
            f"stall {1e3 * statistics.median(stalls):.0f} ms, at most {1e3 * stalls[-1]:.0f} (goal 16)"
        )
    rests.end()
    shown.shut_down()


if __name__ == "__main__":
    print(f"{TRACKS} tracks with {PLUGINS} plugins each, in the window:")
    window()
    folder(int(sys.argv[1]) if len(sys.argv) > 1 else 40)
