"""The rooms of the house: imports run downwards only, and what must be clean is."""

from __future__ import annotations

import ast
import functools
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


def name_of(path: Path) -> str:
    return str(path.relative_to(SOURCE))


@functools.cache
def read(path: Path) -> ast.Module:
    return ast.parse(path.read_text())


@functools.cache
def imports(path: Path) -> set[str]:
    """Every module that a file imports anywhere in it, relative ones resolved."""
    package = ["nimbleload", *path.relative_to(SOURCE).parts[:-1]]
    found = set()
    for node in ast.walk(read(path)):
        if isinstance(node, ast.Import):
            found.update(alias.name for alias in node.names)
        elif isinstance(node, ast.ImportFrom):
            base = package[: len(package) - node.level + 1] if node.level else []
            module = ".".join([*base, *(node.module.split(".") if node.module else [])])
            found.add(module)
            found.update(f"{module}.{alias.name}" for alias in node.names)
    return found


FILES = sorted(SOURCE.rglob("*.py"))


def in_rooms(*rooms: str) -> list[Path]:
    return [path for path in FILES if room_of(path) in rooms]


# When a figure was measured, how old a file is, today's date in a list, and at which time of day a host was late:
# nothing else may depend on a clock that the user, a server or a time zone can put forward or back.
BY_THE_CALENDAR = {
    "store/library.py", "store/atomic.py", "deliver/carrying.py", "deliver/there.py", "machine/time_of_day.py",
    "core/units.py",
}  # fmt: skip


def test_how_long_something_takes_is_not_read_from_a_clock_that_jumps():
    asks = re.compile(r"\btime\.time(_ns)?\(|\bdatetime\.|\bdate\.today\(|CLOCK_REALTIME|QDateTime|QTime\b")
    found = {name_of(path) for path in FILES if asks.search(path.read_text())}
    assert found == BY_THE_CALENDAR


def test_labels_show_names_as_they_are():
    """One of Qt's own takes what looks like markup in a name for that."""
    made = re.compile(r"\bQLabel\(|map\(QLabel|class \w+\(QLabel\)")
    found = [name_of(path) for path in FILES if room_of(path) == "app" and made.search(path.read_text())]
    assert found == ["app/look/elided.py", "app/look/words.py"]


# Lines in which it is two or more, whatever comes.
ALWAYS_SEVERAL = re.compile(
    r"== 1|several|these \{|tracks (into|end in|are called)|plugins called|cores are threads|cores \{|threads it needs|"
    r"buses and returns|files could be read|times in|the plan has|would have|holds \{|places\)|deadlines\{|bytes|"
    r"stems are in"
)


def test_figures_before_words_agree_with_them():
    """"1 tracks" comes of a number that is put in front of a plural as it is: `units.count` sees to it."""
    number = r"len\([^{}]*\)|[\w.]*\b(cores|threads|missed|failed|held|live|left|plugins|notes)"
    plural = re.compile(rf"\{{({number})\}} [a-z]+s\b.*")
    lines = [(path, line) for path in FILES for line in path.read_text().splitlines()]
    found = [(name_of(path), each[0]) for path, line in lines
             if (each := plural.search(line)) and not ALWAYS_SEVERAL.search(line)]  # fmt: skip
    assert found == []


def test_imports_run_downwards():
    def may(room, target):
        below = ROOMS.index(target) >= ROOMS.index(room) and (target == room or room in ONLY_BY.get(target, {room}))
        return below and (room != "house" or target in ("house", "native"))

    # A room that is not among them is an error.
    found = [(name_of(path), module) for path in FILES if room_of(path) != "__init__" for module in imports(path)
             if module.startswith("nimbleload.") and (target := module.split(".")[1]) in ROOMS
             and not may(room_of(path), target)]  # fmt: skip
    assert found == []


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


def test_rooms_of_the_model_know_only_those_below_them():
    def level(path):
        return CORE_ROOMS.index(path.relative_to(SOURCE / "core").parts[0].removesuffix(".py"))

    found = [(name_of(path), module) for path in in_rooms("core") for module in imports(path)
             if module.startswith("nimbleload.core.")
             and CORE_ROOMS.index(module.split(".")[2]) > level(path)]  # fmt: skip
    assert found == []


# The rooms of the window, from below; the pages stand side by side and know nothing of each other.
APP_ROOMS = ["document", "background", "look", "decide", "page", "frame"]
PAGES = {"start", "machine", "watch", "edit", "measure", "balance", "carry", "prove"}


def test_pages_of_the_window_never_import_each_other():
    def level(room):
        return APP_ROOMS.index("page" if room in PAGES else room)

    found = []
    for path in in_rooms("app"):
        room = path.relative_to(SOURCE / "app").parts[0]
        if room != "__init__.py":
            found += [(name_of(path), module) for module in imports(path) if module.startswith("nimbleload.app.")
                      and (there := module.split(".")[2]) != room and level(there) >= level(room)]  # fmt: skip
    assert found == []


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


def test_core_has_no_window_files_processes_or_clock():
    core = in_rooms("core")
    kept_out = [(name_of(path), module) for path in core for module in imports(path)
                if module.split(".")[0] in KEPT_OUT_OF_CORE]  # fmt: skip
    assert kept_out == []
    assert [name_of(path) for path in core if re.search(r"\bopen\(", path.read_text())] == []


def test_qt_lives_in_the_window_only():
    others = set(FILES) - set(in_rooms("app", "shell"))
    found = [(name_of(path), module) for path in others for module in imports(path) if module.startswith("PySide6")]
    assert found == []


def test_every_module_says_what_it_is_for_and_stays_short():
    silent, long = [], []
    for path in FILES:
        tree = read(path)
        if not ast.get_docstring(tree):
            silent.append(name_of(path))
        if len(path.read_text().splitlines()) > 500:
            long.append(name_of(path))
        long += [(name_of(path), node.name) for node in ast.walk(tree)
                 if isinstance(node, ast.FunctionDef) and (node.end_lineno or 0) - node.lineno >= 62]  # fmt: skip
    assert (silent, long) == ([], [])


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
