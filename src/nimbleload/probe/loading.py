"""A plugin, loaded by its standard."""

from __future__ import annotations

from functools import partial

from .formats.hosted import PluginError
from .formats.per_channel import load_wide
from .messages import Request
from .standards import STANDARDS


def load(request: Request):
    """The plugin of a request, loaded and active, by its standard; one of one channel for each channel of its strip.
    PluginError says why not."""
    standard = request.use.plugin.standard
    if standard == "house":
        from .formats import house

        return house.load(request.use, request.rate, request.longest)
    if standard not in STANDARDS:
        raise PluginError(f"Plugins of the standard {standard!r} cannot be measured yet.")
    frames = request.buffers[0] if request.buffers else 0
    one = partial(STANDARDS[standard]().load, request.use, request.path, request.rate, request.longest, frames)
    return load_wide(one, request.use.channels)
