"""The load of a moment computed a second time, from the session and its cards alone: lists, loops and recursion.

Nothing of `core` is used but the objects themselves. What strips cost, when they sound, who waits for whom and how a
host plays the block are each worked out again, as plainly as they can be said.
"""

from __future__ import annotations

import itertools
import math
import random

import msgspec

from nimbleload.core.cards.card import Cell, Company, CostCard, Paced, Polyphony
from nimbleload.core.cards.slowing import Slowing
from nimbleload.core.cards.upkeep import Upkeep
from nimbleload.core.session.computer import Host, Machine
from nimbleload.core.session.plugins import PluginUse
from nimbleload.core.session.session import Session
from nimbleload.core.session.strips import Clip, Send, Strip

RATE = 48000
INF = float("inf")


# --- when strips sound ---------------------------------------------------------------------------------------------


def merged(spans):
    found = []
    for a, b in sorted(spans):
        if b <= a:
            continue
        if found and a <= found[-1][1]:
            found[-1][1] = max(found[-1][1], b)
        else:
            found.append([a, b])
    return [tuple(x) for x in found]


def places(strip: Strip):
    own = [(-1, strip.instrument)] if strip.instrument is not None else []
    return own + list(enumerate(strip.inserts))


def cuts_of(strip: Strip):
    """The places after which a send leaves before the chain's end."""
    last = len(strip.inserts) - 1
    found = {max(s.after, -1) for s in strip.sends if s.enabled and s.after is not None and max(s.after, -1) < last}
    return sorted(found)


def part_of_place(strip: Strip, place: int) -> int:
    return sum(1 for cut in cuts_of(strip) if place > cut)


def tail_of(use: PluginUse, cards) -> float:
    card = cards.get(use.card_key())
    if card is None:
        return 0.0
    return card.tail if card.tail is not None else (INF if card.listened is not None else 0.0)


