"""Plugins and tracks as text, to copy, cut and paste, also between two windows: JSON that anybody can read."""

from __future__ import annotations

from collections.abc import Iterable

import msgspec

from ..core.session.plugins import PluginUse
from ..core.session.strips import Strip
from ..native.decoding import decoded
from .limits import impossible

FORMAT, VERSION = "nimble-load-clipping", 1
LARGEST = 64 << 20


class Clipping(msgspec.Struct, frozen=True):
    """What was copied: whole tracks, or plugins of a chain in their order."""

    format: str = FORMAT
    version: int = VERSION
    tracks: tuple[Strip, ...] = ()
    plugins: tuple[PluginUse, ...] = ()


class NoClippingError(ValueError):
    """Why a text cannot be pasted."""


def as_text(tracks: Iterable[Strip] = (), plugins: Iterable[PluginUse] = ()) -> str:
    """The text of tracks or plugins."""
    made = Clipping(tracks=tuple(tracks), plugins=tuple(plugins))
    return msgspec.json.format(msgspec.json.encode(made), indent=1).decode()


def from_text(text: str) -> Clipping:
    """What a text holds. NoClippingError if it is none of ours, or holds what cannot be."""
    if len(text) > LARGEST:
        raise NoClippingError(f"there are {len(text) >> 20} MB of text on the clipboard")
    try:
        found = decoded(text.encode(errors="replace"), Clipping)
    except (msgspec.MsgspecError, RecursionError) as error:
        raise NoClippingError("what is on the clipboard is no track and no plugin") from error
    if found.format != FORMAT or not (found.tracks or found.plugins):
        raise NoClippingError("what is on the clipboard is no track and no plugin")
    if found.version > VERSION:
        raise NoClippingError("what is on the clipboard was copied in a newer version of Nimble Load")
    wrong = impossible(found)
    if wrong is not None:
        raise NoClippingError(wrong)
    return found
