"""How many more fit, in a sentence."""

from __future__ import annotations

from collections.abc import Sequence

from ..load.how_many import Fit
from ..units import percent


def how_often(fit: Fit) -> str:
    """How many more fit: "12", or "256 or more" where no more were tried."""
    return f"{fit.more} or more" if fit.beyond is None else str(fit.more)


def beyond_words(load: float, limit: float) -> str:
    """A load beyond the limit, as exact as it takes to see that it is."""
    exact = percent(load)
    return exact if exact != percent(limit) else f"{100 * load:.2f} %"


def sentence(found: Sequence[Fit], name: str, limit: float, buffer: int) -> str:
    """What is to be said of the chosen buffer size (samples), and where more would fit."""
    here = next((fit for fit in found if fit.buffer == buffer), None)
    under = f"under {percent(limit)}"

    best = max(found, key=lambda fit: (fit.more, -fit.buffer), default=None)
    if here is None or best is None:
        return f"How many more of {name} fit is not known at {buffer} samples."
    beyond = beyond_words(here.beyond or 0.0, limit)
    if here.now > limit:
        told = f"No room for one more {name}: at {buffer} samples the load is {percent(here.now)} already."
    elif here.beyond is None:
        return f"{here.more} more of {name}, or more still, fit {under} at {buffer} samples."
    elif here.more == 0:
        told = f"Not one more of {name} fits {under} at {buffer} samples: it would take {beyond}."
    else:
        told = (
            f"{here.more} more of {name} fit {under} at {buffer} samples ({percent(here.load)}); one more takes "
            f"{beyond}."
        )
    if best.more > here.more:
        told += f" At {best.buffer} samples {how_often(best)} fit."
    elif here.now > limit:
        told += f" No other buffer size has room for one {under} either."
    return told


def not_known(missing: Sequence[str]) -> str:
    """That the copies hold plugins without figures; empty if all are known."""
    if not missing:
        return ""
    names = ", ".join(missing[:6]) + (" …" if len(missing) > 6 else "")
    return f"Not measured yet, and counted as nothing: {names}. So this is the most that could fit, not what does."
