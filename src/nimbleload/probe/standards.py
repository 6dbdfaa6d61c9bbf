"""The plugin standards that are hosted, by the names that sessions give them; each is imported when first used."""

from __future__ import annotations

import importlib
from collections.abc import Callable
from functools import partial
from types import ModuleType
from typing import Any

# LV2 plugins lie in bundles that only the system's liblilv reads: for it, the catalogue has one entry.
ALL_LV2 = "lv2"
# Before a file that is asked where the code of each of its plugins lies; it can be told of these standards.
INSIDE, NAME_FUNCTIONS = "inside:", ("ladspa", "lv2")


def _module(name: str) -> ModuleType:
    return importlib.import_module(f"{__package__}.formats.{name}")


STANDARDS: dict[str, Callable[[], Any]] = {name: partial(_module, name) for name in ("clap", "ladspa", "lv2", "vst3")}
ENDINGS = {".clap": "clap", ".so": "ladspa", ".vst3": "vst3"}
