"""Whether everything is compiled that the window needs, and a word on the screen while that is made good.

`./nimble setup` sees to it; a program that was installed as a package does at its first start.
"""

from __future__ import annotations

import hashlib
import subprocess
import sys
from pathlib import Path

import platformdirs

from .. import __version__

WORDS = "Nimble Load is getting ready: this takes a minute, once."


def stamp() -> Path:
    """The file that says what was compiled last."""
    return Path(platformdirs.user_cache_dir("nimble-load")) / "ready"


def digest() -> str:
    """What of the program is compiled: its version, where it lies, and when its newest file was changed."""
    package = Path(__file__).resolve().parent.parent
    newest = max(path.stat().st_mtime_ns for path in package.rglob("*.py"))
    return hashlib.sha256(f"{__version__} {package} {newest}".encode()).hexdigest()


def is_ready() -> bool:
    """Whether what is compiled fits the program as it is."""
    try:
        return stamp().read_text() == digest()
    except OSError:
        return False


def note() -> None:
    """Everything is compiled. Where that cannot be noted, it is asked for again the next time."""
    try:
        stamp().parent.mkdir(parents=True, exist_ok=True)
        stamp().write_text(digest())
    except OSError:
        return


def get_ready() -> None:
    """Compiles in a process of its own, with a word on the screen meanwhile; at once if nothing is to be done."""
    if is_ready():
        return
    from PySide6.QtCore import QEventLoop, Qt, QTimer
    from PySide6.QtWidgets import QLabel

    process = subprocess.Popen([sys.executable, "-m", "nimbleload", "prepare"], stdout=subprocess.DEVNULL)
    label = QLabel(WORDS)
    label.setWindowTitle("Nimble Load")
    label.setAlignment(Qt.AlignmentFlag.AlignCenter)
    label.setMargin(40)
    label.show()
    loop, look = QEventLoop(), QTimer()
    look.setInterval(100)
    look.timeout.connect(lambda: loop.quit() if process.poll() is not None or not label.isVisible() else None)
    look.start()
    loop.exec()
    # Whoever closes it does not want to wait: then the first figures take as long.
    label.hide()
