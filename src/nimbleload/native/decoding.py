"""What is read from JSON, as values of a type: from any thread.

What the library knows of a type it finds out when that is first met, and while it does another thread that meets the
type finds half of it: the process crashes. So types are got to know one after the other.
"""

from __future__ import annotations

import threading
from typing import Any

import msgspec

_LOCK = threading.Lock()
_KNOWN: dict[Any, msgspec.json.Decoder[Any]] = {}


def decoder(kind: Any) -> msgspec.json.Decoder[Any]:
    """The decoder of a type."""
    found = _KNOWN.get(kind)
    if found is None:
        with _LOCK:
            found = _KNOWN.setdefault(kind, msgspec.json.Decoder(kind))
    return found


def decoded(content: bytes | str, kind: Any) -> Any:
    """JSON as a value of a type. msgspec.MsgspecError if it is none."""
    return decoder(kind).decode(content)


def converted(value: Any, kind: Any) -> Any:
    """Plain values as one of a type that JSON can be. msgspec.MsgspecError if they are none."""
    decoder(kind)
    return msgspec.convert(value, kind)
