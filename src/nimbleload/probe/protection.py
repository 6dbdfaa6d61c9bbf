"""What keeps a plugin in: a stranger's code, which may do all that its user may unless something stands in the way.

Without any privilege of our own: no new privileges, Landlock (which files, no TCP, no signals to others), a filter of
system calls (no looking into other processes, no network, no mounting), and limits. All are inherited by threads and
children, and none can be taken off again.
"""

from __future__ import annotations

import contextlib
import ctypes as c
import os
import platform
import resource
import signal
import stat
import struct
import sys
from collections.abc import Iterable, Sequence
from pathlib import Path

import platformdirs

PR_SET_NO_NEW_PRIVS, PR_SET_SECCOMP, FILTER = 38, 22, 2
CREATE_RULESET, ADD_RULE, RESTRICT_SELF, VERSION_ASKED = 444, 445, 446, 1
EXECUTE, WRITE_FILE, READ_FILE, READ_DIR, REFER, TRUNCATE = (1 << bit for bit in (0, 1, 2, 3, 13, 14))
MAKE_AND_REMOVE = sum(1 << bit for bit in range(4, 13))
TCP = 3
# Abstract sockets and signals of other processes.
SOCKETS, SIGNALS = 1, 2
LARGEST_FILE, MOST_FILES, MORE_PROCESSES = 256 << 20, 1024, 512
# Folders that are read whatever stands in them: the system's, and what the standards name for plugins.
SYSTEM = ("/usr", "/lib", "/lib32", "/lib64", "/bin", "/sbin", "/opt", "/etc", "/proc", "/sys", "/dev", "/run", "/var")
HIDDEN = (".clap", ".vst3", ".lv2", ".ladspa", ".vst", ".fonts", ".local/lib", ".local/share")
ALWAYS_WRITTEN = ("/dev/null", "/dev/zero", "/dev/full", "/dev/tty")
# What a plugin's own window needs beyond, for as long as it is open: the display's socket, which may have no place
# among the files, and the graphics card.
DISPLAY = "display"
GRAPHICS = ("/dev/dri", "/dev/nvidiactl", "/dev/nvidia0", "/dev/nvidia-modeset", "/dev/shm")
# The system call that sets a filter, by processor: to set one, and to leave the processor's guesses ahead as they are.
# With a filter without that, Linux before 5.16 (and any that is told so when it starts) forbids them to whoever is
# held: what reads soon after it has written takes half as long again then, and under its host it does not.
SECCOMP, SET_FILTER, AS_BEFORE = {"x86_64": 317, "i386": 354, "aarch64": 277}, 1, 1 << 2
NOT_ALLOWED = 0x00050000 | 1  # EPERM, as `SECCOMP_RET_ERRNO` says it
ALLOWED = 0x7FFF0000
# By processor: the number of its system calls' set, then those that are refused, and `socket`. Refused are: ptrace,
# process_vm_readv and _writev, mount and its like, keys, bpf, perf_event_open, modules, namespaces, userfaultfd; and of
# those that have one number everywhere io_uring_setup, the newer ways to mount, and pidfd_getfd.
LATER = (425, 428, 429, 430, 431, 432, 438)
CALLS = {
    "x86_64": (
        0xC000003E,
        (101, 310, 311, 165, 166, 155, 248, 249, 250, 321, 298, 246, 175, 313, 272, 308, 323, *LATER),
        41,
    ),
    "i386": (
        0x40000003,
        (26, 347, 348, 21, 52, 217, 286, 287, 288, 357, 336, 283, 128, 350, 310, 346, 102, 374, *LATER),
        359,
    ),
    "aarch64": (
        0xC00000B7,
        (117, 270, 271, 40, 39, 41, 217, 218, 219, 280, 241, 104, 105, 273, 97, 268, 282, *LATER),
        198,
    ),
}
# Families of sockets that stay within this computer, or within a program; all others lead out, or to its settings.
INSIDE = (1,)


def hold(folder: Path, plugins: Iterable[str] = (), allowed: Sequence[str] = ()) -> tuple[str, ...]:
    """Holds this process and all that comes of it, for good; the names of the protections that are active.

    It may write only into `folder`, and read the system, `plugins` (files or folders) and what of the user's home is in
    plain sight. `allowed` (see `store.allowed`) takes single protections back.
    """
    made = ["no new privileges", "limits"]
    library = c.CDLL(None, use_errno=True)
    library.prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0)
    _limit()
    if _restrict_files(library, folder, plugins, allowed):
        made.append("files")
    if _filter_calls(library, "network" in allowed):
        made.append("system calls")
    return tuple(made)


def _limit() -> None:
    """No core dumps, no endless files, processes and descriptors. What would be too large fails, and kills nobody."""
    signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
    running = sum(1 for each in Path("/proc").iterdir() if each.name.isdigit())
    for what, most in (
        (resource.RLIMIT_FSIZE, LARGEST_FILE), (resource.RLIMIT_NOFILE, MOST_FILES),
        (resource.RLIMIT_NPROC, 8 * running + MORE_PROCESSES),
    ):  # fmt: skip
        hard = resource.getrlimit(what)[1]
        limit = most if hard == resource.RLIM_INFINITY else min(most, hard)
        resource.setrlimit(what, (limit, limit))


def landlock() -> int:
    """Which version of Landlock this system has; 0 without."""
    found: int = c.CDLL(None).syscall(CREATE_RULESET, None, c.c_size_t(0), VERSION_ASKED)
    return max(found, 0)


