"""The same processors of zam-plugins as LADSPA, LV2, CLAP and VST3: how far their costs agree.

    .venv/bin/python -m bench.standards

Each is measured in all four one after the other, three times round, and the median counts: the machine is noisy.
"""

from __future__ import annotations

import statistics

from nimbleload.core.session import PluginRef, PluginUse, Session, Strip
from nimbleload.probe import catalogue, session_run
from nimbleload.probe.measure import Effort

ROUNDS = 3
BUFFER = 256
STANDARDS = ("ladspa", "lv2", "clap", "vst3")
EFFORT = Effort(5, 0.05)


def cost(plugin: catalogue.Installed) -> tuple[float, bool]:
    """Seconds per block at 256 samples, and whether the computer was quiet."""
    use = PluginUse("x", PluginRef(plugin.standard, plugin.identifier, plugin.name))
    of = Session("x", 48000, 1.0, (Strip("a", "a", inserts=(use,)),))
    todo = [job._replace(details=False) for job in session_run.jobs(of, {}, (BUFFER,))]
    *_, last = session_run.run(todo, {}, effort=EFFORT)
    cell = last.card.cell(48000, BUFFER, "sounding")
    return (cell.mean, cell.quiet) if cell else (float("nan"), False)


def main() -> None:
    by_name: dict[str, dict[str, catalogue.Installed]] = {}
    for plugin in catalogue.paths_by_identifier(catalogue.catalogue()).values():
        name = plugin.name.replace(" ", "")
        if name.lower().startswith("zam"):
            by_name.setdefault(name, {})[plugin.standard] = plugin
    within = total = 0
    print("µs a block of 256 samples" + "".join(f"{s:>9}" for s in STANDARDS) + "   apart")
    for name, found in sorted(by_name.items()):
        if set(found) != set(STANDARDS):
            continue
        rounds = [[cost(found[s])[0] for s in STANDARDS] for _ in range(ROUNDS)]
        costs = [statistics.median(column) for column in zip(*rounds, strict=True)]
        apart = max(costs) / min(costs) - 1
        total += 1
        within += apart <= 0.10
        print(f"{name:25}" + "".join(f"{c * 1e6:9.2f}" for c in costs) + f"  {100 * apart:5.1f} %", flush=True)
    print(f"{within} of {total} within 10 %")


if __name__ == "__main__":
    main()
