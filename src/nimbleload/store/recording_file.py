"""The file of a recording of a running host: a ZIP with a page of JSON and arrays (docs/recording-file.md)."""

from __future__ import annotations

import io
import zipfile
import zlib
from itertools import pairwise
from pathlib import Path
from typing import Annotated

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..core.units import said_by
from ..core.watching.held_memory import Held
from ..core.watching.history import Past
from ..core.watching.records import (
    A_PAGE,
    KERNEL,
    NONE,
    READINGS,
    SLEEPS_SEEN,
    SOMETHING,
    WAITING,
    Alike,
    Clocks,
    Heard,
    Others,
    Recording,
    Thread,
)
from ..core.watching.server import Client, Server, ServerKind
from ..native.decoding import decoded
from . import atomic, recording_past
from .recording_past import PastPage

SUFFIX = ".nimblewatch"
FORMAT_NAME = "nimble-load-recording"
FORMAT_VERSION = 1
LARGEST_ENTRY = 256 << 20
ARRAYS = ("switch_time", "switch_kind", "switch_core", "look_time", "look_owner", "look_weight")
# Those that earlier files do not have.
FAULTS = ("fault_time", "fault_pages", "fault_owner")
PLACE = "look_place"
ALL = (*ARRAYS, *FAULTS, PLACE, *SLEEPS_SEEN, *READINGS)
PAST = "past.json"

Positive = Annotated[int, msgspec.Meta(gt=0)]
# What an array can hold.
MOST = (1 << 63) - 1
NotNegative = Annotated[int, msgspec.Meta(ge=0, le=MOST)]
Time = Annotated[int, msgspec.Meta(ge=-MOST, le=MOST)]


class RecordingFileError(Exception):
    """Why a recording cannot be read or written: what, where, why."""


class ThreadPage(msgspec.Struct, frozen=True):
    """What the JSON says of one thread; its arrays lie in `threads/N/NAME.npy`, N counting from 0."""

    process: int
    number: int
    name: str
    is_real_time: bool
    waited: float = -1.0
    ran: float = -1.0


class ClientPage(msgspec.Struct, frozen=True):
    """What the JSON says of one client of a sound server."""

    name: str
    process: int
    inputs: int
    outputs: int
    feeds: tuple[str, ...]


class ServerPage(msgspec.Struct, frozen=True):
    """What the JSON says of a sound server that was listened to: `xruns` with how late each was (seconds), `loads` as
    it told them (shares of the deadline), each with when (ns)."""

    kind: ServerKind
    name: str
    process: int
    rate: Positive
    buffer: Positive
    is_real_time: bool
    latency_in: int
    latency_out: int
    clients: tuple[ClientPage, ...]
    xruns: tuple[tuple[Time, float], ...] = ()
    loads: tuple[tuple[Time, float], ...] = ()


class HeldPage(msgspec.Struct, frozen=True):
    """What the host kept in memory at a time (ns), in bytes; see `Held`."""

    time: Time
    own: NotNegative
    files: NotNegative
    swapped: NotNegative
    locked: NotNegative


class OthersPage(msgspec.Struct, frozen=True):
    """What other programs took by their names, as shares of one core, until a time (ns) from the look before; how
    often a second devices interrupted; and what else programs had started meanwhile took, which had ended by then."""

    time: Time
    took: dict[str, recording_past.Amount]
    interrupted: dict[str, recording_past.Amount] = {}
    started: dict[str, recording_past.Amount] = {}


class ClockPage(msgspec.Struct, frozen=True):
    """At which clock each core had run just before a time (ns; Hz), and how often it had been slowed down for heat."""

    time: Time
    clock: tuple[NotNegative, ...]
    hot: tuple[NotNegative, ...]


