"""What this process has taken of the system so far: page faults, bytes read from files, the graphics card."""

from __future__ import annotations

import contextlib
import resource
from pathlib import Path
from typing import NamedTuple

# Libraries for computing on a graphics card, and what people call them. Those that draw (libGL) tell nothing: plugins
# bring them along for their windows.
COMPUTING = {
    "libOpenCL": "OpenCL", "libcuda": "CUDA", "libcudart": "CUDA", "libvulkan": "Vulkan", "libamdhip64": "HIP",
    "libze_loader": "Level Zero",
}  # fmt: skip


class Taken(NamedTuple):
    """`faults` are all page faults, `read` the bytes read in all."""

    faults: int
    read: int


def taken() -> Taken:
    """As of now; what the system does not say counts as nothing."""
    used = resource.getrusage(resource.RUSAGE_SELF)
    return Taken(used.ru_minflt + used.ru_majflt, _line("/proc/self/io", "rchar:"))


def graphics() -> str:
    """The libraries for computing on a graphics card that this process has loaded, in words; empty if none."""
    found = set()
    with contextlib.suppress(OSError):
        for line in Path("/proc/self/maps").read_text(errors="replace").splitlines():
            words = line.split(maxsplit=5)
            found.add(COMPUTING.get(Path(words[5]).name.split(".so")[0], "") if len(words) > 5 else "")
    return " and ".join(sorted(found - {""}))


def _line(file: str, name: str) -> int:
    try:
        for line in Path(file).read_text().splitlines():
            if line.startswith(name):
                return int(line.split()[1])
    except (OSError, ValueError, IndexError):
        pass
    return 0
