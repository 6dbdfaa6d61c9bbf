"""Where a computer's power comes from."""

from __future__ import annotations

from pathlib import Path

from .reading import inside, text

ROOT = Path("/")


def on_battery(root: Path = ROOT) -> bool:
    """Whether it runs on its battery, as far as the kernel below a root folder tells. Batteries of mice and the like
    say that they belong to a device."""
    return any(
        text(each / "type") == "Battery" and text(each / "scope") != "Device" and text(each / "status") == "Discharging"
        for each in inside(root / "sys/class/power_supply", "*")
    )