class Page(msgspec.Struct, frozen=True):
    """What the JSON says: times in ns, `names` what plugin files are called, where that was
    known. `same` are cores that are threads of one, `slow` those that others are clearly faster than; `cores` are
    those of which `clocks` tell, `fastest` how fast each may run (Hz)."""

    format: str
    version: int
    begun: Time
    ended: Time
    threads: tuple[ThreadPage, ...]
    files: tuple[str, ...]
    programs: dict[str, str]
    names: dict[str, str] = {}
    lost: int = 0
    price: float = 0.0
    server: ServerPage | None = None
    same: tuple[tuple[int, ...], ...] = ()
    slow: tuple[int, ...] = ()
    memory: tuple[HeldPage, ...] = ()
    cores: tuple[NotNegative, ...] = ()
    fastest: tuple[NotNegative, ...] = ()
    clocks: tuple[ClockPage, ...] = ()
    others: tuple[OthersPage, ...] = ()


def write(path: Path, recording: Recording, names: dict[str, str], past: Past | None = None) -> None:
    """Writes a recording in one step, with what its plugins are called, and what was seen since the watching began.
    RecordingFileError if that fails."""
    page = Page(
        FORMAT_NAME, FORMAT_VERSION, recording.begun, recording.ended,
        tuple(ThreadPage(t.process, t.number, t.name, t.is_real_time, t.waited, t.ran) for t in recording.threads),
        recording.files, {str(number): name for number, name in recording.programs.items()},
        {file: names[file] for file in recording.files if file in names}, recording.lost, recording.price,
        _server_page(recording.heard) if recording.heard is not None else None, *recording.alike,
        tuple(HeldPage(*each) for each in recording.memory), (*recording.clocks.core.tolist(),),
        (*recording.clocks.most.tolist(),), _clock_pages(recording.clocks),
        tuple(OthersPage(*each[:-1], dict(each.started)) for each in recording.others),
    )  # fmt: skip
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED, compresslevel=6) as archive:
        archive.writestr("recording.json", msgspec.json.encode(page))
        if past is not None:
            archive.writestr(PAST, msgspec.json.encode(recording_past.page_of(past)))
        for place, thread in enumerate(recording.threads):
            for name in ALL:
                archive.writestr(f"threads/{place}/{name}.npy", _as_bytes(getattr(thread, name)))
    try:
        atomic.write(path, out.getvalue())
    except OSError as error:
        raise RecordingFileError(f"{path} was not written: {said_by(error)}.") from error


def _as_bytes(values: NDArray[np.int64]) -> bytes:
    out = io.BytesIO()
    np.save(out, values.astype("<i8"), allow_pickle=False)
    return out.getvalue()


def read(path: Path) -> tuple[Recording, dict[str, str]]:
    """A recording, and what its plugins are called. RecordingFileError with the reason if it cannot be read."""
    return read_all(path)[:2]


def read_all(path: Path) -> tuple[Recording, dict[str, str], Past | None]:
    """The same, and what was seen since the watching began, if that was kept."""
    try:
        with zipfile.ZipFile(path) as archive:
            page = decoded(_entry(archive, "recording.json"), Page)
            if page.format != FORMAT_NAME:
                raise RecordingFileError(f"{path} is no recording of a running host.")
            if page.version > FORMAT_VERSION:
                raise RecordingFileError(f"{path} was written by a newer version of Nimble Load.")
            threads = tuple(_thread(archive, place, each, page) for place, each in enumerate(page.threads))
            programs = {int(number): name for number, name in page.programs.items()}
            seen = decoded(_entry(archive, PAST), PastPage) if PAST in archive.namelist() else None
    except RecordingFileError:
        raise
    except OSError as error:
        raise RecordingFileError(f"{path} cannot be read: {said_by(error)}.") from error
    except (zipfile.BadZipFile, zlib.error, KeyError, ValueError, EOFError, NotImplementedError, RuntimeError) as error:
        raise RecordingFileError(f"{path} is damaged: {error}.") from error
    if not page.begun <= page.ended:
        raise RecordingFileError(f"{path} is damaged: it ends before it begins.")
    if any(later.time < each.time for each, later in pairwise(page.memory)):
        raise RecordingFileError(f"{path} is damaged: what the host kept in memory is not in order.")
    if any(later.time < each.time for each, later in pairwise(page.clocks)):
        raise RecordingFileError(f"{path} is damaged: at which clock cores ran is not in order.")
    if any(later.time < each.time for each, later in pairwise(page.others)):
        raise RecordingFileError(f"{path} is damaged: what other programs did is not in order.")
    if {len(page.cores)} != {len(page.fastest), *(len(of) for each in page.clocks for of in (each.clock, each.hot))}:
        raise RecordingFileError(f"{path} is damaged: at which clock cores ran does not fit together.")
    made = Recording(
        page.begun, page.ended, threads, page.files, programs, page.lost, page.price,
        _heard(page.server) if page.server is not None else None, Alike(page.same, page.slow),
        tuple(Held(*msgspec.structs.astuple(each)) for each in page.memory),
        Clocks.of(page.cores, page.fastest, [(each.time, each.clock, each.hot) for each in page.clocks]),
        tuple(Others(*msgspec.structs.astuple(each)) for each in page.others),
    )  # fmt: skip
    try:
        return made, page.names, recording_past.past_of(seen, made) if seen is not None else None
    except ValueError as error:
        raise RecordingFileError(f"{path} is damaged: {error}.") from error


