"""A /proc of our own making, with the few files of it that are read."""

from __future__ import annotations

from pathlib import Path


def process(
    root: Path, number: int, name: str, parent: int = 1, words: str = "", maps: str = "",
    threads: tuple[tuple[int, str, int], ...] = (),
) -> Path:  # fmt: skip
    """A process with threads (number, name, scheduling policy); policy 1 is FIFO, in real time."""
    folder = root / str(number)
    (folder / "task").mkdir(parents=True)
    (folder / "stat").write_text(_stat(number, name, parent, 0))
    (folder / "cmdline").write_bytes((words or f"/usr/bin/{name}").replace(" ", "\0").encode())
    (folder / "maps").write_text(maps)
    (folder / "exe").symlink_to(f"/usr/bin/{name}")
    for thread, called, policy in threads or ((number, name, 0),):
        (folder / "task" / str(thread)).mkdir()
        (folder / "task" / str(thread) / "stat").write_text(_stat(thread, called, parent, policy))
        (folder / "task" / str(thread) / "schedstat").write_text("2500000000 40000000 77\n")
    return folder


def _stat(number: int, name: str, parent: int, policy: int) -> str:
    """A line of a stat file: times are 300 and 100 ticks, the priority in real time is 40 where there is one."""
    priority = 40 if policy else 0
    return (
        f"{number} ({name}) S {parent} 1 1 0 -1 0 0 0 0 0 300 100 0 0 20 0 1 0 5 0 0 "
        + "0 " * 15
        + f"{priority} {policy} 0 0\n"
    )


def mapping(path: str, begin: int, end: int, flags: str = "r-xp", offset: int = 0) -> str:
    return f"{begin:x}-{end:x} {flags} {offset:08x} fe:00 1234                       {path}\n"
