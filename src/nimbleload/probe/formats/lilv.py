"""The system's liblilv, which finds and describes LV2 plugins, as Python functions."""

from __future__ import annotations

import ctypes as c
import ctypes.util
from collections.abc import Iterator
from functools import cache
from typing import NamedTuple

from .hosted import PluginError

LV2 = "http://lv2plug.in/ns/lv2core#"
RDF = "http://www.w3.org/1999/02/22-rdf-syntax-ns#"
PRESET, LABEL = "http://lv2plug.in/ns/ext/presets#Preset", "http://www.w3.org/2000/01/rdf-schema#label"
LOAD_DEFAULT = "http://lv2plug.in/ns/ext/state#loadDefaultState"
UNITS, PORT_GROUPS = "http://lv2plug.in/ns/extensions/units#", "http://lv2plug.in/ns/ext/port-groups#"
# How the standard's own units are written, where its description is not installed.
SYMBOLS = {
    "db": "dB", "hz": "Hz", "khz": "kHz", "mhz": "MHz", "ms": "ms", "s": "s", "min": "min", "pc": "%", "bpm": "BPM",
    "oct": "oct", "cent": "ct", "semitone12TET": "semitones", "degree": "°", "frame": "samples", "beat": "beats",
    "bar": "bars", "midiNote": "MIDI note", "mm": "mm", "cm": "cm", "m": "m", "km": "km", "inch": "in",
}  # fmt: skip
POINTER = c.c_void_p
TEXT = c.c_char_p

SIGNATURES: dict[str, tuple[type | None, list[type]]] = {
    "lilv_world_new": (POINTER, []),
    "lilv_world_load_all": (None, [POINTER]),
    "lilv_world_get_all_plugins": (POINTER, [POINTER]),
    "lilv_plugins_begin": (POINTER, [POINTER]),
    "lilv_plugins_is_end": (c.c_bool, [POINTER, POINTER]),
    "lilv_plugins_next": (POINTER, [POINTER, POINTER]),
    "lilv_plugins_get": (POINTER, [POINTER, POINTER]),
    "lilv_plugins_get_by_uri": (POINTER, [POINTER, POINTER]),
    "lilv_new_uri": (POINTER, [POINTER, TEXT]),
    "lilv_node_as_string": (TEXT, [POINTER]),
    "lilv_node_as_uri": (TEXT, [POINTER]),
    "lilv_node_as_float": (c.c_float, [POINTER]),
    "lilv_plugin_get_uri": (POINTER, [POINTER]),
    "lilv_plugin_get_name": (POINTER, [POINTER]),
    "lilv_plugin_get_author_name": (POINTER, [POINTER]),
    "lilv_plugin_get_bundle_uri": (POINTER, [POINTER]),
    "lilv_plugin_get_library_uri": (POINTER, [POINTER]),
    "lilv_plugin_get_value": (POINTER, [POINTER, POINTER]),
    "lilv_nodes_free": (None, [POINTER]),
    "lilv_plugin_get_required_features": (POINTER, [POINTER]),
    "lilv_plugin_get_num_ports": (c.c_uint32, [POINTER]),
    "lilv_plugin_get_port_by_index": (POINTER, [POINTER, c.c_uint32]),
    "lilv_plugin_get_port_ranges_float": (None, [POINTER, POINTER, POINTER, POINTER]),
    "lilv_plugin_get_latency_port_index": (c.c_uint32, [POINTER]),
    "lilv_plugin_has_latency": (c.c_bool, [POINTER]),
    "lilv_port_is_a": (c.c_bool, [POINTER, POINTER, POINTER]),
    "lilv_port_supports_event": (c.c_bool, [POINTER, POINTER, POINTER]),
    "lilv_plugin_has_feature": (c.c_bool, [POINTER, POINTER]),
    "lilv_port_get_symbol": (POINTER, [POINTER, POINTER]),
    "lilv_port_has_property": (c.c_bool, [POINTER, POINTER, POINTER]),
    "lilv_nodes_begin": (POINTER, [POINTER]),
    "lilv_nodes_is_end": (c.c_bool, [POINTER, POINTER]),
    "lilv_nodes_next": (POINTER, [POINTER, POINTER]),
    "lilv_nodes_get": (POINTER, [POINTER, POINTER]),
    "lilv_port_get_name": (POINTER, [POINTER, POINTER]),
    "lilv_port_get_scale_points": (POINTER, [POINTER, POINTER]),
    "lilv_scale_points_begin": (POINTER, [POINTER]),
    "lilv_scale_points_is_end": (c.c_bool, [POINTER, POINTER]),
    "lilv_scale_points_next": (POINTER, [POINTER, POINTER]),
    "lilv_scale_points_get": (POINTER, [POINTER, POINTER]),
    "lilv_scale_point_get_value": (POINTER, [POINTER]),
    "lilv_scale_point_get_label": (POINTER, [POINTER]),
    "lilv_nodes_get_first": (POINTER, [POINTER]),
    "lilv_port_get_value": (POINTER, [POINTER, POINTER, POINTER]),
    "lilv_world_load_resource": (c.c_int, [POINTER, POINTER]),
    "lilv_state_new_from_world": (POINTER, [POINTER, POINTER, POINTER]),
    "lilv_state_new_from_string": (POINTER, [POINTER, POINTER, TEXT]),
    "lilv_state_get_plugin_uri": (POINTER, [POINTER]),
    "lilv_state_restore": (None, [POINTER, POINTER, POINTER, POINTER, c.c_uint32, POINTER]),
    "lilv_state_free": (None, [POINTER]),
    "lilv_state_new_from_instance": (POINTER, [POINTER] * 3 + [TEXT] * 4 + [POINTER, POINTER, c.c_uint32, POINTER]),
    "lilv_state_to_string": (POINTER, [POINTER, POINTER, POINTER, POINTER, TEXT, TEXT]),
    "lilv_free": (None, [POINTER]),
    "lilv_plugin_get_uis": (POINTER, [POINTER]),
    "lilv_uis_begin": (POINTER, [POINTER]),
    "lilv_uis_is_end": (c.c_bool, [POINTER, POINTER]),
    "lilv_uis_next": (POINTER, [POINTER, POINTER]),
    "lilv_uis_get": (POINTER, [POINTER, POINTER]),
    "lilv_ui_is_a": (c.c_bool, [POINTER, POINTER]),
    "lilv_ui_get_uri": (POINTER, [POINTER]),
    "lilv_ui_get_bundle_uri": (POINTER, [POINTER]),
    "lilv_ui_get_binary_uri": (POINTER, [POINTER]),
    "lilv_file_uri_parse": (POINTER, [TEXT, POINTER]),
    "lilv_world_find_nodes": (POINTER, [POINTER, POINTER, POINTER, POINTER]),
    "lilv_plugin_get_related": (POINTER, [POINTER, POINTER]),
    "lilv_world_get": (POINTER, [POINTER, POINTER, POINTER, POINTER]),
    "lilv_plugin_instantiate": (POINTER, [POINTER, c.c_double, POINTER]),
    "lilv_instance_free": (None, [POINTER]),
}


