"""What a session gives away without any measurement: tracks that nobody needs, plugins that do nothing, and the like.

Each finding says what is seen and what could be done, with the decisions that would do it where a plan can.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple

from ..cards.card import Cards
from ..cards.families import by_name, squeezed
from ..decisions.alike import groups, keeps_sound, similar
from ..decisions.apply import obstacle
from ..decisions.decision import Decision
from ..decisions.kind import chain_called
from ..decisions.off import only_passes_on
from ..load.latency import Reported
from ..piece.moments import passes_on
from ..session.plugins import PluginUse
from ..session.routing import edges
from ..session.session import Session
from ..session.strips import Strip
from ..survey import Instant, Saving, Survey, saving
from ..units import agreeing, count, decibels, listed, milliseconds

# So many uses of one effect are worth a word, and so long a latency while something is armed (seconds).
MANY = 6
LATE = 0.002
FAULT_WORDS = {
    "": "", "sends": " Their sends would leave before it.", "pan": " They are panned, and it would come after that.",
    "fader": " Their faders ride, and it would come after them.",
}  # fmt: skip


class Finding(NamedTuple):
    """What was found: a short name, a sentence, and what a plan could do about it, if it could."""

    name: str
    sentence: str
    decisions: tuple[Decision, ...] = ()


class Weighted(NamedTuple):
    """A finding with what its decisions save at a moment; None where it has none."""

    finding: Finding
    saving: Saving | None


def findings(session: Session, cards: Cards, buffer: int) -> list[Finding]:
    """All that is found, in a fixed order of kinds; `cards` tell what does nothing, and what is late at a buffer
    size."""
    found = [*_unused(session), *_clips(session), *_without_way_out(session), *_idle(session, cards)]
    found += [*_analysers(session), *_armed(session), *_late(session, cards, buffer), *_many(session, cards)]
    return [*found, *_two_standards(session)]


def weighed(of: Survey, at: Instant) -> list[Weighted]:
    """The findings of a survey's session with what each saves at the moment, most saving first."""
    found = [
        Weighted(f, saving(of, at, f.decisions) if f.decisions else None)
        for f in findings(of.session, of.planned.cards, of.buffer)
    ]
    return sorted(found, key=lambda each: -(each.saving.work if each.saving is not None else 0.0))


def _names(strips: Iterable[Strip], most: int = 4) -> str:
    return listed([strip.name for strip in strips], most)


def _off(session: Session, strips: Iterable[Strip]) -> tuple[Decision, ...]:
    decisions = (Decision("off", strip.id) for strip in strips)
    return tuple(d for d in decisions if obstacle(session.strip(d.strip), d, session) is None)


def _unused(session: Session) -> list[Finding]:
    """Tracks that nothing plays on, and clips that are wholly after the end."""
    listened = {use.sidechain for strip in session.strips for use in strip.uses() if use.enabled}
    fed = {target for _, target in edges(session)}
    empty = [
        strip
        for k, strip in enumerate(session.strips)
        if strip.enabled and strip.kind == "track" and not strip.clips and not strip.armed and k not in fed
        and strip.id not in listened
    ]  # fmt: skip
    found = []
    if empty:
        said = f"Nothing plays on {_names(empty)}: no clips, nothing that feeds {'it' if len(empty) == 1 else 'them'}."
        found.append(Finding("unused tracks", said, _off(session, empty)))
    idle = [
        strip
        for k, strip in enumerate(session.strips)
        if strip.enabled and strip.kind in ("bus", "return") and k not in fed and strip.live_uses()
    ]
    if idle:
        said = f"Nothing feeds {_names(idle)}, but the plugins there cost."
        found.append(Finding("buses without input", said, _off(session, idle)))
    late = [s for s in session.strips if session.length and any(c.start >= session.length for c in s.clips)]
    if late:
        found.append(Finding("unused clips", f"Clips on {_names(late)} begin after the end of the piece."))
    return found