class Second:
    """One session with its cards on a machine at a buffer size."""

    def __init__(self, session: Session, cards, machine: Machine, buffer: int) -> None:
        self.session, self.cards, self.machine, self.buffer = session, cards, machine, buffer
        self.strips = {s.id: s for s in session.strips}
        self.threads = max(1, machine.cores - session.host.cores_left_free)
        self._spans: dict[tuple[str, int], list] = {}

    # who hears whom, and when

    def heard_from(self, target: str):
        """(strip, part) of everything whose sound reaches a strip."""
        found = []
        for s in self.session.strips:
            last = len(cuts_of(s))
            if not s.enabled:
                continue
            if s.output == target and not s.mute:
                found.append((s.id, last))
            for send in s.sends:
                if not send.enabled or send.target != target:
                    continue
                end = len(s.inserts) - 1
                early = send.after is not None and max(send.after, -1) < end
                part = part_of_place(s, max(send.after, -1)) if early else last
                if send.pre_fader or not s.mute or part < last:
                    found.append((s.id, part))
        return found

    def spans(self, strip_id: str, part: int):
        """When a part of a strip sounds."""
        key = (strip_id, part)
        if key in self._spans:
            return self._spans[key]
        s = self.strips[strip_id]
        tail = sum(tail_of(u, self.cards) for p, u in places(s) if u.enabled and part_of_place(s, p) == part)
        if not s.enabled:
            found = []
        elif s.armed:
            found = [(0.0, self.session.length)]
        elif part > 0:
            found = merged((a, b + tail) for a, b in self.spans(strip_id, part - 1))
        else:
            own = []
            for clip in s.clips:
                if clip.kind == "notes" and self.counted(s):
                    own += [(a, b) for a, b, n in self.held(clip) if n > 0]
                else:
                    own.append((clip.start, clip.end))
            for other, its in self.heard_from(strip_id):
                own += self.spans(other, its)
            found = merged((a, b + tail) for a, b in merged(own))
        self._spans[key] = found
        return found

    def sounds(self, s: Strip, t: float) -> bool:
        return any(a <= t < b for part in range(len(cuts_of(s)) + 1) for a, b in self.spans(s.id, part))

    # notes

    def counted(self, s: Strip) -> bool:
        notes = [c for c in s.clips if c.kind == "notes"]
        return s.instrument is not None and not s.armed and bool(notes) and all(c.voices for c in notes)

    def held(self, clip: Clip):
        found = []
        for k, (start, n) in enumerate(clip.voices):
            end = clip.voices[k + 1][0] if k + 1 < len(clip.voices) else clip.end
            a, b = max(start, clip.start), min(end, clip.end)
            if b > a:
                found.append((a, b, n))
        return found

    def notes_at(self, s: Strip, t: float) -> int:
        """How many notes a sounding instrument plays; those let go count to the bar line (2 s) after its tail."""
        tail = tail_of(s.instrument, self.cards)
        most = 0
        for clip in s.clips:
            for a, b, n in self.held(clip) if clip.kind == "notes" else ():
                end = INF if tail == INF else (2.0 * math.ceil((b + tail) / 2.0 - 1e-12) if tail else b)
                if a <= t < end:
                    most = max(most, n)
        return most

    # what things cost

    def live_uses(self, s: Strip):
        for place, use in places(s):
            frozen = s.frozen_through is not None and place <= s.frozen_through
            if s.enabled and use.enabled and not frozen:
                yield place, use

    def touched(self) -> float:
        total = 0.0
        for s in self.session.strips:
            for _, use in self.live_uses(s):
                card = self.cards.get(use.card_key())
                total += card.upkeep.footprint if card is not None and card.upkeep is not None else 0.0
        return total / self.places()[0]

    def places(self):
        """On how many real cores the threads lie, which share of them beside another on the same one, and which share
        on slow ones: the mean over every way in which they can lie."""
        m = self.machine
        real = m.cores - m.second
        slow = {real - 1 - k for k in range(m.slow - m.slow_second)}
        of = [*range(real), *range(m.second - m.slow_second), *sorted(slow)[: m.slow_second]]
        found = []
        for chosen in itertools.combinations(range(m.cores), self.threads):
            on = [of[k] for k in chosen]
            found.append((len(set(on)), sum(on.count(k) > 1 for k in on), sum(k in slow for k in on)))
        cores, beside, late = (sum(column) / len(found) for column in zip(*found, strict=True))
        return cores, beside / self.threads, late / self.threads

    def use_cost(self, s: Strip, use: PluginUse, t: float, size: int, calls: float):
        """(seconds, seconds more beside others) of one use for a block of the device."""
        card = self.cards.get(use.card_key())
        if card is None:
            return 0.0, 0.0
        sounding = self.sounds(s, t)
        means = {c.condition: c.mean for c in card.cells if c.rate == self.session.rate and c.buffer == size}
        if not means:
            means = {c: card.cost(self.session.rate, size, c).seconds for c in ("sounding", "silent")}
        seconds = means["sounding"] if sounding else means["silent"]
        if sounding and use is s.instrument and self.counted(s):
            n = self.notes_at(s, t)
            if n < use.voices and card.polyphony:
                if n == 0:
                    seconds = min(means["silent"], means["sounding"])
                else:
                    curve = card.polyphony[0]
                    seconds *= line(n, curve.voices, running_max(curve.seconds), curve.seconds[-1])
        if not sounding and (s.suspended or self.session.host.suspends):
            return 0.0, 0.0
        extra = 0.0
        if card.company:
            curve = card.company[0]
            added = running_max([max(x / curve.seconds[0] - 1, 0.0) for x in curve.seconds])
            extra = line(self.touched(), curve.touched, added, 1.0)
        paced = 0.0
        if card.paced and not self.machine.is_another:
            # Seconds a block, so much more with each doubling; beyond the sizes no more of a row than at the nearer.
            small, large = card.paced
            low, high = (max(p.paced - p.row, 0.0) for p in (small, large))
            reach = (size - small.buffer) / (large.buffer - small.buffer)
            row = small.row + reach * (large.row - small.row)
            more = low + (high - low) * math.log2(size / small.buffer) / math.log2(large.buffer / small.buffer)
            if size > large.buffer:
                more = min(max(more, high), high / large.row * row)
            elif size < small.buffer:
                more = min(max(more, 0.0), low / small.row * max(row, 0.0))
            paced = more / means["sounding"] if means["sounding"] > 0 else 0.0
            extra = max(extra, paced)
        seconds *= calls * (1 + extra) * self.session.host.plugin_factor / self.machine.speed
        if not self.machine.is_another:
            seconds *= self.slower(card, size)
        if card.upkeep is None:
            return seconds, 0.0
        cores, in_pairs, late = self.places()
        up = card.upkeep
        seconds *= 1 + late * (up.slower - 1)
        others = min((cores - 1) / up.others, 1.0) if up.others else 1.0
        return seconds, seconds * (max(up.beside / (1 + paced) - 1, 0) * others + (up.paired - 1) * in_pairs)

    def clock_after(self, card, size: int):
        """(how many times as long, for how many seconds, in a row) of a block of this size: on a line over log2."""
        if not card.slowing:
            return 1.0, 0.0, 1.0
        small, large = card.slowing
        part = min(max(math.log2(size / small.buffer) / math.log2(large.buffer / small.buffer), 0.0), 1.0)
        return tuple(
            getattr(small, name) + part * (getattr(large, name) - getattr(small, name))
            for name in ("by", "seconds", "row")
        )

    def slower(self, card, size: int) -> float:
        """How many times as long a block takes at the clock that others leave: W the work of all, H the live ones' time
        at a lower clock, which hits a share 1 − exp(−H/W) of it."""
        work = lowered = weighed = brought = 0.0
        for s in self.session.strips:
            live = {id(use) for _, use in self.live_uses(s)}
            for _, use in places(s):
                other = self.cards.get(use.card_key())
                if other is None:
                    continue
                at = [c.mean for c in other.cells if (c.rate, c.buffer, c.condition) == (RATE, size, "sounding")]
                work += at[0] if at else other.cost(RATE, size, "sounding").seconds
                by, seconds, _ = self.clock_after(other, size)
                weighed, brought = weighed + by * seconds, brought + seconds
                lowered += seconds if id(use) in live else 0.0
        if brought == 0 or work == 0:
            return 1.0
        hit = 1 - math.exp(-lowered / work)
        return max((1 + hit * (weighed / brought - 1)) / self.clock_after(card, size)[2], 1.0)

    def live_thread(self):
        """The armed strips and everything after them."""
        found = {s.id for s in self.session.strips if s.armed and s.enabled}
        while True:
            more = {t for s in found for t in self.fed(self.strips[s])} | {
                s.id for s in self.session.strips for _, u in self.live_uses(s) if u.sidechain in found
            }
            if more <= found:
                return found
            found |= more

    def fed(self, s: Strip):
        return [x for x in [s.output, *(send.target for send in s.sends if send.enabled)] if x is not None]

    # the block

    def tasks(self, t: float):
        """Every part of every strip: (strip, part) → (seconds, seconds more beside others)."""
        host = self.session.host
        live = self.live_thread()
        two = bool(host.read_ahead) and bool(live)
        found = {}
        share = self.interrupted()
        for s in self.session.strips:
            calls = float(host.parts)
            if two:
                calls = 1.0 if s.id in live else host.parts * self.buffer / max(host.read_ahead, self.buffer)
            size = max(round(self.buffer / calls), 1)
            for part in range(len(cuts_of(s)) + 1):
                own = more = 0.0
                count = 0
                for place, use in self.live_uses(s):
                    if part_of_place(s, place) == part:
                        a, b = self.use_cost(s, use, t, size, calls)
                        own, more, count = own + a, more + b, count + 1
                overhead = host.strip_overhead * (part == 0 and s.enabled) + host.plugin_overhead * count
                own += calls * overhead / self.machine.speed
                found[s.id, part] = (own * (1 + share), more * (1 + share))
        return found, live, two

    def interrupted(self) -> float:
        own = added = 0.0
        seen = set()
        for use in [u for s in self.session.strips for _, u in places(s)]:
            if use.card_key() in seen or use.card_key() not in self.cards:
                continue
            seen.add(use.card_key())
            for c in self.cards[use.card_key()].cells:
                if (c.rate, c.buffer, c.condition) == (self.session.rate, self.buffer, "sounding"):
                    own, added = own + c.mean, added + c.jitter
        return added / own if own > 0 else 0.0

    def waits(self):
        """(strip, part) → the parts that must be through before it begins."""
        found: dict[tuple[str, int], set] = {
            (s.id, p): ({(s.id, p - 1)} if p else set())
            for s in self.session.strips
            for p in range(len(cuts_of(s)) + 1)
        }
        for s in self.session.strips:
            last = len(cuts_of(s))
            if s.output is not None:
                found[s.output, 0].add((s.id, last))
            for send in s.sends:
                if send.enabled:
                    early = send.after is not None and max(send.after, -1) < len(s.inserts) - 1
                    found[send.target, 0].add((s.id, part_of_place(s, max(send.after, -1)) if early else last))
        for s in self.session.strips:
            for place, use in self.live_uses(s):
                if use.sidechain is not None:
                    source = (use.sidechain, len(cuts_of(self.strips[use.sidechain])))
                    found[s.id, part_of_place(s, place)].add(source)
        for s in self.session.strips:
            for _, use in self.live_uses(s):
                if use.sidechain is not None:
                    source = (use.sidechain, len(cuts_of(self.strips[use.sidechain])))
                    if not reaches(found, (s.id, 0), source):
                        found[s.id, 0].add(source)
        return found

    def order(self):
        """The numbers by which equal tasks go: the session's order, parts of a cut strip in its place."""
        return [(s.id, p) for s in self.session.strips for p in range(len(cuts_of(s)) + 1)]

    def numbers(self):
        firsts = [(s.id, 0) for s in self.session.strips]
        return firsts + [(s.id, p) for s in self.session.strips for p in range(1, len(cuts_of(s)) + 1)]

    def load(self, t: float) -> float:
        tasks, live, two = self.tasks(t)
        work, beside = (sum(x[k] for x in tasks.values()) for k in (0, 1))
        if two:
            ahead = {k: (0.0 if k[0] in live else x[0]) for k, x in tasks.items()}
            foreground = sum(x[0] for k, x in tasks.items() if k[0] in live)
            background = self.played(ahead, max(self.threads - 1, 1))
            length = max(foreground, background) if self.threads > 1 else foreground + background
        else:
            length = self.played({k: x[0] for k, x in tasks.items()}, self.threads)
        if self.threads > 1 and length > 0 and work > 0:
            at_once = min(max((work / length - 1) / (self.threads - 1), 0.0), 1.0)
            length *= 1 + at_once * beside / work
        return length / (self.buffer / self.session.rate)

    def played(self, cost: dict, cores: int) -> float:
        """The finishing time of one block by list scheduling, event after event."""
        parts = self.session.host.parts
        waits, goes_on = self.waits(), {}
        nodes, deps = {}, {}
        for part in range(parts):
            for key, seconds in cost.items():
                # In steps of a femtosecond, in which sums are exact: else the last digits say who goes first.
                nodes[key, part] = round(seconds / parts * 2**50) / 2**50
                deps[key, part] = {(w, part) for w in waits[key]} | ({(key, part - 1)} if part else set())
        for strip, p in cost:
            if (strip, p + 1) in cost:
                for part in range(parts):
                    goes_on[(strip, p), part] = ((strip, p + 1), part)
        after: dict = {n: [] for n in nodes}
        for n, ds in deps.items():
            for d in ds:
                after[d].append(n)
        rest: dict = {}

        def remaining(n):
            if n not in rest:
                rest[n] = nodes[n] + max((remaining(m) for m in after[n]), default=0.0)
            return rest[n]

        number = {key: i for i, key in enumerate(self.numbers())}
        place = {key: i for i, key in enumerate(self.order())}
        count = len(number)

        def rank(n):
            key, part = n
            if self.session.host.listed:
                return (part, place[key])
            return (-remaining(n), part * count + number[key])

        left = {n: set(ds) for n, ds in deps.items()}
        ready = sorted((n for n in nodes if not left[n]), key=rank)
        busy: dict[int, tuple] = {}
        now = 0.0
        while True:
            for c in range(cores):
                if c not in busy and ready:
                    n = ready.pop(0)
                    busy[c] = (now + nodes[n], n)
            if not busy:
                return now
            now = min(end for end, _ in busy.values())
            for c in sorted(busy):
                end, n = busy[c]
                if end != now:
                    continue
                del busy[c]
                for m in after[n]:
                    left[m].discard(n)
                    if not left[m] and m != goes_on.get(n):
                        ready.append(m)
                following = goes_on.get(n)
                if following is not None and not left[following]:
                    busy[c] = (now + nodes[following], following)
                    nodes_started(following)
            ready.sort(key=rank)


