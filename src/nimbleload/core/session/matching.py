"""Which tracks and plugins of a newer export are those of an earlier one, whatever their ids are now."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from .plugins import PluginUse, Setting
from .session import Session

# What speaks for two strips being the same one: their name, which is what people go by, their plugins, what they play
# or who feeds them, their id, what they feed, and their place in the list.
NAME, CHAIN, CONTENT, ID, OUTPUT, PLACE = 4.0, 3.0, 2.0, 1.0, 0.5, 0.3
# And two plugins of one kind: their setting, their id, their place.
SETTING, USE_ID, USE_PLACE = 2.0, 1.0, 0.5
# How much of what one plays, or of its plugins, the other must have if its name is another (a share of both).
HALF = 0.5

# A file with its part, a kind of clip with the second at which it begins, or what feeds it.
Key = tuple[str, str | float]


class Same(NamedTuple):
    """The ids that strips and plugins have now, by those that they had."""

    strips: Mapping[str, str]
    uses: Mapping[str, str]


def same_in(before: Session, after: Session) -> Same:
    """The strips and plugins of two exports of one mix that are the same.

    Hosts number anew with every export, tracks are renamed, moved and put in between. Pairs are chosen so that what
    speaks for them is most in all (an assignment problem; D. F. Crouse, 2016). A strip of another name is the same only
    if it plays half of the same files, or is fed by half of the same; or if it has its id and plays at half of the same
    times or, where neither plays anything, has half of its plugins. A plugin goes on as the same only as one of its
    kind: on its track, or with its id or its setting on another.
    """
    strips = dict(_strips(before, after))
    was, now = ({strip.id: strip for strip in each.strips} for each in (before, after))
    uses: dict[str, str] = {}
    for old, new in strips.items():
        uses.update(_uses(was[old].uses(), now[new].uses()))
    uses.update(_moved(before, after, uses))
    return Same(strips, uses)


def _strips(before: Session, after: Session) -> list[tuple[str, str]]:
    old, new = before.strips, after.strips
    if not old or not new:
        return []
    named = _equal(*([strip.name.strip().casefold() for strip in each] for each in (old, new)))
    by_id = _equal(*([strip.id for strip in each] for each in (old, new)))
    kinds = _equal(*([strip.kind for strip in each] for each in (old, new)))
    outputs = _equal(_names_fed(before), _names_fed(after))
    chain, has_chain = _in_common(*([Counter(map(_kind, strip.uses())) for strip in each] for each in (old, new)))
    contents = [_contents(each) for each in (before, after)]
    content, has_content = _in_common(*contents)
    sure, _ = _in_common(*(list(map(_sure, each)) for each in contents))
    places = [np.arange(len(each)) / len(each) for each in (old, new)]
    apart = np.abs(np.subtract.outer(*places))
    as_before = (content >= HALF) | (~has_content & (chain >= HALF) & has_chain)
    may_be = kinds & (named | (sure >= HALF) | (by_id & as_before))
    speaks = NAME * named + CHAIN * chain + CONTENT * content + ID * by_id + OUTPUT * outputs + PLACE * (1 - apart)
    return [(old[i].id, new[j].id) for i, j in _pairs(np.where(may_be, speaks, 0.0))]


def _pairs(speaks: NDArray[np.float64]) -> list[tuple[int, int]]:
    """The pairs for which most speaks in all, each in one pair at most; without those for which nothing does."""
    from scipy.optimize import linear_sum_assignment  # imported here: it would lengthen every start

    return [(i, j) for i, j in zip(*linear_sum_assignment(speaks, maximize=True), strict=True) if speaks[i, j] > 0]


def _names_fed(session: Session) -> list[str]:
    names = {strip.id: strip.name for strip in session.strips}
    return [names.get(strip.output or "", "") for strip in session.strips]


def _kind(use: PluginUse) -> Key:
    return use.plugin.standard, use.plugin.identifier


def _contents(session: Session) -> list[Counter[Key]]:
    """By strip what it plays, by files where there are any, else by times, and the names of what feeds it."""
    names: dict[str, Counter[Key]] = {strip.id: Counter() for strip in session.strips}
    for strip in session.strips:
        for clip in strip.clips:
            name, part = clip.played
            names[strip.id][(name.rpartition("/")[2], part) if name else (clip.kind, round(clip.start, 2))] += 1
        for target in (strip.output, *(send.target for send in strip.sends)):
            if target in names:
                names[target][("from", strip.name)] += 1
    return list(names.values())


def _sure(content: Counter[Key]) -> Counter[Key]:
    """The files and tracks in it: that something begins at a second is true of many."""
    return Counter({key: number for key, number in content.items() if not isinstance(key[1], float)})


def _equal(old: Sequence[str], new: Sequence[str]) -> NDArray[np.bool_]:
    return np.asarray(np.array(old)[:, None] == np.array(new), bool)


def _in_common(
    old: Sequence[Counter[Key]], new: Sequence[Counter[Key]]
) -> tuple[NDArray[np.float64], NDArray[np.bool_]]:
    """Of what each has the share that both have (twice what is common / all; L. R. Dice, 1945), and whether either has
    anything at all."""
    both, sizes = np.zeros((len(old), len(new))), [np.array([has.total() for has in of]) for of in (old, new)]
    # What one has twice counts twice: the first, the second… of a kind are looked for each by itself.
    rows: list[dict[tuple[Key, int], list[int]]] = [{}, {}]
    for found, of in zip(rows, (old, new), strict=True):
        for row, has in enumerate(of):
            for key, number in has.items():
                for k in range(number):
                    found.setdefault((key, k), []).append(row)
    for each in rows[0].keys() & rows[1].keys():
        both[np.ix_(rows[0][each], rows[1][each])] += 1
    total = np.add.outer(*sizes)
    return 2 * both / np.maximum(total, 1), total > 0


def _uses(old: Sequence[PluginUse], new: Sequence[PluginUse]) -> Iterable[tuple[str, str]]:
    """The same plugins of one track."""
    if not old or not new:
        return []
    speaks = np.zeros((len(old), len(new)))
    for i, one in enumerate(old):
        for j, other in enumerate(new):
            if _kind(one) == _kind(other):
                apart = abs(i / len(old) - j / len(new))
                speaks[i, j] = (
                    1 + SETTING * (one.setting == other.setting) + USE_ID * (one.id == other.id)
                    + USE_PLACE * (1 - apart)
                )  # fmt: skip
    return [(old[i].id, new[j].id) for i, j in _pairs(speaks)]


def _moved(before: Session, after: Session, known: Mapping[str, str]) -> Iterable[tuple[str, str]]:
    """Plugins that went to another track: one of the kind with the same id, if this host keeps ids, else the only one
    with the same setting."""
    taken = set(known.values())
    left = [use for strip in before.strips for use in strip.uses() if use.id not in known]
    free = [use for strip in after.strips for use in strip.uses() if use.id not in taken]
    if known and all(old == new for old, new in known.items()):
        there = {(use.id, _kind(use)) for use in free}
        return [(use.id, use.id) for use in left if (use.id, _kind(use)) in there]
    settings: list[dict[tuple[Key, Setting], list[str]]] = [{}, {}]
    for found, uses in zip(settings, (left, free), strict=True):
        for use in uses:
            found.setdefault((_kind(use), use.setting), []).append(use.id)
    # As it starts, a plugin is set like any other of its kind.
    pairs = [(ids, settings[1].get(key, ())) for key, ids in settings[0].items() if key[1] != Setting()]
    return [(old[0], new[0]) for old, new in pairs if len(old) == len(new) == 1]
