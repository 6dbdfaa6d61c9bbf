"""The ports of an LV2 plugin, as its bundle describes them, and the memory that they are connected to."""

from __future__ import annotations

import numpy as np

from . import lilv
from .hosted import PluginError, Rows

NS = "http://lv2plug.in/ns"
ATOM, TIME, EVENT = f"{NS}/ext/atom#", f"{NS}/ext/time#", f"{NS}/ext/event#"
EVENT_BYTES = 1 << 16


class Ports:
    """The ports of a plugin at a rate (Hz): what kind each is, its symbol, and the memory it is connected to."""

    def __init__(self, plugin: int, rate: int, longest: int, label: str, rows: Rows) -> None:
        lib = lilv.library()
        count = lib.lilv_plugin_get_num_ports(plugin)
        ranges = np.zeros((3, max(count, 1)), np.float32)
        lib.lilv_plugin_get_port_ranges_float(plugin, *(row.ctypes.data for row in ranges))
        for index in range(count):
            port = lib.lilv_plugin_get_port_by_index(plugin, index)
            # Frequencies may be told as parts of the sample rate; what the port takes are hertz.
            if lib.lilv_port_has_property(plugin, port, lilv.node(f"{lilv.LV2}sampleRate")):
                ranges[:, index] *= rate
        start = np.where(np.isfinite(ranges[2]), ranges[2], np.where(np.isfinite(ranges[0]), ranges[0], 0.0))
        self.controls = start.astype(np.float32)
        self.ranges = ranges
        self.symbols: dict[str, int] = {}
        self.inputs_of_control: list[int] = []
        audio: dict[bool, list[int]] = {True: [], False: []}
        # Which of the audio inputs belong to a side-chain.
        self.sides: list[bool] = []
        self.events: dict[bool, list[int]] = {True: [], False: []}
        # Which of the event inputs (counted among these) want to hear where the piece is.
        self.timed: set[int] = set()
        self.places: dict[int, int | None] = {}
        self._buffers: list[np.ndarray] = []
        for index in range(count):
            port = lib.lilv_plugin_get_port_by_index(plugin, index)
            is_a = {
                name: lib.lilv_port_is_a(plugin, port, lilv.node(uri))
                for name, uri in (
                    ("input", f"{lilv.LV2}InputPort"), ("audio", f"{lilv.LV2}AudioPort"), ("cv", f"{lilv.LV2}CVPort"),
                    ("control", f"{lilv.LV2}ControlPort"), ("atom", f"{ATOM}AtomPort"), ("event", f"{EVENT}EventPort"),
                )
            }  # fmt: skip
            symbol = lilv.text(lib.lilv_port_get_symbol(plugin, port))
            self.symbols[symbol] = index
            if is_a["audio"]:
                audio[is_a["input"]].append(index)
                if is_a["input"]:
                    self.sides.append(lilv.is_side_chain(plugin, port))
            elif is_a["control"]:
                self.places[index] = self.controls.ctypes.data + 4 * index
                if is_a["input"]:
                    self.inputs_of_control.append(index)
            elif is_a["cv"]:
                self.places[index] = self._buffer(longest * 4)
            elif is_a["atom"]:
                if is_a["input"] and lib.lilv_port_supports_event(plugin, port, lilv.node(f"{TIME}Position")):
                    self.timed.add(len(self.events[True]))
                self.events[is_a["input"]].append(index)
                self.places[index] = self._buffer(EVENT_BYTES + 16)
            elif lib.lilv_port_has_property(plugin, port, lilv.node(f"{lilv.LV2}connectionOptional")):
                self.places[index] = None
            else:
                kind = "the older event extension" if is_a["event"] else "a kind that is not known"
                raise PluginError(f"{label} has a port of {kind}: {symbol}.")
        self.inputs = rows(len(audio[True]), longest)
        self.outputs = rows(len(audio[False]), longest)
        self.places |= {k: self.inputs[n].ctypes.data for n, k in enumerate(audio[True])}
        self.places |= {k: self.outputs[n].ctypes.data for n, k in enumerate(audio[False])}

    def _buffer(self, size: int) -> int:
        self._buffers.append(np.zeros(size // 8 + 1, np.int64))
        return int(self._buffers[-1].ctypes.data)