def nodes_started(_node) -> None:
    """A task that goes on was never among the ready ones."""


def reaches(waits: dict, source, target) -> bool:
    """Whether what one task makes reaches another: the target waits for it, near or far."""
    seen, todo = set(), [target]
    while todo:
        at = todo.pop()
        if at == source:
            return True
        if at not in seen:
            seen.add(at)
            todo.extend(waits[at])
    return False


def running_max(values):
    found, most = [], -INF
    for value in values:
        most = max(most, value)
        found.append(most)
    return found


def line(x: float, xs, ys, scale: float) -> float:
    """On the line between the two points around x, beyond the outermost ones these; as a share of `scale`, 1 at most
    where that is the last of a curve."""
    if x <= xs[0]:
        return ys[0] / scale
    for (x0, y0), (x1, y1) in zip(zip(xs, ys, strict=True), list(zip(xs, ys, strict=True))[1:], strict=False):
        if x <= x1:
            return (y0 + (y1 - y0) * (x - x0) / (x1 - x0)) / scale
    return ys[-1] / scale


# --- sessions that hold everything -----------------------------------------------------------------------------------


def everything(rng: random.Random) -> tuple[Session, dict, Machine]:
    """A random session of all that there is, its cards, and a machine."""
    buses = [f"b{k}" for k in range(rng.randint(1, 3))]
    strips = []
    tracks = rng.randint(2, 6)
    for t in range(tracks):
        inserts = tuple(PluginUse(f"t{t}/{k}", ref(rng), enabled=rng.random() < 0.9) for k in range(rng.randint(0, 3)))
        if t and inserts and rng.random() < 0.3:
            at = rng.randrange(len(inserts))
            listened = msgspec.structs.replace(inserts[at], sidechain=f"t{rng.randrange(t)}")
            inserts = (*inserts[:at], listened, *inserts[at + 1 :])
        starts = [rng.uniform(0, 8) for _ in range(rng.randint(1, 2))]
        spans = [(a, a + rng.uniform(0.5, 4)) for a in starts]
        clips = tuple(Clip(a, b) for a, b in spans)
        instrument = None
        if rng.random() < 0.35:
            instrument = PluginUse(f"t{t}/synth", ref(rng, "synth"), voices=3)
            if rng.random() < 0.8:
                clips = tuple(Clip(a, b, "notes", voices=profile(rng, a, b)) for a, b in spans)
        sends = tuple(
            Send(rng.choice(buses), 1.0, rng.random() < 0.3, rng.random() < 0.85, rng.choice((None, None, -1, 0, 1)))
            for _ in range(rng.randint(0, 2))
        )
        sends = tuple({s.target: s for s in sends}.values())
        last = len(inserts) - 1
        frozen = rng.choice((None, None, None, -1 if instrument else 0, last)) if last >= 0 else None
        output = rng.choice([*buses, "main"])
        strips.append(Strip(
            f"t{t}", f"Track {t}", "track", instrument, inserts, tuple(s for s in sends if s.target != output), output,
            mute=rng.random() < 0.15, armed=rng.random() < 0.12, clips=clips, enabled=rng.random() < 0.92,
            frozen_through=frozen, suspended=rng.random() < 0.2,
        ))  # fmt: skip
    for k, name in enumerate(buses):
        inserts = tuple(PluginUse(f"{name}/{i}", ref(rng)) for i in range(rng.randint(0, 2)))
        strips.append(Strip(name, name, "bus", None, inserts, (), rng.choice([*buses[k + 1 :], "main"]),
                            mute=rng.random() < 0.1))  # fmt: skip
    strips.append(Strip("main", "Main", "main", None, (PluginUse("main/0", ref(rng)),)))
    rng.shuffle(strips)
    host = Host(
        rng.choice((0, 0, 1)), rng.uniform(0, 1e-5), rng.uniform(0, 1e-6), rng.choice((0, 0, 1024)),
        rng.random() < 0.2, rng.choice((1.0, 1.3)), rng.random() < 0.3, 10.0, rng.choice((1, 1, 2, 4)),
    )  # fmt: skip
    of = Session("Everything", RATE, 12.0, tuple(strips), host=host)
    found = {}
    for key, uses in of.card_keys().items():
        if rng.random() < 0.05:
            continue  # not measured
        found[key] = random_card(rng, key, uses[0])
    return of, found, random_machine(rng)


