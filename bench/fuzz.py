"""Feeds mutated files to all that reads files, guided by what they reach.  python -m bench.fuzz TARGET [OPTION …]

Needs atheris, which is no dependency of the program: `.venv/bin/pip install atheris`. TARGET is one of those below;
the options are libFuzzer's (-max_total_time=60, -runs=100000). Files whose reading ends in anything but the sentence
that is due are left as `crash-…` in the folder that -artifact_prefix names. What could be read is computed, too.
"""

from __future__ import annotations

import copy
import io
import json
import os
import sys
import tempfile
import zipfile
from collections.abc import Callable
from functools import cache
from pathlib import Path
from typing import Any

import atheris
import numpy as np
from lxml import etree

with atheris.instrument_imports(include=["nimbleload.store", "nimbleload.core.session", "nimbleload.core.piece"]):
    from nimbleload.core.cards.card import CostCard
    from nimbleload.core.session.computer import Machine
    from nimbleload.core.session.controllers import told
    from nimbleload.core.session.plugins import PluginUse
    from nimbleload.core.session.session import Session, SessionError
    from nimbleload.core.session.strips import Send
    from nimbleload.store import clipping, dawproject, midi_file, recording_file, session_file, spreadsheet, track_table
    from nimbleload.store.archive import ImportRefusedError
    from nimbleload.store.found import NothingFoundError
    from nimbleload.store.library import Library, LibraryError
    from nimbleload.store.session_file import Saved, SessionFileError
    from nimbleload.store.sounding import Sounding

import contextlib

from nimbleload.core.decisions.decision import Plan
from nimbleload.core.survey import survey
from nimbleload.core.told import dropouts, watching
from nimbleload.core.watching import shares
from nimbleload.core.watching.before import Before
from nimbleload.core.watching.blocks import see
from nimbleload.core.watching.history import past_of
from nimbleload.core.watching.records import Clocks, Others
from nimbleload.deliver.rendering import ends_of
from nimbleload.demo import recording as example
from nimbleload.demo.cards import sample_cards
from tests.helpers import exchange as x
from tests.helpers.sessions import bus, card, session, track

FOLDER = Path(tempfile.mkdtemp(prefix="nimble-fuzz-"))
MOST_COMPUTED = 40


def computed(of: Session) -> None:
    """The load of what was read, as the program shows it; large ones are left out, which only cost time here."""
    if len(of.strips) > MOST_COMPUTED or sum(len(strip.clips) for strip in of.strips) > 400:
        return
    cards: dict[object, CostCard] = {key: card(uses[0], 1e-5) for key, uses in of.card_keys().items()}
    survey(of, Plan(), cards, Machine(4), 256)  # type: ignore[arg-type]


def zipped(**entries: bytes) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        for name, content in entries.items():
            archive.writestr(name.replace("__", "."), content)
    return out.getvalue()


def read_and_computed(name: str, read: Callable[[Path], Any], refusal: type[Exception]) -> Callable[[bytes], None]:
    """A target: a file of this name that is read, and computed, unless it is refused as it is due."""

    def target(data: bytes) -> None:
        (FOLDER / name).write_bytes(data)
        with contextlib.suppress(refusal):
            found = read(FOLDER / name)
            computed(found.session)
            followed(getattr(found, "audio", {}))

    return target


def followed(audio: dict[str, Sounding]) -> None:
    """What moves, at samples, and what controllers are told, as rendering needs it."""
    at = np.arange(0, 480_000, 6400)
    for sounding in audio.values():
        ends_of(sounding)
        moving = [*(each.curve for each in sounding.moving), sounding.fader, sounding.heard, sounding.pan]
        moving += [gain for part in sounding.parts[:100] for gain in part.gains]
        for curve in moving:
            if curve is not None and len(curve.points) < 1000:
                curve.at(48000).values(at)
        for controller in sounding.controllers:
            # A line over hours has as many places as that takes.
            if controller.curve.points[-1].second < 1000:
                samples, values = told(controller, 48000)
                assert (np.diff(samples) > 0).all() and ((values >= 0) & (values <= 1)).all()


def no_plugin(name: str, standard: str) -> PluginUse | None:
    """No plugin is installed."""
    return None


archive = read_and_computed("b.dawproject", dawproject.read, ImportRefusedError)
midi = read_and_computed("d.mid", midi_file.read, NothingFoundError)
table = read_and_computed("e.csv", lambda path: track_table.read(path, no_plugin), NothingFoundError)


def exchange(data: bytes) -> None:
    """The project of an exchange file."""
    archive(zipped(project__xml=data))