def _server_page(of: Heard) -> ServerPage:
    clients = tuple(ClientPage(*client) for client in of.server.clients)
    xruns = zip(of.xrun_time.tolist(), of.xrun_late.tolist(), strict=True)
    loads = zip(of.load_time.tolist(), of.load.tolist(), strict=True)
    return ServerPage(*of.server[:-1], clients, tuple(xruns), tuple(loads))


def _clock_pages(of: Clocks) -> tuple[ClockPage, ...]:
    looks = zip(of.time.tolist(), of.clock.tolist(), of.hot.tolist(), strict=True)
    return tuple(ClockPage(at, (*run,), (*hot,)) for at, run, hot in looks)


def _heard(of: ServerPage) -> Heard:
    clients = tuple(Client(*msgspec.structs.astuple(client)) for client in of.clients)
    server = Server(
        of.kind, of.name, of.process, of.rate, of.buffer, of.is_real_time, of.latency_in, of.latency_out, clients
    )
    return Heard.of(server, of.xruns, of.loads)


def _thread(archive: zipfile.ZipFile, place: int, page: ThreadPage, of: Page) -> Thread:
    """One thread with its arrays, which must fit together. ValueError if they do not."""
    own, there = dict.fromkeys(ALL, NONE), archive.namelist()
    for name in own:
        entry = f"threads/{place}/{name}.npy"
        if name in ARRAYS or entry in there:
            own[name] = np.load(io.BytesIO(_entry(archive, entry)), allow_pickle=False).astype(np.int64)
    arrays = list(own.values())
    placed = [own["look_time"], own[PLACE]] if len(own[PLACE]) else [NONE]
    read = arrays[13:] if len(own["ready_ran"]) else arrays[13:15]
    groups = arrays[:3], arrays[3:6], arrays[6:9], arrays[10:13], read, placed
    if any(len({each.shape for each in group}) > 1 for group in groups) or any(each.ndim != 1 for each in arrays):
        raise ValueError(f"the records of thread {page.number} do not fit together")
    if any((np.diff(group[0]) < 0).any() for group in groups):
        raise ValueError(f"the records of thread {page.number} are not in order")
    kinds, owners = own["switch_kind"], np.concatenate([own[name] for name in ALL if name.endswith("_owner")])
    out_of_bounds = (kinds < 0).any() or (kinds > 2).any() or (owners > len(of.files)).any()
    out_of_bounds |= (owners < WAITING).any() or (owners == KERNEL).any()
    why = own["sleep_why"]
    if out_of_bounds or (own["fault_pages"] < 0).any() or (why < SOMETHING).any() or (why > A_PAGE).any():
        raise ValueError(f"the records of thread {page.number} say what cannot be")
    return Thread(page.process, page.number, page.name, page.is_real_time, waited=page.waited, ran=page.ran, **own)


def _entry(archive: zipfile.ZipFile, name: str) -> bytes:
    """The bytes of one entry, however large it says it is. ValueError if there are too many."""
    with archive.open(name) as file:
        content = file.read(LARGEST_ENTRY + 1)
    if len(content) > LARGEST_ENTRY:
        raise ValueError(f"{name} is larger than {LARGEST_ENTRY >> 20} MB")
    return content
