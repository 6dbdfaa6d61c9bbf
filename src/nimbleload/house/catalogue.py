"""The nine house processors as a table: names, families, settings and their ranges. Nothing here is compiled."""

from __future__ import annotations

from typing import NamedTuple

VERSION = "1"


class SettingSpec(NamedTuple):
    """One setting: its range, what it starts at, and whether it only takes whole numbers."""

    name: str
    least: float
    most: float
    start: float
    whole: bool = False
    unit: str = ""


class Processor(NamedTuple):
    """One house processor. `module` is where its code is; it is imported, and compiled, only when it runs."""

    identifier: str
    name: str
    family: str
    module: str
    what: str
    settings: tuple[SettingSpec, ...]

    @property
    def is_instrument(self) -> bool:
        return self.family == "instrument"


PROCESSORS: dict[str, Processor] = {
    p.identifier: p
    for p in (
        Processor("house.shoreline", "Shoreline", "equaliser", "equaliser", "parametric equaliser", (
            SettingSpec("bands", 1, 16, 6, True),
            SettingSpec("gain", -24, 24, 3, unit="dB"),
            SettingSpec("lowest", 20, 2000, 60, unit="Hz"),
            SettingSpec("highest", 200, 20000, 12000, unit="Hz"),
            SettingSpec("q", 0.1, 20, 1.2),
        )),
        Processor("house.ballast", "Ballast", "dynamics", "compressor", "compressor with look-ahead", (
            SettingSpec("threshold", -60, 0, -24, unit="dB"),
            SettingSpec("ratio", 1, 20, 4),
            SettingSpec("attack", 0.1, 100, 5, unit="ms"),
            SettingSpec("release", 5, 2000, 120, unit="ms"),
            SettingSpec("lookahead", 0, 20, 5, unit="ms"),
            SettingSpec("makeup", 0, 24, 0, unit="dB"),
        )),
        Processor("house.sluice", "Sluice", "dynamics", "gate", "gate", (
            SettingSpec("threshold", -80, 0, -45, unit="dB"),
            SettingSpec("floor", -90, 0, -60, unit="dB"),
            SettingSpec("hold", 0, 500, 40, unit="ms"),
            SettingSpec("release", 1, 1000, 80, unit="ms"),
            SettingSpec("filter", 0, 1, 0, True),
        )),
        Processor("house.tar", "Tar", "distortion", "saturator", "saturator", (
            SettingSpec("drive", 0, 36, 9, unit="dB"),
            SettingSpec("oversampling", 1, 8, 2, True, "×"),
        )),
        Processor("house.vault", "Vault", "reverb", "convolution", "partitioned-convolution reverb", (
            SettingSpec("seconds", 0.1, 8, 2, unit="s"),
            SettingSpec("partition", 64, 8192, 1024, True, "samples"),
            SettingSpec("wet", 0, 1, 0.3),
        )),
        Processor("house.mist", "Mist", "reverb", "reverb", "algorithmic reverb", (
            SettingSpec("lines", 4, 32, 16, True),
            SettingSpec("seconds", 0.1, 20, 2.5, unit="s"),
            SettingSpec("damping", 0, 0.9, 0.3),
            SettingSpec("motion", 0, 1, 1, True),
            SettingSpec("wet", 0, 1, 0.3),
        )),
        Processor("house.sounder", "Sounder", "analyser", "analyser", "spectrum analyser", (
            SettingSpec("points", 256, 16384, 4096, True, "samples"),
        )),
        Processor("house.pipework", "Pipework", "instrument", "additive", "additive synthesizer", (
            SettingSpec("voices", 1, 32, 16, True),
            SettingSpec("partials", 1, 64, 24, True),
            SettingSpec("release", 5, 5000, 300, unit="ms"),
        )),
        Processor("house.cask", "Cask", "instrument", "sampler", "sampler", (
            SettingSpec("voices", 1, 32, 16, True),
            SettingSpec("quality", 0, 1, 0, True),
            SettingSpec("partials", 1, 32, 12, True),
            SettingSpec("release", 5, 5000, 400, unit="ms"),
        )),
    )
}  # fmt: skip


def complete(identifier: str, values: dict[str, float]) -> dict[str, float]:
    """Every setting of a processor: as given, else as it starts.

    KeyError on an unknown processor; ValueError names a setting that does not exist or is out of its range.
    """
    processor = PROCESSORS[identifier]
    known = {spec.name: spec for spec in processor.settings}
    for name, value in values.items():
        if name not in known:
            raise ValueError(f"{processor.name} has no setting {name!r}")
        spec = known[name]
        if not spec.least <= value <= spec.most or (spec.whole and value != int(value)):
            kind = "a whole number" if spec.whole else "a number"
            allowed = f"{kind} from {spec.least:g} to {spec.most:g}"
            raise ValueError(f"{processor.name}: {name} must be {allowed}, not {value:g}")
    return {spec.name: float(values.get(spec.name, spec.start)) for spec in processor.settings}