def own(data: bytes) -> None:
    """The parts of a session file, parted by a line each."""
    names = ("manifest.json", "session.json", "plan.json", "cards.json", "view.json")
    path = FOLDER / "c.nimbleload"
    with zipfile.ZipFile(path, "w") as made:
        for name, part in zip(names, data.split(b"\n"), strict=False):
            made.writestr(name, part)
    try:
        saved = session_file.read(path)
    except SessionFileError:
        return
    with contextlib.suppress(SessionError):
        computed(saved.session)


ODD = (
    "", "-1", "0", "1", "0.5", "1e308", "-1e308", "1e-320", "nan", "inf", "-inf", "99999999999999999999", "beats",
    "seconds", "true", "false", "maybe", "c", "cb", "ci", "t", "b", "i", "tm", "p", "notes", "audio", "submix",
    "master", "effect", "pre", "post", "linear", "decibel", "percent", "normalized", "channelController", "pitchBend",
    "transpose", "timbre", "formant", "semitones",
    "gain", "64", "127", "pan", "vol", "sig", "a.wav", "../a.wav", "/etc/passwd", "\u0130",
    "x" * 300,
)  # fmt: skip
MORE_ATTRIBUTES = (
    "time", "duration", "playStart", "playStop", "loopStart", "loopEnd", "timeUnit", "contentTimeUnit", "reference",
    "enable", "loaded", "id", "track", "destination", "role", "value", "unit", "fadeInTime", "external", "contentTime",
    "expression", "controller", "channel", "parameter", "interpolation", "numerator", "denominator",
)  # fmt: skip
MOST_OPERATIONS = 16


def shaken_tree(data: bytes) -> None:
    """An exchange file that stays well-formed: elements go, come twice, move, nest, and have odd attributes."""
    given = atheris.FuzzedDataProvider(data)
    root = etree.fromstring(seeds("exchange")[0])
    for _ in range(given.ConsumeIntInRange(1, MOST_OPERATIONS)):
        found = [each for each in root.iter() if isinstance(each.tag, str)]
        if len(found) > 4000:
            break
        element, other = (found[given.ConsumeIntInRange(0, len(found) - 1)] for _ in range(2))
        parent = element.getparent()
        what = given.ConsumeIntInRange(0, 6)
        if what <= 1:
            name = given.PickValueInList([*element.attrib, *MORE_ATTRIBUTES])
            element.set(name, given.PickValueInList(list(ODD)))
        elif what == 2 and element.attrib:
            del element.attrib[given.PickValueInList(list(element.attrib))]
        elif what == 3 and parent is not None:
            parent.remove(element)
        elif what == 4 and parent is not None:
            parent.append(copy.deepcopy(element))
        elif what == 5:
            other.append(copy.deepcopy(element))
        elif what == 6:
            element.tag = given.PickValueInList(sorted({each.tag for each in found}))
    exchange(etree.tostring(root))


def shaken_parts(data: bytes) -> None:
    """A session file whose parts stay JSON: single values are other ones, go, or come twice."""
    parts = [json.loads(part) for part in seeds("own")[0].split(b"\n")]
    shake(atheris.FuzzedDataProvider(data), parts)
    own(b"\n".join(json.dumps(part).encode() for part in parts))


def shake(given: atheris.FuzzedDataProvider, parts: list) -> None:
    """Changes single values in what JSON can hold."""
    for _ in range(given.ConsumeIntInRange(1, MOST_OPERATIONS)):
        found: list[tuple[dict | list, str | int]] = []
        left: list[dict | list] = [parts]
        while left:
            inside = left.pop()
            for key in list(inside) if isinstance(inside, dict) else range(len(inside)):
                found.append((inside, key))
                if isinstance(inside[key], dict | list):
                    left.append(inside[key])
        inside, key = found[given.ConsumeIntInRange(0, len(found) - 1)]
        other, at = found[given.ConsumeIntInRange(0, len(found) - 1)]
        what = given.ConsumeIntInRange(0, 3)
        if what == 0:
            odd = (*ODD, None, [], {}, True, -1, 0, 1, 2**31, 2**63, 2**64, -(2**63), 0.5, -0.5, 1e308, 5e-324)
            inside[key] = odd[given.ConsumeIntInRange(0, len(odd) - 1)]
        elif what == 1 and inside is not parts:
            del inside[key]
        elif what == 2:
            inside[key] = copy.deepcopy(other[at])
        elif isinstance(inside, list) and inside is not parts:
            inside.append(copy.deepcopy(inside[key]))


ODD_NUMBERS = (0, 1, -1, 7, 1 << 31, 1 << 62, -(1 << 62), (1 << 63) - 1, 10**9)


