"""What a project of the open exchange format may hold, and in which order, as its schema says: an independent reading.

Children stand in the order of a sequence, or in any order where the schema has a choice; ids are names as XML knows
them, each there once; what refers to an id finds one.
"""

from __future__ import annotations

import re
from collections import Counter

from lxml import etree

TIMELINES = {"Timeline", "Lanes", "Notes", "Clips", "ClipSlot", "Markers", "Points", "Audio", "Video", "Warps"}
DEVICES = {
    "Device", "Vst2Plugin", "Vst3Plugin", "ClapPlugin", "AuPlugin", "BuiltinDevice", "Equalizer", "Compressor",
    "NoiseGate", "Limiter",
}  # fmt: skip
POINTS = ("Target", "RealPoint", "EnumPoint", "BoolPoint", "IntegerPoint", "TimeSignaturePoint")
PARAMETERS = {f"{kind}Parameter" for kind in ("Real", "Bool", "Integer", "Enum", "TimeSignature")}
SEQUENCES: dict[str, tuple[str, ...]] = {
    "Project": ("Application", "Transport", "Structure", "Arrangement", "Scenes"),
    "Transport": ("Tempo", "TimeSignature"),
    "Track": ("Channel", "Track"),
    "Channel": ("Devices", "Mute", "Pan", "Sends", "Volume"),
    "Sends": ("Send",),
    "Send": ("Enable", "Pan", "Volume"),
    "Arrangement": ("Lanes", "Markers", "TempoAutomation", "TimeSignatureAutomation"),
    "Clips": ("Clip",),
    "Notes": ("Note",),
    "Audio": ("File",),
    "Markers": ("Marker",),
    "Points": POINTS,
    "TempoAutomation": POINTS,
    "TimeSignatureAutomation": POINTS,
    **dict.fromkeys(DEVICES, ("Parameters", "Enabled", "State")),
}
CHOICES: dict[str, set[str]] = {
    "Structure": {"Track", "Channel"}, "Devices": DEVICES, "Parameters": PARAMETERS, "Lanes": TIMELINES,
    "Clip": TIMELINES,
}  # fmt: skip
REQUIRED: dict[str, tuple[str, ...]] = {
    "Project": ("version",), "Application": ("name", "version"), "Tempo": ("unit",), "Volume": ("unit",),
    "Pan": ("unit",), "TimeSignature": ("numerator", "denominator"), "State": ("path",), "File": ("path",),
    "Clip": ("time",), "Note": ("time", "duration", "key"), "Marker": ("time", "name"), "RealPoint": ("time", "value"),
    "BoolPoint": ("time", "value"), "TimeSignaturePoint": ("time", "numerator", "denominator"),
    "Send": ("destination",),
    "Audio": ("duration", "sampleRate", "channels"), **dict.fromkeys(DEVICES, ("deviceName", "deviceRole")),
}  # fmt: skip
REFERENCES = {"destination", "track", "parameter", "reference"}
NAME = re.compile(r"[A-Za-z_][\w.-]*")


def faults(xml: bytes) -> list[str]:
    """What is not as the schema says, in words; empty if all is."""
    root = etree.fromstring(xml)
    found = []
    ids = Counter(each.get("id") for each in root.iter() if each.get("id") is not None)
    for element in root.iter(etree.Element):
        tag, children = element.tag, [each.tag for each in element if isinstance(each.tag, str)]
        order = SEQUENCES.get(tag)
        if order is not None:
            found += [f"{child} in {tag}" for child in children if child not in order]
            places = [order.index(child) for child in children if child in order]
            # Points of several kinds follow their target in any order.
            places = [min(place, 1) for place in places] if order is POINTS else places
            found += [f"{tag}: {children} are not in order"] if places != sorted(places) else []
        elif tag in CHOICES:
            found += [f"{child} in {tag}" for child in children if child not in CHOICES[tag]]
        elif children:
            found.append(f"{tag} holds {children}")
        if order is POINTS and "Target" not in children:
            found.append(f"{tag} without a target")
        found += [f"{tag} without {name}" for name in REQUIRED.get(tag, ()) if element.get(name) is None]
        found += [
            f"{tag} refers to {element.get(name)!r}, which is not there"
            for name in sorted(REFERENCES & set(element.keys())) if element.get(name) not in ids
        ]  # fmt: skip
    found += [f"the id {each!r} is there {count} times" for each, count in ids.items() if count > 1]
    found += [f"the id {each!r} is no name" for each in ids if not NAME.fullmatch(each)]
    return found