def random_machine(rng: random.Random) -> Machine:
    """Of up to six cores; some of them in pairs, and some of the others slow."""
    cores, speed = rng.randint(1, 6), rng.choice((1.0, 1.0, 2.0))
    second = rng.choice((0, 0, rng.randint(0, cores // 2)))
    late = rng.choice((0, 0, rng.randint(0, cores - second)))
    slow_second = max(second - (cores - second - late), rng.choice((0, min(late, second))))
    return Machine(cores, speed, second=second, slow=late + slow_second, slow_second=slow_second)


def ref(rng: random.Random, name: str | None = None):
    from nimbleload.core.session.plugins import PluginRef

    label = name or f"p{rng.randint(0, 4)}"
    return PluginRef("test", label, label)


def profile(rng: random.Random, start: float, end: float):
    bars = [b for b in (0, 2, 4, 6, 8, 10) if start < b < end]
    return tuple((float(at), rng.randint(0, 3)) for at in [start, *bars])


def random_card(rng: random.Random, key, use: PluginUse) -> CostCard:
    seconds, silent = rng.uniform(1e-5, 1e-3), rng.uniform(0, 2e-4)
    cells = tuple(
        Cell(RATE, b, c, x * (0.2 + 0.8 * b / 256), jitter=0.05 * x if jitters else 0.0)
        for jitters in (rng.random() < 0.5,)
        for b in (16, 32, 64, 128, 256, 512, 1024, 2048, 4096)
        for c, x in (("sounding", seconds), ("silent", silent))
    )
    upkeep = Upkeep(
        0, rng.randint(0, 1 << 20), 0.0, 0.0, 0.0, rng.choice((1.0, rng.uniform(1.0, 1.6))), "",
        rng.choice((0, rng.randint(1, 5))), rng.uniform(1.0, 2.0), rng.uniform(1.0, 2.5),
    )  # fmt: skip
    company = (Company(RATE, 256, (0, 1 << 20, 1 << 22), (1.0, rng.uniform(0.9, 1.3), rng.uniform(1, 1.5))),)
    curve = (Polyphony(RATE, 256, (1, 2, 3), (1e-4, 2.5e-4, 3e-4)),) if use.voices else ()
    apart = random.Random(seconds)
    paced = tuple(Paced(RATE, size, 1e-4, 1e-4 * apart.uniform(0.9, 1.5)) for size in (64, 512))
    slowing = tuple(
        Slowing(RATE, size, apart.uniform(1, 1.3), apart.uniform(0, 1e-3), apart.choice((1.0, apart.uniform(1, 1.2))))
        for size in (64, 512)
    )
    tail, listened = rng.choice(((None, None), (0.0, None), (0.7, None), (None, 15.0)))
    return CostCard(key, use.label, cells, tail=tail, upkeep=upkeep, company=company if rng.random() < 0.6 else (),
                    polyphony=curve, listened=listened, paced=paced if apart.random() < 0.5 else (),
                    slowing=slowing if apart.random() < 0.3 else ())  # fmt: skip
