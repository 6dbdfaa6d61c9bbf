"""The rooms of the house: imports run downwards only, and what must be clean is."""

from __future__ import annotations

import ast
import re
import subprocess
import sys
from pathlib import Path

import pytest

SOURCE = Path(__file__).parents[1] / "src" / "nimbleload"
# From top to bottom. A room may import those below it; `house` and `native` know nothing else of ours.
ROOMS = [
    "__main__", "shell", "app", "demo", "deliver", "probe", "machine", "store", "beside", "core", "house", "native",
]  # fmt: skip
ONLY_BY = {"demo": {"__main__", "app", "shell", "demo"}}
KEPT_OUT_OF_CORE = {
    "PySide6",
    "subprocess",
    "threading",
    "multiprocessing",
    "socket",
    "time",
    "pathlib",
    "io",
    "os",
    "sqlite3",
}


def room_of(path: Path) -> str:
    return path.relative_to(SOURCE).parts[0].removesuffix(".py")


def imports(path: Path) -> set[str]:
    """Every module that a file imports anywhere in it, relative ones resolved."""
    package = ["nimbleload", *path.relative_to(SOURCE).parts[:-1]]
    found = set()
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Import):
            found.update(alias.name for alias in node.names)
        elif isinstance(node, ast.ImportFrom):
            base = package[: len(package) - node.level + 1] if node.level else []
            module = ".".join([*base, *(node.module.split(".") if node.module else [])])
            found.add(module)
            found.update(f"{module}.{alias.name}" for alias in node.names)
    return found


FILES = sorted(SOURCE.rglob("*.py"))


# When a figure was measured, how old a file is, and today's date in a list: nothing else may depend on a clock that the
# user, a server or a time zone can put forward or back.
BY_THE_CALENDAR = {"store/library.py", "store/atomic.py", "deliver/carrying.py", "deliver/there.py"}


def test_how_long_something_takes_is_not_read_from_a_clock_that_jumps():
    asks = re.compile(r"\btime\.time(_ns)?\(|\bdatetime\.|\bdate\.today\(|CLOCK_REALTIME|QDateTime|QTime\b")
    found = {str(path.relative_to(SOURCE)) for path in FILES if asks.search(path.read_text())}
    assert found == BY_THE_CALENDAR


# Lines in which it is two or more, whatever comes.
ALWAYS_SEVERAL = re.compile(
    r"== 1|several|these \{|tracks (into|end in|are called)|plugins called|cores are threads|cores \{|threads it needs|"
    r"buses and returns|files could be read|times in|the plan has|would have|holds \{|places\)|deadlines\{|bytes|"
    r"stems are in"
)


def test_figures_before_words_agree_with_them():
    """"1 tracks" comes of a number that is put in front of a plural as it is: `units.count` sees to it."""
    number = r"len\([^{}]*\)|[\w.]*\b(cores|threads|missed|failed|held|live|plugins|notes)"
    plural = re.compile(rf"\{{({number})\}} [a-z]+s\b.*")
    lines = [(path, line) for path in FILES for line in path.read_text().splitlines()]
    found = [(str(path.relative_to(SOURCE)), each[0]) for path, line in lines
             if (each := plural.search(line)) and not ALWAYS_SEVERAL.search(line)]  # fmt: skip
    assert found == []


@pytest.mark.parametrize("path", FILES, ids=lambda p: str(p.relative_to(SOURCE)))
def test_imports_run_downwards(path):
    room = room_of(path)
    if room == "__init__":
        return
    for module in imports(path):
        parts = module.split(".")
        if parts[0] != "nimbleload" or len(parts) < 2 or parts[1] not in ROOMS:
            continue
        target = parts[1]
        assert ROOMS.index(target) >= ROOMS.index(room), f"{room} imports {module}"
        assert target == room or room in ONLY_BY.get(target, {room}), f"{room} imports {module}"
        assert room != "house" or target in ("house", "native")


# The rooms of the model, from below: a room may import those before it. Nothing in core imports `told`.
CORE_ROOMS = [
    "units",
    "computer",
    "watching",
    "session",
    "cards",
    "piece",
    "block",
    "load",
    "decisions",
    "survey",
    "optimise",
    "told",
]


