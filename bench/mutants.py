"""Does a test go red when a line of the model is broken? A sample of mutants over the heart of `core/`, by cosmic-ray.

    python3 -m venv ~/mutants && ~/mutants/bin/pip install cosmic-ray==8.7.0
    .venv/bin/python -m bench.mutants --tool ~/mutants/bin/cosmic-ray --in /tmp/mutants [--sample 300] [--seed 1]
        [--only optimise/rows.py …]

A copy of the committed tree is made there, and every mutant is one changed operator, number or condition in it. The
tests of the file's own room run first, then those of all rooms, each until the first that fails. What survives is
printed with its place. Compiled code is kept apart for each mutant: what is kept does not notice a changed callee.
"""

from __future__ import annotations

import argparse
import os
import random
import sqlite3
import subprocess
import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
CORE = "src/nimbleload/core"
ROOMS = ("block", "load", "decisions", "optimise", "watching")
# What nothing of the others leads to: only its own tests can tell.
BY_ITSELF = "watching"
# Longer than the slowest tests take with everything compiled anew.
TIMEOUT = 240.0
# Mutants that change nothing: the | of types stands in annotations, which are never read; and what only keeps results.
LEFT_OUT = ("no-op", "core/RemoveDecorator", "core/ReplaceBinaryOperator_BitOr")


def config(copy: Path, only: list[str]) -> Path:
    """Writes the tool's settings for the copy: of all files of the rooms, or of some."""
    modules = [f"{room}/{file.name}" for room in ROOMS for file in sorted((copy / CORE / room).glob("*.py"))]
    modules = [f"{CORE}/{each}" for each in only or modules if not each.endswith("__init__.py")]
    python = sys.executable
    command = f"{python} -m bench.mutants --test"
    path = copy / "mutants.toml"
    listed = ", ".join(f'"{module}"' for module in modules)
    path.write_text(
        f"[cosmic-ray]\nmodule-path = [{listed}]\ntimeout = {TIMEOUT}\nexcluded-modules = []\n"
        f'test-command = "{command}"\n[cosmic-ray.distributor]\nname = "local"\n'
    )
    return path


def sample(session: Path, count: int, seed: int) -> int:
    """Leaves only so many mutants in a session, chosen by chance; how many there were."""
    with sqlite3.connect(session) as base:
        rows = base.execute("SELECT job_id, operator_name FROM mutation_specs ORDER BY job_id").fetchall()
        every = sorted({job for job, operator in rows if not operator.startswith(LEFT_OUT)})
        order = base.execute(
            "SELECT job_id FROM mutation_specs "
            "ORDER BY module_path, start_pos_row, start_pos_col, operator_name, occurrence"
        ).fetchall()
        jobs = [job for (job,) in order if job in set(every)]
        kept = set(random.Random(seed).sample(jobs, min(count, len(jobs))))
        for job, _ in rows:
            if job not in kept:
                base.execute("DELETE FROM mutation_specs WHERE job_id = ?", (job,))
                base.execute("DELETE FROM work_items WHERE job_id = ?", (job,))
    return len(jobs)


def test() -> int:
    """Runs the tests of the changed file's own room, then of all: red at the first that fails."""
    changed = subprocess.run(["git", "diff", "--name-only"], capture_output=True, text=True, check=True).stdout.split()
    own = [room for room in ROOMS if any(f"/{room}/" in file for file in changed)]
    with_numba = any("njit" in Path(file).read_text() for file in changed if file.endswith(".py"))
    environment = {**os.environ, "PYTHONPATH": "src:.", "QT_QPA_PLATFORM": "offscreen", "PYTHONDONTWRITEBYTECODE": "1"}
    scratch = Path("/tmp/mutants-compiled")
    if with_numba:
        subprocess.run(["rm", "-rf", str(scratch)], check=True)
        environment["NUMBA_CACHE_DIR"] = str(scratch)
    every = [*own, *(room for room in ROOMS if room not in own), "test_survey.py", "test_second.py", "told"]
    for room in [BY_ITSELF, "told"] if own == [BY_ITSELF] else [each for each in every if each != BY_ITSELF]:
        words = [sys.executable, "-m", "pytest", "-x", "-q", "-p", "no:cacheprovider", f"tests/core/{room}"]
        if subprocess.run(words, env=environment).returncode:
            return 1
    return 0


def survivors(session: Path) -> None:
    """Prints how many were killed, and each that was not."""
    with sqlite3.connect(session) as base:
        rows = base.execute(
            "SELECT m.module_path, m.start_pos_row, m.operator_name, r.test_outcome, r.diff FROM mutation_specs m "
            "JOIN work_results r ON m.job_id = r.job_id ORDER BY m.module_path, m.start_pos_row"
        ).fetchall()
    alive = [row for row in rows if row[3] == "SURVIVED"]
    print(f"{len(rows) - len(alive)} of {len(rows)} killed ({100 * (1 - len(alive) / max(len(rows), 1)):.0f} %)")
    for module, line, operator, _, diff in alive:
        changed = [each for each in (diff or "").splitlines() if each[:1] in "+-" and each[:3] not in ("+++", "---")]
        print(f"{module}:{line} {operator}", *changed, sep="\n    ")


def main() -> None:
    words = argparse.ArgumentParser()
    words.add_argument("--tool", default="cosmic-ray")
    words.add_argument("--in", dest="place", type=Path, default=Path("/tmp/mutants"))
    words.add_argument("--sample", type=int, default=300)
    words.add_argument("--seed", type=int, default=1)
    words.add_argument("--only", nargs="*", default=[], help="files below core, in place of all")
    words.add_argument("--test", action="store_true", help="what is run for each mutant")
    words.add_argument("--show", action="store_true", help="only print what survived so far")
    asked = words.parse_args()
    if asked.test:
        raise SystemExit(test())
    session = asked.place / "session.sqlite"
    if not asked.show:
        if not asked.place.exists():
            subprocess.run(["git", "worktree", "add", "-q", "--detach", str(asked.place), "HEAD"], cwd=ROOT, check=True)
        tool = [str(Path(asked.tool).expanduser())]
        settings = config(asked.place, asked.only)
        subprocess.run([*tool, "init", str(settings), str(session)], cwd=asked.place, check=True)
        every = sample(session, asked.sample, asked.seed)
        print(f"{asked.sample} of {every} mutants", flush=True)
        subprocess.run([*tool, "exec", str(settings), str(session)], cwd=asked.place, check=True)
    survivors(session)


if __name__ == "__main__":
    main()
