"""A plugin, loaded by its standard."""

from __future__ import annotations

from .messages import Request
from .standards import STANDARDS


def load(request: Request):
    """The plugin of a request, loaded and active, by its standard. PluginError says why not."""
    from .formats.hosted import PluginError

    standard = request.use.plugin.standard
    if standard == "house":
        from .formats import house

        return house.load(request.use, request.rate, request.longest)
    if standard not in STANDARDS:
        raise PluginError(f"Plugins of the standard {standard!r} cannot be measured yet.")
    return STANDARDS[standard]().load(
        request.use, request.path, request.rate, request.longest, request.buffers[0] if request.buffers else 0
    )
