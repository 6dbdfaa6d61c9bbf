"""How a helper process of this program is ended: by closing its input, and by force only if that is not heard."""

from __future__ import annotations

import contextlib
import subprocess

PATIENCE = 2.0


def end(process: subprocess.Popen[bytes]) -> None:
    """Ends a process that ends when its input is closed, and waits until it has."""
    assert process.stdin is not None
    with contextlib.suppress(OSError):
        process.stdin.close()
    try:
        process.wait(PATIENCE)
    except subprocess.TimeoutExpired:
        process.kill()
        process.wait()