def _clips(session: Session) -> list[Finding]:
    """Clips that the host converts or stretches while it plays, and files of several depths."""
    found = []
    other = [s for s in session.strips if any(c.rate not in (0, session.rate) for c in s.clips)]
    if other:
        rates = sorted({c.rate for s in other for c in s.clips if c.rate not in (0, session.rate)})
        known = ", ".join(f"{rate / 1000:g}" for rate in rates)
        said = f"Clips on {_names(other)} are at {known} kHz, the session at {session.rate / 1000:g}: "
        said += "the host converts them whenever it plays. Converted once, they cost nothing."
        found.append(Finding("mixed sample rates", said))
    stretched = [s for s in session.strips if any(c.stretched for c in s.clips)]
    if stretched:
        said = f"Clips on {_names(stretched)} are stretched while they play: print the stretch once it is settled."
        found.append(Finding("clips stretched live", said))
    depths: dict[int, list[Strip]] = {}
    for strip in session.strips:
        for bits in sorted({clip.bits for clip in strip.clips if clip.bits}):
            depths.setdefault(bits, []).append(strip)
    if len(depths) > 1:
        each = "; ".join(f"{bits} bit on {_names(strips, 2)}" for bits, strips in sorted(depths.items()))
        found.append(Finding("mixed bit depths", f"Audio files of several depths: {each}. It costs disk, not load."))
    return found


def _without_way_out(session: Session) -> list[Finding]:
    """Strips that sound, but that no way leads to the main output from."""
    heard = {strip.id for strip in session.strips if strip.kind == "main"}
    listened = {use.sidechain for strip in session.strips for use in strip.uses() if use.enabled}
    while more := {s.id for s in session.strips if s.id not in heard and heard & set(passes_on(s))}:
        heard |= more
    lost = [s for s in session.strips if s.enabled and s.id not in heard and s.live_uses() and s.id not in listened]
    if not lost or not any(strip.kind == "main" for strip in session.strips):
        return []
    muted = [strip for strip in lost if strip.mute]
    why = f" {_names(muted)} {'is' if len(muted) == 1 else 'are'} muted: that alone saves nothing." if muted else ""
    said = f"{_names(lost)} cannot be heard at the main output, but cost.{why}"
    return [Finding("without a way out", said, _off(session, lost))]


def _decisions_for(session: Session, wanted: Iterable[tuple[Strip, PluginUse]]) -> tuple[Decision, ...]:
    return tuple(Decision("off", strip.id, use.id) for strip, use in wanted)


def _live(session: Session) -> list[tuple[Strip, PluginUse]]:
    return [(strip, use) for strip in session.strips for use in strip.live_uses()]


def _idle(session: Session, cards: Cards) -> list[Finding]:
    """Plugins whose output was their input, or nothing, when they were measured."""
    through, mute = [], []
    for strip, use in _live(session):
        card = cards.get(use.card_key())
        if card is not None and card.truth is not None:
            if only_passes_on(use, card):
                through.append((strip, use))
            elif card.truth.silent and strip.instrument is not use:
                mute.append((strip, use))
    found = []
    if through:
        labels = ", ".join(sorted({use.label for _, use in through}))
        only = agreeing(len(through), "plugin only passes", "plugins only pass")
        said = f"{only} on what comes in, as set: {labels}."
        found.append(Finding("plugins that do nothing", said, _decisions_for(session, through)))
    if mute:
        labels = ", ".join(sorted({use.label for _, use in mute}))
        found.append(Finding("plugins without output", f"Nothing came out of {labels} while it was measured."))
    return found


def _analysers(session: Session) -> list[Finding]:
    watching = [(s, u) for s, u in _live(session) if u.family == "analyser" or by_name(u.label) == "analyser"]
    if not watching:
        return []
    labels = ", ".join(sorted({use.label for _, use in watching}))
    run = agreeing(len(watching), "meter or analyser runs", "meters and analysers run")
    said = f"{run}: {labels}. No sound is changed by that; nobody may be looking."
    return [Finding("meters and analysers", said, _decisions_for(session, watching))]


