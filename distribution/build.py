"""Builds what is given out: a wheel, a source archive, and a Debian package with all that it needs inside.

    ./nimble package [--to dist] [--only wheel|deb]

The Debian package holds the program and the libraries of the lock file under /usr/lib/nimble-load and runs on the
system's own Python; nothing is fetched when it is installed.
"""

from __future__ import annotations

import argparse
import gzip
import os
import re
import shutil
import subprocess
import sys
import tempfile
import tomllib
from datetime import UTC, datetime
from importlib import metadata
from pathlib import Path

from nimbleload import __version__
from nimbleload.app.frame.about import licence_of

from .man import page

ROOT = Path(__file__).resolve().parent.parent
HERE = ROOT / "distribution"
SIZES = (16, 32, 48, 64, 128, 256)
SHELLS = {"bash": "bash-completion/completions/nimble-load", "zsh": "zsh/vendor-completions/_nimble-load",
          "fish": "fish/vendor_completions.d/nimble-load.fish"}  # fmt: skip
LIBRARIES = "usr/lib/nimble-load"
LAUNCHER = """#!/bin/sh
# The libraries that Nimble Load was tested with go before the system's; what is compiled is kept for this user.
export PYTHONPATH=/usr/lib/nimble-load
export NUMBA_CACHE_DIR="${XDG_CACHE_HOME:-$HOME/.cache}/nimble-load/compiled"
exec /usr/bin/python3 -c 'from nimbleload.__main__ import @MAIN@; @MAIN@()' "$@"
"""
CONTROL = """Package: nimble-load
Version: {version}
Section: sound
Priority: optional
Architecture: {architecture}
Maintainer: The Nimble Load authors <authors@nimbleload.invalid>
Installed-Size: {size}
Depends: python3 (>= 3.11), python3 (<< 3.12), libc6 (>= 2.28), {packages}
Suggests: jackd2, pipewire, liblilv-0-0
Description: find out why a heavy mix session overloads
 Measures what every plugin of a mix session takes at every buffer size, shows
 how that work fills the cores through the whole piece and where it overloads,
 and finds the plan that gives up least to make it fit. Watches running hosts,
 JACK and PipeWire, and looks at the computer itself.
"""
# Users may not write beside the program: without this, Python would compile a thousand files at each start.
SCRIPTS = {
    "postinst": """#!/bin/sh
set -e
if [ "$1" = configure ]; then
    # What cannot be compiled is compiled at each start, as all of it was before.
    python3 -m compileall -q /usr/lib/nimble-load >/dev/null || true
fi
""",
    "prerm": """#!/bin/sh
set -e
find /usr/lib/nimble-load -name __pycache__ -prune -exec rm -rf {} +
""",
}
# Why what lintian would have otherwise is as it is.
OVERRIDES = """# The libraries of the lock file, as they were tested with the program: their makers' wheels.
nimble-load: embedded-library *
nimble-load: hardening-no-fortify-functions *
nimble-load: unstripped-binary-or-object *
nimble-load: unstripped-static-library *
nimble-load: custom-library-search-path *
nimble-load: shared-library-is-executable *
nimble-load: library-not-linked-against-libc *
nimble-load: no-shlibs *
nimble-load: python3-script-but-no-python3-dep *
nimble-load: wrong-path-for-interpreter *
nimble-load: script-not-executable *
nimble-load: extra-license-file *
nimble-load: package-contains-documentation-outside-usr-share-doc *
nimble-load: source-is-missing *
nimble-load: arch-dependent-file-in-usr-share *
nimble-load: bad-whatis-entry *
nimble-load: unusual-interpreter *
nimble-load: shared-library-lacks-prerequisites *
"""


def needed() -> list[str]:
    """The packages that the program needs when it runs, in the names of the lock file: all that its own ask for."""
    found: set[str] = set()
    waiting = list(tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]["dependencies"])
    while waiting:
        line = waiting.pop()
        name = re.split(r"[\s<>=!~;\[(]", line, maxsplit=1)[0].lower().replace("_", "-")
        if "extra ==" not in line and name not in found and _is_installed(name):
            found.add(name)
            waiting += metadata.requires(name) or ()
    return sorted(found)


