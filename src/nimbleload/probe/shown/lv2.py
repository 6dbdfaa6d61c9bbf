"""An LV2 plugin with its own window: the `ui` extension for X11, with what such windows may require of a host."""

from __future__ import annotations

import ctypes as c
import os
from collections.abc import Callable
from typing import Any

from ...core.session.plugins import PluginUse
from ..formats import lilv
from ..formats.hosted import PluginError
from ..formats.lv2 import ATOM, BUF_SIZE, EXTENSION_DATA, NS, OPTIONS, URID, Feature, Lv2Hosted, Pair
from ..formats.lv2_native import EVENT_INS, EVENT_OUTS, PORTS, SEQUENCE
from .loop import Loop
from .x11 import UNKNOWN, Size, Window, Wishes

UI = f"{NS}/extensions/ui#"
X11, IDLE, RESIZE = f"{UI}X11UI", f"{UI}idleInterface", f"{UI}resize"
INSTANCE_ACCESS, DATA_ACCESS = f"{NS}/ext/instance-access", f"{NS}/ext/data-access"
OFFERED = {
    f"{URID}map", f"{URID}unmap", f"{OPTIONS}options", f"{BUF_SIZE}boundedBlockLength", f"{UI}parent", IDLE, RESIZE,
    f"{UI}portMap", f"{UI}touch", f"{UI}makeResident", f"{UI}fixedSize", f"{UI}noUserResize", INSTANCE_ACCESS,
    DATA_ACCESS,
}  # fmt: skip
# So often a window is asked to go on, in seconds: as a screen is drawn.
IDLE_SECONDS = 1 / 30
NO_PORT = 0xFFFFFFFF
# Messages of a plugin to its window that are passed on after one block, at most; and to the plugin before one.
MOST_MESSAGES, ATOM_HEAD, EVENT_HEAD = 64, 8, 16

WRITE = c.CFUNCTYPE(None, c.c_void_p, c.c_uint32, c.c_uint32, c.c_uint32, c.c_void_p)
PORT_EVENT = c.CFUNCTYPE(None, c.c_void_p, c.c_uint32, c.c_uint32, c.c_uint32, c.c_void_p)
RESIZED = c.CFUNCTYPE(c.c_int, c.c_void_p, c.c_int, c.c_int)
INDEX_OF = c.CFUNCTYPE(c.c_uint32, c.c_void_p, c.c_char_p)
TOUCH = c.CFUNCTYPE(None, c.c_void_p, c.c_uint32, c.c_bool)
GO_ON = c.CFUNCTYPE(c.c_int, c.c_void_p)


class UiDescriptor(c.Structure):
    _fields_ = (
        ("uri", c.c_char_p),
        ("instantiate", c.CFUNCTYPE(c.c_void_p, c.c_void_p, c.c_char_p, c.c_char_p, WRITE, c.c_void_p, c.c_void_p,
                                    c.c_void_p)),
        ("cleanup", c.CFUNCTYPE(None, c.c_void_p)), ("port_event", PORT_EVENT), ("extension_data", c.c_void_p),
    )  # fmt: skip


