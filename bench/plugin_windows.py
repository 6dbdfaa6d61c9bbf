"""Opens the own windows of installed plugins, each in its process.  python -m bench.plugin_windows [STANDARD …]

How many open, what they take, whether what they save is taken back, and whether one that is killed is told. Needs
Xvfb. By default CLAP, VST3 and LV2.
"""

from __future__ import annotations

import os
import signal
import sys
import threading
import time
from collections import Counter
from pathlib import Path

import msgspec

from nimbleload.core.session.plugins import PluginUse
from nimbleload.probe import catalogue
from nimbleload.probe.choosing import choices
from nimbleload.probe.describing import parameters
from nimbleload.probe.isolation import Failure
from nimbleload.probe.plugin_window import WITH_WINDOWS, Left, Opened, OwnWindow, Takes, taken
from nimbleload.probe.supervisor import below
from tests.helpers.display import display

OPEN_SECONDS = 3.5


def tried(use: PluginUse, kill: bool) -> tuple[str, float, list[Takes], Left | None]:
    """Opens one window for a moment: what became of it, seconds until it was open, what it took, and what it left."""
    window, takes, opened = OwnWindow(use, 48000, use.label), [], 0.0
    for event in window.events():
        if isinstance(event, Opened):
            opened = event.seconds
            threading.Timer(OPEN_SECONDS, end_all if kill else window.close).start()
        elif isinstance(event, Takes):
            takes.append(event)
        elif isinstance(event, Failure):
            return event.reason, opened, takes, None
        else:
            return "", opened, takes, event
    return "ended without a word", opened, takes, None


def end_all() -> None:
    """Kills every worker."""
    for process in below(os.getpid()):
        if b"nursery" in Path(f"/proc/{process}/cmdline").read_bytes() and below(process) == []:
            os.kill(process, signal.SIGKILL)


def main() -> None:
    wanted = sys.argv[1:] or WITH_WINDOWS
    counts: dict[str, Counter[str]] = {standard: Counter() for standard in wanted}
    with display() as name:
        os.environ["DISPLAY"] = name
        for use in choices(catalogue.catalogue()):
            if use.plugin.standard not in wanted:
                continue
            count = counts[use.plugin.standard]
            why, opened, takes, left = tried(use, False)
            if "no window of its own" in why:
                count["without one"] += 1
                continue
            if left is None:
                count["failed"] += 1
                print(f"{use.plugin.standard:5} {use.label:28} {why}", flush=True)
                continue
            count["opened"] += 1
            back = parameters(msgspec.structs.replace(use, setting=left.setting), 48000)
            count["state taken back"] += not isinstance(back, Failure)
            why, *_ = tried(use, True)
            count["killed, and told"] += "SIGKILL" in why
            cores, memory = taken(takes)
            said = f"{use.plugin.standard:5} {use.label:28} {opened:5.2f} s, {memory / 2**20:4.0f} MB"
            print(said + (f", {100 * cores:4.1f} % of a core" if cores is not None else ""), flush=True)
    for standard, count in counts.items():
        print(standard, dict(count))


if __name__ == "__main__":
    begun = time.monotonic()
    main()
    print(f"{time.monotonic() - begun:.0f} s")
