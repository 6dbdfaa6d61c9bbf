"""Where a computer's power comes from."""

from __future__ import annotations

from pathlib import Path

from .reading import inside, number, text

ROOT = Path("/")
BATTERY = "Battery"


def supplies(root: Path = ROOT) -> list[tuple[str, bool]] | None:
    """Batteries and mains, as the kernel calls them below a root folder, and whether each gives power now; None if that
    cannot be seen. Those of a mouse, a keyboard or a headset give this computer nothing."""
    folder, found = root / "sys/class/power_supply", []
    if not folder.is_dir():
        return None
    for each in inside(folder, "*"):
        kind = text(each / "type") or ""
        is_on = number(each / "online") == 1 if kind != BATTERY else text(each / "status") == "Discharging"
        if text(each / "scope") != "Device":
            found.append((kind, is_on))
    return found


def on_battery(root: Path = ROOT) -> bool:
    """Whether it runs on its battery, as far as the kernel below a root folder tells."""
    return (BATTERY, True) in (supplies(root) or [])
