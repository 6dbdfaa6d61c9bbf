"""What is saved of a VST3 plugin: the preset file of its standard, and the states of its two parts."""

from __future__ import annotations

import struct
from collections.abc import Sequence

from ...store.archive import LARGEST_STATE
from .hosted import PluginError
from .vst3_abi import OK, POINTER, Interface, Stream

HEADER_BYTES = 48


def component_state(saved: bytes) -> bytes:
    """The component's part of a preset file (`VST3` header, chunk list at its end); other bytes are taken as they are.

    PluginError if it calls itself a preset file but is cut off.
    """
    if saved[:4] != b"VST3":
        return saved
    try:
        (listing,) = struct.unpack_from("<q", saved, 40)
        if saved[listing : listing + 4] != b"List":
            raise PluginError("The saved state is a preset file without its list of parts.")
        (count,) = struct.unpack_from("<i", saved, listing + 4)
        for k in range(min(max(count, 0), 128)):
            name, offset, size = struct.unpack_from("<4sqq", saved, listing + 8 + 20 * k)
            if name == b"Comp" and 0 <= offset <= offset + size <= len(saved):
                return saved[offset : offset + size]
    except struct.error:
        pass
    raise PluginError("The saved state is a preset file that is cut off.")


def preset_file(cid: bytes, parts: Sequence[tuple[bytes, bytes]]) -> bytes:
    """A preset file: a header with the class id and the place of the list, the parts (name, content), and the list."""
    listing = b"List" + struct.pack("<i", len(parts))
    at = HEADER_BYTES
    for name, content in parts:
        listing += struct.pack("<4sqq", name, at, len(content))
        at += len(content)
    header = struct.pack("<4si32sq", b"VST3", 1, cid.hex().upper().encode(), at)
    return header + b"".join(content for _, content in parts) + listing


def saved(part: Interface, get_state: int) -> bytes | None:
    """The state that a part of a plugin writes, by the number of its function for that; None if it does not."""
    stream = Stream(most=LARGEST_STATE)
    return bytes(stream.content) if part.call(get_state, stream.address, kinds=(POINTER,)) == OK else None
