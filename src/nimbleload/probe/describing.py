"""What parameters a plugin has, as it tells them itself, in a worker of its own."""

from __future__ import annotations

from collections.abc import Callable

from ..core.session.plugins import PluginUse
from ..store.allowed import allowed
from . import isolation
from .formats.hosted import Parameter
from .messages import ParametersMessage, Request
from .session_run import installed_for, not_installed, path_of

FRAMES = 512


def parameters(
    use: PluginUse, rate: int, cancelled: Callable[[], bool] = lambda: False
) -> tuple[Parameter, ...] | isolation.Failure:
    """The parameters of a plugin, each with the value that it has in this use's setting; or why they are not known."""
    path = path_of(use, installed_for([use]))
    if path is None:
        return isolation.Failure(not_installed(use))
    may = allowed(use.plugin.standard, use.plugin.identifier)
    for message in isolation.run(Request(use, rate, (FRAMES,), path, describes=True, allowed=may), cancelled):
        if isinstance(message, ParametersMessage):
            return message.parameters
        if isinstance(message, isolation.Failure):
            return message
    return isolation.Failure("did not tell its parameters")
