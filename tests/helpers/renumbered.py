"""A session exported once more by a host that numbers everything anew."""

from __future__ import annotations

import msgspec

from nimbleload.core.session.session import Session


def renumbered(of: Session, prefix: str) -> tuple[Session, dict[str, str], dict[str, str]]:
    """The same session with every id another one, numbered through; and the ids that strips and plugins have now."""
    strips = {strip.id: f"{prefix}{k}" for k, strip in enumerate(of.strips)}
    uses = {use.id: f"{prefix}p{k}" for k, use in enumerate(u for strip in of.strips for u in strip.uses())}

    def named(use):
        return msgspec.structs.replace(use, id=uses[use.id]) if use is not None else None

    def other(strip):
        return msgspec.structs.replace(
            strip, id=strips[strip.id], output=strips.get(strip.output), instrument=named(strip.instrument),
            inserts=tuple(map(named, strip.inserts)),
            sends=tuple(msgspec.structs.replace(send, target=strips[send.target]) for send in strip.sends),
        )  # fmt: skip

    return msgspec.structs.replace(of, strips=tuple(map(other, of.strips))), strips, uses
