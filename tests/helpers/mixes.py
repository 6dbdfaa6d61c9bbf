"""Mixes by chance, as exchange files with audio in them; and plans of all kinds for them, that change no sound."""

from __future__ import annotations

import random
from pathlib import Path

from nimbleload.core.decisions import alike
from nimbleload.core.decisions.apply import obstacle
from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.session.session import Session
from nimbleload.core.session.strips import Strip
from nimbleload.deliver import carrying, exchange_out
from nimbleload.deliver.proof import Proof
from tests.helpers import exchange as x
from tests.helpers.sessions import card
from tests.helpers.stems import audio, noise, wave

# House processors, with the parameters that make them quick to test; how long they ring at most (seconds).
LINEAR = {"shoreline": {"gain": -6.0}, "vault": {"seconds": 0.4}, "mist": {"seconds": 0.3, "motion": 0.0}}
OTHERS = {"tar": {}, "ballast": {}, "sluice": {}}
SWITCHES = ("true", "false")
RINGS = {"house.vault": 0.6, "house.mist": 1.0}


def written(rng: random.Random, path: Path, linear: bool) -> Path:
    """Two to five tracks, up to two groups (one in the other at times) and returns, sends before and behind faders,
    some of all muted or bypassed."""
    names = [*LINEAR] if linear else [*LINEAR, *OTHERS]
    tracks, groups, returns = ([f"{kind}{k}" for k in range(rng.randint(least, most))]
                               for kind, least, most in (("t", 2, 5), ("g", 0, 2), ("r", 0, 2)))  # fmt: skip

    def devices(most: int) -> str:
        return "".join(_device(rng, rng.choice(names)) for _ in range(rng.randint(0, most)))

    def strip(own: str, role: str, to: str, inserts: str) -> str:
        led = "".join(
            x.send(f"c{each}", rng.choice(("pre", "post")), round(rng.uniform(0.1, 0.9), 2), rng.choice(SWITCHES))
            for each in returns if role != "effect" and rng.random() < 0.5
        )  # fmt: skip
        muted = '<Mute value="true"/>' if rng.random() < 0.1 else ""
        return x.track(own, own.upper(), x.channel(f"c{own}", role, to, inserts, led, _volume(rng) + muted))

    alike_on_some = devices(2)
    into = ["cm", *(f"c{each}" for each in groups)]
    found = [strip(each, "regular", rng.choice(into), alike_on_some if rng.random() < 0.5 else devices(3))
             for each in tracks]  # fmt: skip
    found += [strip(each, "submix", rng.choice(("cm", "cg0")[: k + 1]), devices(2)) for k, each in enumerate(groups)]
    found += [strip(each, "effect", "cm", devices(2)) for each in returns]
    rng.shuffle(found)
    found.append(x.track("tm", "Main", x.channel("cm", "master", devices=devices(1), extra=_volume(rng))))
    lanes = [x.lanes(each, *(_clip(rng) for _ in range(rng.randint(1, 3))), unit="seconds") for each in tracks]
    files = {f"audio/{k}.wav": wave(noise(3, 1 if k == 0 else 2, seed=k)) for k in range(4)}
    return x.write(path, x.project("".join(found), "".join(lanes)), files)


def _device(rng: random.Random, name: str) -> str:
    values = "".join(f'<RealParameter parameterID="{key}" value="{value}"/>'
                     for key, value in {**LINEAR, **OTHERS}[name].items())  # fmt: skip
    return (
        f'<BuiltinDevice deviceID="house.{name}" deviceName="{name}" deviceRole="audioFX">'
        f'<Enabled value="{str(rng.random() < 0.9).lower()}"/><Parameters>{values}</Parameters></BuiltinDevice>'
    )


def _volume(rng: random.Random) -> str:
    return f'<Volume unit="linear" value="{round(rng.uniform(0.2, 1.2), 2)}"/>' if rng.random() < 0.8 else ""


def _clip(rng: random.Random) -> str:
    more = {"playStart": 0.25, "fadeInTime": 0.2, "fadeOutTime": 0.1}
    more = {key: value for key, value in more.items() if rng.random() < 0.3}
    if rng.random() < 0.3:
        more |= {"loopStart": 0, "loopEnd": round(rng.uniform(0.5, 1.5), 3)}
    played = audio(f"audio/{rng.randrange(4)}.wav", 3)
    return x.clip(round(rng.uniform(0, 4), 3), round(rng.uniform(0.3, 2.5), 3), played, **more)


def planned(rng: random.Random, of: Session) -> Plan:
    """Freezes, bounces of tracks, of stretches and of buses, and suspensions; what cannot be is left out."""
    found = (_decision(rng, strip) for strip in rng.sample(of.strips, len(of.strips)))
    return Plan(tuple(d for d in found if d is not None and not obstacle(of.strip(d.strip), d, of)))


def _decision(rng: random.Random, strip: Strip) -> Decision | None:
    if strip.kind == "main":
        return None
    through = rng.choice((None, *range(len(strip.inserts))))
    start = round(rng.uniform(0, 4), 3)
    of_tracks = (
        Decision("freeze", strip.id, through=through), Decision("bounce", strip.id, through=through),
        Decision("bounce", strip.id, start=start, end=round(start + rng.uniform(0.3, 2), 3)),
        Decision("suspend", strip.id), None,
    )  # fmt: skip
    return rng.choice(of_tracks if strip.kind == "track" else (Decision("bounce", strip.id), None))


def shared(rng: random.Random, of: Session) -> Plan:
    """One of the groups that could share the ends of their chains, those whose sends would leave before them too."""
    found = alike.groups(of, {})
    return Plan(rng.choice(found).decisions()) if found else Plan()


def cards(of: Session) -> dict:
    """How long each plugin rings."""
    return {use.card_key(): card(use, 0.001, tail=RINGS.get(use.plugin.identifier, 0.1))
            for strip in of.strips for use in strip.uses()}  # fmt: skip


def carried_out(source: Path, session: Session, plan: Plan, known: dict) -> tuple[Path, list[Proof]]:
    """Renders, proves and writes a plan for what an exchange file holds, with cards; the file that was written, and all
    that was proven."""
    prepared = carrying.prepare(session, plan, 512)
    rendered, proofs, folder = {}, [], source.with_name("rendered")
    for step in carrying.run(prepared, folder):
        assert step.trouble == "", step.trouble
        if step.rendered is not None:
            rendered[step.rendered.strip] = step.rendered
            proofs.append(step.rendered.proof)
        if step.compared is not None:
            proofs.append(step.compared)
    target = source.with_name("after.dawproject")
    exchange_out.write(target, source, session, plan, rendered, folder, known)
    return target, proofs
