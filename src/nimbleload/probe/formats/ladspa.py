"""LADSPA: the oldest standard here; a C structure of functions, and ports that are single floats or buffers."""

from __future__ import annotations

import ctypes as c
import os
from collections.abc import Iterator

import numpy as np

from ...core.session.plugins import PluginUse
from .hosted import (
    Described,
    Event,
    Move,
    Moves,
    Parameter,
    PluginError,
    Rows,
    never_fails,
    no_presets,
    nowhere,
    own_rows,
    parameter,
    text,
    wired,
)

INPUT, OUTPUT, CONTROL, AUDIO = 1, 2, 4, 8
BELOW, ABOVE, TOGGLED, SAMPLE_RATE, LOGARITHMIC, INTEGER = 0x1, 0x2, 0x4, 0x8, 0x10, 0x20
DEFAULT_MASK, DEFAULT_MINIMUM, DEFAULT_LOW, DEFAULT_MIDDLE, DEFAULT_HIGH, DEFAULT_MAXIMUM = (
    0x3C0, 0x40, 0x80, 0xC0, 0x100, 0x140,
)  # fmt: skip
FIXED_DEFAULTS = {0x200: 0.0, 0x240: 1.0, 0x280: 100.0, 0x2C0: 440.0}
HANDLE = c.c_void_p


class RangeHint(c.Structure):
    _fields_ = (("hint", c.c_int), ("lower", c.c_float), ("upper", c.c_float))


class Descriptor(c.Structure):
    _fields_ = (
        ("unique_id", c.c_ulong), ("label", c.c_char_p), ("properties", c.c_int), ("name", c.c_char_p),
        ("maker", c.c_char_p), ("copyright", c.c_char_p), ("port_count", c.c_ulong),
        ("port_kinds", c.POINTER(c.c_int)), ("port_names", c.POINTER(c.c_char_p)), ("hints", c.POINTER(RangeHint)),
        ("implementation", c.c_void_p), ("instantiate", c.CFUNCTYPE(HANDLE, c.c_void_p, c.c_ulong)),
        ("connect_port", c.CFUNCTYPE(None, HANDLE, c.c_ulong, c.c_void_p)), ("activate", c.CFUNCTYPE(None, HANDLE)),
        ("run", c.c_void_p), ("run_adding", c.c_void_p), ("set_run_adding_gain", c.c_void_p),
        ("deactivate", c.CFUNCTYPE(None, HANDLE)), ("cleanup", c.CFUNCTYPE(None, HANDLE)),
    )  # fmt: skip


def descriptors(path: str) -> Iterator[Descriptor]:
    """Every plugin of a file. PluginError if it cannot be loaded."""
    try:
        library = c.CDLL(path, mode=os.RTLD_LOCAL | os.RTLD_NOW)
        entry = library.ladspa_descriptor
    except (OSError, AttributeError) as error:
        raise PluginError(f"{path} cannot be loaded as LADSPA: {error}") from error
    entry.restype, entry.argtypes = c.POINTER(Descriptor), [c.c_ulong]
    for index in range(100_000):
        found = entry(index)
        if not found:
            return
        yield found.contents


def identifier(of: Descriptor) -> str:
    """LADSPA's own number and label."""
    return f"{of.unique_id}:{text(of.label)}"


def describe(path: str) -> Iterator[Described]:
    """Every plugin of a file, as it describes itself."""
    for of in descriptors(path):
        yield Described(identifier(of), text(of.name), text(of.maker), "", (), path)


def limits(hint: RangeHint, rate: int) -> tuple[float, float]:
    """The least and the most that a control takes; 0 and 1 (or above the least) where it does not say."""
    scale = rate if hint.hint & SAMPLE_RATE else 1
    lower = hint.lower * scale if hint.hint & BELOW else 0.0
    return lower, hint.upper * scale if hint.hint & ABOVE else max(lower, 1.0)


def start_value(hint: RangeHint, rate: int) -> float:
    """The value that a control has before anybody touches it, after LADSPA's hints."""
    kind = hint.hint & DEFAULT_MASK
    if kind in FIXED_DEFAULTS:
        return FIXED_DEFAULTS[kind]
    lower, upper = limits(hint, rate)
    share = {
        DEFAULT_MINIMUM: 0.0,
        DEFAULT_LOW: 0.25,
        DEFAULT_MIDDLE: 0.5,
        DEFAULT_HIGH: 0.75,
        DEFAULT_MAXIMUM: 1.0,
    }.get(kind)
    if share is None:
        return min(max(0.0, lower), upper)
    if hint.hint & LOGARITHMIC and lower > 0 and upper > 0:
        return float(np.exp((1 - share) * np.log(lower) + share * np.log(upper)))
    return (1 - share) * lower + share * upper