@cache
def library() -> c.CDLL:
    """The system's liblilv with its functions declared. PluginError if it is not installed."""
    name = ctypes.util.find_library("lilv-0")
    if name is None:
        raise PluginError("LV2 plugins need the system's liblilv (Debian: apt-get install liblilv-0-0).")
    found = c.CDLL(name)
    for function, (result, arguments) in SIGNATURES.items():
        getattr(found, function).restype = result
        getattr(found, function).argtypes = arguments
    return found


@cache
def world() -> int:
    """The world of all installed plugins, loaded once."""
    found = library().lilv_world_new()
    library().lilv_world_load_all(found)
    return int(found)


@cache
def node(uri: str) -> int:
    """A URI as lilv keeps it."""
    return int(library().lilv_new_uri(world(), uri.encode()))


def _each(kind: str, of: int | None) -> Iterator[int]:
    """The members of one of lilv's collections: "nodes", "plugins", "scale_points", "uis"; none of a missing one."""
    lib = library()
    begin, is_end, following, get = (getattr(lib, f"lilv_{kind}_{what}") for what in ("begin", "is_end", "next", "get"))
    at = begin(of) if of else None
    while of and not is_end(of, at):
        yield get(of, at)
        at = following(of, at)


def plugins() -> Iterator[int]:
    """The address of every plugin."""
    return _each("plugins", library().lilv_world_get_all_plugins(world()))


def plugin(uri: str) -> int:
    """The address of one plugin. PluginError if it is not installed."""
    lib = library()
    found = lib.lilv_plugins_get_by_uri(lib.lilv_world_get_all_plugins(world()), node(uri))
    if not found:
        raise PluginError(f"No LV2 plugin {uri} is installed here.")
    return int(found)


def text(of: int | None) -> str:
    """A node's text; empty if there is none."""
    return (library().lilv_node_as_string(of) or b"").decode(errors="replace") if of else ""


def scale_labels(of: int, port: int) -> dict[float, str]:
    """The values that a port gives names to, with those names."""
    lib = library()
    return {
        float(lib.lilv_node_as_float(lib.lilv_scale_point_get_value(point))): text(
            lib.lilv_scale_point_get_label(point)
        )
        for point in _each("scale_points", lib.lilv_port_get_scale_points(of, port))
    }