def shaken_recording(data: bytes) -> None:
    """A recording whose pages stay JSON and whose arrays stay arrays; what could be read is shown."""
    given = atheris.FuzzedDataProvider(data)
    with zipfile.ZipFile(io.BytesIO(seeds("recording")[0])) as whole:
        entries = {name: whole.read(name) for name in whole.namelist()}
    for name in ("recording.json", "past.json"):
        page = [json.loads(entries[name])]
        if given.ConsumeBool():
            shake(given, page)
        entries[name] = json.dumps(page[0]).encode()
    arrays = sorted(name for name in entries if name.endswith(".npy"))
    for _ in range(given.ConsumeIntInRange(0, MOST_OPERATIONS)):
        name = given.PickValueInList(arrays)
        values, odd = np.load(io.BytesIO(entries[name])), given.PickValueInList(list(ODD_NUMBERS))
        at, what = given.ConsumeIntInRange(0, max(len(values) - 1, 0)), given.ConsumeIntInRange(0, 4)
        if what == 0 and len(values):
            values[at] = odd
        elif what == 1:
            values = values[:at]
        elif what == 2:
            values[at:] += odd
        elif what == 3:
            values = np.append(values, odd)
        else:
            values = np.sort(values)
        out = io.BytesIO()
        np.save(out, values)
        entries[name] = out.getvalue()
    with zipfile.ZipFile(FOLDER / "g.nimblewatch", "w") as made:
        for name, content in entries.items():
            made.writestr(name, content)
    with contextlib.suppress(recording_file.RecordingFileError):
        found, names, kept = recording_file.read_all(FOLDER / "g.nimblewatch")
        seen = see(found)
        for past in (past_of(seen), kept or past_of(seen)):
            called, threads = watching.calling(seen, names), watching.thread_names(seen)
            dropouts.past_words(past, called, threads)
            for each in past.dropouts:
                _ = dropouts.line(each, past, called, threads).whole
            recording_file.write(FOLDER / "h.nimblewatch", found, names, past)
        rows = watching.table(seen, names)
        watching.findings(seen, rows, shares.parts(seen), names)
        before = Before.of(seen, watching.by_name(rows))
        watching.change_words(before.changes(watching.by_name(rows), seen), before.slower(seen))


def clip(data: bytes) -> None:
    with contextlib.suppress(clipping.NoClippingError):
        clipping.from_text(data.decode(errors="replace"))


def cells(data: bytes) -> None:
    library = Library(FOLDER / "library.sqlite")
    with contextlib.suppress(LibraryError):
        spreadsheet.import_(data.decode(errors="replace"), library)
    library.close()


def recording(data: bytes) -> None:
    path = FOLDER / "f.nimblewatch"
    path.write_bytes(data)
    with contextlib.suppress(recording_file.RecordingFileError):
        recording_file.read(path)


def a_recording() -> bytes:
    """A second of the example's, with clocks and some of its past."""
    cards = sample_cards()
    whole = example.recording(cards)
    of, past = whole.last(1.0), example.past(cards, whole)
    seconds = past.second[:9], past.fullest[:9], past.late[:9]
    past = past._replace(dropouts=past.dropouts[:3], second=seconds[0], fullest=seconds[1], late=seconds[2])
    looks = [(of.begun + k * 10**8, (3 * 10**9, 10**9), (0, k)) for k in range(10)]
    others = Others(of.begun, {"indexer": 0.5}, {"wlan": 900.0})
    of = of._replace(clocks=Clocks.of((0, 1), (4 * 10**9, 0), looks), others=(others,))
    recording_file.write(FOLDER / "a.nimblewatch", of, {}, past)
    return (FOLDER / "a.nimblewatch").read_bytes()