def is_side_chain(name: str) -> bool:
    """Whether an input's name says that it is a side-chain: LADSPA has no other way to say so."""
    return "sidechain" in name.lower().replace("-", "").replace(" ", "")


class LadspaHosted:
    """One LADSPA plugin, active (see `hosted.Hosted`). Its function takes the block's length as second argument."""

    def __init__(self, use: PluginUse, path: str, rate: int, longest: int, rows: Rows = own_rows) -> None:
        found = [of for of in descriptors(path) if identifier(of) == use.plugin.identifier]
        if not found:
            raise PluginError(f"{path} holds no plugin {use.plugin.identifier!r}.")
        self._of, self._rate = found[0], rate
        kinds = [self._of.port_kinds[k] for k in range(self._of.port_count)]
        names = self._names = [text(self._of.port_names[k]) for k in range(self._of.port_count)]
        self._controls = np.array([start_value(self._of.hints[k], rate) for k in range(len(kinds))], np.float32)
        for name, value in use.setting.values:
            if name not in names:
                raise PluginError(f"{use.label} has no port {name!r}.")
            self._controls[names.index(name)] = value
        ins = [k for k, kind in enumerate(kinds) if kind & AUDIO and kind & INPUT]
        self.wiring = wired(use, [is_side_chain(names[k]) for k in ins])
        outs = [k for k, kind in enumerate(kinds) if kind & AUDIO and kind & OUTPUT]
        self.inputs = rows(len(ins), longest)
        self.outputs = rows(len(outs), longest)
        self._places = {k: self.inputs[n].ctypes.data for n, k in enumerate(ins)}
        self._places |= {k: self.outputs[n].ctypes.data for n, k in enumerate(outs)}
        latency = [k for k, name in enumerate(names) if name.lower() == "latency" and kinds[k] & OUTPUT]
        self._latency_port = latency[0] if latency else None
        self.call, self.handle, self.latency, self.version = self._of.run, 0, 0, ""
        self.made_for, self.defers, self.failures, self.locate = 0, False, never_fails, nowhere
        self.restart(longest)

    moves: Moves = "between"
    is_turned = True
    expresses = frozenset[str]()

    def argument(self, frames: int, notes: tuple[Event, ...] = (), moves: tuple[Move, ...] = ()) -> int:
        for move in moves:
            self._controls[self._names.index(move.key)] = move.value
        return frames

    def restart(self, frames: int) -> None:
        self.close()
        self.handle = self._of.instantiate(c.addressof(self._of), self._rate) or 0
        if not self.handle:
            raise PluginError(f"{text(self._of.name)} refused to start at {self._rate} Hz.")
        for port in range(self._of.port_count):
            place = self._places.get(port, self._controls.ctypes.data + 4 * port)
            self._of.connect_port(self.handle, port, place)
        if self._of.activate:
            self._of.activate(self.handle)

    presets = staticmethod(no_presets)

    def parameters(self) -> tuple[Parameter, ...]:
        found = []
        for k in range(self._of.port_count):
            if self._of.port_kinds[k] & CONTROL and self._of.port_kinds[k] & INPUT:
                hint, name = self._of.hints[k], text(self._of.port_names[k])
                least, most = limits(hint, self._rate)
                whole = bool(hint.hint & (INTEGER | TOGGLED))
                found.append(parameter(name, name, whole, least, most, float(self._controls[k])))
        return tuple(found)

    def settled(self) -> bool:
        """Called when it has run: the latency stands in a port of that name."""
        if self._latency_port is not None:
            self.latency = max(int(self._controls[self._latency_port]), 0)
        return False

    def close(self) -> None:
        if self.handle:
            if self._of.deactivate:
                self._of.deactivate(self.handle)
            self._of.cleanup(self.handle)
            self.handle = 0


def load(
    use: PluginUse, path: str, rate: int, longest: int, frames: int = 0, rows: Rows = own_rows
) -> LadspaHosted:  # fmt: skip
    """Loads one use from a file at a rate (Hz), for blocks of up to `longest` samples. PluginError says why not.

    LADSPA has no way to tell a plugin of the block size (`frames`).
    """
    return LadspaHosted(use, path, rate, longest, rows)
