"""What parameters and presets a plugin has, as it tells them itself, in a worker of its own."""

from __future__ import annotations

import errno
from collections.abc import Callable
from pathlib import Path

import msgspec

from ..core.session.plugins import PluginUse
from ..store.archive import LARGEST_STATE
from . import isolation
from .formats.hosted import Parameter, Preset
from .messages import ParametersMessage
from .session_run import request_for

FRAMES = 512


def parameters(
    use: PluginUse, rate: int, cancelled: Callable[[], bool] = lambda: False
) -> tuple[Parameter, ...] | isolation.Failure:
    """The parameters of a plugin, each with the value that it has in this use's setting; or why they are not known."""
    found = told(use, rate, cancelled)
    return found if isinstance(found, isolation.Failure) else found.parameters


def told(
    use: PluginUse, rate: int, cancelled: Callable[[], bool] = lambda: False
) -> ParametersMessage | isolation.Failure:
    """All that a plugin tells in this use's setting, its saved state among it; or why it is not known: a state that
    it does not take is one reason."""
    asked = request_for(use, rate, FRAMES)
    if isinstance(asked, isolation.Failure):
        return asked
    for message in isolation.run(msgspec.structs.replace(asked, describes=True), cancelled):
        if isinstance(message, ParametersMessage):
            return message
        if isinstance(message, isolation.Failure):
            return message
    return isolation.Failure("did not tell its parameters")


def state_of(preset: Preset) -> bytes:
    """What a preset stands for, as a plugin takes it: the bytes of its file, or the address of an LV2 preset. OSError
    if the file cannot be read, or is larger than any state."""
    if "://" in preset.source or preset.source.startswith("urn:"):
        return preset.source.encode()
    return read_state(Path(preset.source))


def read_state(path: Path) -> bytes:
    """A preset or state file. OSError if it cannot be read, or is larger than any state."""
    if path.stat().st_size > LARGEST_STATE:
        raise OSError(errno.EFBIG, f"it is larger than {LARGEST_STATE >> 20} MB")
    return path.read_bytes()