def port_unit(of: int, port: int) -> str:
    """What a port's values are in, as it is written: "dB"; empty if its bundle does not say."""
    lib = library()
    nodes = lib.lilv_port_get_value(of, port, node(f"{UNITS}unit"))
    unit = lib.lilv_nodes_get_first(nodes) if nodes else None
    symbol = text(lib.lilv_world_get(world(), unit, node(f"{UNITS}symbol"), None)) if unit else ""
    found = symbol or SYMBOLS.get(text(unit).removeprefix(UNITS), "")
    lib.lilv_nodes_free(nodes)
    return found


def is_side_chain(of: int, port: int) -> bool:
    """Whether an audio port is a side-chain, by itself or as one of a group of ports."""
    lib = library()
    if lib.lilv_port_has_property(of, port, node(f"{LV2}isSideChain")):
        return True
    groups = lib.lilv_port_get_value(of, port, node(f"{PORT_GROUPS}group"))
    group = lib.lilv_nodes_get_first(groups) if groups else None
    found = bool(group and lib.lilv_world_get(world(), group, node(f"{PORT_GROUPS}sideChainOf"), None))
    lib.lilv_nodes_free(groups)
    return found


def presets(of: int) -> Iterator[tuple[str, str]]:
    """The names and addresses (URI) of the presets that are installed for a plugin; one without a name has its
    address's end."""
    lib = library()
    for preset in _each("nodes", lib.lilv_plugin_get_related(of, node(PRESET))):
        lib.lilv_world_load_resource(world(), preset)
        label = lib.lilv_world_get(world(), preset, node(LABEL), None)
        address = text(preset)
        yield text(label) or address.rpartition("#")[2].rpartition("/")[2], address


def saved_state(content: bytes, urid_map: int, plugin_uri: str) -> int:
    """The address of a state: `content` is its Turtle text, or the URI of an installed preset.

    PluginError if it is neither, or belongs to another plugin.
    """
    lib = library()
    written = content.decode(errors="replace").strip().rstrip("\0")
    if " " not in written and "\n" not in written:
        preset = node(written)
        lib.lilv_world_load_resource(world(), preset)
        found = lib.lilv_state_new_from_world(world(), urid_map, preset)
    else:
        found = lib.lilv_state_new_from_string(world(), urid_map, written.encode())
    if not found:
        raise PluginError("The saved state is neither an LV2 state nor an installed preset.")
    owner = text(lib.lilv_state_get_plugin_uri(found))
    if owner and owner != plugin_uri:
        lib.lilv_state_free(found)
        raise PluginError(f"The saved state belongs to another plugin: {owner}.")
    return int(found)


def default_state(of: int, urid_map: int) -> int | None:
    """The address of the state that a plugin's bundle has for it to begin with; None if it wants none to be given."""
    lib = library()
    if not lib.lilv_plugin_has_feature(of, node(LOAD_DEFAULT)):
        return None
    found = lib.lilv_state_new_from_world(world(), urid_map, lib.lilv_plugin_get_uri(of))
    return int(found) if found else None


class OwnWindow(NamedTuple):
    """A plugin's own window as its bundle describes it: its address (URI), the folder of the bundle, its binary, and
    what it requires of its host (URIs)."""

    uri: str
    folder: str
    binary: str
    required: tuple[str, ...]


def own_windows(of: int, kind: str) -> Iterator[OwnWindow]:
    """The windows of one kind (URI) that a plugin has."""
    lib = library()
    for ui in _each("uis", lib.lilv_plugin_get_uis(of)):
        if lib.lilv_ui_is_a(ui, node(kind)):
            uri = lib.lilv_ui_get_uri(ui)
            folder, binary = (file_of(of_ui(ui)) for of_ui in (lib.lilv_ui_get_bundle_uri, lib.lilv_ui_get_binary_uri))
            lib.lilv_world_load_resource(world(), uri)
            required = _texts(lib.lilv_world_find_nodes(world(), uri, node(f"{LV2}requiredFeature"), None))
            yield OwnWindow(text(uri), folder, binary, required)


def file_of(uri: int) -> str:
    """The path of a file that a node names."""
    raw = library().lilv_file_uri_parse(text(uri).encode(), None)
    path = c.string_at(raw).decode(errors="replace") if raw else ""
    library().lilv_free(raw)
    return path


def _texts(nodes: int | None) -> tuple[str, ...]:
    """The texts of some nodes, which are freed."""
    found = tuple(text(each) for each in _each("nodes", nodes))
    library().lilv_nodes_free(nodes)
    return found


def classes(of: int) -> tuple[str, ...]:
    """What the plugin says it is, by LV2's class names: "ReverbPlugin" is "Reverb"."""
    said = _texts(library().lilv_plugin_get_value(of, node(f"{RDF}type")))
    named = [uri for uri in said if uri.startswith(LV2) and uri != f"{LV2}Plugin"]
    return tuple(uri.removeprefix(LV2).removesuffix("Plugin") for uri in named)


def required_features(of: int) -> tuple[str, ...]:
    """The URIs of the host features without which a plugin does not run."""
    return _texts(library().lilv_plugin_get_required_features(of))