@cache
def seeds(name: str) -> list[bytes]:
    """What the mutations begin with."""
    made = session(track("a", "p", "q", sends=(Send("r"),)), bus("r", "p", kind="return"))
    saved = session_file.encode(Saved(made, cards=(card(made.strips[0].inserts[0], 1e-5),)))
    with zipfile.ZipFile(io.BytesIO(saved)) as parts:
        own_parts = b"\n".join(parts.read(each) for each in parts.namelist())
    sends = x.send("cb") + x.send("nowhere", "pre")
    notes = '<Notes><Note time="0" duration="1" key="60" vel="0.5"/><Note time="1" duration="9" key="62">'
    notes += '<Points unit="semitones"><Target expression="transpose"/><RealPoint time="0" value="1"/></Points>'
    notes += "</Note></Notes>"
    warps = '<Warps timeUnit="beats" contentTimeUnit="seconds"><Audio duration="4"><File path="a.wav"/></Audio>'
    warps += '<Warp time="0" contentTime="0"/><Warp time="4" contentTime="3"/></Warps>'
    pedal = (
        '<Points unit="normalized"><Target expression="channelController" controller="64" channel="0"/>'
        '<RealPoint time="0" value="1" interpolation="linear"/><RealPoint time="2" value="0"/></Points>'
    )
    gain = '<Points unit="decibel"><Target expression="gain"/><RealPoint time="0" value="-6"/></Points>'
    volume = '<Volume id="vol" unit="linear" value="1"/><Pan id="pan" unit="normalized" min="0" max="1" value="0.5"/>'
    moves = "".join(
        f'<Points><Target parameter="{each}"/><RealPoint time="0" value="0.2" interpolation="linear"/>'
        '<RealPoint time="4" value="0.9"/></Points>' for each in ("vol", "pan")
    )
    structure = (
        x.track("t", "T", x.channel("c", devices=x.plugin("ClapPlugin", "p", "P"), destination="cb", sends=sends,
                                    extra=volume))
        + x.track("b", "B", x.channel("cb", "submix")) + x.track("i", "I", x.channel("ci"), "notes") + x.main_track()
    )  # fmt: skip
    lanes = x.lanes("t", x.clip(0, 4), x.clip(4, 8, loopStart=0, loopEnd=2, fadeInTime=1)) + x.lanes(
        "i", x.clip(0, 4, f"<Lanes>{notes}{pedal}</Lanes>", loopStart=0, loopEnd=3),
        x.clip(4, 4, f"<Clips>{x.clip(0, 2, warps)}</Clips>", playStart=1), unit="seconds"
    )
    lanes += f'<Lanes track="t">{moves}</Lanes>' + x.lanes("t", x.clip(9, 2, f"<Lanes>{x.AUDIO}{gain}</Lanes>"))
    tempo = '<TimeSignatureAutomation><TimeSignaturePoint time="4" numerator="7" denominator="8"/>'
    tempo += "</TimeSignatureAutomation>"
    tempo += '<TempoAutomation><RealPoint time="0" value="120"/><RealPoint time="8" value="90"/></TempoAutomation>'
    markers = '<Markers><Marker time="4" name="Verse"/></Markers>'
    project = x.project(structure, lanes + markers).replace("</Arrangement>", f"{tempo}</Arrangement>").encode()
    header = b"MThd\0\0\0\6\0\1\0\1\0\x60MTrk\0\0\0\x14"
    return {
        "tree": [bytes(64)], "parts": [bytes(64)], "exchange": [project], "archive": [zipped(project__xml=project)],
        "own": [own_parts],
        "midi": [
            header + b"\0\xff\x51\3\7\xa1\x20\0\x90\x3c\x40\x60\x80\x3c\x40\0\xff\x2f\0",
            header[:-1] + b"\x28\0\xff\x58\4\7\3\x18\x08\0\xb0\x40\x7f\0\x90\x3c\x40\x60\x80\x3c\x40"
            b"\x60\xb0\x40\0\0\xe0\0\x40\0\xd0\x11\0\xff\x2f\0",
        ],
        "table": [b"track,bus,plugin,from,to\nA,B,Tar,0:01,0:02\nB,,,,\n", b"track;from;to\nA;1,5;2,5\n"],
        "clip": [clipping.as_text(made.strips[:1]).encode(), clipping.as_text((), made.strips[0].inserts).encode()],
        "cells": [spreadsheet.export(Library(FOLDER / "empty.sqlite")).encode()],
        "recording": [a_recording()], "watched": [bytes(64)],
    }[name]  # fmt: skip


TARGETS: dict[str, Callable[[bytes], None]] = {
    "tree": shaken_tree, "parts": shaken_parts, "exchange": exchange, "archive": archive, "own": own, "midi": midi,
    "table": table, "clip": clip, "cells": cells,
    "recording": recording, "watched": shaken_recording,
}  # fmt: skip


def main() -> None:
    name = sys.argv[1] if len(sys.argv) > 1 else ""
    if name not in TARGETS:
        raise SystemExit(f"{__doc__}\nTARGETS: {', '.join(TARGETS)}")
    corpus = FOLDER / "corpus"
    corpus.mkdir()
    for number, content in enumerate(seeds(name)):
        (corpus / f"seed-{number}").write_bytes(content)
    os.environ.setdefault("XDG_DATA_HOME", str(FOLDER))
    options = ["-timeout=20", "-rss_limit_mb=3000", "-max_len=20000", "-close_fd_mask=1"]
    atheris.Setup([sys.argv[0], str(corpus), *options, *sys.argv[2:]], TARGETS[name])
    atheris.Fuzz()


if __name__ == "__main__":
    main()