def _is_installed(name: str) -> bool:
    try:
        metadata.version(name)
    except metadata.PackageNotFoundError:
        return False
    return True


def locked(names: list[str]) -> str:
    """The part of the lock file for these packages."""
    blocks = re.split(r"\n(?=[A-Za-z0-9_.-]+==)", (ROOT / "requirements.lock").read_text())
    return "\n".join(block for block in blocks if block.partition("==")[0].lower() in names) + "\n"


def wheel(to: Path) -> Path:
    """The wheel and the source archive."""
    subprocess.run([sys.executable, "-m", "hatchling", "build", "-d", str(to)], cwd=ROOT, check=True)
    return to / f"nimble_load-{__version__}-py3-none-any.whl"


def runtime_packages() -> str:
    """The Debian packages that ./nimble installs to run the program."""
    text = (ROOT / "nimble").read_text()
    found = re.search(r'runtime_packages="([^"]*)"', text)
    assert found is not None
    names = [name for name in found[1].split() if name not in ("python3-venv", "liblilv-0-0")]
    return ", ".join(names)


def filled(name: str) -> str:
    """A file of this folder with the version and the licence in it."""
    day = datetime.fromtimestamp(epoch(), UTC).date().isoformat()
    text = (HERE / name).read_text()
    return text.replace("@VERSION@", __version__).replace("@DATE@", day).replace("@LICENSE@", "MIT")


def epoch() -> int:
    """When the last change was made (seconds): the same tree gives the same package."""
    told = subprocess.run(["git", "log", "-1", "--format=%ct"], cwd=ROOT, capture_output=True, text=True)
    return int(os.environ.get("SOURCE_DATE_EPOCH") or told.stdout.strip() or 0)


def put(path: Path, content: str | bytes, mode: int = 0o644) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(content.encode() if isinstance(content, str) else content)
    path.chmod(mode)


def compressed(text: str) -> bytes:
    return gzip.compress(text.encode(), 9, mtime=0)


def completion(shell: str) -> str:
    """What a shell reads to complete commands and options."""
    environment = {**os.environ, "_NIMBLE_LOAD_COMPLETE": f"{shell}_source"}
    command = [str(Path(sys.executable).with_name("nimble-load"))]
    return subprocess.run(command, env=environment, capture_output=True, text=True, check=True).stdout


def lay_out(stage: Path, of: Path) -> None:
    """Everything of the Debian package in its place: the program from its wheel, and what belongs to a desktop."""
    libraries = stage / LIBRARIES
    listed = stage.parent / "runtime.lock"
    listed.write_text(locked(needed()))
    pip = [sys.executable, "-m", "pip", "install", "-q", "--disable-pip-version-check", "--no-compile", "--target",
           str(libraries)]  # fmt: skip
    subprocess.run([*pip, "--require-hashes", "--no-deps", "-r", str(listed)], check=True)
    subprocess.run([*pip, "--no-deps", str(of)], check=True)
    shutil.rmtree(libraries / "bin", ignore_errors=True)
    for left in (*libraries.rglob("__pycache__"), *libraries.glob("numba/tests"), *libraries.glob("numpy/**/tests"),
                 *libraries.glob("scipy/**/tests")):  # fmt: skip
        shutil.rmtree(left, ignore_errors=True)
    for name, main in (("nimble-load", "main"), ("nimble-load-desktop", "desktop")):
        put(stage / "usr/bin" / name, LAUNCHER.replace("@MAIN@", main), 0o755)
    share = stage / "usr/share"
    put(share / "applications/nimble-load.desktop", filled("nimble-load.desktop"))
    put(share / "mime/packages/nimble-load.xml", filled("nimble-load-mime.xml"))
    put(share / "metainfo/org.nimbleload.NimbleLoad.metainfo.xml", filled("org.nimbleload.NimbleLoad.metainfo.xml"))
    put(share / "icons/hicolor/scalable/apps/nimble-load.svg", filled("nimble-load.svg"))
    for size in SIZES:
        put(share / f"icons/hicolor/{size}x{size}/apps/nimble-load.png", icon(size))
    manual = compressed(page())
    put(share / "man/man1/nimble-load.1.gz", manual)
    put(share / "man/man1/nimble-load-desktop.1.gz", compressed(".so man1/nimble-load.1\n"))
    for shell, path in SHELLS.items():
        put(share / path, completion(shell))
    documents = share / "doc/nimble-load"
    put(documents / "copyright", licences((ROOT / "LICENSE").read_text()))
    put(documents / "changelog.gz", compressed(changelog()))
    put(documents / "NEWS.gz", compressed((ROOT / "CHANGELOG.md").read_text()))
    put(stage / "usr/share/lintian/overrides/nimble-load", OVERRIDES)