def _restrict_files(library: c.CDLL, folder: Path, plugins: Iterable[str], allowed: Sequence[str]) -> bool:
    version = landlock()
    if not version:
        return False
    reading = EXECUTE | READ_FILE | READ_DIR
    writing = WRITE_FILE | MAKE_AND_REMOVE
    writing |= (REFER if version >= 2 else 0) | (TRUNCATE if version >= 3 else 0)
    handled = 0 if "files" in allowed else reading | writing
    network = TCP if version >= 4 and "network" not in allowed else 0
    scoped = SIGNALS | (0 if DISPLAY in allowed else SOCKETS)
    parts = (handled, network, scoped)[: 1 if version < 4 else 2 if version < 6 else 3]
    if not any(parts):
        return False
    ruleset = library.syscall(CREATE_RULESET, struct.pack(f"{len(parts)}Q", *parts), c.c_size_t(8 * len(parts)), 0)
    if ruleset < 0:
        return False
    if handled:
        for path in {*SYSTEM, *map(str, readable()), *plugins}:
            _allow(library, ruleset, path, reading)
        for path in (*ALWAYS_WRITTEN, *(GRAPHICS if DISPLAY in allowed else ())):
            _allow(library, ruleset, path, reading | WRITE_FILE)
        _allow(library, ruleset, str(folder), reading | writing)
    held: int = library.syscall(RESTRICT_SELF, ruleset, 0)
    os.close(ruleset)
    return held == 0


def _allow(library: c.CDLL, ruleset: int, path: str, access: int) -> None:
    """Allows an access to a file, or to all in a folder; nothing where there is none."""
    try:
        file = os.open(path, os.O_PATH | os.O_CLOEXEC)
    except (OSError, ValueError):
        return
    try:
        if not stat.S_ISDIR(os.fstat(file).st_mode):
            access &= EXECUTE | WRITE_FILE | READ_FILE | TRUNCATE
        library.syscall(ADD_RULE, ruleset, 1, struct.pack("=Qi", access, file), 0)
    finally:
        os.close(file)


def readable(home: Path | None = None) -> list[Path]:
    """What a plugin may read beside the system: this program, and what lies in plain sight in the user's home.

    Samples and impulse responses lie there; keys, mail and browsers' data lie in hidden folders, which stay closed but
    for those in which plugins and what belongs to them are kept. Our own data stay closed, too.
    """
    home = home or Path.home()
    found = [Path(path) for path in (*sys.path, sys.prefix, sys.base_prefix) if path]
    found += [Path(__file__).parents[1]]
    for name in ("CLAP_PATH", "VST3_PATH", "LV2_PATH", "LADSPA_PATH"):
        found += [Path(part) for part in os.environ.get(name, "").split(":") if part]
    own = {Path(platformdirs.user_data_dir("nimble-load")), Path(platformdirs.user_config_dir("nimble-load"))}
    wanted = [home / name for name in HIDDEN]
    with contextlib.suppress(OSError):
        wanted += [each for each in home.iterdir() if not each.name.startswith(".")]
    for path in wanted:
        if path in own or not any(each.is_relative_to(path) for each in own):
            found.append(path)
        elif path.is_dir():
            found += [each for each in path.iterdir() if each not in own]
    return [path for path in found if path not in own]


def _filter_calls(library: c.CDLL, network: bool) -> bool:
    """Refuses system calls that reach into other processes or the system, and sockets that lead out."""
    machine = platform.machine()
    if machine not in CALLS:
        return False
    code: list[tuple[int, int, int, int]] = []
    for name in (machine, "i386") if machine == "x86_64" else (machine,):
        code += _program(*CALLS[name], network)
    code.append((0x06, 0, 0, NOT_ALLOWED))  # any other set of system calls
    packed = b"".join(struct.pack("=HBBI", *line) for line in code)
    kept = c.create_string_buffer(packed, len(packed))
    program = struct.pack("@HP", len(code), c.addressof(kept))
    made: int = library.syscall(SECCOMP[machine], SET_FILTER, AS_BEFORE, program)
    if made != 0:
        made = library.prctl(PR_SET_SECCOMP, FILTER, program, 0, 0)
    return made == 0


def _program(arch: int, refused: Sequence[int], socket: int, network: bool) -> list[tuple[int, int, int, int]]:
    """The part of a filter for one set of system calls (BPF: code, jump if true, jump if false, value)."""
    load, equal, at_least, give = 0x20, 0x15, 0x35, 0x06
    body = [(load, 0, 0, 0)]
    if arch == CALLS["x86_64"][0]:
        body += [(at_least, 0, 1, 0x40000000), (give, 0, 0, NOT_ALLOWED)]  # the same calls by other numbers
    for number in (*refused, *LATER):
        body += [(equal, 0, 1, number), (give, 0, 0, NOT_ALLOWED)]
    if not network:
        inside = [(equal, 0, 1, family) for family in INSIDE]
        own = [(load, 0, 0, 16)]
        for test in inside:
            own += [test, (give, 0, 0, ALLOWED)]
        own.append((give, 0, 0, NOT_ALLOWED))
        body += [(equal, 0, len(own), socket), *own]
    body.append((give, 0, 0, ALLOWED))
    return [(load, 0, 0, 4), (equal, 0, len(body), arch), *body]