@pytest.mark.parametrize("path", [p for p in FILES if room_of(p) == "core"], ids=lambda p: str(p.relative_to(SOURCE)))
def test_rooms_of_the_model_know_only_those_below_them(path):
    room = path.relative_to(SOURCE / "core").parts[0].removesuffix(".py")
    for module in imports(path):
        parts = module.split(".")
        if parts[:2] == ["nimbleload", "core"] and len(parts) > 2:
            assert CORE_ROOMS.index(parts[2]) <= CORE_ROOMS.index(room), f"{room} imports {module}"


# The rooms of the window, from below; the pages stand side by side and know nothing of each other.
APP_ROOMS = ["document", "background", "look", "decide", "page", "frame"]
PAGES = {"start", "machine", "watch", "edit", "measure", "balance", "carry", "prove"}


@pytest.mark.parametrize("path", [p for p in FILES if room_of(p) == "app"], ids=lambda p: str(p.relative_to(SOURCE)))
def test_pages_of_the_window_never_import_each_other(path):
    room = path.relative_to(SOURCE / "app").parts[0]
    if room == "__init__.py":
        return
    for module in imports(path):
        parts = module.split(".")
        if parts[:2] == ["nimbleload", "app"] and len(parts) > 2 and parts[2] != room:
            here, there = ("page" if each in PAGES else each for each in (room, parts[2]))
            assert APP_ROOMS.index(there) < APP_ROOMS.index(here), f"{room} imports {module}"


def test_what_the_window_has_open_is_pure():
    for path in (SOURCE / "app" / "document").glob("*.py"):
        assert not any(module.startswith("PySide6") for module in imports(path))


def test_no_files_import_each_other_in_a_circle():
    names = {".".join(["nimbleload", *p.relative_to(SOURCE).with_suffix("").parts]): p for p in FILES}
    known = {name.removesuffix(".__init__"): imports(path) for name, path in names.items()}
    left = {name: {other for other in found if other in known and other != name} for name, found in known.items()}
    # `from x import y` names both x and x.y: only the more exact one counts where it is a file.
    left = {n: {o for o in found if not any(f.startswith(f"{o}.") for f in found)} for n, found in left.items()}
    while free := {name for name, found in left.items() if not found & left.keys()}:
        for name in free:
            del left[name]
    assert not left, f"in a circle: {sorted(left)}"


@pytest.mark.parametrize("path", [p for p in FILES if room_of(p) == "core"], ids=lambda p: p.name)
def test_core_has_no_window_files_processes_or_clock(path):
    tops = {module.split(".")[0] for module in imports(path)}
    assert not tops & KEPT_OUT_OF_CORE
    assert not re.search(r"\bopen\(", path.read_text())


@pytest.mark.parametrize(
    "path", [p for p in FILES if room_of(p) not in ("app", "shell")], ids=lambda p: str(p.relative_to(SOURCE))
)
def test_qt_lives_in_the_window_only(path):
    assert not any(module.startswith("PySide6") for module in imports(path))


@pytest.mark.parametrize("path", FILES, ids=lambda p: str(p.relative_to(SOURCE)))
def test_every_module_says_what_it_is_for_and_stays_short(path):
    text = path.read_text()
    assert ast.get_docstring(ast.parse(text))
    assert len(text.splitlines()) <= 500
    for node in ast.walk(ast.parse(text)):
        if isinstance(node, ast.FunctionDef):
            assert (node.end_lineno or 0) - node.lineno < 62, node.name


def test_lock_file_carries_no_addresses():
    text = (SOURCE.parents[1] / "requirements.lock").read_text()
    assert "://" not in text
    assert text.count("--hash=sha256:") > text.count("==")


@pytest.mark.parametrize("part", ["shell.windows", "app.frame.window", "beside.worker", "probe.worker"])
def test_no_start_waits_for_what_few_need(part):
    """The compiler and parts of SciPy take half a second and more to import; they are, where they are needed."""
    words = f"import sys, nimbleload.{part}; print(*sorted(sys.modules))"
    loaded = subprocess.run([sys.executable, "-c", words], capture_output=True, text=True, check=True).stdout.split()
    slow = ("scipy.signal", "scipy.stats", "scipy.optimize", "scipy.special", "scipy.ndimage", "scipy.sparse")
    if not part.endswith("worker"):
        slow = (*slow, "numba", "llvmlite", "jinja2", "mido")
    assert [name for name in loaded if name.startswith(slow)] == []
