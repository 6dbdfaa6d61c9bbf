"""The house processors, hosted like any other plugin."""

from __future__ import annotations

from ...core.session.plugins import PluginUse
from ...house.catalogue import PROCESSORS, VERSION
from ...house.instance import Instance
from .clap_block import Blocks
from .hosted import Event, Move, Moves, Parameter, PluginError, never_fails, no_presets, nowhere, parameter, wired


class HouseHosted:
    """One house processor, stereo in and out (see `hosted.Hosted`)."""

    def __init__(self, use: PluginUse, rate: int, longest: int) -> None:
        if use.plugin.identifier not in PROCESSORS:
            raise PluginError(f"There is no house processor {use.plugin.identifier!r}.")
        self._settings, self._values = PROCESSORS[use.plugin.identifier].settings, dict(use.setting.values)
        try:
            self._instance = Instance(use.plugin.identifier, self._values, rate)
        except ValueError as error:
            raise PluginError(str(error)) from error
        self._blocks = Blocks([2], [2], longest)
        self.inputs, self.outputs = self._blocks.inputs, self._blocks.outputs
        self.call, self.handle = self._instance.process, self._instance.plugin
        self.latency = self._instance.latency
        self.version = VERSION
        self.made_for, self.defers, self.failures, self.presets = 0, False, never_fails, no_presets
        self.locate, self.wiring = nowhere, wired(use, (False, False))

    moves: Moves = "not"
    is_turned = True
    expresses = frozenset[str]()

    def argument(self, frames: int, notes: tuple[Event, ...] = (), moves: tuple[Move, ...] = ()) -> int:
        return self._blocks.argument(frames, notes)

    def parameters(self) -> tuple[Parameter, ...]:
        return tuple(
            parameter(s.name, s.name, s.whole, s.least, s.most, self._values.get(s.name, s.start))
            for s in self._settings
        )

    def settled(self) -> bool:
        """Nothing to look up: the latency is known from the start."""
        return False

    def restart(self, frames: int) -> None:
        self._instance.reset()

    def close(self) -> None:
        """Nothing to end: its memory goes with it."""


def load(use: PluginUse, rate: int, longest: int) -> HouseHosted:
    """Loads one use at a rate (Hz), for blocks of up to `longest` samples. PluginError says why not."""
    return HouseHosted(use, rate, longest)