class Lv2Shown(Wishes, Lv2Hosted):
    """One LV2 plugin with a host that has a window for it (see `show.Shown`)."""

    def __init__(self, use: PluginUse, path: str, rate: int, longest: int, loop: Loop) -> None:
        super().__init__(use, rate, longest, longest)
        self._loop = loop
        self._unsized: tuple[Window, int] | None = None
        self._told: dict[int, float] = {}
        self._waiting: list[tuple[int, bytes]] = []
        self._ui, self._handle = UiDescriptor(), 0
        self._go_on: Any = None

    def open(self, window: Callable[[Size], Window]) -> Window:
        found = list(lilv.own_windows(self._plugin, X11))
        if not found:
            raise PluginError(f"{self._label} has no window of its own for X11.")
        lacking = [uri for uri in found[0].required if uri not in OFFERED]
        if lacking:
            raise PluginError(f"{self._label}'s own window requires what is not offered here: {', '.join(lacking)}.")
        self._ui = self._descriptor(found[0])
        held = window(UNKNOWN)
        widget = c.c_void_p()
        self._functions = [WRITE(self._written), RESIZED(self._take_size), INDEX_OF(self._index_of), TOUCH(self._touch)]
        self._handle = self._ui.instantiate(
            c.addressof(self._ui), self._identifier.encode(), f"{found[0].folder.rstrip('/')}/".encode(),
            self._functions[0], None, c.addressof(widget), c.addressof(self._ui_features(held.number)),
        ) or 0  # fmt: skip
        if not self._handle:
            raise PluginError(f"{self._label} could not make its window.")
        self._extend()
        if self._wanted_size is None and widget.value:
            self._unsized = held, widget.value
        if self._ui.port_event:
            self._tell_values()
        self._loop.every(IDLE_SECONDS, self._idle_ui)
        return held

    def _descriptor(self, of: lilv.OwnWindow) -> UiDescriptor:
        try:
            library = c.CDLL(of.binary, mode=os.RTLD_LOCAL | os.RTLD_NOW)
            library.lv2ui_descriptor.argtypes = [c.c_uint32]
            library.lv2ui_descriptor.restype = c.c_void_p
        except (OSError, AttributeError) as error:
            raise PluginError(f"{self._label}'s own window cannot be loaded: {error}") from error
        number = 0
        while address := library.lv2ui_descriptor(number):
            found = UiDescriptor.from_address(address)
            if (found.uri or b"").decode(errors="replace") == of.uri:
                return found
            number += 1
        raise PluginError(f"{of.binary} does not hold the window {of.uri}.")

    def _ui_features(self, parent: int) -> Any:
        """A null-ended list of features for the window, with all they point to kept alive."""
        descriptor = self._instance.descriptor.contents if self._instance is not None else None
        data = c.c_void_p(descriptor.extension_data if descriptor is not None else None)
        self._data_access = data
        pairs = [Pair(None, c.cast(function, c.c_void_p)) for function in self._functions[1:]]
        self._ui_pairs = pairs
        resize, port_map, touch = (c.addressof(pair) for pair in pairs)
        given, no_data = [c.addressof(pair) for pair in self._pairs], None
        listed = [
            (f"{URID}map", given[0]), (f"{URID}unmap", given[1]), (f"{OPTIONS}options", c.addressof(self._options)),
            (f"{UI}parent", parent), (RESIZE, resize), (f"{UI}portMap", port_map), (f"{UI}touch", touch),
            (IDLE, no_data), (f"{BUF_SIZE}boundedBlockLength", no_data),
            (INSTANCE_ACCESS, self._instance.handle if self._instance is not None else None),
            (DATA_ACCESS, c.addressof(data)),
        ]  # fmt: skip
        self._ui_listed = [Feature(uri.encode(), place) for uri, place in listed]
        self._ui_list = (c.c_void_p * (len(listed) + 1))(*(c.addressof(feature) for feature in self._ui_listed))
        return self._ui_list

    def _extend(self) -> None:
        """What the window itself offers: to go on, and to take another size."""
        given = self._ui.extension_data
        data = EXTENSION_DATA(given) if given else None
        idle = data(IDLE.encode()) if data is not None else None
        if idle:
            self._go_on = GO_ON(c.c_int64.from_address(idle).value)
        resize = data(RESIZE.encode()) if data is not None else None
        self._resize = RESIZED(Pair.from_address(resize).function) if resize else None
        self.resizable = self._resize is not None

    def _idle_ui(self) -> None:
        if self._go_on is not None and self._go_on(self._handle):
            self.closed = True

    def _written(self, _: int, port: int, size: int, protocol: int, data: int) -> None:
        """The window gives a port a value, or an event."""
        if protocol == 0 and size == 4 and port in self._ports.inputs_of_control:
            self._ports.controls[port] = self._told[port] = c.c_float.from_address(data).value
        elif protocol == self._urids.number(f"{ATOM}eventTransfer") and port in self._ports.events[True]:
            self._waiting = [*self._waiting[-MOST_MESSAGES:], (port, c.string_at(data, size))]

    def _take_size(self, _: int, width: int, height: int) -> int:
        self._wanted_size = Size(width, height)
        return 0

    def _index_of(self, _: int, symbol: bytes) -> int:
        return self._ports.symbols.get(symbol.decode(errors="replace"), NO_PORT)

    def _touch(self, _: int, port: int, is_held: bool) -> None:
        """A knob is held, or let go: nothing is recorded here."""

    def wanted_size(self) -> Size | None:
        if self._wanted_size is None and self._unsized is not None:
            # It did not say: it has the size of what it has made, once the display knows of that.
            self._wanted_size = self._unsized[0].size_of(self._unsized[1])
        wanted = super().wanted_size()
        if wanted is not None:
            self._unsized = None
        return wanted

    def resized(self, size: Size) -> None:
        if self._resize is not None:
            self._resize(self._handle, *size)

    def idle(self) -> None:
        """Passes on what the plugin has told its window in the last block, and the other way about."""
        self.settled()
        if self._handle and self._ui.port_event:
            self._tell_values()
            self._pass_on()
        self._put_waiting()

    def _tell_values(self) -> None:
        """The window hears of every control that has another value than it knows."""
        for port, place in self._ports.places.items():
            is_control = place is not None and place == self._ports.controls.ctypes.data + 4 * port
            value = float(self._ports.controls[port]) if is_control else 0.0
            if is_control and self._told.get(port) != value:
                self._told[port] = value
                self._ui.port_event(self._handle, port, 4, 0, place)

    def _pass_on(self) -> None:
        """The window gets the events that the plugin has written in the last block."""
        transfer, sequence = self._urids.number(f"{ATOM}eventTransfer"), int(self._host[SEQUENCE])
        first = PORTS + 2 * int(self._host[EVENT_INS])
        for k, port in enumerate(self._ports.events[False][: int(self._host[EVENT_OUTS])]):
            place = int(self._host[first + 2 * k])
            size, kind = (c.c_uint32.from_address(place + 4 * part).value for part in (0, 1))
            end = place + ATOM_HEAD + min(size, int(self._host[first + 2 * k + 1]))
            at, passed = place + ATOM_HEAD + 8, 0
            while kind == sequence and at + EVENT_HEAD <= end and passed < MOST_MESSAGES:
                own = c.c_uint32.from_address(at + 8).value
                if at + EVENT_HEAD + own > end:
                    break
                self._ui.port_event(self._handle, port, ATOM_HEAD + own, transfer, at + 8)
                at, passed = at + EVENT_HEAD + (own + 7) // 8 * 8, passed + 1

    def _put_waiting(self) -> None:
        """What the window has sent the plugin stands in its event inputs when the next block begins."""
        for k, port in enumerate(self._ports.events[True]):
            atoms = [atom for number, atom in self._waiting if number == port]
            body = b"".join(bytes(8) + atom + bytes(-len(atom) % 8) for atom in atoms)
            room = int(self._host[PORTS + 2 * k + 1])
            if atoms and 16 + len(body) <= room:
                head = b"".join(n.to_bytes(4, "little") for n in (8 + len(body), int(self._host[SEQUENCE]), 0, 0))
                c.memmove(int(self._host[PORTS + 2 * k]), head + body, len(head) + len(body))
        self._waiting = []

    def hide(self) -> None:
        if self._handle:
            self._ui.cleanup(self._handle)
            self._handle = 0
            self._go_on = None
