"""The rehearsal: a session's plugins on real threads against real deadlines, in a process of its own."""

from __future__ import annotations

import logging
from collections.abc import Callable, Iterator, Mapping
from types import MappingProxyType

import msgspec

from ..core.load.helped import LateBlocks, helped
from ..core.load.rehearsal import Rehearsal
from ..core.survey import Instant, Survey, priority
from ..native.cores import cores
from ..store.allowed import allowed
from . import isolation
from .messages import LoadingMessage, PlayedMessage, PlayingMessage, StageRequest
from .session_run import installed_for, not_installed, path_of

log = logging.getLogger(__name__)

NO_FILES: Mapping[str, tuple[str, float]] = MappingProxyType({})


def run(
    of: Survey, at: Instant, seconds: float = 10.0, cancelled: Callable[[], bool] = lambda: False,
    files: Mapping[str, tuple[str, float]] = NO_FILES,
) -> Iterator[LoadingMessage | PlayingMessage | PlayedMessage | isolation.Failure]:  # fmt: skip
    """Rehearses one moment of a session with its plan for so many seconds, on as many cores as the survey counts on and
    there are here. Strips (by id) for which there are `files` play them from the disk: where each lies, and the second
    of the piece at which it begins.

    What is not installed is left out and said. The last message is the outcome, or a failure.
    """
    session = of.planned.session
    uses = [use for strip in session.strips for use in strip.live_uses()]
    installed = installed_for(uses)
    paths, refused = {}, {}
    for use in uses:
        path = path_of(use, installed)
        if path is None:
            refused[use.id] = f"{use.label}: {not_installed(use)}"
        else:
            paths[use.id] = path
    figures, filled = of.planned.figures, {}
    for use in uses:
        card = figures.found[figures.index[use.card_key()]]
        if card is not None and card.filled:
            filled[use.id] = card.filled
    # They share a process: each may do what any of them may.
    may = {each for use in uses for each in allowed(use.plugin.standard, use.plugin.identifier)}
    request = StageRequest(
        session, tuple(at.sounding.tolist()), tuple(at.notes.tolist()), tuple(priority(of, at).tolist()),
        at.second, of.buffer, cores().order[: max(1, of.machine.cores)], seconds, paths, refused,
        allowed=tuple(sorted(may)), filled=filled, files=dict(files),
    )  # fmt: skip
    loading = ""
    for message in isolation.run(request, cancelled):
        loading = message.name if isinstance(message, LoadingMessage) else loading
        if isinstance(message, isolation.Failure) and loading:
            # Everything plays in one process: what ended it is named as far as that is known.
            message = isolation.Failure(f"{message.reason} while {loading} was loaded")
        if isinstance(message, PlayedMessage) and message.late is not None:
            message = PlayedMessage(_with_help(request, message.rehearsal, message.late))
        assert isinstance(message, LoadingMessage | PlayingMessage | PlayedMessage | isolation.Failure)
        yield message


def _with_help(request: StageRequest, outcome: Rehearsal, late: LateBlocks) -> Rehearsal:
    """The outcome with what would have helped, if its late blocks are what they should be."""
    try:
        return msgspec.structs.replace(outcome, helped=helped(request.session, len(request.cores), late))
    except ValueError:
        log.exception("a rehearsal's late blocks could not be used")
        return outcome