def changelog() -> str:
    """The package's changes in Debian's form; what changed in the program stands in NEWS.gz."""
    when = datetime.fromtimestamp(epoch(), UTC).strftime("%a, %d %b %Y %H:%M:%S +0000")
    return (
        f"nimble-load ({__version__}) unstable; urgency=medium\n\n  * What has changed stands in NEWS.gz.\n\n"
        f" -- The Nimble Load authors <authors@nimbleload.invalid>  {when}\n"
    )


def licences(own: str) -> str:
    """The program's licence, and which each library in the package says it is under."""
    common = "The GNU licences are in /usr/share/common-licenses/LGPL-3, LGPL-2.1 and GPL-3 on Debian systems."
    lines = [own.rstrip(), "", common, "", f"The package also holds, under {LIBRARIES}:", ""]
    for name in needed():
        lines.append(f"  {name} {licence_of(name)}")
    return "\n".join(lines) + "\n"


def icon(size: int) -> bytes:
    """The icon as PNG, drawn by the library that the window uses."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PySide6.QtCore import QBuffer, QByteArray, QIODevice
    from PySide6.QtGui import QGuiApplication, QImage, QPainter
    from PySide6.QtSvg import QSvgRenderer

    application = QGuiApplication.instance() or QGuiApplication([])
    image = QImage(size, size, QImage.Format.Format_ARGB32)
    image.fill(0)
    painter = QPainter(image)
    QSvgRenderer(str(HERE / "nimble-load.svg")).render(painter)
    painter.end()
    content = QByteArray()
    buffer = QBuffer(content)
    buffer.open(QIODevice.OpenModeFlag.WriteOnly)
    image.save(buffer, "PNG")
    del application
    return content.data()


def deb(to: Path, of: Path) -> Path:
    """The Debian package. CalledProcessError if one of the tools fails."""
    architecture = subprocess.run(["dpkg", "--print-architecture"], capture_output=True, text=True, check=True)
    target = to / f"nimble-load_{__version__}_{architecture.stdout.strip()}.deb"
    with tempfile.TemporaryDirectory() as place:
        stage = Path(place) / "stage"
        lay_out(stage, of)
        files = [path for path in stage.rglob("*") if path.is_file()]
        for path in files:
            path.chmod(0o755 if path.parent == stage / "usr/bin" else 0o644)
        size = sum(path.stat().st_size for path in files) // 1024
        control = CONTROL.format(version=__version__, architecture=architecture.stdout.strip(), size=size,
                                 packages=runtime_packages())  # fmt: skip
        put(stage / "DEBIAN/control", control)
        for name, content in SCRIPTS.items():
            put(stage / "DEBIAN" / name, content, 0o755)
        for path in [stage, *(path for path in stage.rglob("*") if path.is_dir())]:
            path.chmod(0o755)
        environment = {**os.environ, "SOURCE_DATE_EPOCH": str(epoch())}
        command = ["dpkg-deb", "--root-owner-group", "-Zxz", "-z1", "--build", str(stage), str(target)]
        subprocess.run(command, env=environment, check=True)
    return target


def main() -> None:
    words = argparse.ArgumentParser(prog="./nimble package")
    words.add_argument("--to", type=Path, default=ROOT / "dist")
    words.add_argument("--only", choices=("wheel", "deb"))
    asked = words.parse_args()
    asked.to.mkdir(parents=True, exist_ok=True)
    made = [wheel(asked.to)]
    if asked.only != "wheel":
        made.append(deb(asked.to, made[0]))
    for path in made:
        print(f"{path} ({path.stat().st_size / 1e6:.1f} MB)")


if __name__ == "__main__":
    main()
