"""Writes exchange files for tests, from pieces of XML."""

from __future__ import annotations

import zipfile
from pathlib import Path


def plugin(tag: str, device_id: str, name: str, state: str = "", role: str = "audioFX", extra: str = "") -> str:
    saved = f'<State path="{state}"/>' if state else ""
    return (
        f'<{tag} deviceID="{device_id}" deviceName="{name}" deviceRole="{role}" loaded="true">'
        f'<Enabled value="true"/>{extra}{saved}</{tag}>'
    )


def channel(channel_id: str, role="regular", destination="", devices="", sends="", extra="", channels=2) -> str:
    to = f' destination="{destination}"' if destination else ""
    return (
        f'<Channel id="{channel_id}" role="{role}" audioChannels="{channels}"{to}>'
        f"<Devices>{devices}</Devices>{extra}<Sends>{sends}</Sends></Channel>"
    )


def track(track_id: str, name: str, inside: str = "", content="audio") -> str:
    return f'<Track id="{track_id}" name="{name}" contentType="{content}" loaded="true">{inside}</Track>'


def main_track() -> str:
    return track("tm", "Main", channel("cm", "master"))


def send(destination: str, kind="post", level=0.5, on="true") -> str:
    return (
        f'<Send destination="{destination}" type="{kind}"><Enable value="{on}"/>'
        f'<Volume value="{level}" unit="linear"/></Send>'
    )


AUDIO = '<Audio duration="4" channels="2"><File path="audio/plain.wav"/></Audio>'


def clip(time, duration, inside=None, **more) -> str:
    """A clip; without anything inside, and without a reference, it holds audio."""
    inside = ("" if "reference" in more else AUDIO) if inside is None else inside
    attributes = "".join(f' {name}="{value}"' for name, value in more.items())
    return f'<Clip time="{time}" duration="{duration}"{attributes}>{inside}</Clip>'


def lanes(track_id: str, *clips: str, unit="") -> str:
    time_unit = f' timeUnit="{unit}"' if unit else ""
    return f'<Lanes track="{track_id}"{time_unit}><Clips>{"".join(clips)}</Clips></Lanes>'


def project(structure: str, arrangement: str = "", transport: str = "", unit="beats", before="") -> str:
    transport = transport or '<Transport><Tempo value="120" unit="bpm"/></Transport>'
    return (
        f'<?xml version="1.0" encoding="UTF-8"?>{before}'
        f'<Project version="1.0"><Application name="Testwriter" version="7"/>{transport}'
        f"<Structure>{structure}</Structure>"
        f'<Arrangement><Lanes timeUnit="{unit}">{arrangement}</Lanes></Arrangement></Project>'
    )


def write(path: Path, xml: str, files: dict[str, bytes] | None = None, title="") -> Path:
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("project.xml", xml)
        if title:
            archive.writestr("metadata.xml", f"<MetaData><Title>{title}</Title></MetaData>")
        for name, content in (files or {}).items():
            archive.writestr(name, content)
    return path