def _armed(session: Session) -> list[Finding]:
    """Tracks that are armed although they hold clips through most of the piece."""
    needless = [
        strip
        for strip in session.strips
        if strip.armed and strip.enabled and sum(c.end - c.start for c in strip.clips) > 0.5 * session.length > 0
    ]
    if not needless:
        return []
    said = (
        f"{_names(needless)} {'is' if len(needless) == 1 else 'are'} armed, though recorded already: what is armed "
        "runs in the live thread, at the device's buffer, all through the piece."
    )
    return [Finding("armed without need", said, tuple(Decision("disarm", strip.id) for strip in needless))]


def _late(session: Session, cards: Cards, buffer: int) -> list[Finding]:
    """Plugins that look ahead while something is being recorded."""
    if not any(strip.armed and strip.enabled for strip in session.strips):
        return []
    reported = Reported(session, cards, buffer)
    slow = [(s, u, reported.of(u)) for s, u in _live(session)]
    slow = [each for each in slow if each[2] > LATE * session.rate]
    if not slow:
        return []
    longest = max(slow, key=lambda each: each[2])
    said = (
        f"{agreeing(len(slow), 'plugin looks', 'plugins look')} ahead while a track is armed, "
        f"{longest[1].label} on {longest[0].name} by "
        f"{milliseconds(longest[2] / session.rate)}. Computer › Track in time finds which must go."
    )
    return [Finding("look-ahead while tracking", said)]


def _many(session: Session, cards: Cards) -> list[Finding]:
    """Many of one effect, and the groups that could share one."""
    found = []
    for group in groups(session, cards):
        if not keeps_sound(group.chain, cards):
            continue
        label = chain_called(group.chain)
        strips = [session.strip(strip) for strip, _ in group.members]
        into = session.strip(strips[0].output).name if strips[0].output is not None else "nothing"
        exact = f"a null test leaves {decibels(group.null_db)}" if group.null_db is not None else "not null-tested"
        said = f"{len(strips)} tracks into {into} end in the same {label}: one on a bus could do ({exact}): "
        but = FAULT_WORDS[group.fault]
        found.append(Finding("alike on several tracks", f"{said}{_names(strips)}.{but}", group.decisions()))
    for group in similar(session, cards):
        label, strips = group.chain[0].label, [session.strip(strip) for strip, _ in group.members]
        said = f"{len(strips)} tracks end in {label}, set nearly alike: they differ in {', '.join(group.differs)}. "
        said += f"One on a bus could do, if one setting will: {_names(strips)}."
        found.append(Finding("nearly alike on several tracks", said, group.decisions()))
    counts: dict[tuple[str, str], list[PluginUse]] = {}
    for _, use in _live(session):
        counts.setdefault((use.plugin.standard, use.plugin.identifier), []).append(use)
    many = [uses for uses in counts.values() if len(uses) >= MANY and uses[0].family in ("reverb", "delay")]
    for uses in many:
        settled = count(len({use.card_key() for use in uses}), "setting")
        said = f"{uses[0].label} runs {len(uses)} times in {settled}: sends to a few returns would cost less."
        found.append(Finding("many of one effect", said))
    return found


def _two_standards(session: Session) -> list[Finding]:
    """The same plugin by name in two plugin standards."""
    alike: dict[str, dict[str, PluginUse]] = {}
    for _, use in _live(session):
        alike.setdefault(squeezed(use.label), {})[use.plugin.made_as] = use
    found = []
    for _, by_standard in sorted(alike.items()):
        if len(by_standard) > 1:
            both = " and ".join(sorted(by_standard))
            label = next(reversed(by_standard.values())).label
            said = f"{label} is used as {both}: one may cost less than the other; their cards say it."
            found.append(Finding("in two standards", said))
    return found
