"""Tries every installed plugin once, each in a process of its own, and writes docs/plugins-tried.md.

    .venv/bin/python -m bench.all_plugins [processes]

Two at a time by default, so the costs themselves mean little; what counts is which can be measured, and why not.
"""

from __future__ import annotations

import re
import sys
import time
from collections import Counter
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from nimbleload.core.cards.card import MEASURED
from nimbleload.core.session.plugins import PluginRef, PluginUse
from nimbleload.probe.catalogue import Installed, catalogue
from nimbleload.probe.effort import Effort
from nimbleload.probe.isolation import Failure, run
from nimbleload.probe.messages import CellMessage, Request

TABLE = Path(__file__).parents[1] / "docs" / "plugins-tried.md"
INSTRUMENT_WORDS = ("instrument", "synth")


def outcome(plugin: Installed) -> str:
    """The reason for failing, or an empty text when all cells came."""
    is_instrument = any(word in " ".join(plugin.features).lower() for word in INSTRUMENT_WORDS)
    ref = PluginRef(plugin.standard, plugin.identifier, plugin.name, plugin.vendor, plugin.version)
    use = PluginUse("x", ref, voices=4 if is_instrument else 0)
    cells = 0
    for message in run(Request(use, 48000, (256,), plugin.path, Effort(2, 0.02)), quiet_seconds=30):
        if isinstance(message, Failure):
            return message.reason
        cells += isinstance(message, CellMessage)
    return "" if cells == len(MEASURED) else "ended without a result"


def kind(reason: str) -> str:
    """A reason without the names in it."""
    if "requires what is not offered" in reason:
        return "requires: " + ", ".join(sorted(set(re.findall(r"[#/]([A-Za-z]+)(?=[,.]|$)", reason.split(": ", 1)[1]))))
    for words in ("refused to start", "has a port of"):
        if words in reason:
            return words + (reason.split(words)[1].split(":")[0] if words.startswith("has a port") else "")
    return reason.split(": no answer")[0].split(" (over")[0]


def main() -> None:
    processes = int(sys.argv[1]) if len(sys.argv) > 1 else 2
    plugins = [plugin for file in catalogue() for plugin in file.plugins]
    begun = time.monotonic()
    with ThreadPoolExecutor(processes) as pool:
        reasons = list(pool.map(outcome, plugins))
    seconds = time.monotonic() - begun
    lines = ["# Every installed plugin, tried once", ""]
    lines += [f"Made by `python -m bench.all_plugins`: {len(plugins)} plugins in {seconds / 60:.0f} minutes.", ""]
    lines += ["| standard | tried | measured | share |", "|---|---|---|---|"]
    for standard in sorted({p.standard for p in plugins}):
        own = [reason for plugin, reason in zip(plugins, reasons, strict=True) if plugin.standard == standard]
        good = own.count("")
        lines.append(f"| {standard.upper()} | {len(own)} | {good} | {100 * good / len(own):.1f} % |")
    total = reasons.count("")
    lines.append(f"| all | {len(plugins)} | {total} | {100 * total / max(len(plugins), 1):.1f} % |")
    lines += ["", "| why not | how many |", "|---|---|"]
    lines += [f"| {reason} | {count} |" for reason, count in Counter(map(kind, filter(None, reasons))).most_common()]
    TABLE.write_text("\n".join(lines) + "\n")
    print("\n".join(lines))
    for plugin, reason in zip(plugins, reasons, strict=True):
        if reason:
            print(f"  {plugin.standard}  {plugin.name}: {reason}")


if __name__ == "__main__":
    main()
